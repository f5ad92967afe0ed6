//! Which keys of a table can be made once it holds its rows.
//!
//! A key of random texts that does not fit the server's memory is filled by reading and writing a
//! page for every record; made at once it is sorted. What follows is for InnoDB, whose records lie
//! in the order of the primary key: that one stays, and so does whatever else the table needs while
//! it is filled.

use super::pieces::{Piece, items, pieces, words_at};
use crate::sql::lexer::Token;
use std::ops::Range;

/// A secondary key as its table declares it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SecondaryKey {
    /// Its name.
    pub name: String,
    /// Its declaration, as it stands in `CREATE TABLE` and behind `ADD`.
    pub sql: String,
    /// What has one value in one record only, as expressions; `None` if the key is not unique.
    pub unique: Option<Vec<String>>,
}

/// The keys of a table that can be left out while it is filled, and added afterwards; none where
/// the table is of another engine, has no primary key, or keeps former states of its rows.
pub fn secondary_keys(sql: &str) -> Vec<SecondaryKey> {
    let all = pieces(sql);
    let has = |words: &[&str]| (0..all.len()).any(|at| words_at(&all, at, words));
    let engine = (0..all.len()).find(|at| all[*at].depth == 0 && all[*at].is("ENGINE"));
    let engine = engine.and_then(|at| all.get(at + 2));
    let primary = items(&all).find(|item| words_at(&all, item.start, &["PRIMARY", "KEY"]));
    let (Some(engine), Some(primary)) = (engine, primary) else { return Vec::new() };
    if !engine.named("InnoDB") || has(&["SYSTEM", "VERSIONING"]) || has(&["PERIOD", "FOR"]) {
        return Vec::new();
    }
    let counter = counter(&all).filter(|counter| first_column(&all, &primary) != Some(counter));
    items(&all)
        .filter_map(|item| {
            let unique = words_at(&all, item.start, &["UNIQUE", "KEY"]);
            if !unique && !all[item.start].is("KEY") {
                return None;
            }
            let Token::Name(name) = &all.get(item.start + 1 + usize::from(unique))?.token else {
                return None;
            };
            // A column that counts must be the first of a key, and texts without bounds are
            // compared by a column that the server hides.
            let counts = counter.is_some() && first_column(&all, &item) == counter;
            let hashed = item.clone().any(|at| words_at(&all, at, &["USING", "HASH"]));
            if counts || hashed {
                return None;
            }
            let text = all[item.start].range.start..all[item.end - 1].range.end;
            Some(SecondaryKey {
                name: name.clone(),
                sql: sql[text].to_owned(),
                unique: unique.then(|| parts(sql, &all, &item)),
            })
        })
        .collect()
}

/// The column that counts by itself.
fn counter<'a>(all: &'a [Piece<'_>]) -> Option<&'a str> {
    items(all).find_map(|mut item| match &all[item.start].token {
        Token::Name(name) => item.any(|at| all[at].is("AUTO_INCREMENT")).then_some(&**name),
        _ => None,
    })
}

fn first_column<'a>(all: &'a [Piece<'_>], item: &Range<usize>) -> Option<&'a str> {
    let open = item.clone().find(|at| all[*at].token == Token::Sign(b'('))?;
    match &all.get(open + 1)?.token {
        Token::Name(name) => Some(name),
        _ => None,
    }
}

/// What the parts of a key hold, as expressions.
fn parts(sql: &str, all: &[Piece<'_>], item: &Range<usize>) -> Vec<String> {
    let Some(open) = item.clone().find(|at| all[*at].token == Token::Sign(b'(')) else {
        return Vec::new();
    };
    let close = (open + 1..item.end).find(|at| all[*at].depth == 1).unwrap_or(item.end);
    let inside: Vec<usize> = (open + 1..close).collect();
    let separated = inside.split(|at| all[*at].depth == 2 && all[*at].token == Token::Sign(b','));
    separated
        .map(|part| {
            let order = |at: &&usize| all[**at].is("ASC") || all[**at].is("DESC");
            let part: Vec<usize> = part.iter().take_while(|at| !order(at)).copied().collect();
            let text = |from: usize, to: usize| &sql[all[from].range.start..all[to].range.end];
            match part[..] {
                // Only so many characters of a text count.
                [name, open, length, _]
                    if all[open].token == Token::Sign(b'(')
                        && matches!(all[length].token, Token::Number(_)) =>
                {
                    format!("LEFT({}, {})", text(name, name), text(length, length))
                }
                [from, .., to] => text(from, to).to_owned(),
                [only] => text(only, only).to_owned(),
                [] => String::new(),
            }
        })
        .collect()
}
