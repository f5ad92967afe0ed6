//! What is written for each server; that the servers do what it says is proved with the servers.

use super::*;

fn redirects() -> Redirects {
    let to = WebAddress::parse("https://www.glimmer-point.example").unwrap();
    let old = WebAddress::parse("http://glimmerpoint.example").unwrap();
    Redirects::new(&to, Some(&old))
}

#[test]
fn one_address_leads_to_one_place_in_one_step() {
    let mut all = redirects();
    all.add_page("/a", "/b").unwrap();
    // What leads on is where it leads, in whatever order it is said.
    all.add_page("/b", "/c?x=1").unwrap();
    all.add_page("/z", "/a").unwrap();
    let of = |path: &str| all.moved.iter().find(|moved| moved.path == path).unwrap().to.clone();
    for path in ["/a", "/b", "/z"] {
        assert_eq!(of(path), "https://www.glimmer-point.example/c?x=1", "{path}");
    }
    // Said twice is said once; said otherwise is refused.
    all.add_page("/b", "/c?x=1").unwrap();
    assert_eq!(all.moved.len(), 3);
    let mut all = redirects();
    all.add_page("/a", "/b").unwrap();
    all.add_page("/a", "/b").unwrap();
    assert_eq!(all.moved.len(), 1);
    assert_eq!(all.add_page("/a", "/c"), Err(RedirectError::Twice("/a".into())));
}

#[test]
fn circles_and_foreign_addresses_are_refused() {
    let mut all = redirects();
    assert_eq!(all.add_page("/a", "/a"), Err(RedirectError::Circle("/a".into())));
    all.add_page("/a", "/b").unwrap();
    assert_eq!(all.add_page("/b", "/a"), Err(RedirectError::Circle("/b".into())));
    for from in ["http://other.example/a", "a", "//other.example/a", ""] {
        assert!(all.add_page(from, "/x").is_err(), "{from}");
    }
    for to in ["a", "ftp://glimmer.example/a", "javascript:alert(1)"] {
        assert!(all.add_page("/q", to).is_err(), "{to}");
    }
    // The same path of the old host is another address.
    all.add_page("http://www.glimmerpoint.example/same", "/same").unwrap();
}

#[test]
fn the_same_address_needs_no_rule_for_an_old_one() {
    let to = WebAddress::parse("https://www.glimmer.example").unwrap();
    let old = WebAddress::parse("http://glimmer.example").unwrap();
    assert_eq!(Redirects::new(&to, Some(&old)).old, []);
    // A folder of the same host is an old address.
    let old = WebAddress::parse("http://glimmer.example/sub").unwrap();
    assert_eq!(Redirects::new(&to, Some(&old)).old.len(), 1);
}

#[test]
fn nothing_of_an_address_is_taken_for_an_expression() {
    let mut all = redirects();
    all.add_page("/a.b+c(d)$e?f=[1]", "/x%24$&.html").unwrap();
    let apache = all.lines(Server::Apache).join("\n");
    assert!(apache.contains(r"/a\.b\+c\(d\)\$e\?f=\[1\]"), "{apache}");
    assert!(apache.contains(r"/x\%24\$&.html"), "{apache}");
    let nginx = all.lines(Server::Nginx).join("\n");
    assert!(nginx.contains("/x%24%24&.html"), "{nginx}");
    let mut all = redirects();
    all.add_page("/über 'uns'", "/a").unwrap();
    let php = all.lines(Server::Php).join("\n");
    // The letters of an escape may be small or large.
    assert!(php.contains(r"/%[Cc]3%[Bb][Cc]ber%20\\\'uns\\\'"), "{php}");
}
