//! The rows of a script as the rows of an archive: values in the character set of their
//! columns, types whose texts differ from what travels.

use super::charsets::{charset_in, converted, words};
use super::definition::Definition;
use crate::digest::from_hex;
use crate::record::{Column, Row, Table, Value};
use crate::rewrite::ColumnText;
use crate::sql::Dialect;
use crate::sql::lexer::Token;
use crate::sql::read_copy_row;
use crate::sql::statement::{Reader, StatementError};
use core::net::{Ipv4Addr, Ipv6Addr};
use std::collections::BTreeMap;

/// How the values of a column are kept.
#[derive(Clone, Debug, PartialEq)]
enum Store {
    /// As the script has them.
    Plain,
    /// As digits.
    Number,
    /// As bytes.
    Bytes,
    /// As text in a character set, by MariaDB's name.
    Chars(String),
    /// As sixteen bytes of an address.
    Inet6,
    /// As four bytes of an address.
    Inet4,
    /// As sixteen bytes.
    Uuid,
    /// As the server of PostgreSQL writes it in a `COPY`.
    Copied(Option<ColumnText>),
}

/// The columns of a table and how values come into them.
#[derive(Clone, Debug)]
pub struct Layout {
    /// The table as an archive knows it.
    pub table: Table,
    stores: Vec<Store>,
    /// Columns of a versioned table that rows may name although no row needs them.
    hidden: Vec<String>,
    /// Whether a column changes with the time zone of the session (MariaDB).
    pub(super) has_timestamps: bool,
}

impl Layout {
    /// The layout of a table of MariaDB or MySQL; `usual` is the character set of tables that
    /// name none.
    pub(super) fn mariadb(made: &Definition, usual: &str) -> Self {
        let usual = charset_in(&made.options).unwrap_or_else(|| usual.to_owned());
        let mut layout = Self::empty(&made.name);
        for (name, rest) in made.columns(Dialect::Mariadb) {
            let words = words(Dialect::Mariadb, &rest);
            let is = |word: &str| words.iter().any(|found| found == word);
            if is("ROW") && (is("START") || is("END")) {
                layout.hidden.push(name);
                continue;
            }
            if is("GENERATED") || is("VIRTUAL") || is("PERSISTENT") || is("STORED") {
                continue;
            }
            let kind = words.first().map(String::as_str).unwrap_or_default();
            layout.has_timestamps |= kind == "TIMESTAMP";
            let charset = charset_in(&rest).unwrap_or_else(|| usual.clone());
            let chars = |name: &str| {
                let text = match name {
                    "utf8" | "utf8mb3" | "utf8mb4" | "ascii" => ColumnText::Utf8,
                    "latin1" => ColumnText::Latin1,
                    "binary" => return (Store::Bytes, Some(ColumnText::Binary)),
                    _ => ColumnText::Other,
                };
                (Store::Chars(name.to_owned()), Some(text))
            };
            let (store, text) = match kind {
                "TINYINT" | "SMALLINT" | "MEDIUMINT" | "INT" | "INTEGER" | "BIGINT" | "DECIMAL"
                | "NUMERIC" | "DEC" | "FIXED" | "FLOAT" | "DOUBLE" | "REAL" | "YEAR" | "BOOL"
                | "BOOLEAN" | "SERIAL" => (Store::Number, None),
                "CHAR" | "CHARACTER" | "VARCHAR" | "TINYTEXT" | "TEXT" | "MEDIUMTEXT"
                | "LONGTEXT" | "LONG" => chars(&charset),
                "NCHAR" | "NVARCHAR" | "NATIONAL" => chars("utf8mb3"),
                "JSON" => chars("utf8mb4"),
                "ENUM" | "SET" => (chars(&charset).0, None),
                "BINARY" | "VARBINARY" | "TINYBLOB" | "BLOB" | "MEDIUMBLOB" | "LONGBLOB" => {
                    (Store::Bytes, Some(ColumnText::Binary))
                }
                "INET6" => (Store::Inet6, None),
                "INET4" => (Store::Inet4, None),
                "UUID" => (Store::Uuid, None),
                "BIT" | "GEOMETRY" | "POINT" | "LINESTRING" | "POLYGON" | "MULTIPOINT"
                | "MULTILINESTRING" | "MULTIPOLYGON" | "GEOMETRYCOLLECTION" => (Store::Bytes, None),
                _ => (Store::Plain, None),
            };
            if is("PRIMARY") {
                layout.table.key = vec![name.clone()];
            }
            layout.table.columns.push(Column { name, text });
            layout.stores.push(store);
        }
        if let Some(key) = primary_key(Dialect::Mariadb, &made.items) {
            layout.table.key = key;
        }
        if words(Dialect::Mariadb, &made.options).iter().any(|word| word == "VERSIONING")
            && layout.hidden.is_empty()
        {
            layout.hidden = ["row_start", "row_end"].map(str::to_owned).to_vec();
        }
        layout
    }

    /// The layout of a table of PostgreSQL; `types` says what the script's own types hold.
    pub(super) fn postgres(
        name: &str,
        made: &Definition,
        types: &BTreeMap<String, Option<ColumnText>>,
    ) -> Self {
        let mut layout = Self::empty(name);
        for (name, rest) in made.columns(Dialect::Postgres) {
            let words = words(Dialect::Postgres, &rest);
            if words.windows(2).any(|pair| pair == ["ALWAYS", "AS"]) && rest.contains("STORED") {
                continue;
            }
            if words.iter().any(|word| word == "PRIMARY") {
                layout.table.key = vec![name.clone()];
            }
            let text = kind_of(&rest, types);
            layout.table.columns.push(Column { name, text });
            layout.stores.push(Store::Copied(text));
        }
        if let Some(key) = primary_key(Dialect::Postgres, &made.items) {
            layout.table.key = key;
        }
        layout
    }

    fn empty(name: &str) -> Self {
        let table = Table { name: name.to_owned(), columns: Vec::new(), key: Vec::new() };
        Self { table, stores: Vec::new(), hidden: Vec::new(), has_timestamps: false }
    }

    /// With the columns of another table before its own, as an heir of it has them.
    pub(super) fn below(mut self, parent: &Layout) -> Self {
        let own = std::mem::take(&mut self.table.columns);
        let stores = std::mem::take(&mut self.stores);
        self.table.columns.clone_from(&parent.table.columns);
        self.stores.clone_from(&parent.stores);
        for (column, store) in own.into_iter().zip(stores) {
            if !self.table.columns.iter().any(|there| there.name == column.name) {
                self.table.columns.push(column);
                self.stores.push(store);
            }
        }
        self
    }

    /// With the columns that the rows name, in their order; the error is the name of one that
    /// is not there.
    pub(super) fn with_columns(&self, names: &[String]) -> Result<Self, String> {
        let mut layout = Self { stores: Vec::new(), ..self.clone() };
        layout.table.columns.clear();
        for name in names {
            if self.hidden.contains(name) {
                layout.table.columns.push(Column { name: name.clone(), text: None });
                layout.stores.push(Store::Plain);
                continue;
            }
            let columns = &self.table.columns;
            let exact = columns.iter().position(|column| column.name == *name);
            // Servers read bare names in any letter case.
            let column = exact.or_else(|| {
                columns.iter().position(|column| column.name.eq_ignore_ascii_case(name))
            });
            let column = column.ok_or_else(|| name.clone())?;
            layout.table.columns.push(self.table.columns[column].clone());
            layout.stores.push(self.stores[column].clone());
        }
        Ok(layout)
    }

    /// The names of the columns.
    pub(super) fn names(&self) -> Vec<String> {
        self.table.columns.iter().map(|column| column.name.clone()).collect()
    }

    /// The values of a row of `INSERT` as an archive keeps them. `charset` is that of the
    /// script's texts. The error names the column.
    pub fn row(&self, row: Row, charset: &str) -> Result<Row, String> {
        if row.len() != self.stores.len() {
            return Err(format!(
                "it has {} values, the table {} columns",
                row.len(),
                self.stores.len()
            ));
        }
        let values = row.into_iter().zip(&self.stores).zip(&self.table.columns);
        let values = values.map(|((value, store), column)| {
            store.value(value, charset).map_err(|why| format!("column {}: {why}", column.name))
        });
        values.collect()
    }

    /// The values of a line of `COPY`.
    pub fn line(&self, line: &[u8]) -> Result<Row, StatementError> {
        let kinds: Vec<_> = self.table.columns.iter().map(|column| column.text).collect();
        read_copy_row(line, &kinds)
    }
}

impl Store {
    fn value(&self, value: Value, charset: &str) -> Result<Value, String> {
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        let not = |what: &str, bytes: &[u8]| format!("`{}` is no {what}", text(bytes));
        Ok(match (self, value) {
            (_, Value::Null) => Value::Null,
            (Store::Plain, value) => value,
            (Store::Copied(kind), value) => match (kind, value) {
                (Some(ColumnText::Binary), Value::Text(bytes)) => {
                    match bytes.strip_prefix(b"\\x").and_then(from_hex) {
                        Some(bytes) => Value::Bytes(bytes),
                        None => Value::Bytes(bytes),
                    }
                }
                (None, Value::Text(bytes)) => Value::Number(bytes),
                (Some(_), Value::Number(digits)) => Value::Text(digits),
                (_, value) => value,
            },
            (Store::Number, Value::Text(digits)) => Value::Text(digits),
            (Store::Number, value) => value,
            (Store::Bytes, Value::Number(digits)) => {
                let number: u64 = text(&digits).parse().map_err(|_| not("bytes", &digits))?;
                let zeros = (number.leading_zeros() / 8).min(7) as usize;
                Value::Bytes(number.to_be_bytes()[zeros..].to_vec())
            }
            (Store::Bytes, Value::Text(bytes)) => Value::Bytes(bytes),
            (Store::Bytes, value) => value,
            (Store::Chars(_), Value::Bytes(bytes)) => Value::Text(bytes),
            (Store::Chars(_), Value::Number(digits)) => Value::Text(digits),
            (Store::Chars(own), Value::Text(bytes)) => Value::Text(converted(bytes, charset, own)?),
            (Store::Chars(_), value) => value,
            (Store::Inet6, Value::Text(bytes)) if bytes.len() != 16 || bytes.contains(&b':') => {
                let address: Ipv6Addr = text(&bytes).parse().map_err(|_| not("address", &bytes))?;
                Value::Bytes(address.octets().to_vec())
            }
            (Store::Inet4, Value::Text(bytes)) if bytes.len() != 4 => {
                let address: Ipv4Addr = text(&bytes).parse().map_err(|_| not("address", &bytes))?;
                Value::Bytes(address.octets().to_vec())
            }
            (Store::Uuid, Value::Text(bytes)) if bytes.len() != 16 => {
                let digits: Vec<u8> = bytes.iter().copied().filter(|byte| *byte != b'-').collect();
                Value::Bytes(from_hex(&digits).ok_or_else(|| not("UUID", &bytes))?)
            }
            (Store::Inet6 | Store::Inet4 | Store::Uuid, Value::Text(bytes)) => Value::Bytes(bytes),
            (Store::Inet6 | Store::Inet4 | Store::Uuid, value) => value,
        })
    }
}

/// The columns of the primary key among the items of a table, or in what is added to it.
pub(super) fn primary_key(dialect: Dialect, items: &[String]) -> Option<Vec<String>> {
    items.iter().find_map(|item| {
        let mut reader = Reader::new(dialect, item.as_bytes());
        let mut token = reader.some().ok()?;
        if token.is("CONSTRAINT") {
            let (name, _) = reader.name().ok()?;
            if !name.eq_ignore_ascii_case("PRIMARY") {
                token = reader.some().ok()?;
            } else {
                reader.expect("KEY").ok()?;
                return parenthesised(&mut reader);
            }
        }
        if !token.is("PRIMARY") || reader.expect("KEY").is_err() {
            return None;
        }
        parenthesised(&mut reader)
    })
}

/// The first list of names in parentheses; lengths behind them are passed.
fn parenthesised(reader: &mut Reader<'_>) -> Option<Vec<String>> {
    while reader.some().ok()? != Token::Sign(b'(') {}
    let mut names = vec![reader.name().ok()?.0];
    let mut depth = 0;
    loop {
        match reader.some().ok()? {
            Token::Sign(b'(') => depth += 1,
            Token::Sign(b')') if depth == 0 => return Some(names),
            Token::Sign(b')') => depth -= 1,
            Token::Sign(b',') if depth == 0 => names.push(reader.name().ok()?.0),
            _ => {}
        }
    }
}

/// What the values of a type of PostgreSQL hold.
pub(super) fn kind_of(
    rest: &str,
    types: &BTreeMap<String, Option<ColumnText>>,
) -> Option<ColumnText> {
    let mut reader = Reader::new(Dialect::Postgres, rest.as_bytes());
    let mut name = reader.name().ok()?.0;
    if reader.next_is_dot() {
        reader.sign(b'.').ok()?;
        name = reader.name().ok()?.0;
    }
    let mut array = false;
    while let Ok(Some(token)) = reader.next() {
        match token {
            Token::Sign(b'[') => array = true,
            Token::Word(word)
                if ["DEFAULT", "NOT", "CHECK"].iter().any(|end| word.eq_ignore_ascii_case(end)) =>
            {
                break;
            }
            _ => {}
        }
    }
    let kind = match name.to_lowercase().as_str() {
        "text" | "character" | "varchar" | "char" | "bpchar" | "citext" | "name" | "json"
        | "jsonb" | "xml" | "hstore" => Some(ColumnText::Utf8),
        "bytea" => Some(ColumnText::Binary),
        _ => types.get(&name).copied().flatten(),
    };
    match kind {
        Some(ColumnText::Binary) if array => None,
        kind => kind,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn layout(sql: &str) -> Layout {
        Layout::mariadb(&Definition::parse(Dialect::Mariadb, sql).unwrap().unwrap(), "utf8mb4")
    }

    fn text(text: &str) -> Value {
        Value::Text(text.into())
    }

    #[test]
    fn values_are_kept_in_the_character_set_of_their_column() {
        let table = layout(
            "CREATE TABLE t (a int PRIMARY KEY, b varchar(9) CHARACTER SET latin1, \
             c text COLLATE latin2_general_ci, d varchar(9), e blob) DEFAULT CHARSET=koi8r",
        );
        let row = vec![Value::Number(b"1".into()), text("é€"), text("ő"), text("я"), text("é")];
        let kept = table.row(row, "utf8mb4").unwrap();
        assert_eq!(kept[1], Value::Text(vec![0xE9, 0x80]));
        assert_eq!(kept[2], Value::Text(vec![0xF5]));
        assert_eq!(kept[3], Value::Text(vec![0xD1]));
        assert_eq!(kept[4], Value::Bytes("é".into()));
        assert_eq!(table.table.key, ["a"]);
        let row = vec![Value::Null, text("я"), Value::Null, Value::Null, Value::Null];
        let refused = table.row(row.clone(), "utf8mb4").unwrap_err();
        assert_eq!(refused, "column b: a character that latin1 does not have");
        // In a script of bytes they are so already.
        assert_eq!(table.row(row.clone(), "binary").unwrap(), row);
    }

    #[test]
    fn values_travel_as_packing_reads_them() {
        let table = layout(
            "CREATE TABLE t (a inet6, b uuid, c bit(12), d enum('x'), e json, \
             f int GENERATED ALWAYS AS (a + 1) STORED, PRIMARY KEY (`a`(5), b))",
        );
        assert_eq!(table.names(), ["a", "b", "c", "d", "e"]);
        assert_eq!(table.table.key, ["a", "b"]);
        let uuid = "123e4567-e89b-12d3-a456-426655440000";
        let row =
            vec![text("::1"), text(uuid), Value::Number(b"2049".into()), text("x"), text("{}")];
        let kept = table.row(row, "utf8mb4").unwrap();
        assert_eq!(kept[0].bytes().map(|bytes| (bytes.len(), bytes[15])), Some((16, 1)));
        assert_eq!(kept[1].bytes().map(|bytes| (bytes.len(), bytes[0])), Some((16, 0x12)));
        assert_eq!(kept[2], Value::Bytes(vec![8, 1]));
        assert_eq!(table.table.columns[3].text, None);
    }

    #[test]
    fn types_of_postgresql_are_told_apart() {
        let types = BTreeMap::from([("address".to_owned(), Some(ColumnText::Utf8))]);
        for (rest, kind) in [
            ("character varying(9) DEFAULT 'x'::character varying", Some(ColumnText::Utf8)),
            ("public.address NOT NULL", Some(ColumnText::Utf8)),
            ("bytea", Some(ColumnText::Binary)),
            ("bytea[]", None),
            ("text[]", Some(ColumnText::Utf8)),
            ("integer DEFAULT nextval('public.s'::regclass) NOT NULL", None),
            ("mood", None),
        ] {
            assert_eq!(kind_of(rest, &types), kind, "{rest}");
        }
    }
}
