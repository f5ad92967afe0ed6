//! Values in base64 (RFC 4648, section 4): opened only if that is wanted, and otherwise
//! counted where they hold an old address.
//!
//! Base64 hides the names that are looked for, so every value that could be base64 as a whole
//! is decoded; one look at its first bytes rules out nearly all others.

use super::spelling::Encoding;
use super::{Edit, Left, Matches, Reason, Rewriter};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;

/// The shortest value that can hold an address (`//a.b` and what surrounds it).
const SHORTEST: usize = 16;

fn is_sign(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'+' || byte == b'/'
}

/// What a value stands for, if all of it is base64 and hides an old name.
pub(super) fn opened(rewriter: &Rewriter, value: &[u8]) -> Option<Vec<u8>> {
    let fits = value.len() >= SHORTEST && value.len().is_multiple_of(4);
    if !fits || !value[..SHORTEST - 2].iter().all(|byte| is_sign(*byte)) {
        return None;
    }
    let inner = STANDARD.decode(value).ok()?;
    (std::str::from_utf8(&inner).is_ok() && rewriter.concerns(&inner)).then_some(inner)
}

/// The edit of a value in base64: all of it is written anew.
pub(super) fn look(rewriter: &Rewriter, value: &[u8], inner: &[u8], depth: usize) -> Matches {
    let found = rewriter.look_into(inner, depth + 1);
    let whole = 0..value.len();
    let first = found.edits.iter().find_map(|edit| edit.replaced);
    if !rewriter.opens_base64 {
        let any = first.map(|(rule, _)| rule).or(found.left.iter().find_map(|left| left.rule));
        let left = Left { range: whole, reason: Reason::InBase64, rule: any };
        let is_any = !found.edits.is_empty() || !found.left.is_empty();
        return Matches {
            left: if is_any { vec![left] } else { Vec::new() },
            ..Matches::default()
        };
    }
    let left = found.left.iter().map(|left| Left { range: whole.clone(), ..left.clone() });
    let mut outer = Matches { left: left.collect(), ..Matches::default() };
    if !found.edits.is_empty() {
        let text = STANDARD.encode(found.apply(inner)).into_bytes();
        let replaced = first.map(|(rule, mut spelling)| {
            spelling.encoding = Encoding::Base64;
            (rule, spelling)
        });
        outer.edits.push(Edit { range: whole, text, replaced });
        outer.in_serialized = found.in_serialized;
        outer.mended = found.mended;
    }
    outer
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rewrite::Rule;

    fn rewriter(opens: bool) -> Rewriter {
        let rule = Rule::new("http://old.example", "https://new.example/n").unwrap();
        Rewriter::new(vec![rule]).unwrap().opening_base64(opens)
    }

    type Wrap = fn(&str, &dyn Fn(&str) -> String) -> String;

    fn php(text: &str) -> String {
        format!("a:1:{{i:0;s:{}:\"{text}\";}}", text.len())
    }

    #[test]
    fn base64_is_opened_in_every_layer_if_that_is_wanted() {
        let (before, after) = ("see http://old.example/a", "see https://new.example/n/a");
        let encode = |text: &str| STANDARD.encode(text);
        let wraps: [Wrap; 5] = [
            |text, encode| encode(text),
            |text, encode| php(&encode(text)),
            |text, encode| encode(&php(text)),
            |text, encode| encode(&encode(text)),
            |text, encode| format!("{{\"a\":\"{}\"}}", encode(text)),
        ];
        for wrap in wraps {
            let (value, expected) = (wrap(before, &encode), wrap(after, &encode));
            let found = rewriter(true).look(value.as_bytes());
            assert_eq!(String::from_utf8(found.apply(value.as_bytes())).unwrap(), expected);
        }
    }

    #[test]
    fn otherwise_it_is_left_and_counted() {
        let value = STANDARD.encode("see http://old.example/a");
        let found = rewriter(false).look(value.as_bytes());
        assert_eq!(found.edits, []);
        assert_eq!(found.left[0].reason, Reason::InBase64);
        let other = STANDARD.encode("see http://other.example/a and nothing else");
        assert_eq!(rewriter(true).look(other.as_bytes()), Matches::default());
    }
}
