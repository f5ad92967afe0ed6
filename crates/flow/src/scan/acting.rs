//! Links that would do something if they were followed: log out, delete, buy, vote.
//!
//! A link too many that is not followed is named in the report; one too few may cost somebody a
//! page. So a word that acts counts wherever it stands in path or query, also within longer words.

use aho_corasick::AhoCorasick;
use std::sync::LazyLock;
use url::Url;

/// Words that act wherever they are part of a name, also within a longer word.
const ANYWHERE: [&str; 44] = [
    "logout",
    "logoff",
    "signout",
    "signoff",
    "delete",
    "remove",
    "unsubscribe",
    "trash",
    "destroy",
    "purge",
    "erase",
    "uninstall",
    "deactivate",
    "disable",
    "unpublish",
    "emptycart",
    "addtocart",
    "checkout",
    "truncate",
    "rollback",
    "reset_",
    "resetall",
    "killsession",
    "dropall",
    // German, French, Spanish, Italian, Portuguese, Dutch, Polish, Swedish.
    "abmelden",
    "loeschen",
    "löschen",
    "entfernen",
    "deconnexion",
    "déconnexion",
    "supprimer",
    "cerrarsesion",
    "cerrar-sesion",
    "eliminar",
    "borrar",
    "disconnetti",
    "elimina",
    "excluir",
    "apagar",
    "verwijder",
    "afmelden",
    "uitloggen",
    "usun",
    "logga-ut",
];

/// Words that act as a whole part of a name: `?do=del`, `/del/5`, but not `/model/`.
const WHOLE: [&str; 17] = [
    "del", "rm", "kill", "drop", "cancel", "buy", "vote", "approve", "reject", "ban", "block",
    "wipe", "clear", "empty", "exit", "reset", "unlink",
];

/// Prose about such things is not such a thing: whole names of pages in which the word stands
/// between others are long.
const PROSE: usize = 4;

/// Links that log out, delete or otherwise act are not followed.
pub(super) fn does_something(url: &Url) -> bool {
    let path = url.path_segments().into_iter().flatten();
    let path =
        path.map(|segment| percent_encoding::percent_decode_str(segment).decode_utf8_lossy());
    if path.map(|segment| segment.to_lowercase()).any(|segment| acts_in_path(&segment)) {
        return true;
    }
    url.query_pairs().any(|(key, value)| {
        let (key, value) = (key.to_lowercase(), value.to_lowercase());
        // What is searched for is only looked at.
        let searched = matches!(key.as_str(), "q" | "s" | "query" | "search" | "k" | "keyword");
        acts(&key) || (!searched && value.len() < 64 && acts(&value))
    })
}

fn acts_in_path(segment: &str) -> bool {
    // A title of an article: words with dashes between them, and no number or ending of a program.
    let words: Vec<&str> = segment.split(['-', '_', '+', ' ']).collect();
    let is_prose = words.len() >= PROSE && !segment.contains(['.', '=', '&']);
    // The pictures and papers that are named after such a thing do nothing.
    let is_file = segment.rsplit_once('.').is_some_and(|(_, kind)| {
        let still = [
            "png", "jpg", "jpeg", "gif", "webp", "svg", "pdf", "css", "js", "mp4", "mp3", "zip",
            "html", "htm", "txt", "ico", "woff", "woff2", "map", "json",
        ];
        still.contains(&kind)
    });
    // Names of articles go on after the word ("removed", "deleted-scenes"): only the word itself.
    !is_prose && !is_file && acts(segment)
}

/// Finds these words in one pass.
static FINDER: LazyLock<AhoCorasick> = LazyLock::new(|| {
    // A list of plain words is a valid set of patterns.
    AhoCorasick::new(ANYWHERE).unwrap_or_else(|_| unreachable!("the words are plain"))
});

fn acts(text: &str) -> bool {
    let whole = |word: &str| WHOLE.contains(&word);
    FINDER.find_overlapping_iter(text).any(|found| {
        // "deleted", "removed", "disabled": something that was done.
        let rest = &text[found.end()..];
        let goes_on = |c: char| c.is_alphabetic() || c == '_';
        rest.strip_prefix('d').is_none_or(|rest| rest.starts_with(goes_on))
    }) || text.split(|c: char| !c.is_alphanumeric()).any(whole)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_that_act_are_known_by_their_words() {
        let acts = |text: &str| does_something(&Url::parse(text).unwrap());
        for link in [
            "https://a.example/logout",
            "https://a.example/x?action=delete&id=1",
            "https://a.example/logout.php",
            "https://a.example/delete_post.php?id=3",
            "https://a.example/?task=delete_all",
            "https://a.example/post/delete-5",
            "https://a.example/index.php?option=user.logout",
            "https://a.example/?do=del&id=7",
            "https://a.example/admin/deletepost/7",
            "https://a.example/user/abmelden",
            "https://a.example/l%C3%B6schen/3",
            "https://a.example/?action=supprimer",
            "https://a.example/cart?add=1&op=buy",
            "https://a.example/remove",
        ] {
            assert!(acts(link), "{link}");
        }
        for link in [
            "https://a.example/articles/how-to-delete-stars",
            "https://a.example/removed",
            "https://a.example/model/5",
            "https://a.example/pictures/delete.png",
            "https://a.example/?q=delete",
            "https://a.example/blockade",
            "https://a.example/clearance",
        ] {
            assert!(!acts(link), "{link}");
        }
    }
}
