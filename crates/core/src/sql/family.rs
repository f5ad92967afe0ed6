//! MariaDB and MySQL: which server it is, what it knows, and how a table of the one is said to the
//! other. Statements are changed by tokens: a comment that holds a word of a type is no type.
//!
//! Sources: the reference manuals of MySQL 5.7, 8.0 and 8.4 and of MariaDB, for `CREATE TABLE`,
//! server SQL modes and version comments.

use super::Dialect;
use super::lexer::{Modes, Token, tokens};
use std::ops::Range;

/// Who has made a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Product {
    /// MariaDB.
    Mariadb,
    /// MySQL, and what answers as MySQL.
    Mysql,
}

/// A server of this family.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Server {
    /// Who has made it.
    pub product: Product,
    /// Its version, as far as it is numbers.
    pub version: (u32, u32, u32),
    /// Its version as it says it, without what follows the numbers.
    pub number: String,
}

/// Modes that both know in every version.
const MODES: [&str; 18] = [
    "REAL_AS_FLOAT",
    "PIPES_AS_CONCAT",
    "ANSI_QUOTES",
    "IGNORE_SPACE",
    "ONLY_FULL_GROUP_BY",
    "NO_UNSIGNED_SUBTRACTION",
    "NO_DIR_IN_CREATE",
    "NO_AUTO_VALUE_ON_ZERO",
    "NO_BACKSLASH_ESCAPES",
    "STRICT_TRANS_TABLES",
    "STRICT_ALL_TABLES",
    "NO_ZERO_IN_DATE",
    "NO_ZERO_DATE",
    "ALLOW_INVALID_DATES",
    "ERROR_FOR_DIVISION_BY_ZERO",
    "HIGH_NOT_PRECEDENCE",
    "NO_ENGINE_SUBSTITUTION",
    "PAD_CHAR_TO_FULL_LENGTH",
];

/// Modes that MySQL 8.0 has given up.
const OLD_MODES: [&str; 12] = [
    "NO_AUTO_CREATE_USER",
    "DB2",
    "MAXDB",
    "MSSQL",
    "MYSQL323",
    "MYSQL40",
    "ORACLE",
    "POSTGRESQL",
    "NO_FIELD_OPTIONS",
    "NO_KEY_OPTIONS",
    "NO_TABLE_OPTIONS",
    "ANSI",
];

/// Modes of MariaDB alone.
const MARIADB_MODES: [&str; 3] =
    ["EMPTY_STRING_IS_NULL", "SIMULTANEOUS_ASSIGNMENT", "TIME_ROUND_FRACTIONAL"];

impl Server {
    /// The server that says this of itself (`version()`, `@@version_comment`).
    pub fn named(version: &str, comment: &str) -> Self {
        let is_mariadb = [version, comment].iter().any(|text| text.contains("MariaDB"));
        // Older MariaDB servers begin with a version of MySQL, for the sake of old clients.
        let version = version.strip_prefix("5.5.5-").filter(|_| is_mariadb).unwrap_or(version);
        let end = version.find(|ch: char| !ch.is_ascii_digit() && ch != '.');
        let number = &version[..end.unwrap_or(version.len())];
        let mut parts = number.split('.').map(|part| part.parse().unwrap_or(0));
        let mut part = || parts.next().unwrap_or(0);
        Self {
            product: if is_mariadb { Product::Mariadb } else { Product::Mysql },
            version: (part(), part(), part()),
            number: number.to_owned(),
        }
    }

    /// Whether it is MariaDB.
    pub fn is_mariadb(&self) -> bool {
        self.product == Product::Mariadb
    }

    /// Whether it is MySQL of at least this version.
    pub fn is_mysql_from(&self, version: (u32, u32, u32)) -> bool {
        self.product == Product::Mysql && self.version >= version
    }

    /// Whether it is MariaDB of at least this version.
    pub fn is_mariadb_from(&self, version: (u32, u32, u32)) -> bool {
        self.product == Product::Mariadb && self.version >= version
    }

    /// For people: `MySQL 8.0.39`.
    pub fn shown(&self) -> String {
        let product = if self.is_mariadb() { "MariaDB" } else { "MySQL" };
        format!("{product} {}", self.number)
    }

    /// Whether it knows a mode of statements (`sql_mode`).
    pub fn knows_mode(&self, mode: &str) -> bool {
        let among = |list: &[&str]| list.iter().any(|one| one.eq_ignore_ascii_case(mode));
        among(&MODES)
            || among(&OLD_MODES) && !self.is_mysql_from((8, 0, 0))
            || among(&MARIADB_MODES) && self.is_mariadb()
            || among(&["TIME_TRUNCATE_FRACTIONAL"]) && self.is_mysql_from((8, 0, 0))
    }

    /// A setting of `sql_mode` with the modes that it knows, and those that it does not.
    pub fn known_modes(&self, modes: &str) -> (String, Vec<String>) {
        let all = modes.split(',').map(str::trim).filter(|mode| !mode.is_empty());
        let (known, unknown): (Vec<&str>, Vec<&str>) = all.partition(|mode| self.knows_mode(mode));
        (known.join(","), unknown.into_iter().map(str::to_owned).collect())
    }

    /// What of a statement that creates a table this server has nothing for, for people.
    pub fn lacks(&self, table: &str) -> Vec<&'static str> {
        let all = pieces(table);
        let has = |words: &[&str]| (0..all.len()).any(|at| words_at(&all, at, words));
        let kind = |names: &[&str]| types(&all).any(|at| names.iter().any(|name| all[at].is(name)));
        let mut lacking = Vec::new();
        if self.is_mariadb() {
            if functional_keys(&all) {
                lacking.push("keys on expressions");
            }
            return lacking;
        }
        if has(&["SYSTEM", "VERSIONING"]) && !has(&["WITHOUT", "SYSTEM", "VERSIONING"])
            || has(&["WITH", "SYSTEM", "VERSIONING"])
        {
            lacking.push("tables that keep the former states of their rows");
        }
        if has(&["PERIOD", "FOR"]) {
            lacking.push("periods");
        }
        if kind(&["uuid"]) {
            lacking.push("columns of type uuid");
        }
        if kind(&["inet4", "inet6"]) {
            lacking.push("columns of types inet4 and inet6");
        }
        lacking
    }

    /// A statement that creates a table, in the words of this server; what is said otherwise than
    /// it was, or left out, is added to `notes`.
    pub fn table(&self, sql: &str, notes: &mut Vec<String>) -> String {
        let all = pieces(sql);
        let mut edits = Vec::new();
        for at in 0..all.len() {
            match self.product {
                Product::Mariadb => self.for_mariadb(sql, &all, at, &mut edits, notes),
                Product::Mysql => self.for_mysql(&all, at, &mut edits, notes),
            }
        }
        apply(sql, edits)
    }

    fn for_mariadb(
        &self,
        sql: &str,
        all: &[Piece<'_>],
        at: usize,
        edits: &mut Vec<Edit>,
        notes: &mut Vec<String>,
    ) {
        if all[at].token == Token::MarkOpen {
            let Some(close) = (at..all.len()).find(|at| all[*at].token == Token::MarkClose) else {
                return;
            };
            let range = all[at].range.start..all[close].range.end;
            let inside = at + 1;
            let of_column = sql[all[at].range.clone()].contains("80023");
            if words_at(all, inside, &["INVISIBLE"]) && of_column {
                edits.push((range, "INVISIBLE".into()));
            } else if words_at(all, inside, &["INVISIBLE"]) {
                let ignored = self.is_mariadb_from((10, 6, 0));
                edits.push((range, if ignored { "IGNORED".into() } else { String::new() }));
            } else if words_at(all, inside, &["SRID"]) {
                let number = all.get(inside + 1).map_or("0", |piece| &sql[piece.range.clone()]);
                edits.push((range, format!("REF_SYSTEM_ID={number}")));
            } else if words_at(all, inside, &["NOT", "ENFORCED"]) {
                if let Some((item, name)) = check_before(all, at) {
                    notes.push(format!("{name} is not enforced at the source, and left out"));
                    edits.push((item.start..range.end, String::new()));
                }
            } else if words_at(all, inside, &["ENFORCED"]) {
                edits.push((range, String::new()));
            }
            return;
        }
        for (words, value) in
            [("COLUMN_FORMAT", true), ("STORAGE", true), ("ENGINE_ATTRIBUTE", true)]
        {
            if words_at(all, at, &[words]) && !all[at].in_mark {
                edits.push((option_range(all, at, value), String::new()));
            }
        }
        for words in ["SECONDARY_ENGINE_ATTRIBUTE", "AUTOEXTEND_SIZE"] {
            if words_at(all, at, &[words]) && !all[at].in_mark {
                edits.push((option_range(all, at, true), String::new()));
            }
        }
    }

    fn for_mysql(
        &self,
        all: &[Piece<'_>],
        at: usize,
        edits: &mut Vec<Edit>,
        notes: &mut Vec<String>,
    ) {
        let piece = &all[at];
        let modern = self.is_mysql_from((8, 0, 13));
        if words_at(all, at, &["NOT", "IGNORED"]) {
            edits.push((piece.range.start..all[at + 1].range.end, String::new()));
        } else if piece.is("IGNORED") && !(at > 0 && all[at - 1].is("NOT")) {
            let to = if self.is_mysql_from((8, 0, 0)) { "INVISIBLE" } else { "" };
            edits.push((piece.range.clone(), to.into()));
        } else if piece.is("INVISIBLE") && !piece.in_mark && !self.is_mysql_from((8, 0, 23)) {
            notes.push("an invisible column can be seen there: the server knows none".into());
            edits.push((piece.range.clone(), String::new()));
        }
        for option in
            ["TRANSACTIONAL", "PAGE_CHECKSUM", "PAGE_COMPRESSED", "PAGE_COMPRESSION_LEVEL"]
        {
            if piece.named(option)
                && all.get(at + 1).is_some_and(|next| next.token == Token::Sign(b'='))
            {
                edits.push((option_range(all, at, true), String::new()));
            }
        }
        if piece.is("DEFAULT")
            && let Some((value, kind)) = default_value(all, at)
        {
            let range = all[value.start].range.start..all[value.end - 1].range.end;
            let first = &all[value.start];
            let is_call = value.len() > 1 && matches!(first.token, Token::Word(_));
            let is_time = ["CURRENT_TIMESTAMP", "NOW", "LOCALTIME", "LOCALTIMESTAMP"]
                .iter()
                .any(|name| first.is(name));
            let long = LONG_TYPES.iter().any(|name| kind.is_some_and(|at| all[at].is(name)));
            let literal =
                matches!(first.token, Token::Text(_) | Token::Number(_) | Token::Bytes(_));
            let bracketed = first.token == Token::Sign(b'(');
            if is_call && !is_time || long && literal || bracketed && !modern {
                if modern {
                    edits.push((range.start..range.start, "(".into()));
                    edits.push((range.end..range.end, ")".into()));
                } else {
                    notes.push(
                        "a default that is no constant is left out: the server knows none".into(),
                    );
                    edits.push((piece.range.start..range.end, String::new()));
                }
            }
        }
    }
}

/// Types that take no plain constant as a default in MySQL.
const LONG_TYPES: [&str; 11] = [
    "tinytext",
    "text",
    "mediumtext",
    "longtext",
    "tinyblob",
    "blob",
    "mediumblob",
    "longblob",
    "json",
    "geometry",
    "point",
];

/// Where something of a table lies that belongs to the disk of a host: another one has other disks
/// and other keys. Gives the statement without it, and what was left out.
pub fn without_host_options(sql: &str) -> (String, Vec<&'static str>) {
    let all = pieces(sql);
    let (mut edits, mut left_out) = (Vec::new(), Vec::new());
    let mut note = |what: &'static str| {
        if !left_out.contains(&what) {
            left_out.push(what);
        }
    };
    for at in 0..all.len() {
        // Options stand behind the columns, and in partitions.
        if all[at].depth > 0 && !behind_partitions(&all, at) {
            continue;
        }
        for words in [&["DATA", "DIRECTORY"][..], &["INDEX", "DIRECTORY"]] {
            if words_at(&all, at, words) {
                note("the folder of its data");
                let end = option_range(&all, at + 1, true).end;
                edits.push((all[at].range.start..end, String::new()));
            }
        }
        for (word, what) in [
            ("TABLESPACE", "its tablespace"),
            ("ENCRYPTION", "its encryption"),
            ("ENCRYPTED", "its encryption"),
            ("ENCRYPTION_KEY_ID", "its encryption"),
            ("COMPRESSION", "its compression of pages"),
        ] {
            if all[at].named(word) {
                note(what);
                edits.push((option_range(&all, at, true), String::new()));
            }
        }
    }
    (apply(sql, edits), left_out)
}

/// A statement that creates a table, with the collation of every text written out: what is left
/// to the server differs from server to server. `table` is that of the table; `columns` gives that
/// of a column.
pub fn with_collations(sql: &str, table: &str, columns: &dyn Fn(&str) -> Option<String>) -> String {
    let all = pieces(sql);
    let mut edits = Vec::new();
    for item in items(&all) {
        let (Token::Name(name), range) = (&all[item.start].token, item.clone()) else { continue };
        let has = |word: &str| range.clone().any(|at| all[at].depth == 1 && all[at].is(word));
        let Some(charset) = range
            .clone()
            .find(|at| all[*at].depth == 1 && words_at(&all, *at, &["CHARACTER", "SET"]))
        else {
            continue;
        };
        if has("COLLATE") {
            continue;
        }
        if let (Some(collation), Some(value)) = (columns(name), all.get(charset + 2)) {
            edits.push((value.range.end..value.range.end, format!(" COLLATE {collation}")));
        }
    }
    let options = || (0..all.len()).filter(|at| all[*at].depth == 0);
    let charset = options().find(|at| all[*at].is("CHARSET"));
    if let (Some(charset), false) = (charset, options().any(|at| all[at].is("COLLATE"))) {
        let end = option_range(&all, charset, true).end;
        edits.push((end..end, format!(" COLLATE={table}")));
    }
    apply(sql, edits)
}

/// Names of the checks of a table, and where `CONSTRAINT name` stands.
pub fn named_checks(sql: &str) -> Vec<(String, Range<usize>)> {
    let all = pieces(sql);
    let mut found = Vec::new();
    for at in 0..all.len() {
        if words_at(&all, at, &["CONSTRAINT"])
            && let Some(Token::Name(name)) = all.get(at + 1).map(|piece| &piece.token)
            && words_at(&all, at + 2, &["CHECK"])
        {
            found.push((name.clone(), all[at].range.start..all[at + 1].range.end));
        }
    }
    found
}

/// A token and where it stands.
struct Piece<'a> {
    token: Token<'a>,
    range: Range<usize>,
    /// Open parentheses before it.
    depth: usize,
    /// In a comment that some servers execute.
    in_mark: bool,
}

impl Piece<'_> {
    fn is(&self, word: &str) -> bool {
        self.token.is(word)
    }

    /// The same, or as a quoted name.
    fn named(&self, word: &str) -> bool {
        self.is(word) || matches!(&self.token, Token::Name(name) if name.eq_ignore_ascii_case(word))
    }
}

/// Where, and what stands there afterwards.
type Edit = (Range<usize>, String);

fn pieces(sql: &str) -> Vec<Piece<'_>> {
    let mut reader = tokens(Dialect::Mariadb, Modes::default(), sql.as_bytes());
    let (mut all, mut depth, mut in_mark) = (Vec::new(), 0_usize, false);
    while let Ok(Some(token)) = reader.next_token() {
        let range = reader.from..reader.at;
        match token {
            Token::Sign(b')') => depth = depth.saturating_sub(1),
            Token::MarkOpen => in_mark = true,
            _ => {}
        }
        let opens = token == Token::Sign(b'(');
        let closes = token == Token::MarkClose;
        all.push(Piece { token, range, depth, in_mark });
        depth += usize::from(opens);
        in_mark &= !closes;
    }
    all
}

fn words_at(all: &[Piece<'_>], at: usize, words: &[&str]) -> bool {
    words.iter().enumerate().all(|(n, word)| all.get(at + n).is_some_and(|piece| piece.is(word)))
}

/// An option, from its name on, with its value if it has one; in a mark of its own, the mark.
fn option_range(all: &[Piece<'_>], at: usize, has_value: bool) -> Range<usize> {
    let mut last = at;
    if has_value {
        if all.get(last + 1).is_some_and(|next| next.token == Token::Sign(b'=')) {
            last += 1;
        }
        last = (last + 1).min(all.len() - 1);
    }
    let alone = at > 0
        && all[at - 1].token == Token::MarkOpen
        && all.get(last + 1).is_some_and(|next| next.token == Token::MarkClose);
    match alone {
        true => all[at - 1].range.start..all[last + 1].range.end,
        false => all[at].range.start..all[last].range.end,
    }
}

/// The items between the outer parentheses, as places of tokens.
fn items<'a>(all: &'a [Piece<'_>]) -> impl Iterator<Item = Range<usize>> + 'a {
    let open = all.iter().position(|piece| piece.token == Token::Sign(b'(')).unwrap_or(all.len());
    let close = all
        .iter()
        .skip(open)
        .position(|piece| piece.depth == 0 && piece.token == Token::Sign(b')'));
    let close = close.map_or(all.len(), |at| open + at);
    let mut from = open + 1;
    std::iter::from_fn(move || {
        if from >= close {
            return None;
        }
        let end = (from..close)
            .find(|at| all[*at].depth == 1 && all[*at].token == Token::Sign(b','))
            .unwrap_or(close);
        let item = from..end;
        from = end + 1;
        Some(item)
    })
}

/// Where the types of columns stand.
fn types<'a>(all: &'a [Piece<'_>]) -> impl Iterator<Item = usize> + 'a {
    items(all)
        .filter(|item| item.len() > 1 && matches!(all[item.start].token, Token::Name(_)))
        .map(|item| item.start + 1)
}

fn functional_keys(all: &[Piece<'_>]) -> bool {
    items(all).any(|item| {
        let is_key = item.clone().take(3).any(|at| all[at].is("KEY") || all[at].is("INDEX"))
            && !matches!(all[item.start].token, Token::Name(_));
        let two = |at: usize| all[at].token == Token::Sign(b'(') && all[at].depth == 2;
        is_key
            && item.clone().any(|at| {
                two(at) && at > 0 && matches!(all[at - 1].token, Token::Sign(b'(' | b','))
            })
    })
}

/// The check that stands right before this place, from the comma before it on, and its name.
fn check_before(all: &[Piece<'_>], at: usize) -> Option<(Range<usize>, String)> {
    let item = items(all).find(|item| item.contains(&at))?;
    let name = match &all.get(item.start + 1)?.token {
        Token::Name(name) if all[item.start].is("CONSTRAINT") => format!("check {name}"),
        _ => "a check".into(),
    };
    let comma = item.start.checked_sub(1).map(|before| &all[before])?;
    let start = match comma.token {
        Token::Sign(b',') => comma.range.start,
        _ => all[item.start].range.start,
    };
    Some((start..all[at].range.start, name))
}

/// The tokens of a default, and where the column's type stands.
fn default_value(all: &[Piece<'_>], at: usize) -> Option<(Range<usize>, Option<usize>)> {
    if all[at].depth != 1 {
        return None;
    }
    let item = items(all).find(|item| item.contains(&at))?;
    if !matches!(all[item.start].token, Token::Name(_)) {
        return None;
    }
    let first = at + 1;
    let mut end = first + 1;
    let opens = |at: usize| all.get(at).is_some_and(|piece| piece.token == Token::Sign(b'('));
    if opens(first) || opens(first + 1) && matches!(all[first].token, Token::Word(_)) {
        let open = if opens(first) { first } else { first + 1 };
        end = 1
            + (open + 1..item.end).find(|at| {
                all[*at].depth == all[open].depth && all[*at].token == Token::Sign(b')')
            })?;
    }
    (end <= item.end).then_some((first..end, Some(item.start + 1)))
}

fn behind_partitions(all: &[Piece<'_>], at: usize) -> bool {
    all[..at].iter().any(|piece| piece.depth == 0 && piece.is("PARTITION"))
}

fn apply(sql: &str, mut edits: Vec<Edit>) -> String {
    edits.sort_by_key(|(range, _)| (range.start, range.end));
    let (mut out, mut written) = (String::with_capacity(sql.len()), 0);
    for (range, text) in edits {
        if range.start < written {
            continue;
        }
        out.push_str(&sql[written..range.start]);
        // What goes takes the space before it along.
        if text.is_empty() && range.start < range.end {
            out.truncate(out.trim_end_matches(' ').len());
        }
        out.push_str(&text);
        written = range.end;
    }
    out.push_str(&sql[written..]);
    out
}

#[cfg(test)]
mod tests;
