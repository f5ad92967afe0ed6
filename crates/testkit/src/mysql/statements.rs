//! What MySQL makes of a statement: it passes, in MariaDB's words, or is refused.

use super::answers::{Answer, ask, forward};
use super::wire::Wire;
use super::{COLLATIONS, Shared, Version};
use std::io;

const QUIT: u8 = 0x01;
const QUERY: u8 = 0x03;
const PREPARE: u8 = 0x16;
const EXECUTE: u8 = 0x17;
const LONG_DATA: u8 = 0x18;
const CLOSE: u8 = 0x19;
/// Database, ping, reset of a statement, options, reset of the connection.
const PLAIN: [u8; 5] = [0x02, 0x0e, 0x1a, 0x1b, 0x1f];
/// `COM_STMT_BULK_EXECUTE`, which only MariaDB knows.
const BULK: u8 = 0xfa;

/// What the session has said so far that changes what follows.
#[derive(Default)]
struct Session {
    /// Statements are bytes (`SET NAMES binary`).
    binary: bool,
    /// The statistics of tables are read anew (`information_schema_stats_expiry = 0`).
    fresh: bool,
    /// A transaction has begun.
    in_transaction: bool,
}

/// What becomes of a statement.
enum Verdict {
    /// MariaDB gets these words, and its answer is made over.
    Forward(Vec<u8>, Answer),
    /// MySQL does it, and MariaDB need not.
    Done,
    Refused(u16, &'static str, String),
    /// The mask does not know.
    Unknown,
}

fn refused(code: u16, state: &'static str, message: impl Into<String>) -> Verdict {
    Verdict::Refused(code, state, message.into())
}

/// MySQL cannot read it.
fn unreadable(near: &str) -> Verdict {
    let near: String = near.chars().take(80).collect();
    refused(
        1064,
        "42000",
        format!("You have an error in your SQL syntax; … near '{near}' at line 1"),
    )
}

/// Passes commands on until the client has had enough.
pub(super) fn serve(
    client: &mut Wire,
    server: &mut Wire,
    shared: &Shared,
    capabilities: u32,
) -> io::Result<()> {
    let mut session = Session::default();
    loop {
        let packet = client.read()?;
        let (Some(kind), rest) = (packet.first().copied(), packet.get(1..).unwrap_or_default())
        else {
            return Ok(());
        };
        match kind {
            QUIT => return server.command(&packet),
            LONG_DATA | CLOSE => server.command(&packet)?,
            BULK => client.refuse(1047, "08S01", "Unknown command")?,
            QUERY | PREPARE => {
                let verdict = match kind {
                    PREPARE if never_prepared(rest) => refused(
                        1295,
                        "HY000",
                        "This command is not supported in the prepared statement protocol yet",
                    ),
                    _ => match with_looking(rest, &session, server, shared, capabilities)? {
                        Some(verdict) => verdict,
                        None => judge(rest, &mut session, shared),
                    },
                };
                match verdict {
                    Verdict::Forward(sql, answer) => {
                        server.command(&[&[kind], sql.as_slice()].concat())?;
                        let answer = if kind == PREPARE { Answer::Prepared } else { answer };
                        forward(client, server, &answer, shared, capabilities)?;
                    }
                    // No rows, nothing changed, in a transaction or not: the status tells nothing.
                    Verdict::Done => client.write(&[0, 0, 0, 2, 0, 0, 0])?,
                    Verdict::Refused(code, state, message) => {
                        client.refuse(code, state, &message)?
                    }
                    Verdict::Unknown => {
                        let text = String::from_utf8_lossy(rest).chars().take(300).collect();
                        shared.unknown.lock().expect("a list").push(text);
                        client.refuse(1105, "HY000", "unknown to the mask")?;
                    }
                }
            }
            _ if kind == EXECUTE || PLAIN.contains(&kind) => {
                server.command(&packet)?;
                forward(client, server, &Answer::Plain, shared, capabilities)?;
            }
            other => {
                shared.unknown.lock().expect("a list").push(format!("command {other:#x}"));
                client.refuse(1047, "08S01", "Unknown command")?;
            }
        }
    }
}

/// What MySQL refuses for what is in the database.
fn with_looking(
    sql: &[u8],
    session: &Session,
    server: &mut Wire,
    shared: &Shared,
    capabilities: u32,
) -> io::Result<Option<Verdict>> {
    let words = words(sql);
    let word = |n: usize| words.get(n).map(String::as_str).unwrap_or_default();
    let text = String::from_utf8_lossy(sql);
    if shared.habits.numbers_transactions
        && session.in_transaction
        && ["INSERT", "REPLACE", "UPDATE", "DELETE", "LOAD"].contains(&word(0))
    {
        let into = text.split('`').nth(1).unwrap_or_default().replace('\'', "''");
        let question = format!(
            "SELECT count(*) FROM information_schema.tables WHERE table_schema = database() AND \
             table_name = '{into}' AND engine <> 'InnoDB'"
        );
        if ask(server, &question, capabilities)?.first().is_some_and(|n| n != "0") {
            let message = "Statement violates GTID consistency: Updates to non-transactional tables \
                           can only be done in either autocommitted statements or single-statement \
                           transactions, and never in the same statement as updates to transactional \
                           tables.";
            return Ok(Some(refused(1785, "HY000", message)));
        }
    }
    match (word(0), word(1)) {
        ("INSERT" | "REPLACE", _) if session.binary => {
            let into = text.split('`').nth(1).unwrap_or_default().replace('\'', "''");
            let question = format!(
                "SELECT count(*) FROM information_schema.check_constraints WHERE constraint_schema = \
                 database() AND table_name = '{into}' AND check_clause LIKE 'json\\_valid(%'"
            );
            let has = ask(server, &question, capabilities)?.first().is_some_and(|n| n != "0");
            let said = ["_utf8mb4", " USING utf8mb4"].iter().any(|words| text.contains(words));
            Ok((has && !said).then(|| {
                let message =
                    "Cannot create a JSON value from a string with CHARACTER SET 'binary'.";
                refused(3144, "22032", message)
            }))
        }
        ("CREATE", "TABLE") if shared.version >= Version::V80 => {
            let bare: Vec<&str> = text.split("CONSTRAINT `").skip(1).collect();
            for constraint in bare {
                let Some((name, rest)) = constraint.split_once('`') else { continue };
                let question = format!(
                    "SELECT count(*) FROM information_schema.check_constraints WHERE constraint_schema \
                     = database() AND constraint_name = '{}'",
                    name.replace('\'', "''")
                );
                if rest.trim_start().starts_with("CHECK")
                    && ask(server, &question, capabilities)?.first().is_some_and(|n| n != "0")
                {
                    let message = format!("Duplicate check constraint name '{name}'.");
                    return Ok(Some(refused(3822, "HY000", message)));
                }
            }
            Ok(None)
        }
        ("SELECT", "GET_LOCK") => {
            let name = text.split_once("get_lock(").map_or("", |(_, rest)| rest);
            let name = name.rsplit_once(", ").map_or("", |(name, _)| name);
            let length = ask(server, &format!("SELECT char_length({name})"), capabilities)?;
            let long = length.first().and_then(|n| n.parse::<u32>().ok()).is_some_and(|n| n > 64);
            Ok(long.then(|| refused(3057, "42000", "Incorrect user-level lock name")))
        }
        _ => Ok(None),
    }
}

fn never_prepared(sql: &[u8]) -> bool {
    let words = words(sql);
    let second = words.get(1).map(String::as_str).unwrap_or_default();
    match words.first().map(String::as_str).unwrap_or_default() {
        "LOAD" | "LOCK" | "UNLOCK" => true,
        "CREATE" | "DROP" => ["TRIGGER", "PROCEDURE", "FUNCTION", "EVENT"].contains(&second),
        _ => false,
    }
}

/// The first words of a statement, in capitals.
fn words(sql: &[u8]) -> Vec<String> {
    let start = String::from_utf8_lossy(&sql[..sql.len().min(400)]).into_owned();
    let mut start = start.trim_start();
    while let Some(rest) = start.strip_prefix("/*") {
        start = rest.split_once("*/").map_or("", |(_, rest)| rest).trim_start();
    }
    let apart = |ch: char| !(ch.is_alphanumeric() || ch == '_' || ch == '@');
    start.split(apart).filter(|word| !word.is_empty()).take(8).map(str::to_uppercase).collect()
}

/// Types, options and clauses of tables that only MariaDB knows.
const OF_MARIADB: [&str; 10] = [
    " uuid",
    " inet4",
    " inet6",
    "WITH SYSTEM VERSIONING",
    "PAGE_COMPRESSED",
    " IGNORED",
    "nextval(",
    "PERIOD FOR",
    "WITHOUT OVERLAPS",
    "ENGINE=Aria",
];

fn judge(sql: &[u8], session: &mut Session, shared: &Shared) -> Verdict {
    let words = words(sql);
    let word = |n: usize| words.get(n).map(String::as_str).unwrap_or_default();
    let text = String::from_utf8_lossy(sql).into_owned();
    let plain = |sql: &str| Verdict::Forward(sql.as_bytes().to_vec(), Answer::Plain);
    match word(0) {
        "START" | "BEGIN" => session.in_transaction = true,
        "COMMIT" => session.in_transaction = false,
        "ROLLBACK" if word(1) != "TO" => session.in_transaction = false,
        _ => {}
    }
    match (word(0), word(1), word(2)) {
        ("SET", "NAMES", charset) => {
            session.binary = charset == "BINARY";
            plain(&text)
        }
        ("SET", "STATEMENT", _) => unreadable("STATEMENT"),
        ("SET", _, "TRANSACTION") | ("SET", "TRANSACTION", _) => plain(&text),
        ("SET", ..) => settings(&text, session, shared.version, shared.habits.wants_primary_keys),
        ("SELECT", ..) => question(&text, session, shared),
        ("SHOW", "CREATE", "SEQUENCE" | "PACKAGE") => unreadable(word(2)),
        ("SHOW", "CREATE", "TABLE") => Verdict::Forward(sql.to_vec(), Answer::CreateTable),
        ("SHOW", "CREATE", "PROCEDURE" | "FUNCTION") if shared.habits.hides_bodies => {
            Verdict::Forward(sql.to_vec(), Answer::HiddenBody)
        }
        ("SHOW", "CREATE", _) => Verdict::Forward(sql.to_vec(), Answer::Words),
        ("SHOW", "GRANTS" | "WARNINGS" | "DATABASES", _) => plain(&text),
        ("CREATE", "SEQUENCE" | "PACKAGE", _) | ("DROP", "SEQUENCE" | "PACKAGE", _) => {
            unreadable(word(1))
        }
        ("CREATE", "OR", "REPLACE")
            if word(3) != "VIEW" && word(3) != "ALGORITHM" && word(3) != "SQL" =>
        {
            unreadable("OR REPLACE")
        }
        ("CREATE", "TRIGGER" | "FUNCTION", _) if shared.habits.logs_in_binary => refused(
            1419,
            "HY000",
            "You do not have the SUPER privilege and binary logging is enabled (you *might* want to \
             use the less safe log_bin_trust_function_creators variable)",
        ),
        ("CREATE" | "ALTER", "TABLE", _) => table(&text, shared),
        (
            "CREATE" | "DROP" | "ALTER",
            "VIEW" | "TRIGGER" | "PROCEDURE" | "FUNCTION" | "EVENT" | "TABLE" | "OR" | "ALGORITHM"
            | "SQL" | "INDEX" | "UNIQUE" | "DEFINER" | "AGGREGATE",
            _,
        ) => plain(&there(&text)),
        ("INSERT" | "REPLACE" | "UPDATE" | "DELETE", ..) => {
            if word(0) != "UPDATE"
                && text.to_uppercase().contains(" RETURNING ")
                && text.len() < 4096
            {
                return unreadable("RETURNING");
            }
            let answer = if session.binary { Answer::Bytes } else { Answer::Plain };
            Verdict::Forward(sql.to_vec(), answer)
        }
        ("LOAD", "DATA", "LOCAL") if shared.version == Version::V57 => {
            refused(1148, "42000", "The used command is not allowed with this MySQL version")
        }
        ("LOAD", "DATA", "LOCAL") => refused(
            3948,
            "42000",
            "Loading local data is disabled; this must be enabled on both the client and server sides",
        ),
        ("START" | "BEGIN" | "COMMIT" | "ROLLBACK" | "SAVEPOINT" | "RELEASE", ..)
        | ("RENAME", "TABLE", _)
        | ("TRUNCATE" | "CHECKSUM" | "KILL" | "USE" | "DO" | "FLUSH" | "ANALYZE", ..)
        | ("LOCK" | "UNLOCK", "TABLES", _) => plain(&text),
        _ => Verdict::Unknown,
    }
}

/// Settings that MariaDB alone has.
const SETTINGS_OF_MARIADB: [&str; 4] = [
    "check_constraint_checks",
    "system_versioning_insert_history",
    "max_statement_time",
    "alter_algorithm",
];

/// Settings that both have.
const SETTINGS_OF_BOTH: [&str; 17] = [
    "time_zone",
    "wait_timeout",
    "net_write_timeout",
    "net_read_timeout",
    "sql_mode",
    "foreign_key_checks",
    "unique_checks",
    "sql_quote_show_create",
    "lock_wait_timeout",
    "collation_connection",
    "character_set_results",
    "character_set_client",
    "autocommit",
    "innodb_lock_wait_timeout",
    "group_concat_max_len",
    "explicit_defaults_for_timestamp",
    "character_set_connection",
];

/// Settings that MySQL alone has, and from which version on.
const SETTINGS_OF_MYSQL: [(&str, Version); 7] = [
    ("max_execution_time", Version::V57),
    ("information_schema_stats_expiry", Version::V80),
    ("sql_require_primary_key", Version::V80),
    ("sql_generate_invisible_primary_key", Version::V80),
    ("show_gipk_in_create_table_and_information_schema", Version::V80),
    ("show_create_table_verbosity", Version::V57),
    ("restrict_fk_on_non_standard_key", Version::V84),
];

/// Modes that MySQL has in all of its versions.
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

/// Modes that 5.7 has, and 8.0 has not.
const OLD_MODES: [&str; 9] = [
    "NO_AUTO_CREATE_USER",
    "DB2",
    "MAXDB",
    "MSSQL",
    "MYSQL323",
    "MYSQL40",
    "ORACLE",
    "POSTGRESQL",
    "ANSI",
];

fn settings(text: &str, session: &mut Session, version: Version, wants_keys: bool) -> Verdict {
    let mut kept = Vec::new();
    let list = text.trim_start()[3..].trim_start();
    let list = ["SESSION ", "GLOBAL ", "LOCAL "]
        .iter()
        .find_map(|scope| {
            let head = list.get(..scope.len())?;
            head.eq_ignore_ascii_case(scope).then(|| &list[scope.len()..])
        })
        .unwrap_or(list);
    for one in split_outside_quotes(list) {
        let Some((name, value)) = one.split_once('=') else { return Verdict::Unknown };
        let (name, value) =
            (name.trim().trim_start_matches("@@").to_ascii_lowercase(), value.trim());
        if name.starts_with('@') {
            kept.push(one.trim().to_owned());
            continue;
        }
        if SETTINGS_OF_MARIADB.contains(&name.as_str()) {
            return refused(1193, "HY000", format!("Unknown system variable '{name}'"));
        }
        if name == "sql_require_primary_key" && wants_keys {
            return refused(
                1227,
                "42000",
                "Access denied; you need (at least one of) the SUPER, SYSTEM_VARIABLES_ADMIN or \
                 SESSION_VARIABLES_ADMIN privilege(s) for this operation",
            );
        }
        if let Some((_, since)) = SETTINGS_OF_MYSQL.iter().find(|(known, _)| *known == name) {
            if version < *since {
                return refused(1193, "HY000", format!("Unknown system variable '{name}'"));
            }
            session.fresh |= name == "information_schema_stats_expiry" && value == "0";
            continue;
        }
        if !SETTINGS_OF_BOTH.contains(&name.as_str()) {
            return Verdict::Unknown;
        }
        if name == "sql_mode" && value.starts_with('\'') {
            for mode in value.trim_matches('\'').split(',').filter(|mode| !mode.is_empty()) {
                let mode = mode.to_ascii_uppercase();
                let known = MODES.contains(&mode.as_str())
                    || version == Version::V57 && OLD_MODES.contains(&mode.as_str())
                    || version >= Version::V80 && mode == "TIME_TRUNCATE_FRACTIONAL";
                if !known {
                    let message =
                        format!("Variable 'sql_mode' can't be set to the value of '{mode}'");
                    return refused(1231, "42000", message);
                }
            }
            let value = value.replace(",TIME_TRUNCATE_FRACTIONAL", "");
            kept.push(format!("sql_mode = {}", value.replace("TIME_TRUNCATE_FRACTIONAL", "")));
            continue;
        }
        kept.push(format!("{name} = {}", there(value)));
    }
    match kept.is_empty() {
        true => Verdict::Done,
        false => Verdict::Forward(format!("SET {}", kept.join(", ")).into_bytes(), Answer::Plain),
    }
}

fn split_outside_quotes(list: &str) -> Vec<&str> {
    let (mut parts, mut start, mut quoted) = (Vec::new(), 0, false);
    for (at, ch) in list.char_indices() {
        match ch {
            '\'' => quoted = !quoted,
            ',' if !quoted => {
                parts.push(&list[start..at]);
                start = at + 1;
            }
            _ => {}
        }
    }
    parts.push(&list[start..]);
    parts
}

/// MySQL's names as MariaDB knows them.
fn there(text: &str) -> String {
    COLLATIONS.iter().fold(text.to_owned(), |text, (own, other)| text.replace(own, other))
}

fn question(text: &str, session: &Session, shared: &Shared) -> Verdict {
    let lower = text.to_lowercase();
    for unknown in ["system_variables", "sequences", "periods", "check_constraints"] {
        let named = lower.contains(&format!("information_schema.{unknown}"));
        if named && !(unknown == "check_constraints" && shared.version >= Version::V80) {
            let name = unknown.to_uppercase();
            return refused(1109, "42S02", format!("Unknown table '{name}' in information_schema"));
        }
    }
    if lower.contains("full_collation_name") {
        return refused(1054, "42S22", "Unknown column 'FULL_COLLATION_NAME' in 'field list'");
    }
    if lower.contains("for system_time") {
        return unreadable("SYSTEM_TIME");
    }
    if shared.version == Version::V57 && lower.contains(" as double)") {
        return unreadable("double)");
    }
    for name in SETTINGS_OF_MARIADB {
        if lower.contains(&format!("@@{name}")) {
            return refused(1193, "HY000", format!("Unknown system variable '{name}'"));
        }
    }
    let version = format!("'{}'", shared.version.text());
    let sql = text
        .replace("@@version_comment", "'MySQL Community Server - GPL'")
        .replace("@@version", &version)
        .replace("VERSION()", &version)
        .replace("version()", &version);
    let switches = [
        ("@@sql_require_primary_key", shared.habits.wants_primary_keys.into(), Version::V80),
        ("@@local_infile", 0_u8, Version::V57),
        ("@@information_schema_stats_expiry", 86_u8, Version::V80),
    ];
    let mut sql = sql;
    for (name, value, since) in switches {
        if sql.contains(name) {
            if shared.version < since {
                return refused(1193, "HY000", format!("Unknown system variable '{}'", &name[2..]));
            }
            sql = sql.replace(name, &value.to_string());
        }
    }
    let of_schema = lower.contains("information_schema.");
    for (name, shown) in super::answers::schema(shared.version, session.fresh) {
        sql = sql.replace(&format!("information_schema.{name}"), &shown);
    }
    let answer =
        if of_schema || lower.contains("@@collation") { Answer::Words } else { Answer::Plain };
    Verdict::Forward(there(&sql).into_bytes(), answer)
}

fn table(text: &str, shared: &Shared) -> Verdict {
    let bare = super::answers::without_texts(text);
    let lower = bare.to_lowercase();
    if let Some(word) = OF_MARIADB.iter().find(|word| {
        lower.match_indices(&word.to_lowercase()).any(|(at, found)| {
            // The beginning of a longer word is another word.
            let next = lower[at + found.len()..].chars().next();
            found.ends_with('(')
                || !next.is_some_and(|ch| ch.is_alphanumeric() || ch == '_' || ch == '(')
        })
    }) {
        return unreadable(word.trim());
    }
    for (at, _) in lower.match_indices("collate") {
        let rest = lower[at + 7..].trim_start_matches([' ', '=']);
        let name: String =
            rest.chars().take_while(|ch| ch.is_alphanumeric() || *ch == '_').collect();
        if name.contains("uca1400") || name.ends_with("_nopad_ci") {
            return refused(1273, "HY000", format!("Unknown collation: '{name}'"));
        }
        if shared.version == Version::V57 && name.contains("_0900_") {
            return refused(1273, "HY000", format!("Unknown collation: '{name}'"));
        }
    }
    for line in lower.lines() {
        let kinds = ["text", "blob", "json", "geometry", "point"];
        let has = kinds.iter().any(|kind| line.contains(&format!("{kind} ")));
        if let (true, Some((_, default))) =
            (has && line.trim_start().starts_with('`'), line.split_once(" default "))
        {
            if !(default.starts_with("null")
                || default.starts_with('(') && shared.version >= Version::V80)
            {
                return refused(
                    1101,
                    "42000",
                    "BLOB, TEXT, GEOMETRY or JSON column can't have a default value",
                );
            }
        } else if let Some((_, default)) = line.split_once(" default ")
            && line.trim_start().starts_with('`')
        {
            let call = default.split([' ', ',']).next().unwrap_or_default();
            let is_time =
                ["current_timestamp", "now", "localtime"].iter().any(|name| call.starts_with(name));
            if call.contains('(')
                && !is_time
                && !(call.starts_with('(') && shared.version >= Version::V80)
            {
                return unreadable(call);
            }
        }
    }
    let creates = lower.trim_start().starts_with("create table") && !lower.contains("primary key");
    if creates && shared.habits.wants_primary_keys {
        return refused(
            3750,
            "HY000",
            "Unable to create or change a table without a primary key, when the system variable \
             'sql_require_primary_key' is set.",
        );
    }
    Verdict::Forward(there(text).into_bytes(), Answer::Plain)
}
