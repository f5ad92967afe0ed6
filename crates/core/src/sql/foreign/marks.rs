//! What stands around the statements of scripts for MariaDB and MySQL: comments that some
//! versions execute, and definers.

use crate::sql::Dialect;
use crate::sql::lexer::{Token, tokens};
use std::borrow::Cow;

/// The number with which scripts mark what no server of today shall execute.
const NEVER: &[u8] = b"999999";

/// A statement as a server of today reads it: what stands in comments like `/*!40101 … */`
/// and `/*M!100100 … */` belongs to it.
pub(super) fn without_marks(statement: &[u8]) -> Cow<'_, [u8]> {
    if memchr::memmem::find(statement, b"/*!").is_none()
        && memchr::memmem::find(statement, b"/*M!").is_none()
    {
        return Cow::Borrowed(statement);
    }
    let mut out = Vec::with_capacity(statement.len());
    let mut at = 0;
    let mut open = false;
    while let Some(&byte) = statement.get(at) {
        let rest = &statement[at..];
        if let Some(body) = rest.strip_prefix(b"/*!").or_else(|| rest.strip_prefix(b"/*M!")) {
            let digits = body.iter().take_while(|c| c.is_ascii_digit()).count();
            if &body[..digits] == NEVER {
                at += memchr::memmem::find(rest, b"*/").map_or(rest.len(), |end| end + 2);
                continue;
            }
            at += rest.len() - body.len() + digits;
            out.push(b' ');
            open = true;
            continue;
        }
        let length = match byte {
            b'*' if open && rest.starts_with(b"*/") => {
                out.push(b' ');
                open = false;
                at += 2;
                continue;
            }
            b'\'' | b'"' | b'`' => quoted_length(rest, byte),
            b'/' if rest.starts_with(b"/*") => {
                memchr::memmem::find(rest, b"*/").map_or(rest.len(), |end| end + 2)
            }
            _ => 1,
        };
        out.extend_from_slice(&rest[..length]);
        at += length;
    }
    Cow::Owned(out)
}

/// The length of a quoted text or name, with its quotes.
fn quoted_length(text: &[u8], quote: u8) -> usize {
    let mut at = 1;
    while let Some(&byte) = text.get(at) {
        at += 1;
        match byte {
            b'\\' if quote != b'`' => at += 1,
            byte if byte == quote => return at,
            _ => {}
        }
    }
    text.len()
}

/// Drops ``DEFINER = `user`@`host` ``: on the target the current user takes this place.
pub fn without_definer(sql: &str) -> String {
    let mut reader = tokens(Dialect::Mariadb, sql.as_bytes());
    // The definer stands before what is created; a body may hold the word too.
    for _ in 0..12 {
        match reader.next_token() {
            Ok(Some(token)) if token.is("DEFINER") => {}
            Ok(Some(_)) => continue,
            _ => break,
        }
        let start = reader.from;
        let mut rest = reader.clone();
        if rest.next_token() != Ok(Some(Token::Sign(b'='))) || rest.next_token().is_err() {
            continue;
        }
        let mut end = rest.at;
        let mut host = rest.clone();
        if host.next_token() == Ok(Some(Token::Sign(b'@'))) && host.next_token().is_ok() {
            end = host.at;
        } else if host.next_token() == Ok(Some(Token::Sign(b')'))) {
            // CURRENT_USER()
            end = host.at;
        }
        return format!("{}{}", &sql[..start], sql[end..].trim_start());
    }
    sql.to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn unmarked(text: &str) -> String {
        let text = String::from_utf8_lossy(&without_marks(text.as_bytes())).into_owned();
        text.trim().replace("   ", " ").replace("  ", " ")
    }

    #[test]
    fn marked_comments_belong_to_the_statement() {
        assert_eq!(unmarked("/*!40101 SET NAMES utf8mb4 */"), "SET NAMES utf8mb4");
        assert_eq!(unmarked("/*M!100100 SET x = 1 */"), "SET x = 1");
        assert_eq!(
            unmarked("/*!50003 CREATE*/ /*!50017 DEFINER=`a`@`b`*/ /*!50003 TRIGGER t */"),
            "CREATE DEFINER=`a`@`b` TRIGGER t"
        );
        assert_eq!(unmarked("/*!999999 enable nothing */ SELECT 1"), "SELECT 1");
    }

    #[test]
    fn texts_and_plain_comments_stay() {
        let kept = "INSERT INTO `/*!1*/` VALUES ('/*!40101 a */', \"it\\\"s /*! b */\") /* c */";
        assert_eq!(unmarked(kept), kept);
    }

    #[test]
    fn definers_are_dropped_and_the_rest_stays() {
        for (with, without) in [
            (
                "CREATE ALGORITHM=UNDEFINED DEFINER=`kee per`@`%` SQL SECURITY DEFINER VIEW `v` AS select 1",
                "CREATE ALGORITHM=UNDEFINED SQL SECURITY DEFINER VIEW `v` AS select 1",
            ),
            (
                "CREATE DEFINER=\"kee per\"@\"%\" PROCEDURE \"p\"() select 1",
                "CREATE PROCEDURE \"p\"() select 1",
            ),
            ("CREATE DEFINER = keeper@localhost EVENT e DO x", "CREATE EVENT e DO x"),
            ("CREATE DEFINER=CURRENT_USER() VIEW v AS select 1", "CREATE VIEW v AS select 1"),
            ("CREATE DEFINER=current_user VIEW v AS select 1", "CREATE VIEW v AS select 1"),
            (
                "CREATE VIEW v AS select 'DEFINER=`a`@`b`'",
                "CREATE VIEW v AS select 'DEFINER=`a`@`b`'",
            ),
        ] {
            assert_eq!(without_definer(with), without);
        }
    }
}
