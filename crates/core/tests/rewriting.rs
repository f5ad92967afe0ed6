//! What rewriting does, case by case: text, result, why. `docs/rewriting.md` is made from this
//! table. It is long because the table is one: whoever looks for a case finds it in one place,
//! and in the order of the page.

use fernweh_core::rewrite::{Rewriter, Rule};
use std::path::Path;

/// Text, result, why.
type Case = (&'static str, &'static str, &'static str);

/// Heading, the rules, and the cases.
const GROUPS: &[(&str, &str, &[Case])] = &[
    (
        "Where an address ends",
        "folder",
        &[
            ("http://old.example", "https://new.example/n", "the host ends with the text"),
            ("http://old.example/", "https://new.example/n/", "a slash ends the host"),
            (
                "http://old.example?q=1",
                "https://new.example/n?q=1",
                "a question mark ends the host",
            ),
            ("http://old.example#top", "https://new.example/n#top", "a number sign ends the host"),
            ("http://old.example, and", "https://new.example/n, and", "prose goes on"),
            (
                "http://old.example. Then",
                "https://new.example/n. Then",
                "a full stop, and no letter behind it",
            ),
            ("http://old.example.", "https://new.example/n.", "a full stop at the end"),
            ("http://old.example…", "https://new.example/n…", "what follows is no part of a host"),
            ("http://old.example)", "https://new.example/n)", "what follows is no part of a host"),
            (
                "http://old.example\"",
                "https://new.example/n\"",
                "what follows is no part of a host",
            ),
            ("http://old.example'", "https://new.example/n'", "what follows is no part of a host"),
            (
                "http://old.example<br>",
                "https://new.example/n<br>",
                "what follows is no part of a host",
            ),
            (
                "http://old.example&amp;x",
                "https://new.example/n&amp;x",
                "what follows is no part of a host",
            ),
            (
                "http://old.example&lt;",
                "https://new.example/n&lt;",
                "what follows is no part of a host",
            ),
            (
                "http://old.example\\\"",
                "https://new.example/n\\\"",
                "what follows is no part of a host",
            ),
            (
                "http://old.example\\n",
                "https://new.example/n\\n",
                "what follows is no part of a host",
            ),
            (
                "http://old.example%22",
                "https://new.example/n%22",
                "what follows is no part of a host",
            ),
            (
                "http://old.example%2Fx",
                "https://new.example/n%2Fx",
                "what follows is no part of a host",
            ),
            (
                "http://old.example\u{a0}x",
                "https://new.example/n\u{a0}x",
                "what follows is no part of a host",
            ),
            (
                "http://old.example|http://old.example",
                "https://new.example/n|https://new.example/n",
                "what follows is no part of a host",
            ),
            ("http://old.example]", "https://new.example/n]", "what follows is no part of a host"),
            (
                "[url=http://old.example]x[/url]",
                "[url=https://new.example/n]x[/url]",
                "what follows is no part of a host",
            ),
            (
                "[x](http://old.example)",
                "[x](https://new.example/n)",
                "what follows is no part of a host",
            ),
            (
                "<![CDATA[http://old.example]]>",
                "<![CDATA[https://new.example/n]]>",
                "what follows is no part of a host",
            ),
            (
                "http://old.example 2x,http://old.example/b",
                "https://new.example/n 2x,https://new.example/n/b",
                "what follows is no part of a host",
            ),
        ],
    ),
    (
        "Where the host goes on, so that it is another one",
        "folder",
        &[
            (
                "http://old.examples",
                "http://old.examples",
                "the host goes on, so it is another one",
            ),
            (
                "http://old.example1",
                "http://old.example1",
                "the host goes on, so it is another one",
            ),
            (
                "http://old.example-x.test",
                "http://old.example-x.test",
                "the host goes on, so it is another one",
            ),
            (
                "http://old.example_x",
                "http://old.example_x",
                "the host goes on, so it is another one",
            ),
            (
                "http://old.example.test",
                "http://old.example.test",
                "the host goes on, so it is another one",
            ),
            (
                "http://old.example.1",
                "http://old.example.1",
                "the host goes on, so it is another one",
            ),
            (
                "http://old.exampleé",
                "http://old.exampleé",
                "the host goes on, so it is another one",
            ),
            (
                "http://old.example%C3%A9",
                "http://old.example%C3%A9",
                "the host goes on, so it is another one",
            ),
            (
                "http://old.example%2Etest",
                "http://old.example%2Etest",
                "the host goes on, so it is another one",
            ),
            (
                "http://old.example&#46;test",
                "http://old.example&#46;test",
                "the host goes on, so it is another one",
            ),
            (
                "http://old.example\\u0061",
                "http://old.example\\u0061",
                "the host goes on, so it is another one",
            ),
            (
                "http://old.example@x.test",
                "http://old.example@x.test",
                "the host goes on, so it is another one",
            ),
            (
                "http://old.example%40x.test",
                "http://old.example%40x.test",
                "the host goes on, so it is another one",
            ),
        ],
    ),
    (
        "Ports",
        "folder",
        &[
            (
                "http://old.example:80",
                "https://new.example/n",
                "the default port is the same server",
            ),
            (
                "http://old.example:80/x",
                "https://new.example/n/x",
                "the default port is the same server",
            ),
            (
                "https://old.example:443/x",
                "https://new.example/n/x",
                "the default port is the same server",
            ),
            ("//old.example:80/x", "//new.example/n/x", "the default port is the same server"),
            (
                "http://old.example:443",
                "http://old.example:443",
                "another port, or no port: left, and reported",
            ),
            (
                "http://old.example:8080",
                "http://old.example:8080",
                "another port, or no port: left, and reported",
            ),
            (
                "http://old.example:80です",
                "https://new.example/nです",
                "behind a port a letter beyond ASCII is no part of the address",
            ),
            (
                "http://old.example:81020",
                "http://old.example:81020",
                "another port, or no port: left, and reported",
            ),
            (
                "http://old.example:800",
                "http://old.example:800",
                "another port, or no port: left, and reported",
            ),
            (
                "http://old.example%3A80/",
                "https://new.example/n/",
                "the default port is the same server",
            ),
            (
                "http://old.example: x",
                "http://old.example: x",
                "another port, or no port: left, and reported",
            ),
        ],
    ),
    (
        "Before the address",
        "folder",
        &[
            (
                "xhttp://old.example",
                "xhttp://old.example",
                "what stands before makes it something else",
            ),
            (
                "1http://old.example",
                "1http://old.example",
                "what stands before makes it something else",
            ),
            (
                "git+http://old.example",
                "git+http://old.example",
                "what stands before makes it something else",
            ),
            (
                "a.http://old.example",
                "a.http://old.example",
                "what stands before makes it something else",
            ),
            ("(http://old.example", "(https://new.example/n", "an address begins here"),
            ("=http://old.example", "=https://new.example/n", "an address begins here"),
            (":http://old.example", ":https://new.example/n", "an address begins here"),
            ("_http://old.example", "_https://new.example/n", "an address begins here"),
            (
                "äöühttp://old.example",
                "äöühttps://new.example/n",
                "a letter of another script is no part of a scheme",
            ),
            (
                "アドレスはhttp://old.example/xです",
                "アドレスはhttps://new.example/n/xです",
                "a letter of another script is no part of a scheme",
            ),
            ("%20http://old.example", "%20https://new.example/n", "an address begins here"),
            ("\\thttp://old.example", "\\thttps://new.example/n", "an address begins here"),
            (
                "u003dhttp://old.example",
                "u003dhttp://old.example",
                "what stands before makes it something else",
            ),
            ("\\u003dhttp://old.example", "\\u003dhttps://new.example/n", "an address begins here"),
        ],
    ),
    (
        "Scheme-relative",
        "folder",
        &[
            ("//old.example/x", "//new.example/n/x", "an address without scheme begins here"),
            ("='//old.example/x'", "='//new.example/n/x'", "an address without scheme begins here"),
            (",//old.example", ",//new.example/n", "an address without scheme begins here"),
            (";//old.example", ";//new.example/n", "an address without scheme begins here"),
            (">//old.example", ">//new.example/n", "an address without scheme begins here"),
            ("x//old.example", "x//old.example", "not clearly an address"),
            ("://old.example", "://old.example", "not clearly an address"),
            ("///old.example", "///old.example", "not clearly an address"),
            (
                "\\\"\\/\\/old.example",
                "\\\"\\/\\/new.example\\/n",
                "an address without scheme begins here",
            ),
        ],
    ),
    (
        "Other names and other schemes",
        "folder",
        &[
            ("ftp://old.example", "ftp://old.example", "another name, or another scheme"),
            ("http://xold.example", "http://xold.example", "another name, or another scheme"),
            ("http://x.old.example", "http://x.old.example", "another name, or another scheme"),
            ("http://www.old.example/x", "https://new.example/n/x", "with www., the same site"),
            (
                "http://www2.old.example/x",
                "http://www2.old.example/x",
                "another name, or another scheme",
            ),
        ],
    ),
    (
        "Layers: each is written back as it was found",
        "plain",
        &[
            (
                r"http:\/\/old.example\/a",
                r"https:\/\/new.example\/a",
                "JSON writes slashes like this",
            ),
            (r"http:\\\/\\\/old.example\\\/a", r"https:\\\/\\\/new.example\\\/a", "JSON in JSON"),
            (
                r"http:\u002f\u002fold.example",
                r"https:\u002f\u002fnew.example",
                "a slash by its number in JSON",
            ),
            (
                "u=http%3A%2F%2Fold.example%2Fa",
                "u=https%3A%2F%2Fnew.example%2Fa",
                "percent-encoded, upper case",
            ),
            (
                "u=http%3a%2f%2fold.example%2fa",
                "u=https%3a%2f%2fnew.example%2fa",
                "percent-encoded, lower case",
            ),
            (
                "http%253A%252F%252Fold.example",
                "https%253A%252F%252Fnew.example",
                "percent-encoded twice",
            ),
            (
                "http&#58;&#47;&#47;old.example",
                "https&#58;&#47;&#47;new.example",
                "entities, decimal",
            ),
            (
                "http&#x3a;&#x2F;&#x2F;old&#x2e;example",
                "https&#x3a;&#x2F;&#x2F;new&#x2e;example",
                "entities, hexadecimal",
            ),
            (
                "http&colon;&sol;&sol;old&period;example",
                "https&colon;&sol;&sol;new&period;example",
                "entities, by name",
            ),
            (
                "http:&amp;#47;&amp;#47;old.example",
                "https:&amp;#47;&amp;#47;new.example",
                "entities, escaped once more",
            ),
            (
                r"%22http%3A%5C%2F%5C%2Fold.example",
                r"%22https%3A%5C%2F%5C%2Fnew.example",
                "JSON, percent-encoded",
            ),
            ("<a href='http://old.example/a'>", "<a href='https://new.example/a'>", "HTML"),
            (
                "<link>http://old.example/feed</link>",
                "<link>https://new.example/feed</link>",
                "XML",
            ),
            (
                "<![CDATA[<a href=\"http://old.example\">]]>",
                "<![CDATA[<a href=\"https://new.example\">]]>",
                "HTML in XML",
            ),
            ("url(http://old.example/a.png)", "url(https://new.example/a.png)", "CSS"),
            ("url('//old.example/a.png')", "url('//new.example/a.png')", "CSS, scheme-relative"),
            (
                "srcset=\"http://old.example/1.png 1x, http://old.example/2.png 2x\"",
                "srcset=\"https://new.example/1.png 1x, https://new.example/2.png 2x\"",
                "several in one attribute",
            ),
            (
                "http://old.example/a,http://old.example/b",
                "https://new.example/a,https://new.example/b",
                "a list with commas",
            ),
            (
                "[night](http://old.example/n \"Night\")",
                "[night](https://new.example/n \"Night\")",
                "Markdown",
            ),
            (
                "[img]http://old.example/a.png[/img]",
                "[img]https://new.example/a.png[/img]",
                "BBCode",
            ),
            (
                "https://share.test/?u=http://old.example/a&t=1",
                "https://share.test/?u=https://new.example/a&t=1",
                "a parameter of another site's address",
            ),
            (
                "data:text/html,<a href=\"http://old.example\">",
                "data:text/html,<a href=\"https://new.example\">",
                "a text as an address of its own",
            ),
            (
                "aHR0cDovL29sZC5leGFtcGxlLw==",
                "aHR0cDovL29sZC5leGFtcGxlLw==",
                "base64 is not opened",
            ),
        ],
    ),
    (
        "Serialized values and JSON documents",
        "plain",
        &[
            (
                r#"s:18:"http://old.example";"#,
                r#"s:19:"https://new.example";"#,
                "the length follows",
            ),
            (
                r#"a:1:{s:18:"http://old.example";i:1;}"#,
                r#"a:1:{s:19:"https://new.example";i:1;}"#,
                "keys as well",
            ),
            (
                r#"a:1:{i:0;s:12:"{"u":"http:\/\/old.example\/"}";}"#,
                r#"a:1:{i:0;s:12:"{"u":"http:\/\/old.example\/"}";}"#,
                "the length is wrong: left whole, and reported",
            ),
            (
                r#"a:1:{i:0;s:30:"{"u":"http:\/\/old.example\/"}";}"#,
                r#"a:1:{i:0;s:31:"{"u":"https:\/\/new.example\/"}";}"#,
                "JSON in a serialized value",
            ),
            (
                r#"{"v":"s:18:\"http://old.example\";"}"#,
                r#"{"v":"s:19:\"https://new.example\";"}"#,
                "a serialized value in JSON",
            ),
            (
                r#"a:1:{i:0;s:26:"s:18:"http://old.example";";}"#,
                r#"a:1:{i:0;s:27:"s:19:"https://new.example";";}"#,
                "serialized twice: both lengths",
            ),
            (
                r#"O:4:"Site":1:{s:3:"url";s:18:"http://old.example";}"#,
                r#"O:4:"Site":1:{s:3:"url";s:19:"https://new.example";}"#,
                "an object",
            ),
            (
                "O:1:\"S\":1:{s:4:\"\0S\0u\";s:18:\"http://old.example\";}",
                "O:1:\"S\":1:{s:4:\"\0S\0u\";s:19:\"https://new.example\";}",
                "a private property, with its zero bytes",
            ),
            (
                r#"C:1:"S":18:{http://old.example}"#,
                r#"C:1:"S":19:{https://new.example}"#,
                "an object with a form of its own",
            ),
            (
                r#"a:2:{i:0;s:18:"http://old.example";i:1;R:2;}"#,
                r#"a:2:{i:0;s:19:"https://new.example";i:1;R:2;}"#,
                "references keep their meaning",
            ),
            (
                r#"a:1:{i:0;d:0.10000000000000001;}http://old.example"#,
                r#"a:1:{i:0;d:0.10000000000000001;}https://new.example"#,
                "what follows a value is text; numbers stay as written",
            ),
            (r#"{"http://old.example":1}"#, r#"{"https://new.example":1}"#, "a key of JSON"),
            (
                r#"{"http://old.example":1,"https://new.example":2}"#,
                r#"{"http://old.example":1,"https://new.example":2}"#,
                "two keys would become one: left, and reported",
            ),
            (
                r#"["http:\/\/old.example","http://old.example"]"#,
                r#"["https:\/\/new.example","https://new.example"]"#,
                "each string keeps its spelling",
            ),
            (
                "s%3A18%3A%22http%3A%2F%2Fold.example%22%3B",
                "s%3A19%3A%22https%3A%2F%2Fnew.example%22%3B",
                "a serialized value, percent-encoded as a whole",
            ),
            (
                "s%253a18%253a%2522http%253a%252f%252fold.example%2522%253b",
                "s%253a19%253a%2522https%253a%252f%252fnew.example%2522%253b",
                "and twice",
            ),
            (
                "s%3A12%3A%22http%3A%2F%2Fold.example%22%3B",
                "s%3A12%3A%22http%3A%2F%2Fold.example%22%3B",
                "its length is wrong: left whole, and reported",
            ),
            (
                "s:18:&quot;http://old.example&quot;;",
                "s:19:&quot;https://new.example&quot;;",
                "a serialized value, escaped for HTML",
            ),
            (
                "%7B%22v%22%3A%22s%3A18%3A%5C%22http%3A%2F%2Fold.example%5C%22%3B%22%7D",
                "%7B%22v%22%3A%22s%3A19%3A%5C%22https%3A%2F%2Fnew.example%5C%22%3B%22%7D",
                "a serialized value in JSON, percent-encoded",
            ),
            (
                r#"a:1:{broken http://old.example"#,
                r#"a:1:{broken https://new.example"#,
                "only looks a little like a serialized value: text",
            ),
        ],
    ),
    (
        "From http: to https:, the host stays",
        "https",
        &[
            ("http://old.example/a", "https://old.example/a", "the scheme changes"),
            ("https://old.example/a", "https://old.example/a", "already new"),
            ("//old.example/a", "//old.example/a", "fits both"),
            ("http://www.old.example/a", "https://old.example/a", "with www., the same site"),
            (
                "http://old.example:443/a",
                "http://old.example:443/a",
                "another server than on port 80",
            ),
        ],
    ),
    (
        "Into a folder",
        "into",
        &[
            ("http://old.example/a", "http://old.example/shop/a", "moves down"),
            ("http://old.example", "http://old.example/shop", "the front page as well"),
            ("http://old.example/shop/a", "http://old.example/shop/a", "already there"),
            ("http://old.example/shopping", "http://old.example/shop/shopping", "another folder"),
        ],
    ),
    (
        "Out of a folder",
        "out",
        &[
            ("http://old.example/shop/a", "http://old.example/a", "moves up"),
            ("http://old.example/shop", "http://old.example", "the folder itself"),
            ("http://old.example/shop?x=1", "http://old.example?x=1", "with a question"),
            (
                "http://old.example/shopping",
                "http://old.example/shopping",
                "another folder: left, and reported",
            ),
            ("http://old.example/shop-2/a", "http://old.example/shop-2/a", "another folder"),
            ("http://old.example%2Fshop%2Fa", "http://old.example%2Fa", "encoded"),
        ],
    ),
    (
        "Paths of a file system",
        "path",
        &[
            ("/home/a/htdocs/x.png", "/srv/b/x.png", "a path below"),
            ("/home/a/htdocs", "/srv/b", "the folder itself"),
            ("/home/a/htdocs2/x", "/home/a/htdocs2/x", "another folder"),
            ("/home/a/htdocs.old", "/home/a/htdocs.old", "another folder"),
            ("/mnt/home/a/htdocs/x", "/mnt/home/a/htdocs/x", "part of another path"),
            (r"\/home\/a\/htdocs\/x", r"\/srv\/b\/x", "in JSON"),
            ("s:14:\"/home/a/htdocs\";", "s:6:\"/srv/b\";", "serialized"),
            ("/HOME/a/htdocs", "/HOME/a/htdocs", "case counts"),
        ],
    ),
    (
        "Paths from a drive",
        "drive",
        &[
            (r"C:\sites\a\x.png", r"D:\www\b\x.png", "with backslashes"),
            (r"C:\\sites\\a\\x.png", r"D:\\www\\b\\x.png", "escaped, as in JSON"),
            ("C:/sites/a/x.png", "D:/www/b/x.png", "with slashes"),
            (r"c:\Sites\A\x.png", r"D:\www\b\x.png", "case does not count"),
            ("C%3A%5Csites%5Ca%5Cx", "D%3A%5Cwww%5Cb%5Cx", "percent-encoded"),
            (r"C:\sites\ab\x", r"C:\sites\ab\x", "another folder"),
            (r"C:\sites\a.old", r"C:\sites\a.old", "another folder"),
            (r"XC:\sites\a", r"XC:\sites\a", "no drive"),
            (r"C:\sites\a\new", r"D:\www\b\new", "what follows is no escape"),
            (r#"s:10:"C:\sites\a";"#, r#"s:8:"D:\www\b";"#, "serialized"),
        ],
    ),
    (
        "From a drive to another kind of system",
        "leave",
        &[
            (
                r"C:\sites\a\pics\x.png",
                "/srv/b/pics/x.png",
                "separators become slashes up to the end of the path",
            ),
            (r"see C:\sites\a, please", "see /srv/b, please", "the folder itself"),
            ("C:/sites/a/pics/x.png", "/srv/b/pics/x.png", "with slashes"),
        ],
    ),
    (
        "Words",
        "words",
        &[
            ("at Glimmer Point.", "at Dusk Bay.", "between boundaries of words"),
            ("Glimmer Pointer", "Glimmer Pointer", "another word"),
            ("s:13:\"Glimmer Point\";", "s:8:\"Dusk Bay\";", "serialized"),
            ("GLIMMER POINT", "GLIMMER POINT", "case counts"),
        ],
    ),
    (
        "exact = true",
        "exact",
        &[
            (
                "http://www.old.example/a",
                "https://new.example/a",
                "the host as written in the rule",
            ),
            ("http://old.example/a", "http://old.example/a", "without www. it is another"),
        ],
    ),
    (
        "bare-host = true",
        "bare",
        &[
            ("Host: old.example", "Host: new.example", "the host alone"),
            (r"^old\.example$", r"^new\.example$", "with escaped dots"),
            ("a@old.example", "a@old.example", "an address of mail"),
            ("http://old.example", "https://new.example", "and addresses as ever"),
        ],
    ),
    (
        "Hosts with letters beyond ASCII",
        "idn",
        &[
            ("http://größe.example/a", "https://new.example/a", "as it is read"),
            ("http://xn--gre-6ka8i.example/a", "https://new.example/a", "as it is sent"),
            ("http://GRÖSSE.example", "http://GRÖSSE.example", "another name"),
        ],
    ),
    (
        "Two addresses that swap",
        "swap",
        &[
            (
                "http://a.example http://b.example",
                "http://b.example http://a.example",
                "one pass: nothing is rewritten twice",
            ),
            ("s:16:\"http://a.example\";", "s:16:\"http://b.example\";", "serialized"),
        ],
    ),
];

/// The rules by name, and their words.
fn rules(name: &str) -> (Vec<Rule>, &'static str) {
    let web = |from: &str, to: &str| Rule::new(from, to).unwrap();
    let old_to_new = || web("http://old.example", "https://new.example");
    match name {
        "folder" => (
            vec![web("http://old.example", "https://new.example/n")],
            "`http://old.example` → `https://new.example/n`",
        ),
        "plain" => (vec![old_to_new()], "`http://old.example` → `https://new.example`"),
        "https" => (
            vec![web("http://old.example", "https://old.example")],
            "`http://old.example` → `https://old.example`",
        ),
        "into" => (
            vec![web("http://old.example", "http://old.example/shop")],
            "`http://old.example` → `http://old.example/shop`",
        ),
        "out" => (
            vec![web("http://old.example/shop", "http://old.example")],
            "`http://old.example/shop` → `http://old.example`",
        ),
        "path" => (vec![web("/home/a/htdocs", "/srv/b")], "`/home/a/htdocs` → `/srv/b`"),
        "drive" => (vec![web(r"C:\sites\a", r"D:\www\b")], r"`C:\sites\a` → `D:\www\b`"),
        "leave" => (vec![web(r"C:\sites\a", "/srv/b")], r"`C:\sites\a` → `/srv/b`"),
        "words" => (
            vec![Rule::words("Glimmer Point", "Dusk Bay").unwrap()],
            "`Glimmer Point` → `Dusk Bay`, `kind = \"text\"`",
        ),
        "exact" => (
            vec![Rule { exact: true, ..web("http://www.old.example", "https://new.example") }],
            "`http://www.old.example` → `https://new.example`, `exact = true`",
        ),
        "bare" => (
            vec![Rule { bare_host: true, ..old_to_new() }],
            "`http://old.example` → `https://new.example`, `bare-host = true`",
        ),
        "idn" => (
            vec![web("http://größe.example", "https://new.example")],
            "`http://größe.example` → `https://new.example`",
        ),
        "swap" => (
            vec![
                web("http://a.example", "http://b.example"),
                web("http://b.example", "http://a.example"),
            ],
            "`http://a.example` → `http://b.example`, `http://b.example` → `http://a.example`",
        ),
        other => panic!("no rules of the name {other}"),
    }
}

fn rewriter(name: &str) -> Rewriter {
    Rewriter::new(rules(name).0).unwrap()
}

fn after(rewriter: &Rewriter, text: &str) -> String {
    String::from_utf8(rewriter.look(text.as_bytes()).apply(text.as_bytes())).unwrap()
}

#[test]
fn every_case_is_judged_as_the_table_says() {
    for (heading, name, cases) in GROUPS {
        let rewriter = rewriter(name);
        for (text, expected, _) in *cases {
            assert_eq!(after(&rewriter, text), *expected, "{heading}: {text}");
        }
    }
    assert!(GROUPS.iter().map(|(.., cases)| cases.len()).sum::<usize>() >= 120);
}

/// Puts a value into another.
type Layer = fn(&str) -> String;

/// A value as it stands inside another.
fn json(text: &str) -> String {
    serde_json::json!({ "a": [text] }).to_string()
}

fn php(text: &str) -> String {
    format!("a:1:{{i:0;s:{}:\"{text}\";}}", text.len())
}

/// Percent-encoded, as for a parameter of an address.
fn percent(text: &str) -> String {
    let plain = |byte: &u8| byte.is_ascii_alphanumeric() || b"-_.~".contains(byte);
    let sign = |byte: u8| match plain(&byte) {
        true => (byte as char).to_string(),
        false => format!("%{byte:02X}"),
    };
    text.bytes().map(sign).collect()
}

/// Escaped for HTML.
fn html(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// Every pair and triple of layers around a value with a length, and around a document.
#[test]
fn layers_commute_with_encoding_in_every_pair_and_triple() {
    let rewriter = rewriter("plain");
    let layers: [(&str, Layer); 4] =
        [("json", json), ("php", php), ("percent", percent), ("html", html)];
    let texts = [("http://old.example/a b", "https://new.example/a b")];
    let mut chains: Vec<Vec<usize>> = (0..4).map(|n| vec![n]).collect();
    for length in 1..3 {
        let longer = chains.iter().filter(|chain| chain.len() == length);
        let longer: Vec<Vec<usize>> = longer
            .flat_map(|chain| (0..4).map(move |n| [chain.as_slice(), &[n]].concat()))
            .collect();
        chains.extend(longer);
    }
    assert_eq!(chains.len(), 4 + 16 + 64);
    let mut wrong = Vec::new();
    for chain in chains {
        for (before, expected) in texts {
            let wrap = |text: &str| {
                chain.iter().fold(text.to_owned(), |text, layer| layers[*layer].1(&text))
            };
            if after(&rewriter, &wrap(before)) != wrap(expected) {
                let names: Vec<&str> = chain.iter().map(|layer| layers[*layer].0).collect();
                wrong.push(format!("{}: {}", names.join(" in "), after(&rewriter, &wrap(before))));
            }
        }
    }
    assert!(wrong.is_empty(), "{}\n{}", wrong.len(), wrong.join("\n"));
}

#[test]
fn a_case_is_the_same_inside_every_value() {
    let layers: [&[Layer]; 8] = [
        &[json],
        &[php],
        &[json, php],
        &[php, json],
        &[json, json],
        &[php, php],
        &[json, php, json],
        &[php, json, php],
    ];
    for (heading, name, cases) in GROUPS {
        let rewriter = rewriter(name);
        // What is text by itself can be part of another word behind a quote.
        for (text, expected, _) in *cases {
            for layer in layers {
                let wrap =
                    |text: &str| layer.iter().fold(text.to_owned(), |text, layer| layer(&text));
                assert_eq!(after(&rewriter, &wrap(text)), wrap(expected), "{heading}: {text}");
            }
        }
    }
}

#[test]
fn rewriting_twice_changes_nothing_more() {
    for (heading, name, cases) in GROUPS.iter().filter(|(_, name, _)| *name != "swap") {
        let rewriter = rewriter(name);
        for (_, expected, _) in *cases {
            assert_eq!(after(&rewriter, expected), *expected, "{heading}");
        }
    }
}

/// A text as inline code in a table.
fn code(text: &str) -> String {
    let text =
        text.replace('\0', "␀").replace('\u{a0}', "⍽").replace('\n', "␊").replace('|', "\\|");
    if text.contains('`') { format!("`` {text} ``") } else { format!("`{text}`") }
}

#[test]
fn the_page_about_rewriting_is_made_from_this_table() {
    let mut page = String::from(
        "# What rewriting does, case by case\n\n\
         Made from the table of the tests (`crates/core/tests/rewriting.rs`). Each case holds inside\n\
         JSON, inside PHP's serialized values, and inside both, too. `␀` stands for a zero byte, `⍽`\n\
         for a space that does not break.\n",
    );
    for (heading, name, cases) in GROUPS {
        page.push_str(&format!("\n## {heading}\n\n{}\n\n", rules(name).1));
        page.push_str("| text | result | why |\n|---|---|---|\n");
        for (text, result, why) in *cases {
            let result = if text == result { "stays".to_owned() } else { code(result) };
            page.push_str(&format!("| {} | {result} | {why} |\n", code(text)));
        }
    }
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/rewriting.md");
    if std::env::var_os("FERNWEH_WRITE_DOCS").is_some() {
        std::fs::write(&path, &page).unwrap();
    }
    let found = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(found == page, "docs/rewriting.md is old; FERNWEH_WRITE_DOCS=1 writes it anew");
}
