//! Names that lie in a schema (PostgreSQL): how they are shown, and how a statement is
//! moved from one schema to another.
//!
//! A table of the schema `public` is known by its name alone, any other as `schema.table`;
//! a part that holds a dot or a quote is quoted, so that the way back is unambiguous.

use super::lexer::{Modes, Token, tokens};
use super::{Dialect, quote_name};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

/// The schema whose name is not shown.
const USUAL: &str = "public";

/// A name and the schema in which it lies.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Qualified {
    /// The schema.
    pub schema: String,
    /// The name in it.
    pub name: String,
}

impl Qualified {
    /// A name in a schema.
    pub fn new(schema: &str, name: &str) -> Self {
        Self { schema: schema.to_owned(), name: name.to_owned() }
    }

    /// Reads a name as it is shown.
    pub fn parse(shown: &str) -> Self {
        let (first, rest) = part(shown);
        match rest.strip_prefix('.') {
            Some(second) => Self { schema: first, name: part(second).0 },
            None => Self { schema: USUAL.into(), name: first },
        }
    }

    /// The name as an identifier, with its schema.
    pub fn sql(&self) -> String {
        let quoted = |name: &str| quote_name(Dialect::Postgres, name);
        format!("{}.{}", quoted(&self.schema), quoted(&self.name))
    }
}

impl fmt::Display for Qualified {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let shown = |name: &str| match name.is_empty() || name.contains(['.', '"']) {
            true => quote_name(Dialect::Postgres, name),
            false => name.to_owned(),
        };
        if self.schema != USUAL {
            write!(f, "{}.", shown(&self.schema))?;
        }
        f.write_str(&shown(&self.name))
    }
}

/// The first part of a shown name, and what follows it.
fn part(shown: &str) -> (String, &str) {
    if let Some(quoted) = shown.strip_prefix('"') {
        let mut name = String::new();
        let mut rest = quoted;
        while let Some((before, after)) = rest.split_once('"') {
            name.push_str(before);
            match after.strip_prefix('"') {
                Some(more) => {
                    name.push('"');
                    rest = more;
                }
                None => return (name, after),
            }
        }
    }
    let end = shown.find('.').unwrap_or(shown.len());
    (shown[..end].to_owned(), &shown[end..])
}

/// What a statement names with its schema, written for other schemas: `from` tells for
/// each schema which names move, `to` where they go. Names that do not move stay.
pub fn in_schemas(
    statement: &str,
    from: &BTreeMap<String, BTreeSet<String>>,
    to: &dyn Fn(&str) -> String,
) -> String {
    let mut out = String::with_capacity(statement.len());
    let mut written = 0;
    let mut reader = tokens(Dialect::Postgres, Modes::default(), statement.as_bytes());
    // The last name, where it stands, and whether a dot follows it.
    let mut before: Option<(String, std::ops::Range<usize>)> = None;
    let mut dots = 0;
    while let Ok(Some(token)) = reader.next_token() {
        let range = reader.from..reader.at;
        let name = match &token {
            Token::Word(word) => Some((*word).to_owned()),
            Token::Name(name) => Some(name.clone()),
            _ => None,
        };
        match (name, &token) {
            (Some(name), _) => {
                if let Some((schema, place)) = before.as_ref().filter(|_| dots == 1)
                    && from.get(schema).is_some_and(|names| names.contains(&name))
                {
                    out.push_str(&statement[written..place.start]);
                    out.push_str(&quote_name(Dialect::Postgres, &to(schema)));
                    written = place.end;
                }
                // What follows a dot begins no name of its own.
                before = (dots == 0).then_some((name, range));
                dots = 0;
            }
            (None, Token::Sign(b'.')) if before.is_some() => dots += 1,
            (None, Token::Text(text)) => {
                if let Some(moved) = moved_class(text, &statement[range.end..], from, to) {
                    out.push_str(&statement[written..range.start]);
                    out.push_str(&moved);
                    written = range.end;
                }
                (before, dots) = (None, 0);
            }
            _ => (before, dots) = (None, 0),
        }
    }
    out.push_str(&statement[written..]);
    out
}

/// `'schema.name'::regclass`: a name inside a text.
fn moved_class(
    text: &[u8],
    after: &str,
    from: &BTreeMap<String, BTreeSet<String>>,
    to: &dyn Fn(&str) -> String,
) -> Option<String> {
    if !after.starts_with("::regclass") {
        return None;
    }
    let text = std::str::from_utf8(text).ok()?;
    let (schema, rest) = part(text);
    let name = part(rest.strip_prefix('.')?).0;
    let moves = from.get(&schema).is_some_and(|names| names.contains(&name));
    let new = Qualified { schema: to(&schema), name };
    moves.then(|| format!("'{}'", new.sql().replace('\'', "''")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_shown_name_is_read_back(schema in ".{0,8}", name in ".{0,8}") {
            let qualified = Qualified::new(&schema, &name);
            prop_assert_eq!(Qualified::parse(&qualified.to_string()), qualified);
        }
    }

    #[test]
    fn names_are_shown_as_short_as_they_can_be() {
        assert_eq!(Qualified::new("public", "notes").to_string(), "notes");
        assert_eq!(Qualified::new("app", "notes").to_string(), "app.notes");
        assert_eq!(Qualified::new("public", "a.b").to_string(), "\"a.b\"");
        assert_eq!(Qualified::new("a.b", "c\"d").to_string(), "\"a.b\".\"c\"\"d\"");
    }

    #[test]
    fn only_names_that_move_are_written_anew() {
        let mut from = BTreeMap::new();
        from.insert("app".to_owned(), BTreeSet::from(["notes".to_owned(), "s".to_owned()]));
        let to = |schema: &str| format!("_new_{schema}");
        let sql = "SELECT app.x, n.app.notes, 'app.notes', nextval('app.s'::regclass) \
                   FROM app.notes n JOIN \"app\".\"notes\" m ON app.other.id = 1 -- app.notes";
        assert_eq!(
            in_schemas(sql, &from, &to),
            "SELECT app.x, n.app.notes, 'app.notes', nextval('\"_new_app\".\"s\"'::regclass) \
             FROM \"_new_app\".notes n JOIN \"_new_app\".\"notes\" m ON app.other.id = 1 -- app.notes"
        );
    }
}
