//! What another server of this family cannot take.

use super::Link;
use crate::server::Session;
use fernweh_core::finding::Check;
use fernweh_core::sql::{ObjectKind, Statement};
use fernweh_ports::{Overview, Result, Structure};
use std::collections::BTreeSet;

/// Words that only MariaDB knows, and what they mean for people.
const OF_MARIADB: [(&str, &str); 4] = [
    (" WITH SYSTEM VERSIONING", "tables that keep the former states of their rows"),
    (" uuid", "columns of type uuid"),
    (" inet6", "columns of type inet6"),
    (" PERIOD FOR ", "periods"),
];

pub(super) fn checks(
    link: &mut Link,
    from: &Overview,
    structure: &Structure,
) -> Result<Vec<Check>> {
    let version = link.one("SELECT version()")?.unwrap_or_default();
    let mut checks = Vec::new();
    let statements = || structure.before.iter().chain(&structure.afterwards);
    if !version.contains("MariaDB") {
        let makes = |kind: ObjectKind, words: &str| {
            statements().any(|statement| {
                matches!(statement, Statement::Object { kind: found, sql, .. }
                    if *found == kind && sql.contains(words))
            })
        };
        let mut unknown = Vec::new();
        if makes(ObjectKind::Sequence, "CREATE SEQUENCE") {
            unknown.push("sequences");
        }
        if makes(ObjectKind::Routine, "PACKAGE") {
            unknown.push("packages");
        }
        let tables = || statements().filter(|one| matches!(one, Statement::Table { .. }));
        unknown.extend(OF_MARIADB.iter().filter_map(|(words, what)| {
            tables().any(|one| one.sql().is_some_and(|sql| sql.contains(words))).then_some(*what)
        }));
        if !unknown.is_empty() {
            checks.push(Check::failed(
                format!("the server there does not know: {}", unknown.join(", ")),
                "use a MariaDB server, or change these at the source",
            ));
        }
    }
    checks.extend(engines(link, structure)?);
    if number(&version) < number(from.version.rsplit(' ').next().unwrap_or_default()) {
        checks.push(Check::warned(
            format!("the server there is older: {version}, here {}", from.version),
            "rehearse with unpack --preview and read the notes of the real run",
        ));
    }
    if link.one("SELECT @@local_infile")?.as_deref() == Some("0") {
        checks.push(Check::warned(
            "the server there takes no bulk loading",
            "records will be inserted by statements, which is slower",
        ));
    }
    if checks.is_empty() {
        checks.push(Check::passed("the destination takes every object of the database"));
    }
    Ok(checks)
}

/// Storage engines that are missing there.
fn engines(link: &mut Link, structure: &Structure) -> Result<Option<Check>> {
    let known = link.ask(
        "SELECT lower(engine) FROM information_schema.engines WHERE support IN ('YES', 'DEFAULT')",
    )?;
    let known: BTreeSet<String> =
        known.into_iter().filter_map(|row| row.into_iter().next()?).collect();
    let used = structure.before.iter().filter_map(|statement| match statement {
        Statement::Table { sql, .. } => {
            let rest = sql.rsplit_once(") ENGINE=")?.1;
            Some(rest.split_whitespace().next()?.to_lowercase())
        }
        _ => None,
    });
    let missing: BTreeSet<String> = used.filter(|engine| !known.contains(engine)).collect();
    let names: Vec<String> = missing.into_iter().collect();
    Ok((!names.is_empty()).then(|| {
        Check::failed(
            format!("the server there has no storage engine {}", names.join(", ")),
            "change the tables to InnoDB at the source",
        )
    }))
}

/// `10.11.6-MariaDB` as numbers that can be compared.
fn number(version: &str) -> Vec<u32> {
    let digits = version.split(|c: char| !c.is_ascii_digit() && c != '.').next();
    digits.unwrap_or_default().split('.').take(2).filter_map(|n| n.parse().ok()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_compared_by_their_numbers() {
        assert!(number("10.5.1-MariaDB") < number("10.11.19"));
        assert!(number("8.0.36") < number("10.3"));
        assert_eq!(number("10.11.2"), number("10.11.19-MariaDB"));
    }
}
