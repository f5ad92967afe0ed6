//! The statements of scripts for MariaDB and MySQL.

use super::definition::{Definition, Key, items};
use super::rows::InsertHead;
use super::{ForeignError, ForeignScript, Meaning, beginning, marks, unread, without_definer};
use crate::sql::Dialect::Mariadb;
use crate::sql::lexer::Modes;
use crate::sql::lexer::Token;
use crate::sql::statement::{Reader, Statement, StatementError};

/// Statements that concern only the session that would run the script, or that all-or-nothing
/// makes needless.
const PASSED: [&str; 11] = [
    "LOCK",
    "UNLOCK",
    "START",
    "BEGIN",
    "COMMIT",
    "ANALYZE",
    "OPTIMIZE",
    "FLUSH",
    "SHOW",
    "SAVEPOINT",
    "CHECK",
];

/// The character set that a `SET` names for the texts of the script.
pub(super) fn charset_set(statement: &[u8]) -> Option<String> {
    let mut reader = Reader::new(Mariadb, statement);
    reader.expect("SET").ok()?;
    let token = reader.some().ok()?;
    if token.is("CHARACTER") {
        reader.expect("SET").ok()?;
    } else if !token.is("NAMES") {
        return None;
    }
    match reader.some().ok()? {
        Token::Word(name) => Some(name.to_ascii_lowercase()),
        Token::Name(name) => Some(name.to_ascii_lowercase()),
        Token::Text(name) => Some(String::from_utf8_lossy(&name).to_ascii_lowercase()),
        _ => None,
    }
}

/// What a `SET` gives a setting of the session; empty if it puts back what was before.
fn given(statement: &[u8], setting: &str) -> Option<String> {
    let mut reader = Reader::new(Mariadb, statement);
    while let Ok(Some(token)) = reader.next() {
        if !token.is(setting) || reader.some().ok()? != Token::Sign(b'=') {
            continue;
        }
        return match reader.some().ok()? {
            Token::Text(value) => Some(String::from_utf8_lossy(&value).into_owned()),
            Token::Name(value) => Some(value),
            _ => Some(String::new()),
        };
    }
    None
}

/// The mode of a server that nobody has set up otherwise, in which a script is meant that
/// says nothing.
const USUAL_MODE: &str =
    "STRICT_TRANS_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_CREATE_USER,NO_ENGINE_SUBSTITUTION";

impl ForeignScript {
    /// `whole` is the statement in the usual modes, `written` as it stands.
    pub(super) fn take_mariadb(
        &mut self,
        whole: &[u8],
        written: &[u8],
    ) -> Result<Meaning, ForeignError> {
        let wrong = |error| unread(whole, &error);
        let refused = || ForeignError::Refused(beginning(whole));
        let mut reader = Reader::new(Mariadb, whole);
        let first = reader.word().map_err(wrong)?.to_ascii_uppercase();
        match first.as_str() {
            "INSERT" | "REPLACE" => {
                let head = InsertHead::read(&mut reader).map_err(wrong)?;
                self.same_database(head.place)?;
                self.note_rows(head.table, head.columns)?;
                self.row_zones.insert(self.time_zone.clone());
                return Ok(Meaning::Rows);
            }
            "USE" => self.same_database(Some(reader.name().map_err(wrong)?.0))?,
            "SET" => self.set(whole)?,
            "DROP" => self.drop_mariadb(&mut reader).map_err(wrong)?,
            "CREATE" => self.create_mariadb(&self.decoded(whole)?, written)?,
            "ALTER" => self.alter_mariadb(&self.decoded(whole)?)?,
            "DO" | "SELECT" => {
                let sql = self.decoded(whole)?;
                self.add(true, "SEQUENCE", &sql)?;
            }
            // Before all rows there is nothing to be emptied.
            "TRUNCATE" if self.named.is_empty() => {}
            word if PASSED.contains(&word) => {}
            _ => return Err(refused()),
        }
        Ok(Meaning::Noted)
    }

    /// A statement as text, from the character set of the script.
    fn decoded(&self, whole: &[u8]) -> Result<String, ForeignError> {
        let text = match self.charset.as_str() {
            "latin1" => encoding_rs::WINDOWS_1252.decode_without_bom_handling(whole).0.into_owned(),
            _ => String::from_utf8(whole.to_vec()).map_err(|_| ForeignError::Unread {
                statement: beginning(whole),
                why: "it is not UTF-8, and the script does not name another character set".into(),
            })?,
        };
        Ok(text)
    }

    fn set(&mut self, whole: &[u8]) -> Result<(), ForeignError> {
        if let Some(charset) = charset_set(whole) {
            self.charset = charset;
        }
        if let Some(zone) = given(whole, "time_zone").filter(|zone| !zone.is_empty()) {
            self.add_mode("time_zone", &zone)?;
            self.time_zone = Some(zone);
        }
        // The modes under which routines were made go with them.
        match given(whole, "sql_mode") {
            Some(mode) if mode.is_empty() && whole.contains(&b'@') => {
                self.add_mode("sql_mode", USUAL_MODE)
            }
            Some(mode) => self.add_mode("sql_mode", &mode),
            None => Ok(()),
        }
    }

    /// What is made behind it is made in this mode.
    fn add_mode(&mut self, setting: &str, value: &str) -> Result<(), ForeignError> {
        // No mode and no zone has a quote in its name.
        let value: String = value
            .chars()
            .filter(|sign| sign.is_ascii_graphic() && !"'\"\\`;".contains(*sign))
            .collect();
        self.add(true, "MODE", &format!("SET {setting} = '{value}'"))
    }

    /// Before anything says otherwise.
    pub(super) fn begin_in_usual_mode(&mut self) -> Result<(), ForeignError> {
        self.add_mode("sql_mode", USUAL_MODE)
    }

    fn same_database(&mut self, name: Option<String>) -> Result<(), ForeignError> {
        let Some(name) = name else { return Ok(()) };
        match &self.database {
            Some(known) if *known != name => Err(ForeignError::Databases(known.clone(), name)),
            _ => {
                self.database = Some(name);
                Ok(())
            }
        }
    }

    fn drop_mariadb(&mut self, reader: &mut Reader<'_>) -> Result<(), StatementError> {
        let kind = reader.word()?.to_ascii_uppercase();
        let mut name = reader.name()?.0;
        if name.eq_ignore_ascii_case("IF") {
            reader.expect("EXISTS")?;
            name = reader.name()?.0;
        }
        loop {
            if reader.next_is_dot() {
                reader.sign(b'.')?;
                name = reader.name()?.0;
            }
            self.forget(&kind, &name)?;
            match reader.next()? {
                Some(Token::Sign(b',')) => name = reader.name()?.0,
                _ => return Ok(()),
            }
        }
    }

    fn create_mariadb(&mut self, sql: &str, written: &[u8]) -> Result<(), ForeignError> {
        let wrong = |error| unread(sql.as_bytes(), &error);
        let mut reader = Reader::new(Mariadb, sql.as_bytes());
        reader.some().map_err(wrong)?;
        let mut manner = Vec::new();
        loop {
            let token = reader.some().map_err(wrong)?;
            let Token::Word(word) = token else {
                manner.push(String::new());
                continue;
            };
            match word.to_ascii_uppercase().as_str() {
                "DATABASE" | "SCHEMA" => {
                    let mut name = reader.name().map_err(wrong)?.0;
                    if name.eq_ignore_ascii_case("IF") {
                        reader.expect("NOT").map_err(wrong)?;
                        reader.expect("EXISTS").map_err(wrong)?;
                        name = reader.name().map_err(wrong)?.0;
                    }
                    return self.same_database(Some(name));
                }
                "TEMPORARY" | "USER" | "ROLE" | "SERVER" => {
                    return Err(ForeignError::Refused(beginning(sql.as_bytes())));
                }
                "TABLE" => return self.create_table(sql),
                "INDEX" => return self.create_index(sql, &manner, &mut reader).map_err(wrong)?,
                "SEQUENCE" => return self.add(false, "SEQUENCE", sql),
                "VIEW" => {
                    let (name, _) = reader.name().map_err(wrong)?;
                    self.forget("VIEW", &name).map_err(wrong)?;
                    return self.add(true, "VIEW", &without_definer(sql));
                }
                "TRIGGER" => return self.add_body("TRIGGER", written),
                "PROCEDURE" => return self.add_body("PROCEDURE", written),
                "FUNCTION" => return self.add_body("FUNCTION", written),
                "PACKAGE" => return self.add_body("PACKAGE", written),
                "EVENT" => return self.add_body("EVENT", written),
                other => manner.push(other.to_owned()),
            }
        }
    }

    /// What holds statements keeps their notation: its mode goes with it.
    fn add_body(&mut self, kind: &'static str, written: &[u8]) -> Result<(), ForeignError> {
        let modes = self.modes;
        let opened = marks::opened(modes, written).map_err(|error| unread(written, &error))?;
        let sql = self.decoded(opened.trim_ascii())?;
        self.add_in(modes, true, kind, &without_definer(&sql))
    }

    fn create_table(&mut self, sql: &str) -> Result<(), ForeignError> {
        let wrong = |error| unread(sql.as_bytes(), &error);
        let refused = || ForeignError::Refused(beginning(sql.as_bytes()));
        let mut made = Definition::parse(Mariadb, sql).map_err(wrong)?.ok_or_else(refused)?;
        let mut options = Reader::new(Mariadb, made.options.as_bytes());
        while let Ok(Some(token)) = options.next() {
            if token.is("SELECT") || token.is("AS") {
                return Err(refused());
            }
        }
        self.same_database(made.place.take())?;
        let name = made.name.clone();
        if self.tables.iter().any(|(there, _)| *there == name) {
            // A second CREATE … IF NOT EXISTS changes nothing.
            return Ok(());
        }
        let keys = made.take_keys().map_err(wrong)?;
        // What an archive may not hold is refused here already, where its line is known.
        Statement::parse(Mariadb, Modes::default(), made.sql(Mariadb).as_bytes()).map_err(wrong)?;
        self.keys.extend(keys.into_iter().map(|key| (name.clone(), key)));
        self.tables.push((name, made));
        Ok(())
    }

    /// `CREATE INDEX` as a key of its table.
    fn create_index(
        &mut self,
        sql: &str,
        manner: &[String],
        reader: &mut Reader<'_>,
    ) -> Result<Result<(), ForeignError>, StatementError> {
        let (_, at) = reader.name()?;
        while !reader.some()?.is("ON") {}
        let (table, _) = reader.name()?;
        let kind = manner.first().map(String::as_str).filter(|word| *word != "OR");
        let item = format!(
            "{} KEY {} {}",
            kind.unwrap_or_default(),
            &sql[at],
            sql[reader.tokens.at..].trim()
        );
        Ok(self.definition(&table).map(|made| made.items.push(item.trim().to_owned())))
    }

    fn alter_mariadb(&mut self, sql: &str) -> Result<(), ForeignError> {
        let wrong = |error| unread(sql.as_bytes(), &error);
        let mut reader = Reader::new(Mariadb, sql.as_bytes());
        reader.some().map_err(wrong)?;
        let what = reader.some().map_err(wrong)?;
        if what.is("DATABASE") || what.is("SCHEMA") {
            return Ok(());
        }
        if !what.is("TABLE") {
            return Err(ForeignError::Refused(beginning(sql.as_bytes())));
        }
        let mut table = reader.name().map_err(wrong)?.0;
        if reader.next_is_dot() {
            reader.sign(b'.').map_err(wrong)?;
            let place = std::mem::replace(&mut table, reader.name().map_err(wrong)?.0);
            self.same_database(Some(place))?;
        }
        for action in items(&mut reader, sql).map_err(wrong)? {
            self.change_table(&table, &action, sql)?;
        }
        Ok(())
    }

    /// One of the changes of an `ALTER TABLE`.
    fn change_table(&mut self, table: &str, action: &str, sql: &str) -> Result<(), ForeignError> {
        let wrong = |error| unread(sql.as_bytes(), &error);
        let refused = || ForeignError::Refused(beginning(sql.as_bytes()));
        let mut reader = Reader::new(Mariadb, action.as_bytes());
        let verb = reader.word().map_err(wrong)?.to_ascii_uppercase();
        let mut rest = action[reader.tokens.at..].trim();
        let mut after = reader.copied();
        let next = after.some().map_err(wrong)?;
        if next.is("COLUMN") {
            rest = action[after.tokens.at..].trim();
        }
        match verb.as_str() {
            "ADD" => match Key::parse(rest).map_err(wrong)? {
                Some(key) => {
                    self.definition(table)?;
                    self.keys.push((table.to_owned(), key));
                }
                None => self.definition(table)?.items.push(rest.to_owned()),
            },
            "MODIFY" => {
                let made = self.definition(table)?;
                if !made.modify(Mariadb, rest) {
                    return Err(refused());
                }
            }
            "DISABLE" | "ENABLE" if next.is("KEYS") => {}
            "ALTER" => self.add(true, "DEFAULT", &format!("ALTER TABLE {table} {action}"))?,
            _ if next == Token::Sign(b'=') => {
                let made = self.definition(table)?;
                made.options = format!("{} {action}", made.options);
            }
            _ => return Err(refused()),
        }
        Ok(())
    }

    /// The tables as one statement each, and their foreign keys behind the rows.
    pub(super) fn put_tables_together(&mut self) -> Result<(), ForeignError> {
        for (name, made) in std::mem::take(&mut self.tables) {
            self.add(false, "TABLE", &made.sql(Mariadb))?;
            let keys: Vec<Key> = self
                .keys
                .iter()
                .filter(|(table, _)| *table == name)
                .map(|(_, k)| k.clone())
                .collect();
            for (number, key) in keys.iter().enumerate() {
                let named = key.name.clone();
                let named = named.unwrap_or_else(|| format!("{name}_ibfk_{}", number + 1));
                self.add(true, "KEY", &key.sql(&name, &named))?;
            }
        }
        Ok(())
    }

    /// Columns of type TIMESTAMP mean other moments in another zone.
    pub(super) fn check_time_zones(&self) -> Result<Option<String>, ForeignError> {
        const UTC: [&str; 5] = ["+00:00", "-00:00", "+0:00", "UTC", "utc"];
        let mut note = None;
        for zone in &self.row_zones {
            match zone.as_deref() {
                Some(zone) if UTC.contains(&zone) => {}
                Some(zone) => return Err(ForeignError::TimeZone(zone.to_owned())),
                None => {
                    note = Some(
                        "the script does not say in which time zone its TIMESTAMP values are; \
                         they are taken as UTC"
                            .to_owned(),
                    );
                }
            }
        }
        Ok(note)
    }
}
