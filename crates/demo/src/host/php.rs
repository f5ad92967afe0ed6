//! As much of PHP's `unserialize` as the sample site needs: strict about lengths, as the
//! real one, so that a setting that was broken on the way breaks the page.

/// A value.
#[derive(Debug, PartialEq)]
pub enum Php {
    /// A string.
    Text(String),
    /// An array, in order.
    List(Vec<(Php, Php)>),
    /// Numbers, booleans, null: as written.
    Other(String),
}

impl Php {
    /// Reads a value; `None` if anything about it is wrong.
    pub fn read(text: &str) -> Option<Php> {
        Self::value(text).map(|(value, _)| value)
    }

    fn value(text: &str) -> Option<(Php, &str)> {
        let (kind, rest) = text.split_at_checked(2)?;
        match kind {
            "s:" => {
                let (size, rest) = rest.split_once(":\"")?;
                let (body, rest) = rest.split_at_checked(size.parse().ok()?)?;
                Some((Php::Text(body.into()), rest.strip_prefix("\";")?))
            }
            "a:" => {
                let (count, mut rest) = rest.split_once(":{")?;
                let mut list = Vec::new();
                for _ in 0..count.parse::<usize>().ok()? {
                    let (key, after) = Self::value(rest)?;
                    let (value, after) = Self::value(after)?;
                    list.push((key, value));
                    rest = after;
                }
                Some((Php::List(list), rest.strip_prefix('}')?))
            }
            "i:" | "d:" | "b:" => {
                let (word, rest) = rest.split_once(';')?;
                Some((Php::Other(word.into()), rest))
            }
            "N;" => Some((Php::Other("null".into()), rest)),
            _ => None,
        }
    }

    /// The value of a key.
    pub fn get(&self, key: &str) -> Option<&Php> {
        let Php::List(list) = self else { return None };
        list.iter().find(|(name, _)| matches!(name, Php::Text(name) if name == key)).map(|(_, v)| v)
    }

    /// The string.
    pub fn text(&self) -> Option<&str> {
        match self {
            Php::Text(text) => Some(text),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wrong_lengths_are_not_forgiven() {
        let list = Php::read("a:1:{s:1:\"a\";s:2:\"ü\";}").unwrap();
        assert_eq!(list.get("a").unwrap().text(), Some("ü"));
        assert_eq!(Php::read("a:1:{s:1:\"a\";s:3:\"ü\";}"), None);
        assert_eq!(Php::read("s:9:\"abc\";"), None);
    }
}
