//! MariaDB's answers in MySQL's words.

use super::wire::{Wire, cells, integer, row};
use super::{COLLATIONS, Shared, Version};
use crate::mysql::login::DEPRECATE_EOF;
use std::io;

/// How an answer is made over.
pub(super) enum Answer {
    Plain,
    /// Of a statement in bytes: JSON would not have taken them.
    Bytes,
    /// The answer to preparing.
    Prepared,
    /// Names of collations are MySQL's.
    Words,
    /// The second cell is a `CREATE TABLE`.
    CreateTable,
    /// The third cell is a body that this login may not see.
    HiddenBody,
}

/// More answers follow this one (`SERVER_MORE_RESULTS_EXISTS`).
const MORE: u16 = 8;

/// Hands an answer on, to its end.
pub(super) fn forward(
    client: &mut Wire,
    server: &mut Wire,
    answer: &Answer,
    shared: &Shared,
    capabilities: u32,
) -> io::Result<()> {
    let ends_at_once = capabilities & DEPRECATE_EOF != 0;
    loop {
        let first = server.read()?;
        let status = match first.first() {
            Some(0xff) => return client.write(&in_words(&first)),
            Some(0) if matches!(answer, Answer::Prepared) => {
                client.write(&first)?;
                let count = |at: usize| u16::from_le_bytes([first[at], first[at + 1]]);
                for number in [count(7), count(5)].into_iter().filter(|number| *number > 0) {
                    for _ in 0..number {
                        client.write(&server.read()?)?;
                    }
                    if !ends_at_once {
                        client.write(&server.read()?)?;
                    }
                }
                return Ok(());
            }
            Some(0) => {
                client.write(&first)?;
                let mut rest = &first[1..];
                let (_, _) = (integer(&mut rest), integer(&mut rest));
                u16::from_le_bytes([rest[0], rest[1]])
            }
            // A file of the client; only a server that takes one asks.
            Some(0xfb) => {
                client.write(&first)?;
                server.number = 2;
                loop {
                    let piece = client.read()?;
                    server.write(&piece)?;
                    if piece.is_empty() {
                        break;
                    }
                }
                continue;
            }
            _ => {
                client.write(&first)?;
                let columns = integer(&mut &first[..]).unwrap_or_default();
                for _ in 0..columns {
                    client.write(&server.read()?)?;
                }
                if !ends_at_once {
                    client.write(&server.read()?)?;
                }
                rows(client, server, answer, shared, ends_at_once)?
            }
        };
        if status & MORE == 0 {
            return Ok(());
        }
    }
}

/// Hands rows on; gives the status at their end.
fn rows(
    client: &mut Wire,
    server: &mut Wire,
    answer: &Answer,
    shared: &Shared,
    ends_at_once: bool,
) -> io::Result<u16> {
    loop {
        let packet = server.read()?;
        match packet.first() {
            Some(0xff) => {
                client.write(&in_words(&packet))?;
                return Ok(0);
            }
            Some(0xfe) if packet.len() < 9 || ends_at_once && packet.len() < 0xff_ffff => {
                client.write(&packet)?;
                if !ends_at_once {
                    return Ok(u16::from_le_bytes([packet[3], packet[4]]));
                }
                let mut rest = &packet[1..];
                let (_, _) = (integer(&mut rest), integer(&mut rest));
                return Ok(u16::from_le_bytes([rest[0], rest[1]]));
            }
            _ => client.write(&made_over(packet, answer, shared.version))?,
        }
    }
}

fn made_over(packet: Vec<u8>, answer: &Answer, version: Version) -> Vec<u8> {
    if !matches!(answer, Answer::Words | Answer::CreateTable | Answer::HiddenBody) {
        return packet;
    }
    let mut all = cells(&packet);
    match answer {
        Answer::CreateTable => {
            if let Some(Some(cell)) = all.get_mut(1) {
                *cell = create_table(&String::from_utf8_lossy(cell), version).into_bytes();
            }
        }
        Answer::HiddenBody => {
            if let Some(cell) = all.get_mut(2) {
                *cell = None;
            }
        }
        _ => {}
    }
    for cell in all.iter_mut().flatten() {
        if let Ok(text) = std::str::from_utf8(cell) {
            let known = if version == Version::V57 { &[][..] } else { &COLLATIONS[..] };
            let own =
                known.iter().fold(text.to_owned(), |text, (own, other)| text.replace(other, own));
            *cell = own.into_bytes();
        }
    }
    row(&all)
}

/// Asks MariaDB something that the client does not see; the first column of the answer.
pub(super) fn ask(server: &mut Wire, sql: &str, capabilities: u32) -> io::Result<Vec<String>> {
    server.command(&[&[3], sql.as_bytes()].concat())?;
    let first = server.read()?;
    if matches!(first.first(), Some(0 | 0xff)) {
        return Err(io::Error::other(String::from_utf8_lossy(&first).into_owned()));
    }
    let ends_at_once = capabilities & DEPRECATE_EOF != 0;
    for _ in 0..integer(&mut &first[..]).unwrap_or_default() + u64::from(!ends_at_once) {
        server.read()?;
    }
    let mut found = Vec::new();
    loop {
        let row = server.read()?;
        if row.first() == Some(&0xfe) && row.len() < 16 {
            return Ok(found);
        }
        let cell = cells(&row).into_iter().next().flatten().unwrap_or_default();
        found.push(String::from_utf8_lossy(&cell).into_owned());
    }
}

/// An error with MySQL's number.
fn in_words(packet: &[u8]) -> Vec<u8> {
    let code = u16::from_le_bytes([packet[1], packet[2]]);
    let message = String::from_utf8_lossy(packet.get(9..).unwrap_or_default()).into_owned();
    let (code, message) = match code {
        // A check that MariaDB makes of its own for JSON.
        4025 if message.split('`').nth(1).is_some_and(|name| name.contains('.')) => {
            (3140, format!("Invalid JSON text: … {message}"))
        }
        4025 => (3819, message.replace("CONSTRAINT", "Check constraint")),
        1969 => (
            3024,
            "Query execution was interrupted, maximum statement execution time exceeded".into(),
        ),
        _ => return packet.to_vec(),
    };
    let mut own = vec![0xff];
    own.extend_from_slice(&u16::to_le_bytes(code));
    own.extend_from_slice(b"#HY000");
    own.extend_from_slice(message.as_bytes());
    own
}

/// Tables of information_schema as MySQL fills them, as a question each; in capitals, so that
/// nothing is made over twice.
pub(super) fn schema(version: Version, fresh: bool) -> Vec<(&'static str, String)> {
    let json = "(c.data_type = 'longtext' AND EXISTS (SELECT 1 FROM INFORMATION_SCHEMA.check_constraints k \
                WHERE k.constraint_schema = c.table_schema AND k.table_name = c.table_name \
                AND k.check_clause = concat('json_valid(`', c.column_name, '`)')))";
    let kind = match version {
        Version::V57 => "c.column_type".to_owned(),
        // Widths that are only shown are gone.
        _ => "if(c.column_type LIKE 'tinyint(1)%' OR c.column_type LIKE '%zerofill', c.column_type, \
              regexp_replace(c.column_type, '^((tiny|small|medium|big)?int|year)\\\\([0-9]+\\\\)', '\\\\1'))"
            .to_owned(),
    };
    let computed = "(c.column_default IS NOT NULL AND c.column_default NOT IN ('NULL') \
                     AND c.column_default NOT LIKE '\\'%' AND c.column_default NOT RLIKE '^-?[0-9.]+$')";
    let extra = match version {
        Version::V57 => "replace(c.extra, 'current_timestamp()', 'CURRENT_TIMESTAMP')".to_owned(),
        _ => format!(
            "trim(concat(if({computed}, 'DEFAULT_GENERATED ', ''), \
             replace(c.extra, 'current_timestamp()', 'CURRENT_TIMESTAMP')))"
        ),
    };
    let columns = format!(
        "(SELECT c.TABLE_CATALOG, c.TABLE_SCHEMA, c.TABLE_NAME, c.COLUMN_NAME, c.ORDINAL_POSITION, \
         if(c.column_default = 'NULL', NULL, if(c.column_default LIKE '\\'%', \
           substr(c.column_default, 2, char_length(c.column_default) - 2), c.column_default)) \
           AS COLUMN_DEFAULT, c.IS_NULLABLE, if({json}, 'json', c.data_type) AS DATA_TYPE, \
         if({json}, NULL, c.character_maximum_length) AS CHARACTER_MAXIMUM_LENGTH, \
         if({json}, NULL, c.character_octet_length) AS CHARACTER_OCTET_LENGTH, \
         c.NUMERIC_PRECISION, c.NUMERIC_SCALE, c.DATETIME_PRECISION, \
         if({json}, NULL, c.character_set_name) AS CHARACTER_SET_NAME, \
         if({json}, NULL, c.collation_name) AS COLLATION_NAME, \
         if({json}, 'json', {kind}) AS COLUMN_TYPE, c.COLUMN_KEY, {extra} AS EXTRA, c.PRIVILEGES, \
         c.COLUMN_COMMENT, coalesce(c.generation_expression, '') AS GENERATION_EXPRESSION \
         FROM INFORMATION_SCHEMA.columns c)"
    );
    // What is remembered for a day is old.
    let stale = version >= Version::V80 && !fresh;
    let times = if stale { "NULL" } else { "t.update_time" };
    let tables = format!(
        "(SELECT t.TABLE_CATALOG, t.TABLE_SCHEMA, t.TABLE_NAME, t.TABLE_TYPE, t.ENGINE, t.VERSION, \
         t.ROW_FORMAT, t.TABLE_ROWS, t.AVG_ROW_LENGTH, t.DATA_LENGTH, t.MAX_DATA_LENGTH, \
         t.INDEX_LENGTH, t.DATA_FREE, t.AUTO_INCREMENT, t.CREATE_TIME, {times} AS UPDATE_TIME, \
         t.CHECK_TIME, t.TABLE_COLLATION, t.CHECKSUM, t.CREATE_OPTIONS, t.TABLE_COMMENT \
         FROM INFORMATION_SCHEMA.tables t)"
    );
    let checks = "(SELECT k.CONSTRAINT_CATALOG, k.CONSTRAINT_SCHEMA, k.CONSTRAINT_NAME, k.CHECK_CLAUSE \
                  FROM INFORMATION_SCHEMA.check_constraints k WHERE k.check_clause NOT LIKE 'json_valid%')";
    let named = |question: String, name: &str| format!("{question} {name}");
    vec![
        ("columns c ", named(columns.clone(), "c ")),
        ("columns", named(columns, "all_columns")),
        ("tables t ", named(tables.clone(), "t ")),
        ("tables", named(tables, "all_tables")),
        ("check_constraints", named(checks.into(), "all_checks")),
    ]
}

/// `CREATE TABLE` as MySQL shows it.
fn create_table(sql: &str, version: Version) -> String {
    let (mut lines, mut checks) = (Vec::new(), Vec::new());
    let mut table = String::new();
    let all: Vec<&str> = sql.lines().collect();
    let partitions = all.iter().position(|line| line.trim_start().starts_with("PARTITION BY"));
    for (number, line) in all.iter().enumerate() {
        if partitions.is_some_and(|first| number >= first) {
            break;
        }
        if number == 0 {
            table =
                line.trim_start_matches("CREATE TABLE ").trim_matches(['`', ' ', '(']).to_owned();
        }
        let mut line = match line.trim_start().starts_with('`') {
            true => column(line, version, &table, &mut checks),
            false => (*line).to_owned(),
        };
        if version == Version::V57 {
            // The usual collation of a character set is not said.
            line = line.replace("utf8mb3", "utf8").replace(" COLLATE=utf8mb4_general_ci", "");
            line = line.replace(" COLLATE latin1_swedish_ci", "");
        }
        lines.push(line);
    }
    if let Some(close) = lines.iter().position(|line| line.starts_with(')')) {
        for check in checks {
            let last = lines.iter().position(|line| line.starts_with(')')).unwrap_or(close);
            lines[last - 1].push(',');
            lines.insert(last, check);
        }
    }
    if let Some(first) = partitions {
        let body: Vec<&str> = all[first..].iter().map(|line| line.trim_end()).collect();
        lines.push(format!("/*!50100 {} */", body.join("\n").trim()));
    }
    lines.join("\n")
}

fn column(line: &str, version: Version, table: &str, checks: &mut Vec<String>) -> String {
    let comma = if line.ends_with(',') { "," } else { "" };
    let line = line.trim_end_matches(',');
    let name = line.trim_start().split('`').nth(1).unwrap_or_default();
    let own_check = format!(" CHECK (json_valid(`{name}`))");
    if let Some(rest) = line.strip_suffix(&own_check) {
        let kind = rest.find(" longtext").unwrap_or(rest.len());
        let tail = &rest[kind..];
        let null = if tail.contains("NOT NULL") { " NOT NULL" } else { " DEFAULT NULL" };
        return format!("{} json{null}{comma}", &rest[..kind]);
    }
    let mut line = line.to_owned();
    if let Some(at) = line.find(" CHECK (") {
        let check = line[at + 1..].to_owned();
        line.truncate(at);
        if version >= Version::V80 {
            let inner = check.trim_start_matches("CHECK ");
            checks.push(format!("  CONSTRAINT `{table}_chk_{}` CHECK ({inner})", checks.len() + 1));
        }
    }
    let head_end = line.find("` ").map_or(line.len(), |at| at + 2);
    let (head, rest) = line.split_at(head_end);
    let mut rest = rest.to_owned();
    if version >= Version::V80 && !rest.contains("zerofill") && !rest.starts_with("tinyint(1)") {
        for kind in ["tinyint", "smallint", "mediumint", "bigint", "int", "year"] {
            if let Some(tail) = rest.strip_prefix(&format!("{kind}(")) {
                let tail = tail.split_once(')').map_or("", |(_, tail)| tail);
                rest = format!("{kind}{tail}");
                break;
            }
        }
    }
    let long = ["text", "blob", "geometry", "point"]
        .iter()
        .any(|kind| rest.split(' ').next().is_some_and(|first| first.ends_with(kind)));
    if long {
        rest = rest.replace(" DEFAULT NULL", "");
    }
    rest = rest
        .replace("current_timestamp(", "CURRENT_TIMESTAMP(")
        .replace("CURRENT_TIMESTAMP()", "CURRENT_TIMESTAMP");
    if let Some((before, default)) = rest.split_once(" DEFAULT ") {
        let (before, default) = (before.to_owned(), default.to_owned());
        let value = default.split(' ').next().unwrap_or_default();
        let after = &default[value.len()..];
        let is_number = value.bytes().all(|byte| byte.is_ascii_digit() || b".-".contains(&byte));
        if is_number && !value.is_empty() {
            rest = format!("{before} DEFAULT '{value}'{after}");
        } else if version >= Version::V80
            && value.contains('(')
            && !value.starts_with(['(', '\''])
            && !value.starts_with("CURRENT_TIMESTAMP")
        {
            rest = format!("{before} DEFAULT ({value}){after}");
        }
    }
    format!("{head}{rest}{comma}")
}

/// A statement without what stands in quotes, so that its words can be looked for.
pub(super) fn without_texts(sql: &str) -> String {
    let (mut out, mut quote, mut escaped) = (String::new(), None, false);
    for ch in sql.chars() {
        match quote {
            Some(open) => {
                let closes = ch == open && !escaped;
                escaped = ch == '\\' && !escaped && open == '\'';
                if closes {
                    quote = None;
                    out.push(ch);
                }
            }
            None => {
                if ch == '\'' || ch == '`' {
                    quote = Some(ch);
                }
                out.push(ch);
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_are_shown_as_mysql_shows_them() {
        let sql = "CREATE TABLE `t` (\n  `id` int(11) NOT NULL AUTO_INCREMENT,\n  `n` int(11) DEFAULT 0,\n  \
            `b` tinyint(1) DEFAULT NULL,\n  `body` longtext DEFAULT NULL,\n  \
            `j` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin DEFAULT NULL CHECK (json_valid(`j`)),\n  \
            `at` timestamp NOT NULL DEFAULT current_timestamp() ON UPDATE current_timestamp(),\n  \
            `u` varchar(36) DEFAULT uuid(),\n  `c` int(11) DEFAULT NULL CHECK (`c` > 0),\n  PRIMARY KEY (`id`)\n\
            ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci\n PARTITION BY HASH (`id`)\nPARTITIONS 4";
        assert_eq!(
            create_table(sql, Version::V80),
            "CREATE TABLE `t` (\n  `id` int NOT NULL AUTO_INCREMENT,\n  `n` int DEFAULT '0',\n  \
             `b` tinyint(1) DEFAULT NULL,\n  `body` longtext,\n  `j` json DEFAULT NULL,\n  \
             `at` timestamp NOT NULL DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP,\n  \
             `u` varchar(36) DEFAULT (uuid()),\n  `c` int DEFAULT NULL,\n  PRIMARY KEY (`id`),\n  \
             CONSTRAINT `t_chk_1` CHECK ((`c` > 0))\n\
             ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci\n\
             /*!50100 PARTITION BY HASH (`id`)\nPARTITIONS 4 */"
        );
    }
}
