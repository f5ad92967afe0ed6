use super::*;
use proptest::prelude::*;

fn rewriter(pairs: &[(&str, &str)]) -> Rewriter {
    let rules = pairs.iter().map(|(from, to)| Rule::new(from, to).unwrap()).collect();
    Rewriter::new(rules).unwrap()
}

fn demo() -> Rewriter {
    rewriter(&[("http://glimmerpoint.example", "https://www.glimmer-point.example")])
}

fn changed(text: &str) -> String {
    let found = demo().look(text.as_bytes());
    String::from_utf8(found.apply(text.as_bytes())).unwrap()
}

fn reasons(text: &str) -> Vec<Reason> {
    demo().look(text.as_bytes()).left.iter().map(|left| left.reason).collect()
}

#[test]
fn words_are_rewritten_as_words_in_every_layer() {
    let rule = Rule::words("Glimmer Point", "Dusk Bay").unwrap();
    let rewriter = Rewriter::new(vec![rule]).unwrap();
    let after = |text: &str| {
        String::from_utf8(rewriter.look(text.as_bytes()).apply(text.as_bytes())).unwrap()
    };
    for (before, expected) in [
        ("Welcome to Glimmer Point.", "Welcome to Dusk Bay."),
        ("s:13:\"Glimmer Point\";", "s:8:\"Dusk Bay\";"),
        ("{\"a\":\"Glimmer Point\"}", "{\"a\":\"Dusk Bay\"}"),
        ("Glimmer Points", "Glimmer Points"),
        ("AGlimmer Point", "AGlimmer Point"),
        ("glimmer point", "glimmer point"),
        ("\\nGlimmer Point", "\\nDusk Bay"),
    ] {
        assert_eq!(after(before), expected);
    }
    assert_eq!(
        Rule::words("-", "x").unwrap_err().to_string(),
        "a rule for words needs at least two letters or digits to look for, not `-`"
    );
}

#[test]
fn https_alone_changes_the_scheme_and_nothing_else() {
    let rewriter = Rewriter::new(vec![Rule::to_https("http://cdn.example").unwrap()]).unwrap();
    let text = "http://cdn.example/a //cdn.example/b http://www.cdn.example http:\\/\\/CDN.example";
    let found = rewriter.look(text.as_bytes());
    let after = String::from_utf8(found.apply(text.as_bytes())).unwrap();
    let expected =
        "https://cdn.example/a //cdn.example/b http://www.cdn.example https:\\/\\/cdn.example";
    assert_eq!(after, expected);
    assert_eq!(rewriter.look(after.as_bytes()).replacements(), 0);
}

#[test]
fn a_rule_that_never_applies_is_known() {
    let all = Rule::new("http://a.example", "http://b.example").unwrap();
    let exact =
        Rule { exact: true, ..Rule::new("http://www.a.example", "http://c.example").unwrap() };
    assert_eq!(shadowed(&[all.clone(), exact.clone()]), [(0, 1)]);
    assert_eq!(shadowed(&[exact, all]), []);
}

#[test]
fn a_character_that_latin1_has_not_is_no_reason_to_write_something_else() {
    let to_star = Rule::new("http://stérne.example", "http://st☄rne.example").unwrap();
    let rewriter = Rewriter::new(vec![to_star]).unwrap();
    let outcome = rewriter.cell(ColumnText::Latin1, b"http://st\xe9rne.example/").unwrap();
    assert_eq!(outcome.new, None);
    assert_eq!(outcome.found.left[0].reason, Reason::NoSuchCharacter);
    let outcome = rewriter.cell(ColumnText::Utf8, "http://stérne.example/".as_bytes()).unwrap();
    assert_eq!(outcome.new.unwrap(), "http://st☄rne.example/".as_bytes());
}

#[test]
fn every_spelling_is_written_back_as_it_was_found() {
    for (before, after) in [
        ("http://glimmerpoint.example/a", "https://www.glimmer-point.example/a"),
        ("HTTPS://WWW.GlimmerPoint.Example", "https://www.glimmer-point.example"),
        ("see http://glimmerpoint.example.", "see https://www.glimmer-point.example."),
        ("src=\"//glimmerpoint.example/x\"", "src=\"//www.glimmer-point.example/x\""),
        ("url(//glimmerpoint.example/x)", "url(//www.glimmer-point.example/x)"),
        ("http://glimmerpoint.example:80/", "https://www.glimmer-point.example/"),
        ("https://glimmerpoint.example:443/", "https://www.glimmer-point.example/"),
        ("http:\\/\\/glimmerpoint.example\\/a", "https:\\/\\/www.glimmer-point.example\\/a"),
        (
            "http:\\\\\\/\\\\\\/glimmerpoint.example",
            "https:\\\\\\/\\\\\\/www.glimmer-point.example",
        ),
        (
            "http:\\u002f\\u002fglimmerpoint.example",
            "https:\\u002f\\u002fwww.glimmer-point.example",
        ),
        (
            "u=http%3A%2F%2Fglimmerpoint.example%2Fa",
            "u=https%3A%2F%2Fwww.glimmer-point.example%2Fa",
        ),
        (
            "u=http%253a%252f%252fglimmerpoint.example",
            "u=https%253a%252f%252fwww.glimmer-point.example",
        ),
        (
            "http&#58;&#47;&#47;glimmerpoint&#46;example",
            "https&#58;&#47;&#47;www&#46;glimmer-point&#46;example",
        ),
        ("http:&#x2F;&#x2F;glimmerpoint.example", "https:&#x2F;&#x2F;www.glimmer-point.example"),
        ("line\\nhttp://glimmerpoint.example\\n", "line\\nhttps://www.glimmer-point.example\\n"),
        ("%22http://glimmerpoint.example%22", "%22https://www.glimmer-point.example%22"),
        (
            "&quot;http://glimmerpoint.example&quot;",
            "&quot;https://www.glimmer-point.example&quot;",
        ),
        (
            "%22http%3A%5C%2F%5C%2Fglimmerpoint.example",
            "%22https%3A%5C%2F%5C%2Fwww.glimmer-point.example",
        ),
        (
            "http://a.test?u=http://glimmerpoint.example",
            "http://a.test?u=https://www.glimmer-point.example",
        ),
    ] {
        assert_eq!(changed(before), after, "{before}");
    }
}

#[test]
fn what_is_not_the_old_address_stays_untouched_and_unreported() {
    for text in [
        "info@glimmerpoint.example",
        "http://glimmerpoint.example.evil.test/",
        "http://notglimmerpoint.example",
        "http://sub.glimmerpoint.example/",
        "http://glimmerpoint.example-shop.test",
        "http://glimmerpoint.example%2Eevil.test",
        "http://glimmerpoint.exampleä",
        "http://glimmerpoint.examples",
        "http://user@glimmerpoint.example",
        "the glimmerpoint of the lake",
        "https://www.glimmer-point.example/glimmerpoint",
    ] {
        let found = demo().look(text.as_bytes());
        assert_eq!(found, Matches::default(), "{text}");
    }
}

#[test]
fn names_that_hold_an_old_one_are_told_once_each_however_long_they_are() {
    let text = "http://glimmerpoint.example.".repeat(3000) + "test";
    let (found, names) = demo().explain(text.as_bytes());
    assert_eq!(found, Matches::default());
    assert!(names.windows(2).all(|pair| pair[0].end <= pair[1].start), "each byte once");
    assert!(names.iter().all(|name| name.len() < 600), "cut where no name is so long");
}

#[test]
fn what_may_be_meant_is_left_with_its_reason() {
    for (text, reason) in [
        ("Host glimmerpoint.example", Reason::BareHost),
        ("RewriteCond %{HTTP_HOST} ^glimmerpoint\\.example$", Reason::BareHost),
        ("/var/www/glimmerpoint.example/log", Reason::BareHost),
        ("http://glimmerpoint.example:8080/", Reason::OtherPort),
        ("//glimmerpoint.example:8443", Reason::UserInfo),
        ("http://glimmerpoint.example:pw@x.test", Reason::UserInfo),
        ("ftp://glimmerpoint.example/pub", Reason::Unclear),
        ("xhttp://glimmerpoint.example/", Reason::Unclear),
        ("go//glimmerpoint.example", Reason::Unclear),
    ] {
        if text.starts_with("//") {
            assert_eq!(reasons(text), [Reason::OtherPort], "{text}");
        } else {
            assert_eq!(reasons(text), [reason], "{text}");
        }
        assert_eq!(changed(text), text);
    }
}

#[test]
fn serialized_lengths_follow_their_strings() {
    let before = "a:2:{s:3:\"url\";s:27:\"http://glimmerpoint.example\";s:2:\"ok\";b:1;}";
    let after = "a:2:{s:3:\"url\";s:33:\"https://www.glimmer-point.example\";s:2:\"ok\";b:1;}";
    assert_eq!(changed(before), after);
    let nested = format!("a:1:{{i:0;s:{}:\"{before}\";}}", before.len());
    let expected = format!("a:1:{{i:0;s:{}:\"{after}\";}}", after.len());
    assert_eq!(changed(&nested), expected);
    assert!(demo().look(nested.as_bytes()).in_serialized);
}

#[test]
fn every_type_of_the_format_is_read() {
    let value = "O:3:\"Cfg\":9:{s:1:\"n\";N;s:1:\"b\";b:0;s:1:\"i\";i:-5;s:1:\"d\";d:1.5E-7;\
        s:1:\"e\";E:9:\"Suit:Star\";S:1:\"S\";S:2:\"\\41b\";s:6:\"\0*\0url\";\
        s:27:\"http://glimmerpoint.example\";s:1:\"c\";C:3:\"Box\":29:{http://glimmerpoint.example/x}s:1:\"r\";R:2;}";
    let found = demo().look(value.as_bytes());
    let after = String::from_utf8(found.apply(value.as_bytes())).unwrap();
    assert!(after.contains("s:33:\"https://www.glimmer-point.example\""), "{after}");
    assert!(after.contains("C:3:\"Box\":35:{https://www.glimmer-point.example/x}"), "{after}");
    assert!(is_serialized(after.as_bytes()));
}

#[test]
fn what_follows_a_serialized_value_is_text() {
    assert_eq!(changed("N;http://glimmerpoint.example\n"), "N;https://www.glimmer-point.example\n");
    assert_eq!(
        changed("s:27:\"http://glimmerpoint.example\"; //glimmerpoint.example"),
        "s:33:\"https://www.glimmer-point.example\"; //www.glimmer-point.example"
    );
}

#[test]
fn a_damaged_value_is_left_whole_and_what_only_looks_like_one_is_text() {
    let damaged = "a:1:{s:3:\"url\";s:99:\"http://glimmerpoint.example\";}";
    assert_eq!(changed(damaged), damaged);
    assert_eq!(reasons(damaged), [Reason::DamagedSerialized]);
    let cut = "a:2:{s:3:\"url\";s:27:\"http://glimmerpoint.example\";s:4:\"na";
    assert_eq!(reasons(cut), [Reason::DamagedSerialized]);
    assert_eq!(
        changed("s: see http://glimmerpoint.example"),
        "s: see https://www.glimmer-point.example"
    );
    assert_eq!(changed("a:b http://glimmerpoint.example"), "a:b https://www.glimmer-point.example");
}

#[test]
fn serialized_text_in_json_and_json_in_serialized_keep_both_forms() {
    let inner = "a:1:{s:1:\"u\";s:27:\"http://glimmerpoint.example\";}";
    let outer = "a:1:{s:1:\"u\";s:33:\"https://www.glimmer-point.example\";}";
    let escape = |text: &str| text.replace('"', "\\\"").replace('/', "\\/");
    let before = format!("{{\"block\" : \"{}\",\"n\":1.50}}", escape(inner));
    let after = format!("{{\"block\" : \"{}\",\"n\":1.50}}", escape(outer));
    assert_eq!(changed(&before), after);
    let wrapped = format!("s:{}:\"{before}\";", before.len());
    assert_eq!(changed(&wrapped), format!("s:{}:\"{after}\";", after.len()));
}

#[test]
fn json_keeps_its_escapes_to_the_byte() {
    assert_eq!(
        changed("{\"a\":\"\\u00e4 http:\\/\\/glimmerpoint.example\\/\\ud83d\\ude00\",\"b\":\"/\"}"),
        "{\"a\":\"\\u00e4 https:\\/\\/www.glimmer-point.example\\/\\ud83d\\ude00\",\"b\":\"/\"}"
    );
}

#[test]
fn keys_are_rewritten_unless_two_would_become_one() {
    assert_eq!(
        changed("{\"http://glimmerpoint.example\":1}"),
        "{\"https://www.glimmer-point.example\":1}"
    );
    let twice = "{\"http://glimmerpoint.example\":1,\"https://www.glimmer-point.example\":2}";
    assert_eq!(changed(twice), twice);
    assert_eq!(reasons(twice), [Reason::KeyCollision]);
    let php =
        "a:2:{s:27:\"http://glimmerpoint.example\";i:1;s:28:\"https://glimmerpoint.example\";i:2;}";
    assert_eq!(changed(php), php);
    assert_eq!(reasons(php), [Reason::KeyCollision]);
    let apart = "{\"x\":{\"http://glimmerpoint.example\":1},\"y\":{\"https://www.glimmer-point.example\":2}}";
    assert_ne!(changed(apart), apart);
}

#[test]
fn an_address_that_is_already_new_stays() {
    let https = rewriter(&[("http://a.example", "https://a.example")]);
    let after =
        |text: &str| String::from_utf8(https.look(text.as_bytes()).apply(text.as_bytes())).unwrap();
    assert_eq!(
        after("http://a.example https://a.example //a.example"),
        "https://a.example https://a.example //a.example"
    );
    assert_eq!(after("https://www.a.example"), "https://a.example");
    let sub = rewriter(&[("http://a.example", "http://a.example/blog")]);
    let text = b"http://a.example/blog/x http://a.example/blogger";
    let found = sub.look(text);
    assert_eq!(found.apply(text), b"http://a.example/blog/x http://a.example/blog/blogger");
}

#[test]
fn folders_match_whole_segments_and_the_longest_rule_wins() {
    let rules = rewriter(&[
        ("http://a.example", "https://b.example"),
        ("http://a.example/shop", "https://shop.example"),
    ]);
    let after =
        |text: &str| String::from_utf8(rules.look(text.as_bytes()).apply(text.as_bytes())).unwrap();
    assert_eq!(after("http://a.example/shop/1"), "https://shop.example/1");
    assert_eq!(after("http://a.example/shopping"), "https://b.example/shopping");
    assert_eq!(after("http:\\/\\/a.example\\/shop\\/1"), "https:\\/\\/shop.example\\/1");
    let only = rewriter(&[("http://a.example/shop", "https://shop.example")]);
    assert_eq!(only.look(b"http://a.example/x").left[0].reason, Reason::OutsideFolder);
}

#[test]
fn two_addresses_can_swap() {
    let swap = rewriter(&[
        ("http://a.example", "http://b.example"),
        ("http://b.example", "http://a.example"),
    ]);
    let text = b"http://a.example http://b.example";
    assert_eq!(swap.look(text).apply(text), b"http://b.example http://a.example");
}

#[test]
fn paths_are_rewritten_between_segments_only() {
    let rules = rewriter(&[("/home/keeper/htdocs", "/srv/www/glimmer")]);
    let after =
        |text: &str| String::from_utf8(rules.look(text.as_bytes()).apply(text.as_bytes())).unwrap();
    assert_eq!(after("'/home/keeper/htdocs/x'"), "'/srv/www/glimmer/x'");
    assert_eq!(after("\"\\/home\\/keeper\\/htdocs\""), "\"\\/srv\\/www\\/glimmer\"");
    assert_eq!(after("/home/keeper/htdocs2"), "/home/keeper/htdocs2");
    assert_eq!(after("/mnt/home/keeper/htdocs"), "/mnt/home/keeper/htdocs");
    assert_eq!(after("s:19:\"/home/keeper/htdocs\";"), "s:16:\"/srv/www/glimmer\";");
}

#[test]
fn hosts_in_unicode_are_found_in_both_forms() {
    let rules = rewriter(&[("http://sternwarte-münster.example", "https://new.example")]);
    let text = "http://Sternwarte-Münster.example http://xn--sternwarte-mnster-s6b.example";
    let text = text.replace(
        "xn--sternwarte-mnster-s6b.example",
        &crate::address::WebAddress::parse("http://sternwarte-münster.example").unwrap().host,
    );
    let found = rules.look(text.as_bytes());
    assert_eq!(found.apply(text.as_bytes()), b"https://new.example https://new.example");
}

#[test]
fn a_latin1_cell_counts_lengths_in_utf8() {
    let text = "a:1:{s:2:\"ü\";s:30:\"é http://glimmerpoint.example\";}";
    let stored = encoding_rs::WINDOWS_1252.encode(text).0.into_owned();
    let rules = demo();
    let outcome = rules.cell(ColumnText::Latin1, &stored).unwrap();
    let new = outcome.new.unwrap();
    let back = encoding_rs::WINDOWS_1252.decode(&new).0.into_owned();
    assert_eq!(back, "a:1:{s:2:\"ü\";s:36:\"é https://www.glimmer-point.example\";}");
    let by_stored_bytes = b"s:29:\"\xe9 http://glimmerpoint.example\";";
    let outcome = rules.cell(ColumnText::Latin1, by_stored_bytes).unwrap();
    assert_eq!(outcome.new.unwrap(), b"s:35:\"\xe9 https://www.glimmer-point.example\";");
}

#[test]
fn binary_cells_change_only_where_they_are_text() {
    let rules = demo();
    let text = rules.cell(ColumnText::Binary, b"http://glimmerpoint.example").unwrap();
    assert!(text.new.is_some());
    let binary = rules.cell(ColumnText::Binary, b"\xff\xd8http://glimmerpoint.example").unwrap();
    assert!(binary.new.is_none());
    assert_eq!(binary.found.left[0].reason, Reason::Binary);
}

#[test]
fn nesting_without_end_is_a_leftover_and_no_crash() {
    let mut value = String::from("http://glimmerpoint.example");
    for _ in 0..40 {
        value = format!("s:{}:\"{value}\";", value.len());
    }
    assert_eq!(reasons(&value), [Reason::TooDeep]);
    let deep = "a:1:{i:0;".repeat(100_000) + "http://glimmerpoint.example";
    demo().look(deep.as_bytes());
    demo().look(("[".repeat(100_000) + "\"http://glimmerpoint.example\"").as_bytes());
}

/// A tree that can be written as PHP and as JSON.
#[derive(Clone, Debug)]
enum Tree {
    Text(String),
    Number(i64),
    List(Vec<Tree>),
    Inside(Box<Tree>),
}

fn php(tree: &Tree) -> String {
    match tree {
        Tree::Text(text) => format!("s:{}:\"{text}\";", text.len()),
        Tree::Number(number) => format!("i:{number};"),
        Tree::List(items) => {
            let body: String =
                items.iter().enumerate().map(|(n, item)| format!("i:{n};{}", php(item))).collect();
            format!("a:{}:{{{body}}}", items.len())
        }
        Tree::Inside(inner) => {
            let inner = php(inner);
            format!("s:{}:\"{inner}\";", inner.len())
        }
    }
}

fn json(tree: &Tree) -> serde_json::Value {
    match tree {
        Tree::Text(text) => text.clone().into(),
        Tree::Number(number) => (*number).into(),
        Tree::List(items) => items.iter().map(json).collect(),
        Tree::Inside(inner) => php(inner).into(),
    }
}

fn mapped(tree: &Tree) -> Tree {
    match tree {
        Tree::Text(text) => {
            Tree::Text(text.replace("http://old.example", "https://www.new-place.example"))
        }
        Tree::Number(number) => Tree::Number(*number),
        Tree::List(items) => Tree::List(items.iter().map(mapped).collect()),
        Tree::Inside(inner) => Tree::Inside(Box::new(mapped(inner))),
    }
}

fn trees() -> impl Strategy<Value = Tree> {
    let words = prop_oneof![
        Just("http://old.example".to_owned()),
        Just("see http://old.example/a/ä?b=c and more".to_owned()),
        Just("http://old.example,http://old.example/x".to_owned()),
        Just("info@old.example; notold.example".to_owned()),
        "[a-zöß \"{};:\n]{0,12}",
    ];
    let leaf = prop_oneof![words.prop_map(Tree::Text), any::<i64>().prop_map(Tree::Number)];
    leaf.prop_recursive(5, 40, 5, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..5).prop_map(Tree::List),
            inner.prop_map(|tree| Tree::Inside(Box::new(tree))),
        ]
    })
}

fn there() -> Rewriter {
    rewriter(&[("http://old.example", "https://www.new-place.example")])
}

fn back() -> Rewriter {
    rewriter(&[("https://www.new-place.example", "http://old.example")])
}

proptest! {
    #[test]
    fn rewriting_commutes_with_serializing(tree in trees()) {
        let before = php(&tree);
        let after = there().look(before.as_bytes()).apply(before.as_bytes());
        prop_assert_eq!(String::from_utf8(after).unwrap(), php(&mapped(&tree)));
    }

    #[test]
    fn rewriting_commutes_with_json(tree in trees()) {
        let before = json(&tree).to_string().replace('/', "\\/");
        let after = there().look(before.as_bytes()).apply(before.as_bytes());
        prop_assert_eq!(String::from_utf8(after).unwrap(), json(&mapped(&tree)).to_string().replace('/', "\\/"));
    }

    #[test]
    fn there_and_back_gives_the_input_again_and_twice_is_once(tree in trees(), as_json: bool) {
        let text = if as_json { json(&tree).to_string() } else { php(&tree) };
        let once = there().look(text.as_bytes()).apply(text.as_bytes());
        let again = there().look(&once);
        prop_assert!(again.edits.is_empty());
        let back = back().look(&once).apply(&once);
        prop_assert_eq!(String::from_utf8(back).unwrap(), text);
    }

    #[test]
    fn any_bytes_are_survived_and_edits_are_in_order(
        bytes in prop::collection::vec(prop_oneof![
            Just(b"http://old.example".to_vec()), Just(b"\\/\\/".to_vec()), Just(b"a:1:{s:3:\"".to_vec()),
            Just(b"%2F%2F".to_vec()), Just(b"&#47;".to_vec()), Just(b"\\u002f".to_vec()), Just(b"old.example".to_vec()),
            Just(b"\";}".to_vec()), Just(b"{\"a\":\"".to_vec()), prop::collection::vec(any::<u8>(), 0..4),
        ], 0..30).prop_map(|parts| parts.concat())
    ) {
        let found = there().look(&bytes);
        let mut end = 0;
        for edit in &found.edits {
            prop_assert!(edit.range.start >= end && edit.range.end <= bytes.len());
            end = edit.range.end;
        }
        let once = found.apply(&bytes);
        if is_serialized(&bytes) {
            prop_assert!(is_serialized(&once));
        }
    }
}

#[test]
fn letters_of_other_scripts_may_stand_beside_an_address() {
    let new = "https://www.glimmer-point.example";
    for (before, after) in [
        ("アドレスはhttp://glimmerpoint.example/x です", format!("アドレスは{new}/x です")),
        ("ähttp://glimmerpoint.example", format!("ä{new}")),
        ("見る→http://glimmerpoint.example。", format!("見る→{new}。")),
        ("http://glimmerpoint.example:80です", format!("{new}です")),
        ("http://glimmerpoint.example:80/です", format!("{new}/です")),
        (
            "{\"a\":\"アドレスはhttp:\\/\\/glimmerpoint.example\\/x\"}",
            format!("{{\"a\":\"アドレスは{}\\/x\"}}", new.replace('/', "\\/")),
        ),
        ("s:42:\"アドレスはhttp://glimmerpoint.example\";", format!("s:48:\"アドレスは{new}\";")),
        ("アhttp%3A%2F%2Fglimmerpoint.example", "アhttps%3A%2F%2Fwww.glimmer-point.example".into()),
    ] {
        assert_eq!(changed(before), after);
    }
    // A letter goes on with the host, whatever its script, and a letter of ASCII with the scheme.
    for stays in ["http://glimmerpoint.exampleです", "xhttp://glimmerpoint.example"] {
        assert_eq!(changed(stays), stays);
    }
    let port = rewriter(&[("http://old.example:8102", "https://new.example")]);
    let found = port.look("http://old.example:8102です".as_bytes());
    assert_eq!(found.replacements(), 1);
}

#[test]
fn text_that_only_looks_serialized_is_text() {
    for text in [
        "a:1:{ some text, http://glimmerpoint.example/x}",
        "O:3:\"Foo\":1:{http://glimmerpoint.example\";}",
        "s:5: http://glimmerpoint.example",
        "a:2:{i:0;s:3:\"abc\";and so on, http://glimmerpoint.example}",
        "i:5; http://glimmerpoint.example",
    ] {
        assert_eq!(
            changed(text),
            text.replace("http://glimmerpoint.example", "https://www.glimmer-point.example")
        );
        assert!(reasons(text).is_empty(), "{text}: {:?}", reasons(text));
    }
    // One whose structure holds but for a length is damaged, and stays.
    let damaged = "a:1:{s:3:\"url\";s:20:\"http://glimmerpoint.example\";}";
    assert_eq!(changed(damaged), damaged);
    assert_eq!(reasons(damaged), [Reason::DamagedSerialized]);
}

#[test]
fn a_port_that_is_none_is_another_port() {
    assert_eq!(reasons("http://glimmerpoint.example:81020/x"), [Reason::OtherPort]);
    assert_eq!(reasons("http://glimmerpoint.example:8080"), [Reason::OtherPort]);
}
