//! What is written out of a table at packing, and what stays behind: what servers take for granted
//! differs, and what belongs to the disk of a host does not travel.

use super::pieces::{Piece, apply, items, option_range, pieces, words_at};
use crate::sql::lexer::Token;
use std::ops::Range;

/// Where something of a table lies that belongs to the disk of a host: another one has other disks
/// and other keys. Gives the statement without it, and what was left out.
pub fn without_host_options(sql: &str) -> (String, Vec<&'static str>) {
    let all = pieces(sql);
    let (mut edits, mut left_out) = (Vec::new(), Vec::new());
    let mut note = |what: &'static str| {
        if !left_out.contains(&what) {
            left_out.push(what);
        }
    };
    for at in 0..all.len() {
        // Options stand behind the columns, and in partitions.
        if all[at].depth > 0 && !behind_partitions(&all, at) {
            continue;
        }
        for words in [&["DATA", "DIRECTORY"][..], &["INDEX", "DIRECTORY"]] {
            if words_at(&all, at, words) {
                note("the folder of its data");
                let end = option_range(&all, at + 1).end;
                edits.push((all[at].range.start..end, String::new()));
            }
        }
        for (word, what) in [
            ("TABLESPACE", "its tablespace"),
            ("ENCRYPTION", "its encryption"),
            ("ENCRYPTED", "its encryption"),
            ("ENCRYPTION_KEY_ID", "its encryption"),
            ("COMPRESSION", "its compression of pages"),
        ] {
            if all[at].named(word) {
                note(what);
                edits.push((option_range(&all, at), String::new()));
            }
        }
    }
    (apply(sql, edits), left_out)
}

/// A statement that creates a table, with the collation of every text written out: what is left
/// to the server differs from server to server. `table` is that of the table; `columns` gives that
/// of a column.
pub fn with_collations(sql: &str, table: &str, columns: &dyn Fn(&str) -> Option<String>) -> String {
    let all = pieces(sql);
    let mut edits = Vec::new();
    for item in items(&all) {
        let (Token::Name(name), range) = (&all[item.start].token, item.clone()) else { continue };
        let has = |word: &str| range.clone().any(|at| all[at].depth == 1 && all[at].is(word));
        let Some(charset) = range
            .clone()
            .find(|at| all[*at].depth == 1 && words_at(&all, *at, &["CHARACTER", "SET"]))
        else {
            continue;
        };
        if has("COLLATE") {
            continue;
        }
        if let (Some(collation), Some(value)) = (columns(name), all.get(charset + 2)) {
            edits.push((value.range.end..value.range.end, format!(" COLLATE {collation}")));
        }
    }
    let options = || (0..all.len()).filter(|at| all[*at].depth == 0);
    let charset = options().find(|at| all[*at].is("CHARSET"));
    if let (Some(charset), false) = (charset, options().any(|at| all[at].is("COLLATE"))) {
        let end = option_range(&all, charset).end;
        edits.push((end..end, format!(" COLLATE={table}")));
    }
    apply(sql, edits)
}

/// Names of the checks of a table, and where `CONSTRAINT name` stands.
pub fn named_checks(sql: &str) -> Vec<(String, Range<usize>)> {
    let all = pieces(sql);
    let mut found = Vec::new();
    for at in 0..all.len() {
        if words_at(&all, at, &["CONSTRAINT"])
            && let Some(Token::Name(name)) = all.get(at + 1).map(|piece| &piece.token)
            && words_at(&all, at + 2, &["CHECK"])
        {
            found.push((name.clone(), all[at].range.start..all[at + 1].range.end));
        }
    }
    found
}

fn behind_partitions(all: &[Piece<'_>], at: usize) -> bool {
    all[..at].iter().any(|piece| piece.depth == 0 && piece.is("PARTITION"))
}
