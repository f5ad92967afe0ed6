//! `CREATE TABLE` of a script, taken apart and put together again, so that what a script
//! says about a table in several statements becomes one.

use crate::sql::Dialect;
use crate::sql::lexer::Token;
use crate::sql::quote_name;
use crate::sql::statement::{Reader, StatementError};

/// A table of a script.
#[derive(Clone, Debug, Default)]
pub(super) struct Definition {
    /// The schema or database, if one is written.
    pub place: Option<String>,
    /// The name.
    pub name: String,
    /// What stands between `CREATE` and `TABLE`.
    pub manner: String,
    /// Columns, keys and checks, as written.
    pub items: Vec<String>,
    /// What follows the parenthesis.
    pub options: String,
}

/// A foreign key (MariaDB), to be added when all tables are there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Key {
    pub name: Option<String>,
    columns: Vec<String>,
    parent: String,
    others: Vec<String>,
    /// What happens when the other record goes.
    rest: String,
}

impl Definition {
    /// Takes a statement apart; `None` if it does not list columns.
    pub fn parse(dialect: Dialect, sql: &str) -> Result<Option<Self>, StatementError> {
        let mut reader = Reader::new(dialect, sql.as_bytes());
        reader.some()?;
        let manner = reader.tokens.at;
        while !reader.some()?.is("TABLE") {}
        let mut made =
            Self { manner: sql[manner..reader.tokens.from].trim().into(), ..Self::default() };
        let mut name = reader.name()?.0;
        if name.eq_ignore_ascii_case("IF") {
            reader.expect("NOT")?;
            reader.expect("EXISTS")?;
            name = reader.name()?.0;
        }
        if reader.next_is_dot() {
            reader.sign(b'.')?;
            made.place = Some(std::mem::replace(&mut name, reader.name()?.0));
        }
        made.name = name;
        if reader.some()? != Token::Sign(b'(') {
            return Ok(None);
        }
        made.items = items(&mut reader, sql)?;
        made.options = sql[reader.tokens.at..].trim().to_owned();
        Ok(Some(made))
    }

    /// The statement.
    pub fn sql(&self, dialect: Dialect) -> String {
        let space = if self.manner.is_empty() { "" } else { " " };
        format!(
            "CREATE{space}{} TABLE {} (\n  {}\n) {}",
            self.manner,
            quote_name(dialect, &self.name),
            self.items.join(",\n  "),
            self.options
        )
        .trim_end()
        .to_owned()
    }

    /// The columns: name, and what follows it.
    pub fn columns(&self, dialect: Dialect) -> Vec<(String, String)> {
        let columns = self.items.iter().filter_map(|item| column(dialect, item));
        columns.collect()
    }

    /// Puts another definition in the place of a column.
    pub fn modify(&mut self, dialect: Dialect, new: &str) -> bool {
        let Some((name, _)) = column(dialect, new) else { return false };
        let same = |item: &&mut String| column(dialect, item).is_some_and(|(old, _)| old == name);
        match self.items.iter_mut().find(same) {
            Some(item) => new.clone_into(item),
            None => return false,
        }
        true
    }

    /// Takes the foreign keys out (MariaDB).
    pub fn take_keys(&mut self) -> Result<Vec<Key>, StatementError> {
        let mut keys = Vec::new();
        let mut kept = Vec::new();
        for item in std::mem::take(&mut self.items) {
            match Key::parse(&item)? {
                Some(key) => keys.push(key),
                None => match Key::of_column(&item)? {
                    Some((column, key)) => {
                        kept.push(column);
                        keys.push(key);
                    }
                    None => kept.push(item),
                },
            }
        }
        self.items = kept;
        Ok(keys)
    }
}

impl Key {
    /// `[CONSTRAINT [name]] FOREIGN KEY [name] (columns) REFERENCES table (columns) …`
    pub fn parse(item: &str) -> Result<Option<Self>, StatementError> {
        let mut reader = Reader::new(Dialect::Mariadb, item.as_bytes());
        let mut token = reader.some()?;
        let mut name = None;
        if token.is("CONSTRAINT") {
            let mut after = reader.copied();
            if !after.some()?.is("FOREIGN") {
                name = Some(reader.name()?.0);
            }
            token = match reader.next()? {
                Some(token) => token,
                None => return Ok(None),
            };
        }
        if !token.is("FOREIGN") {
            return Ok(None);
        }
        reader.expect("KEY")?;
        if let Ok((index, _)) = reader.copied().name() {
            reader.name()?;
            name = name.or(Some(index));
        }
        let columns = reader.names()?;
        reader.expect("REFERENCES")?;
        Self::goal(&mut reader, item, name, columns).map(Some)
    }

    /// `column type … REFERENCES table (column) …`: the column without it, and the key.
    fn of_column(item: &str) -> Result<Option<(String, Self)>, StatementError> {
        let Some((column, _)) = column(Dialect::Mariadb, item) else { return Ok(None) };
        let mut reader = Reader::new(Dialect::Mariadb, item.as_bytes());
        reader.some()?;
        while let Some(token) = reader.next()? {
            if token.is("REFERENCES") {
                let before = item[..reader.tokens.from].trim_end().to_owned();
                let key = Self::goal(&mut reader, item, None, vec![column])?;
                return Ok(Some((before, key)));
            }
        }
        Ok(None)
    }

    fn goal(
        reader: &mut Reader<'_>,
        item: &str,
        name: Option<String>,
        columns: Vec<String>,
    ) -> Result<Self, StatementError> {
        let parent = reader.name()?.0;
        if reader.next_is_dot() {
            return Err(StatementError::Outside(format!("a foreign key into database {parent}")));
        }
        let others = reader.names()?;
        let rest = item[reader.tokens.at..].trim().to_owned();
        Ok(Self { name, columns, parent, others, rest })
    }

    /// The statement that adds it.
    pub fn sql(&self, table: &str, name: &str) -> String {
        let quoted = |name: &String| quote_name(Dialect::Mariadb, name);
        let list = |names: &[String]| names.iter().map(quoted).collect::<Vec<_>>().join(", ");
        format!(
            "ALTER TABLE {} ADD CONSTRAINT {} FOREIGN KEY ({}) REFERENCES {} ({}) {}",
            quote_name(Dialect::Mariadb, table),
            quote_name(Dialect::Mariadb, name),
            list(&self.columns),
            quoted(&self.parent),
            list(&self.others),
            self.rest
        )
        .trim_end()
        .to_owned()
    }
}

/// What stands between commas, up to the parenthesis that closes the open one, or the end;
/// without comments around it.
pub(super) fn items(reader: &mut Reader<'_>, sql: &str) -> Result<Vec<String>, StatementError> {
    let mut items = Vec::new();
    let mut depth = 0;
    let mut item: Option<(usize, usize)> = None;
    loop {
        let token = reader.next()?;
        let (from, to) = (reader.tokens.from, reader.tokens.at);
        let closes = token == Some(Token::Sign(b')')) && depth == 0;
        let ends = closes || token.is_none();
        if ends || (token == Some(Token::Sign(b',')) && depth == 0) {
            items.extend(item.take().map(|(from, to)| sql[from..to].to_owned()));
            if ends {
                return Ok(items);
            }
            continue;
        }
        match token {
            Some(Token::Sign(b'(')) => depth += 1,
            Some(Token::Sign(b')')) => depth -= 1,
            _ => {}
        }
        item = Some((item.map_or(from, |(start, _)| start), to));
    }
}

/// Name and rest of an item that is a column.
fn column(dialect: Dialect, item: &str) -> Option<(String, String)> {
    const OTHERS: [&str; 11] = [
        "PRIMARY",
        "KEY",
        "INDEX",
        "UNIQUE",
        "FULLTEXT",
        "SPATIAL",
        "CONSTRAINT",
        "FOREIGN",
        "CHECK",
        "PERIOD",
        "EXCLUDE",
    ];
    let mut reader = Reader::new(dialect, item.as_bytes());
    let name = match reader.some().ok()? {
        Token::Word(word) if OTHERS.iter().any(|other| word.eq_ignore_ascii_case(other)) => {
            return None;
        }
        Token::Word(word) if dialect == Dialect::Postgres => word.to_lowercase(),
        Token::Word(word) => word.to_owned(),
        Token::Name(name) => name,
        _ => return None,
    };
    Some((name, item[reader.tokens.at..].trim().to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOTES: &str = "CREATE TABLE IF NOT EXISTS `no(tes` (\n `id` int(11) NOT NULL, -- a, b\n \
        `of` decimal(10,2) DEFAULT '1,5)', name varchar(9) REFERENCES `p` (`x`),\n \
        KEY `k` (`of`,`id`),\n CONSTRAINT `f` FOREIGN KEY (`of`, id) REFERENCES `p` (`x`, `y`) \
        ON DELETE CASCADE,\n CHECK (`id` in (1,2))\n) ENGINE=InnoDB COMMENT='a) b'";

    #[test]
    fn a_table_is_taken_apart_and_put_together() {
        let mut made = Definition::parse(Dialect::Mariadb, NOTES).unwrap().unwrap();
        let names: Vec<String> =
            made.columns(Dialect::Mariadb).into_iter().map(|(name, _)| name).collect();
        assert_eq!(names, ["id", "of", "name"]);
        let keys = made.take_keys().unwrap();
        assert_eq!(
            keys[1].sql("no(tes", "f"),
            "ALTER TABLE `no(tes` ADD CONSTRAINT `f` FOREIGN KEY (`of`, `id`) REFERENCES `p` \
             (`x`, `y`) ON DELETE CASCADE"
        );
        assert_eq!((keys[0].name.as_deref(), keys.len()), (None, 2));
        assert!(made.modify(Dialect::Mariadb, "id bigint NOT NULL AUTO_INCREMENT"));
        assert!(!made.modify(Dialect::Mariadb, "`other` int"));
        let sql = made.sql(Dialect::Mariadb);
        assert!(sql.starts_with("CREATE TABLE `no(tes` (\n  id bigint"), "{sql}");
        assert!(sql.contains("name varchar(9),\n  KEY"), "{sql}");
        assert!(sql.ends_with("CHECK (`id` in (1,2))\n) ENGINE=InnoDB COMMENT='a) b'"), "{sql}");
        let again = Definition::parse(Dialect::Mariadb, &sql).unwrap().unwrap();
        assert_eq!(again.items, made.items);
    }

    #[test]
    fn a_table_like_another_lists_no_columns() {
        for sql in ["CREATE TABLE a LIKE b", "CREATE TABLE a AS SELECT 1"] {
            assert!(Definition::parse(Dialect::Mariadb, sql).unwrap().is_none(), "{sql}");
        }
        let made = Definition::parse(Dialect::Postgres, "CREATE UNLOGGED TABLE app.t (\"A\" int)");
        let made = made.unwrap().unwrap();
        assert_eq!((made.place.as_deref(), made.manner.as_str()), (Some("app"), "UNLOGGED"));
    }
}
