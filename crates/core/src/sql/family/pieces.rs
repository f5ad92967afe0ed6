//! The tokens of a statement with their places, and edits by them.

use crate::sql::Dialect;
use crate::sql::lexer::{Modes, Token, tokens};
use std::ops::Range;

/// A token and where it stands.
pub(super) struct Piece<'a> {
    pub token: Token<'a>,
    pub range: Range<usize>,
    /// Open parentheses before it.
    pub depth: usize,
    /// In a comment that some servers execute.
    pub in_mark: bool,
}

impl Piece<'_> {
    pub fn is(&self, word: &str) -> bool {
        self.token.is(word)
    }

    /// The same, or as a quoted name.
    pub fn named(&self, word: &str) -> bool {
        self.is(word) || matches!(&self.token, Token::Name(name) if name.eq_ignore_ascii_case(word))
    }
}

/// Where, and what stands there afterwards.
pub(super) type Edit = (Range<usize>, String);

pub(super) fn pieces(sql: &str) -> Vec<Piece<'_>> {
    let mut reader = tokens(Dialect::Mariadb, Modes::default(), sql.as_bytes());
    let (mut all, mut depth, mut in_mark) = (Vec::new(), 0_usize, false);
    while let Ok(Some(token)) = reader.next_token() {
        let range = reader.from..reader.at;
        match token {
            Token::Sign(b')') => depth = depth.saturating_sub(1),
            Token::MarkOpen => in_mark = true,
            _ => {}
        }
        let opens = token == Token::Sign(b'(');
        let closes = token == Token::MarkClose;
        all.push(Piece { token, range, depth, in_mark });
        depth += usize::from(opens);
        in_mark &= !closes;
    }
    all
}

pub(super) fn words_at(all: &[Piece<'_>], at: usize, words: &[&str]) -> bool {
    words.iter().enumerate().all(|(n, word)| all.get(at + n).is_some_and(|piece| piece.is(word)))
}

/// An option, from its name on, with its value; in a mark of its own, the mark.
pub(super) fn option_range(all: &[Piece<'_>], at: usize) -> Range<usize> {
    let equals = all.get(at + 1).is_some_and(|next| next.token == Token::Sign(b'='));
    let last = (at + 1 + usize::from(equals)).min(all.len() - 1);
    let alone = at > 0
        && all[at - 1].token == Token::MarkOpen
        && all.get(last + 1).is_some_and(|next| next.token == Token::MarkClose);
    match alone {
        true => all[at - 1].range.start..all[last + 1].range.end,
        false => all[at].range.start..all[last].range.end,
    }
}

/// The items between the outer parentheses, as places of tokens.
pub(super) fn items<'a>(all: &'a [Piece<'_>]) -> impl Iterator<Item = Range<usize>> + 'a {
    let open = all.iter().position(|piece| piece.token == Token::Sign(b'(')).unwrap_or(all.len());
    let close = all
        .iter()
        .skip(open)
        .position(|piece| piece.depth == 0 && piece.token == Token::Sign(b')'));
    let close = close.map_or(all.len(), |at| open + at);
    let mut from = open + 1;
    std::iter::from_fn(move || {
        if from >= close {
            return None;
        }
        let end = (from..close)
            .find(|at| all[*at].depth == 1 && all[*at].token == Token::Sign(b','))
            .unwrap_or(close);
        let item = from..end;
        from = end + 1;
        Some(item)
    })
}

/// Where the types of columns stand.
pub(super) fn types<'a>(all: &'a [Piece<'_>]) -> impl Iterator<Item = usize> + 'a {
    items(all)
        .filter(|item| item.len() > 1 && matches!(all[item.start].token, Token::Name(_)))
        .map(|item| item.start + 1)
}

pub(super) fn apply(sql: &str, mut edits: Vec<Edit>) -> String {
    edits.sort_by_key(|(range, _)| (range.start, range.end));
    let (mut out, mut written) = (String::with_capacity(sql.len()), 0);
    for (range, text) in edits {
        if range.start < written {
            continue;
        }
        out.push_str(&sql[written..range.start]);
        // What goes takes the space before it along.
        if text.is_empty() && range.start < range.end {
            out.truncate(out.trim_end_matches(' ').len());
        }
        out.push_str(&text);
        written = range.end;
    }
    out.push_str(&sql[written..]);
    out
}
