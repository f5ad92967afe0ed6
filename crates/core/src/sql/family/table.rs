//! A table of one product in the words of the other.

use super::pieces::{Edit, Piece, apply, items, option_range, pieces, types, words_at};
use super::server::{Product, Server};
use crate::sql::lexer::Token;
use std::ops::Range;

impl Server {
    /// What of a statement that creates a table this server has nothing for, for people.
    pub fn lacks(&self, table: &str) -> Vec<&'static str> {
        let all = pieces(table);
        let has = |words: &[&str]| (0..all.len()).any(|at| words_at(&all, at, words));
        let kind = |names: &[&str]| types(&all).any(|at| names.iter().any(|name| all[at].is(name)));
        let mut lacking = Vec::new();
        if self.is_mariadb() {
            if functional_keys(&all) {
                lacking.push("keys on expressions");
            }
            return lacking;
        }
        if has(&["SYSTEM", "VERSIONING"]) && !has(&["WITHOUT", "SYSTEM", "VERSIONING"])
            || has(&["WITH", "SYSTEM", "VERSIONING"])
        {
            lacking.push("tables that keep the former states of their rows");
        }
        if has(&["PERIOD", "FOR"]) {
            lacking.push("periods");
        }
        if kind(&["uuid"]) {
            lacking.push("columns of type uuid");
        }
        if kind(&["inet4", "inet6"]) {
            lacking.push("columns of types inet4 and inet6");
        }
        lacking
    }

    /// A statement that creates a table, in the words of this server; what is said otherwise than
    /// it was, or left out, is added to `notes`.
    pub fn table(&self, sql: &str, notes: &mut Vec<String>) -> String {
        let all = pieces(sql);
        let mut edits = Vec::new();
        for at in 0..all.len() {
            match self.product {
                Product::Mariadb => self.for_mariadb(sql, &all, at, &mut edits, notes),
                Product::Mysql => self.for_mysql(&all, at, &mut edits, notes),
            }
        }
        apply(sql, edits)
    }

    fn for_mariadb(
        &self,
        sql: &str,
        all: &[Piece<'_>],
        at: usize,
        edits: &mut Vec<Edit>,
        notes: &mut Vec<String>,
    ) {
        if all[at].token == Token::MarkOpen {
            let Some(close) = (at..all.len()).find(|at| all[*at].token == Token::MarkClose) else {
                return;
            };
            let range = all[at].range.start..all[close].range.end;
            let inside = at + 1;
            let of_column = sql[all[at].range.clone()].contains("80023");
            if words_at(all, inside, &["INVISIBLE"]) && of_column {
                edits.push((range, "INVISIBLE".into()));
            } else if words_at(all, inside, &["INVISIBLE"]) {
                let ignored = self.is_mariadb_from((10, 6, 0));
                edits.push((range, if ignored { "IGNORED".into() } else { String::new() }));
            } else if words_at(all, inside, &["SRID"]) {
                let number = all.get(inside + 1).map_or("0", |piece| &sql[piece.range.clone()]);
                edits.push((range, format!("REF_SYSTEM_ID={number}")));
            } else if words_at(all, inside, &["NOT", "ENFORCED"]) {
                if let Some((item, name)) = check_before(all, at) {
                    notes.push(format!("{name} is not enforced at the source and was left out"));
                    edits.push((item.start..range.end, String::new()));
                }
            } else if words_at(all, inside, &["ENFORCED"]) {
                edits.push((range, String::new()));
            }
            return;
        }
        for option in [
            "COLUMN_FORMAT",
            "STORAGE",
            "ENGINE_ATTRIBUTE",
            "SECONDARY_ENGINE_ATTRIBUTE",
            "AUTOEXTEND_SIZE",
        ] {
            if words_at(all, at, &[option]) && !all[at].in_mark {
                edits.push((option_range(all, at), String::new()));
            }
        }
    }

    fn for_mysql(
        &self,
        all: &[Piece<'_>],
        at: usize,
        edits: &mut Vec<Edit>,
        notes: &mut Vec<String>,
    ) {
        let piece = &all[at];
        let modern = self.is_mysql_from((8, 0, 13));
        if words_at(all, at, &["NOT", "IGNORED"]) {
            edits.push((piece.range.start..all[at + 1].range.end, String::new()));
        } else if piece.is("IGNORED") && !(at > 0 && all[at - 1].is("NOT")) {
            let to = if self.is_mysql_from((8, 0, 0)) { "INVISIBLE" } else { "" };
            edits.push((piece.range.clone(), to.into()));
        } else if piece.is("INVISIBLE") && !piece.in_mark && !self.is_mysql_from((8, 0, 23)) {
            notes.push(
                "an invisible column becomes visible: the server has no invisible \
                        columns"
                    .into(),
            );
            edits.push((piece.range.clone(), String::new()));
        }
        for option in
            ["TRANSACTIONAL", "PAGE_CHECKSUM", "PAGE_COMPRESSED", "PAGE_COMPRESSION_LEVEL"]
        {
            if piece.named(option)
                && all.get(at + 1).is_some_and(|next| next.token == Token::Sign(b'='))
            {
                edits.push((option_range(all, at), String::new()));
            }
        }
        if piece.is("DEFAULT")
            && let Some((value, kind)) = default_value(all, at)
        {
            let range = all[value.start].range.start..all[value.end - 1].range.end;
            let first = &all[value.start];
            let is_call = value.len() > 1 && matches!(first.token, Token::Word(_));
            let is_time = ["CURRENT_TIMESTAMP", "NOW", "LOCALTIME", "LOCALTIMESTAMP"]
                .iter()
                .any(|name| first.is(name));
            let long = LONG_TYPES.iter().any(|name| all[kind].is(name));
            let literal =
                matches!(first.token, Token::Text(_) | Token::Number(_) | Token::Bytes(_));
            let bracketed = first.token == Token::Sign(b'(');
            if is_call && !is_time || long && literal || bracketed && !modern {
                if modern {
                    edits.push((range.start..range.start, "(".into()));
                    edits.push((range.end..range.end, ")".into()));
                } else {
                    notes.push(
                        "a computed default was left out: the server allows constants only".into(),
                    );
                    edits.push((piece.range.start..range.end, String::new()));
                }
            }
        }
    }
}

/// Types that take no plain constant as a default in MySQL.
const LONG_TYPES: [&str; 11] = [
    "tinytext",
    "text",
    "mediumtext",
    "longtext",
    "tinyblob",
    "blob",
    "mediumblob",
    "longblob",
    "json",
    "geometry",
    "point",
];

fn functional_keys(all: &[Piece<'_>]) -> bool {
    items(all).any(|item| {
        let is_key = item.clone().take(3).any(|at| all[at].is("KEY") || all[at].is("INDEX"))
            && !matches!(all[item.start].token, Token::Name(_));
        let two = |at: usize| all[at].token == Token::Sign(b'(') && all[at].depth == 2;
        is_key
            && item.clone().any(|at| {
                two(at) && at > 0 && matches!(all[at - 1].token, Token::Sign(b'(' | b','))
            })
    })
}

/// The check that stands right before this place, from the comma before it on, and its name.
fn check_before(all: &[Piece<'_>], at: usize) -> Option<(Range<usize>, String)> {
    let item = items(all).find(|item| item.contains(&at))?;
    let name = match &all.get(item.start + 1)?.token {
        Token::Name(name) if all[item.start].is("CONSTRAINT") => format!("check {name}"),
        _ => "a check".into(),
    };
    let comma = item.start.checked_sub(1).map(|before| &all[before])?;
    let start = match comma.token {
        Token::Sign(b',') => comma.range.start,
        _ => all[item.start].range.start,
    };
    Some((start..all[at].range.start, name))
}

/// The tokens of a default, and where the column's type stands.
fn default_value(all: &[Piece<'_>], at: usize) -> Option<(Range<usize>, usize)> {
    if all[at].depth != 1 {
        return None;
    }
    let item = items(all).find(|item| item.contains(&at))?;
    if !matches!(all[item.start].token, Token::Name(_)) {
        return None;
    }
    let first = at + 1;
    let mut end = first + 1;
    let opens = |at: usize| all.get(at).is_some_and(|piece| piece.token == Token::Sign(b'('));
    if opens(first) || opens(first + 1) && matches!(all[first].token, Token::Word(_)) {
        let open = if opens(first) { first } else { first + 1 };
        end = 1
            + (open + 1..item.end).find(|at| {
                all[*at].depth == all[open].depth && all[*at].token == Token::Sign(b')')
            })?;
    }
    (end <= item.end).then_some((first..end, item.start + 1))
}
