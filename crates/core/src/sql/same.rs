//! Whether two states of a structure are the same but for counters, which every new record moves.

use super::Dialect;
use super::lexer::{Modes, Token, tokens};

/// Whether two scripts make the same tables; where a table's counter stands does not matter.
pub fn is_same_structure(dialect: Dialect, one: &[u8], other: &[u8]) -> bool {
    one == other
        || dialect == Dialect::Mariadb
            && without_counters(one).is_some_and(|one| Some(one) == without_counters(other))
}

/// The tokens of a script of MariaDB without `AUTO_INCREMENT=7`; `None` if it cannot be read.
fn without_counters(script: &[u8]) -> Option<Vec<Token<'_>>> {
    let mut found: Vec<Token<'_>> = Vec::new();
    let mut reading = tokens(Dialect::Mariadb, Modes::default(), script);
    while let Some(token) = reading.next_token().ok()? {
        let counter = match &found[..] {
            [.., word, sign] => word.is("AUTO_INCREMENT") && *sign == Token::Sign(b'='),
            _ => false,
        };
        if counter && matches!(token, Token::Number(_)) {
            found.truncate(found.len() - 2);
        } else {
            found.push(token);
        }
    }
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    const TABLE: &str = "CREATE TABLE `a` (\n  `id` int NOT NULL AUTO_INCREMENT COMMENT 'N',\n  \
                         PRIMARY KEY (`id`)\n) ENGINE=InnoDB AUTO_INCREMENT=17 COMMENT='C';\n";

    fn same(from: &str, to: &str) -> bool {
        let other = TABLE.replace(from, to);
        is_same_structure(Dialect::Mariadb, TABLE.as_bytes(), other.as_bytes())
    }

    #[test]
    fn counters_do_not_make_a_difference_and_everything_else_does() {
        assert!(same("AUTO_INCREMENT=17", "AUTO_INCREMENT=18"));
        assert!(same(" AUTO_INCREMENT=17", ""));
        assert!(!same("int NOT NULL AUTO_INCREMENT", "int NOT NULL"));
        assert!(!same("int", "bigint"));
        assert!(!same("`id`", "`AUTO_INCREMENT=17`"));
        assert!(!same("'N'", "'AUTO_INCREMENT=17'"));
        let sqlite = TABLE.replace("17", "18");
        assert!(!is_same_structure(Dialect::Sqlite, TABLE.as_bytes(), sqlite.as_bytes()));
    }
}
