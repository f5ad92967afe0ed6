//! Tables under another prefix: the names that an archive makes, written anew wherever
//! its statements use them.

use super::lexer::{Modes, Token, tokens};
use super::{Dialect, Qualified, Statement, StatementError, quote_name};
use std::collections::BTreeSet;

/// How deep bodies in dollar quotes may lie in each other.
const BODIES: usize = 8;

/// One beginning of names in place of another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Prefix {
    /// The beginning in the archive.
    pub old: String,
    /// The beginning at the destination.
    pub new: String,
}

impl Prefix {
    /// Reads `OLD=NEW`.
    pub fn parse(text: &str) -> Option<Self> {
        let (old, new) = text.split_once('=')?;
        let prefix = Self { old: old.trim().to_owned(), new: new.trim().to_owned() };
        (!prefix.old.is_empty()).then_some(prefix)
    }

    /// A name as it is at the destination.
    pub fn rename(&self, name: &str) -> String {
        match name.strip_prefix(self.old.as_str()) {
            Some(rest) => format!("{}{rest}", self.new),
            None => name.to_owned(),
        }
    }

    /// The name of a table as it is at the destination; its schema stays.
    pub fn rename_table(&self, dialect: Dialect, name: &str) -> String {
        if dialect != Dialect::Postgres {
            return self.rename(name);
        }
        let place = Qualified::parse(name);
        Qualified::new(&place.schema, &self.rename(&place.name)).to_string()
    }

    /// The names that statements make.
    pub fn names<'a>(
        &self,
        dialect: Dialect,
        statements: impl IntoIterator<Item = &'a Statement>,
    ) -> BTreeSet<String> {
        let mut names = BTreeSet::new();
        for statement in statements {
            match statement {
                Statement::Table { name, .. } | Statement::View { name, .. } => {
                    names.insert(match dialect {
                        Dialect::Postgres => Qualified::parse(name).name,
                        _ => name.clone(),
                    });
                }
                Statement::Index { name, .. }
                | Statement::Trigger { name, .. }
                | Statement::ForeignKey { name, .. }
                | Statement::Object { name, .. } => {
                    names.insert(name.clone());
                }
                _ => {}
            }
        }
        names.retain(|name| name.starts_with(&self.old));
        names
    }

    /// A statement with the names in `names` under the new prefix.
    pub fn statement(
        &self,
        dialect: Dialect,
        modes: Modes,
        statement: &Statement,
        names: &BTreeSet<String>,
    ) -> Result<Statement, StatementError> {
        let Some(sql) = statement.sql() else { return Ok(statement.clone()) };
        let mut sql = self.sql(dialect, modes, sql, names, BODIES);
        // Names that are unique in a database must not meet those of the other tables there.
        if let Statement::ForeignKey { name, .. }
        | Statement::Trigger { name, .. }
        | Statement::Index { name, .. } = statement
            && !name.starts_with(&self.old)
        {
            sql = self.own_name(dialect, modes, &sql, name);
        }
        Statement::parse(dialect, modes, sql.as_bytes())
    }

    /// The first occurrence of an object's own name, with the new prefix before it.
    fn own_name(&self, dialect: Dialect, modes: Modes, sql: &str, name: &str) -> String {
        let mut reader = tokens(dialect, modes, sql.as_bytes());
        while let Ok(Some(token)) = reader.next_token() {
            let found = match &token {
                Token::Word(word) => *word == name,
                Token::Name(found) => found == name,
                _ => false,
            };
            if found {
                let new = quote_name(dialect, &format!("{}{name}", self.new));
                return format!("{}{new}{}", &sql[..reader.from], &sql[reader.at..]);
            }
        }
        sql.to_owned()
    }

    fn sql(
        &self,
        dialect: Dialect,
        modes: Modes,
        sql: &str,
        names: &BTreeSet<String>,
        depth: usize,
    ) -> String {
        let mut out = String::with_capacity(sql.len());
        let mut written = 0;
        let mut reader = tokens(dialect, modes, sql.as_bytes());
        while let Ok(Some(token)) = reader.next_token() {
            let (from, to) = (reader.from, reader.at);
            let new = match &token {
                Token::Word(word) if names.contains(*word) => self.rename(word),
                Token::Name(name) if names.contains(name) => {
                    quote_name(dialect, &self.rename(name))
                }
                // The body of a routine is a script of its own.
                Token::Text(_)
                    if depth > 0
                        && dialect == Dialect::Postgres
                        && sql[from..].starts_with('$') =>
                {
                    let tag = sql[from + 1..].find('$').map_or(0, |end| end + 2);
                    let (open, body) = (&sql[from..from + tag], &sql[from + tag..to - tag]);
                    format!("{open}{}{open}", self.sql(dialect, modes, body, names, depth - 1))
                }
                // A sequence is named in a text.
                Token::Text(text) if dialect == Dialect::Postgres => {
                    let text = String::from_utf8_lossy(text);
                    let bare = text.trim_matches('"');
                    let is_name = sql[to..].starts_with("::regclass")
                        || sql[..from].ends_with("pg_catalog.setval(");
                    if !is_name || !bare.starts_with(&self.old) {
                        continue;
                    }
                    format!("'{}'", text.replacen(&self.old, &self.new, 1))
                }
                _ => continue,
            };
            out.push_str(&sql[written..from]);
            out.push_str(&new);
            written = to;
        }
        out.push_str(&sql[written..]);
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_the_archive_makes_get_the_new_prefix_and_nothing_else() {
        let prefix = Prefix::parse("gp_=new_").unwrap();
        let names = BTreeSet::from(["gp_a".to_owned(), "gp_key".to_owned()]);
        let sql = "ALTER TABLE `gp_a` ADD CONSTRAINT `gp_key` FOREIGN KEY (`gp_column`) REFERENCES \
                   `gp_a` (`id`)";
        let statement =
            Statement::parse(Dialect::Mariadb, Modes::default(), sql.as_bytes()).unwrap();
        let new = prefix.statement(Dialect::Mariadb, Modes::default(), &statement, &names).unwrap();
        assert_eq!(
            new.sql().unwrap(),
            "ALTER TABLE `new_a` ADD CONSTRAINT `new_key` FOREIGN KEY (`gp_column`) REFERENCES \
             `new_a` (`id`)"
        );
        let sql = "CREATE TABLE gp_a (id int DEFAULT nextval('gp_a_id_seq'::regclass), b text \
                   DEFAULT 'gp_a')";
        assert_eq!(
            prefix.sql(Dialect::Postgres, Modes::default(), sql, &names, BODIES),
            "CREATE TABLE new_a (id int DEFAULT nextval('new_a_id_seq'::regclass), b text \
             DEFAULT 'gp_a')"
        );
    }

    #[test]
    fn bodies_of_routines_are_looked_into() {
        let prefix = Prefix::parse("gp_=new_").unwrap();
        let names = BTreeSet::from(["gp_a".to_owned()]);
        let sql = "CREATE FUNCTION f() RETURNS int LANGUAGE sql AS $x$ SELECT 'gp_a' FROM gp_a $x$";
        assert_eq!(
            prefix.sql(Dialect::Postgres, Modes::default(), sql, &names, BODIES),
            "CREATE FUNCTION f() RETURNS int LANGUAGE sql AS $x$ SELECT 'gp_a' FROM new_a $x$"
        );
    }

    #[test]
    fn a_prefix_is_read_and_its_schema_stays() {
        assert_eq!(Prefix::parse("gp_"), None);
        assert_eq!(Prefix::parse("=x"), None);
        let prefix = Prefix::parse("gp_=").unwrap();
        assert_eq!(prefix.rename_table(Dialect::Postgres, "app.gp_x"), "app.x");
        assert_eq!(prefix.rename_table(Dialect::Mariadb, "other"), "other");
    }
}
