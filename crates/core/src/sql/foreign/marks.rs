//! What stands around the statements of scripts: comments that some versions execute, texts in
//! the notation of other modes, and definers.

use crate::sql::lexer::{Lexeme, Lexer, Literal, Modes, Step, Token, tokens};
use crate::sql::statement::StatementError;
use crate::sql::{Dialect, quote_name, write_row};
use std::borrow::Cow;

/// The number with which scripts mark what no server of today shall execute.
const NEVER: &[u8] = b"999999";

/// A statement as a server of today reads it, in the usual modes: what stands in comments like
/// `/*!40101 … */` and `/*M!100100 … */` belongs to it, and a text in which backslashes mean
/// nothing, or a name in double quotes, is written otherwise.
pub(super) fn plain(
    dialect: Dialect,
    modes: Modes,
    statement: &[u8],
) -> Result<Cow<'_, [u8]>, StatementError> {
    let has = |mark: &[u8]| memchr::memmem::find(statement, mark).is_some();
    let marked = dialect == Dialect::Mariadb && (has(b"/*!") || has(b"/*M!"));
    if modes == Modes::default() && !marked {
        return Ok(Cow::Borrowed(statement));
    }
    let mut lexer = Lexer::statement(dialect, modes);
    let mut out = Vec::with_capacity(statement.len());
    let mut at = 0;
    while at < statement.len() {
        let rest = &statement[at..];
        let Step::Token(lexeme, length) = lexer.step(rest, true) else {
            return Err(StatementError::Unreadable);
        };
        let raw = &rest[..length];
        at += length;
        match lexeme {
            Lexeme::MarkOpen if raw.ends_with(NEVER) => {
                let end = memchr::memmem::find(rest, b"*/").map_or(rest.len(), |end| end + 2);
                at += end - length;
                lexer = Lexer::statement(dialect, modes);
            }
            Lexeme::MarkOpen | Lexeme::MarkClose => out.push(b' '),
            Lexeme::Text(Literal::Quoted { prefix: 0, backslash: true, .. })
                if dialect == Dialect::Postgres && raw.contains(&b'\\') =>
            {
                out.push(b'E');
                out.extend_from_slice(raw);
            }
            Lexeme::Text(Literal::Quoted { backslash: false, .. })
                if dialect == Dialect::Mariadb && raw.contains(&b'\\') =>
            {
                let mut token = tokens(dialect, modes, raw);
                let Ok(Some(Token::Text(text))) = token.next_token() else {
                    return Err(StatementError::Unreadable);
                };
                let value = crate::record::Value::Text(text.into_owned());
                let mut literal = Vec::new();
                write_row(dialect, &[value], &mut literal);
                out.extend_from_slice(&literal[1..literal.len() - 1]);
            }
            Lexeme::Name if dialect == Dialect::Mariadb && raw[0] == b'"' => {
                let mut token = tokens(dialect, modes, raw);
                let Ok(Some(Token::Name(name))) = token.next_token() else {
                    return Err(StatementError::Unreadable);
                };
                out.extend_from_slice(quote_name(dialect, &name).as_bytes());
            }
            _ => out.extend_from_slice(raw),
        }
    }
    Ok(Cow::Owned(out))
}

/// A statement without the marks of executed comments, in its own modes: for bodies, whose
/// notation is kept.
pub(super) fn opened(modes: Modes, statement: &[u8]) -> Result<Vec<u8>, StatementError> {
    let mut lexer = Lexer::statement(Dialect::Mariadb, modes);
    let (mut out, mut at) = (Vec::with_capacity(statement.len()), 0);
    while at < statement.len() {
        let Step::Token(lexeme, length) = lexer.step(&statement[at..], true) else {
            return Err(StatementError::Unreadable);
        };
        match lexeme {
            Lexeme::MarkOpen | Lexeme::MarkClose => out.push(b' '),
            _ => out.extend_from_slice(&statement[at..at + length]),
        }
        at += length;
    }
    Ok(out)
}

/// Drops ``DEFINER = `user`@`host` ``: on the target the current user takes this place.
pub fn without_definer(sql: &str) -> String {
    // Quotes around a name are the only ones that can come before it, in any mode.
    let modes = Modes { ansi_quotes: true, ..Modes::default() };
    let mut reader = tokens(Dialect::Mariadb, modes, sql.as_bytes());
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
        let plain = plain(Dialect::Mariadb, Modes::default(), text.as_bytes()).unwrap();
        let text = String::from_utf8_lossy(&plain).into_owned();
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
    fn other_modes_become_the_usual_ones() {
        let modes = Modes::of_sql_mode("ANSI_QUOTES,NO_BACKSLASH_ESCAPES");
        let sql = b"INSERT INTO \"a`b\" VALUES ('C:\\', 'it''s \\')";
        let plain = plain(Dialect::Mariadb, modes, sql).unwrap();
        let expected = "INSERT INTO `a``b` VALUES ('C:\\\\', 'it\\'s \\\\')";
        assert_eq!(String::from_utf8_lossy(&plain), expected);
        let modes = Modes { escaped_strings: true, ..Modes::default() };
        let plain = super::plain(Dialect::Postgres, modes, b"('a\\'b', 'c', $$\\$$)").unwrap();
        assert_eq!(String::from_utf8_lossy(&plain), "(E'a\\'b', 'c', $$\\$$)");
    }

    #[test]
    fn definers_are_dropped_and_the_rest_stays() {
        for (with, without) in [
            (
                "CREATE ALGORITHM=UNDEFINED DEFINER=`kee per`@`%` SQL SECURITY DEFINER VIEW `v` \
                 AS select 1",
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
