//! Statements in which the server names its database (MariaDB, MySQL), freed of that name, so
//! that they can be used in another one.
//!
//! The server writes `` `db`.`table`.`column` ``, `` `db`.`table` `` where a table is expected,
//! and `` `db`.`function`( ``. A table can be named like its database: `` `db`.`column` `` is a
//! column of it, and stays.

use super::Dialect;
use super::lexer::{Modes, Token, tokens};

/// Words behind which a table or a sequence is named.
const BEFORE_TABLES: [&str; 3] = ["FROM", "JOIN", "STRAIGHT_JOIN"];
/// Functions that take a sequence.
const OF_SEQUENCES: [&str; 3] = ["nextval", "lastval", "setval"];

/// The statement without the name of its database, as the server prints it.
pub fn without_database(statement: &str, database: &str) -> String {
    let mut read = Vec::new();
    let mut reader = tokens(Dialect::Mariadb, Modes::default(), statement.as_bytes());
    while let Ok(Some(token)) = reader.next_token() {
        read.push((token, reader.from..reader.at));
    }
    let mut out = String::with_capacity(statement.len());
    let mut written = 0;
    // For each open parenthesis, whether tables stand in it.
    let mut open = Vec::new();
    let mut expects_table = false;
    for n in 0..read.len() {
        let token = &read[n].0;
        let sign =
            |at: usize, sign: u8| matches!(read.get(at), Some((Token::Sign(s), _)) if *s == sign);
        let named = matches!(token, Token::Name(name) if name == database) && sign(n + 1, b'.');
        let begins = n == 0 || !sign(n - 1, b'.');
        if named && begins && (expects_table || sign(n + 3, b'.') || sign(n + 3, b'(')) {
            out.push_str(&statement[written..read[n].1.start]);
            written = read[n + 1].1.end;
        }
        expects_table = match token {
            Token::Sign(b'(') => {
                let sequence = n > 0 && OF_SEQUENCES.iter().any(|name| read[n - 1].0.is(name));
                open.push(expects_table);
                expects_table || sequence
            }
            Token::Sign(b')') => {
                open.pop();
                false
            }
            Token::Sign(b',') => open.last() == Some(&true),
            _ => BEFORE_TABLES.iter().any(|word| token.is(word)),
        };
    }
    out.push_str(&statement[written..]);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_database_goes_and_a_table_of_its_name_stays() {
        for (sql, without) in [
            (
                "select `glimmer`.`id` AS `id` from `glimmer`",
                "select `glimmer`.`id` AS `id` from `glimmer`",
            ),
            (
                "select `glimmer`.`glimmer`.`id` AS `id`,`glimmer`.`twice`(`glimmer`.`t`.`n`) AS \
                 `x` \
                 from (`glimmer`.`glimmer` join `glimmer`.`t` on(`glimmer`.`glimmer`.`id` = `other`.`t`.`id`))",
                "select `glimmer`.`id` AS `id`,`twice`(`t`.`n`) AS `x` \
                 from (`glimmer` join `t` on(`glimmer`.`id` = `other`.`t`.`id`))",
            ),
            (
                "select concat(`glimmer`.`id`,'`glimmer`.`x`',`a`.`glimmer`.`c`) AS `glimmer` \
                 from `glimmer`",
                "select concat(`glimmer`.`id`,'`glimmer`.`x`',`a`.`glimmer`.`c`) AS `glimmer` \
                 from `glimmer`",
            ),
            (" DEFAULT (nextval(`zoo`.`s (1`) * 2)", " DEFAULT (nextval(`zoo`.`s (1`) * 2)"),
            (" DEFAULT nextval(`glimmer`.`s`)", " DEFAULT nextval(`s`)"),
            (
                "select `glimmer`.`id` AS `id` from `glimmer` where `glimmer`.`id` in (select \
                 `glimmer`.`t`.`id` from `glimmer`.`t`)",
                "select `glimmer`.`id` AS `id` from `glimmer` where `glimmer`.`id` in (select \
                 `t`.`id` from `t`)",
            ),
        ] {
            assert_eq!(without_database(sql, "glimmer"), without);
        }
    }
}
