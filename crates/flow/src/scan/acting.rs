//! Links that would do something if they were followed: log out, delete, buy.

use url::Url;

/// Links that log out, delete or otherwise act are not followed.
pub(super) fn does_something(url: &Url) -> bool {
    const WORDS: [&str; 10] = [
        "logout",
        "log-out",
        "logoff",
        "signout",
        "sign-out",
        "delete",
        "remove",
        "unsubscribe",
        "trash",
        "destroy",
    ];
    let pairs = url.query_pairs();
    let query = pairs.flat_map(|(key, value)| [key.to_lowercase(), value.to_lowercase()]);
    let path = url.path_segments().into_iter().flatten().map(str::to_lowercase);
    query
        .chain(path)
        .any(|part| WORDS.iter().any(|word| part == *word || part.starts_with(&format!("{word}."))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_that_act_are_known_by_their_words() {
        let acts = |text: &str| does_something(&Url::parse(text).unwrap());
        assert!(acts("https://a.example/logout"));
        assert!(acts("https://a.example/x?action=delete&id=1"));
        assert!(acts("https://a.example/logout.php"));
        assert!(!acts("https://a.example/articles/how-to-delete-stars"));
        assert!(!acts("https://a.example/removed"));
    }
}
