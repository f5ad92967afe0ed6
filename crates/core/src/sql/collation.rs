//! Collations that a server does not know, and what takes their place.
//!
//! Names tell what they do: `utf8mb4_0900_ai_ci` compares by Unicode 9.0 without accents
//! and letter case. The table gives for each family its nearest relatives in the families
//! of other servers; the first that the server knows is taken. Sorting of rare characters
//! can differ; the values themselves stay what they are.

use super::lexer::{Modes, Token, tokens};
use super::{Dialect, quote_name};
use std::collections::{BTreeMap, BTreeSet};

/// Beginning of a name, and what may stand in its place, best first.
const NEAREST: [(&str, &[&str]); 15] = [
    // Those of MySQL 8 do not pad: 'a' and 'a ' are two values, which a unique key would not hold
    // where they are one.
    (
        "utf8mb4_0900_ai_ci",
        &[
            "utf8mb4_uca1400_nopad_ai_ci",
            "utf8mb4_unicode_520_nopad_ci",
            "utf8mb4_uca1400_ai_ci",
            "utf8mb4_unicode_520_ci",
        ],
    ),
    (
        "utf8mb4_0900_as_cs",
        &[
            "utf8mb4_uca1400_nopad_as_cs",
            "utf8mb4_nopad_bin",
            "utf8mb4_uca1400_as_cs",
            "utf8mb4_bin",
        ],
    ),
    (
        "utf8mb4_0900_as_ci",
        &[
            "utf8mb4_uca1400_nopad_as_ci",
            "utf8mb4_unicode_520_nopad_ci",
            "utf8mb4_uca1400_as_ci",
            "utf8mb4_unicode_520_ci",
        ],
    ),
    ("utf8mb4_0900_bin", &["utf8mb4_nopad_bin", "utf8mb4_bin"]),
    ("utf8mb4_uca1400_nopad_ai_ci", &["utf8mb4_0900_ai_ci", "utf8mb4_unicode_520_ci"]),
    ("utf8mb4_uca1400_nopad_as_cs", &["utf8mb4_0900_as_cs", "utf8mb4_bin"]),
    ("utf8mb4_unicode_520_nopad_ci", &["utf8mb4_0900_ai_ci", "utf8mb4_unicode_520_ci"]),
    ("utf8mb4_uca1400_ai_ci", &["utf8mb4_0900_ai_ci", "utf8mb4_unicode_520_ci"]),
    ("utf8mb4_uca1400_as_cs", &["utf8mb4_0900_as_cs", "utf8mb4_bin"]),
    ("utf8mb4_uca1400_as_ci", &["utf8mb4_0900_as_ci", "utf8mb4_unicode_520_ci"]),
    ("utf8mb3_uca1400_ai_ci", &["utf8mb3_unicode_520_ci", "utf8_unicode_520_ci"]),
    ("uca1400_ai_ci", &["utf8mb4_0900_ai_ci", "utf8mb4_unicode_520_ci"]),
    ("utf8mb4_unicode_520_ci", &["utf8mb4_unicode_ci"]),
    ("utf8mb3_unicode_520_ci", &["utf8_unicode_520_ci", "utf8mb3_unicode_ci"]),
    ("utf8_unicode_520_ci", &["utf8mb3_unicode_520_ci", "utf8_unicode_ci"]),
];

/// What takes the place of a collation that is not in `known`; `None` if nothing fits.
pub fn nearest_collation(name: &str, known: &BTreeSet<String>) -> Option<String> {
    let name = name.to_ascii_lowercase();
    let listed = NEAREST.iter().find(|(from, _)| *from == name).map_or(&[][..], |(_, to)| to);
    if let Some(found) = listed.iter().find(|candidate| known.contains(**candidate)) {
        return Some((*found).to_owned());
    }
    let (charset, rest) = name.split_once('_')?;
    if rest.contains("0900") {
        // A language of MySQL 8, by rules of which others have none: what does not pad, at least.
        let plain = if rest.ends_with("_cs") { "utf8mb4_0900_as_cs" } else { "utf8mb4_0900_ai_ci" };
        if name != plain {
            return nearest_collation(plain, known);
        }
    }
    // One character set has two names.
    let charsets: &[&str] = match charset {
        "utf8" => &["utf8mb3", "utf8mb4"],
        "utf8mb3" => &["utf8", "utf8mb4"],
        _ => &[],
    };
    let same = charsets.iter().map(|other| format!("{other}_{rest}"));
    let padded = rest.replace("nopad_", "");
    let ending = if rest.ends_with("_cs") || rest.ends_with("bin") { "bin" } else { "general_ci" };
    let all: Vec<&str> = std::iter::once(charset).chain(charsets.iter().copied()).collect();
    let own = |rest: &str| all.iter().map(|c| format!("{c}_{rest}")).collect::<Vec<_>>();
    same.chain(own(&padded))
        .chain(own("unicode_ci").into_iter().filter(|_| ending == "general_ci"))
        .chain(own(ending))
        .find(|candidate| known.contains(candidate))
}

/// A statement with the collations (and the character set `utf8mb3`) that the server does
/// not know replaced; what was replaced is added to `replaced`, with nothing in its place if
/// nothing fits.
pub fn with_known_collations(
    statement: &str,
    modes: Modes,
    known: &BTreeSet<String>,
    replaced: &mut BTreeMap<String, Option<String>>,
) -> String {
    let upper = statement.to_ascii_uppercase();
    if !upper.contains("COLLATE") && !upper.contains("COLLATION_CONNECTION") {
        return statement.to_owned();
    }
    let mut out = String::with_capacity(statement.len());
    let mut written = 0;
    let mut reader = tokens(Dialect::Mariadb, modes, statement.as_bytes());
    let mut collate = false;
    while let Ok(Some(token)) = reader.next_token() {
        let range = reader.from..reader.at;
        let name = match &token {
            Token::Sign(b'=') if collate => continue,
            Token::Word(word) if collate => Some((*word).to_owned()),
            Token::Name(name) if collate => Some(name.clone()),
            Token::Text(name) if collate => Some(String::from_utf8_lossy(name).into_owned()),
            _ => None,
        };
        if let Some(name) = name
            && !known.contains(&name.to_ascii_lowercase())
        {
            let Some(other) = nearest_collation(&name, known) else {
                replaced.insert(name, None);
                collate = false;
                continue;
            };
            out.push_str(&statement[written..range.start]);
            out.push_str(&match token {
                Token::Name(_) => quote_name(Dialect::Mariadb, &other),
                Token::Text(_) => format!("'{other}'"),
                _ => other.clone(),
            });
            written = range.end;
            replaced.insert(name, Some(other));
        }
        collate = token.is("COLLATE") || token.is("collation_connection");
    }
    out.push_str(&statement[written..]);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn known() -> BTreeSet<String> {
        let names = ["utf8mb4_unicode_520_ci", "utf8mb4_bin", "utf8mb4_unicode_ci"];
        let more = ["utf8mb4_general_ci", "utf8mb3_general_ci", "latin1_swedish_ci", "latin1_bin"];
        names.into_iter().chain(more).map(str::to_owned).collect()
    }

    #[test]
    fn the_nearest_relative_that_is_known_is_taken() {
        for (name, other) in [
            ("utf8mb4_0900_ai_ci", Some("utf8mb4_unicode_520_ci")),
            ("utf8mb4_0900_as_cs", Some("utf8mb4_bin")),
            ("utf8mb4_de_pb_0900_ai_ci", Some("utf8mb4_unicode_520_ci")),
            ("UTF8MB4_uca1400_AI_ci", Some("utf8mb4_unicode_520_ci")),
            ("utf8_general_ci", Some("utf8mb3_general_ci")),
            ("utf8mb4_general_nopad_ci", Some("utf8mb4_general_ci")),
            ("latin1_german3_ci", None),
            ("latin1_german3_cs", Some("latin1_bin")),
            ("klingon_ci", None),
        ] {
            assert_eq!(nearest_collation(name, &known()).as_deref(), other, "{name}");
        }
    }

    #[test]
    fn what_does_not_pad_becomes_what_does_not_pad() {
        let mut known = known();
        known.extend(["utf8mb4_unicode_520_nopad_ci", "utf8mb4_nopad_bin"].map(str::to_owned));
        for (name, other) in [
            ("utf8mb4_0900_ai_ci", "utf8mb4_unicode_520_nopad_ci"),
            ("utf8mb4_0900_as_cs", "utf8mb4_nopad_bin"),
            ("utf8mb4_0900_bin", "utf8mb4_nopad_bin"),
            ("utf8mb4_de_pb_0900_as_cs", "utf8mb4_nopad_bin"),
        ] {
            assert_eq!(nearest_collation(name, &known).as_deref(), Some(other), "{name}");
        }
        known.insert("utf8mb4_uca1400_nopad_ai_ci".into());
        let found = nearest_collation("utf8mb4_0900_ai_ci", &known);
        assert_eq!(found.as_deref(), Some("utf8mb4_uca1400_nopad_ai_ci"));
    }

    #[test]
    fn only_collations_are_replaced_and_texts_stay() {
        let mut replaced = BTreeMap::new();
        let sql = "CREATE TABLE `t` (`a` text COLLATE utf8mb4_0900_ai_ci DEFAULT 'COLLATE \
                   utf8mb4_0900_ai_ci', `b` text COLLATE utf8mb4_bin) COLLATE=utf8mb4_0900_ai_ci";
        assert_eq!(
            with_known_collations(sql, Modes::default(), &known(), &mut replaced),
            "CREATE TABLE `t` (`a` text COLLATE utf8mb4_unicode_520_ci DEFAULT 'COLLATE \
             utf8mb4_0900_ai_ci', `b` text COLLATE utf8mb4_bin) COLLATE=utf8mb4_unicode_520_ci"
        );
        assert_eq!(replaced.len(), 1);
    }
}
