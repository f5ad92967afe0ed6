use super::*;

fn found(texts: &[&str], value: &str) -> Vec<(usize, String, Form)> {
    let texts: Vec<String> = texts.iter().map(|text| (*text).to_owned()).collect();
    let hits = Needles::new(&texts).unwrap().find(value.as_bytes());
    hits.into_iter().map(|hit| (hit.needle, value[hit.range].to_owned(), hit.form)).collect()
}

fn one(text: &str, value: &str) -> Option<(String, Form)> {
    let mut hits = found(&[text], value);
    assert!(hits.len() < 2, "{hits:?}");
    hits.pop().map(|(_, spelled, form)| (spelled, form))
}

const PICTURE: &str = "http://cdn.example/pics/hall.jpg";

#[test]
fn an_address_is_found_in_every_spelling() {
    for spelled in [
        PICTURE,
        "http:\\/\\/cdn.example\\/pics\\/hall.jpg",
        "http:\\\\\\/\\\\\\/cdn.example\\\\\\/pics\\\\\\/hall.jpg",
        "http%3A%2F%2Fcdn.example%2Fpics%2Fhall.jpg",
        "http%253A%252F%252Fcdn.example%252Fpics%252Fhall.jpg",
        "http&#58;&#x2f;&sol;cdn&#46;example/pics/hall.jpg",
        "http:\\u002f\\u002fcdn.example\\u002fpics\\u002fhall.jpg",
        "HTTP://CDN.example/pics/hall.jpg",
    ] {
        for value in [spelled.to_owned(), format!("s:9:\"x {spelled} y\";"), format!("({spelled})")]
        {
            assert_eq!(one(PICTURE, &value), Some((spelled.to_owned(), Form::Same)), "{value}");
        }
        // And it may be asked for in any spelling.
        assert_eq!(one(spelled, PICTURE), Some((PICTURE.to_owned(), Form::Same)), "{spelled}");
    }
}

#[test]
fn other_schemes_and_the_path_alone_are_told_apart() {
    let form = |value: &str| one(PICTURE, value).map(|(_, form)| form);
    assert_eq!(form("https://cdn.example/pics/hall.jpg"), Some(Form::OtherScheme));
    assert_eq!(form("src='//cdn.example/pics/hall.jpg'"), Some(Form::OtherScheme));
    assert_eq!(form("src=\"/pics/hall.jpg\""), Some(Form::PathAlone));
    assert_eq!(form("pics/hall.jpg"), Some(Form::PathAlone));
    assert_eq!(form("s:13:\"pics\\/hall.jpg\";"), Some(Form::PathAlone));
    assert_eq!(one("//cdn.example/x1", "http://cdn.example/x1").unwrap().1, Form::Same);
}

#[test]
fn what_only_looks_alike_is_not_found() {
    for value in [
        "http://cdn.example/pics/hall.jpgx",
        "http://cdn.example/pics/Hall.jpg",
        "http://cdn.example/pics/hall.jpg.bak",
        "http://other.example/pics/hall.jpg",
        "http://cdn.example.test/pics/hall.jpg",
        "../pics/hall.jpg",
        "more_pics/hall.jpg",
        "ftp://cdn.example/pics/hall.jpg",
    ] {
        assert_eq!(one(PICTURE, value), None, "{value}");
    }
    assert_eq!(
        one("http://cdn.example", "http://cdn.example/any").unwrap().0,
        "http://cdn.example"
    );
    assert_eq!(one("http://cdn.example/", "http://cdn.example").unwrap().0, "http://cdn.example");
    assert_eq!(one("http://cdn.example", "http://cdn.examples"), None);
}

#[test]
fn letters_beyond_ascii_are_found_as_they_are_encoded() {
    let text = "http://sterne.example/größe/mond.png";
    for value in [
        "http://sterne.example/größe/mond.png",
        "http://sterne.example/gr%C3%B6%c3%9fe/mond.png",
        "http:\\/\\/sterne.example\\/gr\\u00f6\\u00dfe\\/mond.png",
    ] {
        assert_eq!(one(text, value).unwrap(), (value.to_owned(), Form::Same));
        assert_eq!(one(value, text).unwrap(), (text.to_owned(), Form::Same));
    }
    assert_eq!(one(text, "http://sterne.example/gr%C3%B6%c3%9ee/mond.png"), None);
    let idn = "http://größe.example/a";
    assert!(one(idn, "http://xn--gre-6ka8i.example/a").is_some());
    assert!(one("http://xn--gre-6ka8i.example/a", idn).is_some());
    let latin1 = b"<a href='http://sterne.example/gr\xf6\xdfe/mond.png'>";
    let needles = Needles::new(&[text.to_owned()]).unwrap();
    assert!(needles.cell(ColumnText::Utf8, latin1).is_none());
    assert_eq!(needles.cell(ColumnText::Latin1, latin1).unwrap().1.len(), 1);
}

#[test]
fn paths_and_words_are_found_too() {
    assert_eq!(one("/pics/a1.png", "http://x.example/pics/a1.png").unwrap().0, "/pics/a1.png");
    assert_eq!(one("pics/a1.png", "(/pics/a1.png)").unwrap().0, "pics/a1.png");
    assert_eq!(one("pics/a1.png", "(mypics/a1.png)"), None);
    assert_eq!(one("night of the", "a night\u{20}of the comet").unwrap().0, "night of the");
    assert_eq!(one("shooting%20star", "shooting star").unwrap().0, "shooting star");
    assert_eq!(one("Ω", "the letter Ω").unwrap().0, "Ω");
    assert_eq!(Needles::new(&["//".into()]).err(), Some(NeedleError::Empty("//".into())));
    assert_eq!(
        Needles::new(&["http:///x".into()]).err(),
        Some(NeedleError::NoHost("http:///x".into()))
    );
}

#[test]
fn many_texts_are_found_in_one_pass_even_if_one_is_part_of_another() {
    let texts = ["http://a.example", "http://a.example/moon", "/moon", "moon"];
    let value = "see http://a.example/moon";
    let names: Vec<(usize, &str)> =
        vec![(0, "http://a.example"), (1, "http://a.example/moon"), (2, "/moon"), (3, "moon")];
    let found = found(&texts, value);
    let found: Vec<(usize, &str)> = found.iter().map(|(n, text, _)| (*n, text.as_str())).collect();
    assert_eq!(found, names);
}

proptest::proptest! {
    #[test]
    fn every_hit_reads_as_what_was_asked_for(value in "[/:.a%25&#;\\\\u002f \
                     \"]{0,40}(a/b1|%2Fb1)?") {
        let needles = Needles::new(&["a/b1".into(), "/b1".into(), "http://a/b1".into()]).unwrap();
        for hit in needles.find(value.as_bytes()) {
            proptest::prop_assert!(hit.range.end <= value.len());
            proptest::prop_assert!(value[hit.range].ends_with("b1"));
        }
    }
}
