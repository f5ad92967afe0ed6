//! What another server of this family cannot take.

use super::Link;
use crate::server::Session;
use fernweh_core::finding::Check;
use fernweh_core::sql::{ObjectKind, Server, Statement};
use fernweh_ports::{Overview, Result, Structure, named};
use std::collections::BTreeSet;

pub(super) fn checks(
    link: &mut Link,
    from: &Overview,
    structure: &Structure,
) -> Result<Vec<Check>> {
    let server = link.server.clone();
    let mut checks = Vec::new();
    let statements = || structure.before.iter().chain(&structure.afterwards);
    let makes = |kind: ObjectKind, words: &str| {
        statements().any(|statement| {
            matches!(statement, Statement::Object { kind: found, sql, .. }
                if *found == kind && sql.contains(words))
        })
    };
    let mut unknown = BTreeSet::new();
    if !server.is_mariadb() {
        if makes(ObjectKind::Sequence, "CREATE SEQUENCE") {
            unknown.insert("sequences");
        }
        if makes(ObjectKind::Routine, "PACKAGE") {
            unknown.insert("packages");
        }
    }
    let mut notes = BTreeSet::new();
    for statement in statements() {
        if let Statement::Table { name, sql, .. } = statement {
            unknown.extend(server.lacks(sql));
            let mut otherwise = Vec::new();
            server.table(sql, &mut otherwise);
            notes.extend(otherwise.into_iter().map(|note| format!("table {name}: {note}")));
        }
    }
    if !unknown.is_empty() {
        let unknown: Vec<&str> = unknown.into_iter().collect();
        let own = if server.is_mariadb() { "MySQL" } else { "MariaDB" };
        checks.push(Check::failed(
            format!("the server there does not know: {}", unknown.join(", ")),
            format!("use a server of {own}, or change these at the source"),
        ));
    }
    let hint = "check whether the site's programs depend on it";
    checks.extend(notes.into_iter().map(|note| Check::warned(note, hint)));
    checks.extend(engines(link, structure)?);
    checks.extend(keyless(link, structure)?);
    checks.extend(versions(&server, &from.version));
    if link.one("SELECT @@local_infile")?.as_deref() == Some("0") {
        checks.push(Check::warned(
            "the server there does not allow bulk loading",
            "records will be inserted by statements, which is slower",
        ));
    }
    if checks.is_empty() {
        checks.push(Check::passed("the destination accepts every object of the database"));
    }
    Ok(checks)
}

/// Numbers of versions say something within one product only.
fn versions(server: &Server, from: &str) -> Option<Check> {
    let (product, number) = from.split_once(' ')?;
    let old = Server::named(number, product);
    match old.product == server.product {
        true if (server.version.0, server.version.1) < (old.version.0, old.version.1) => {
            Some(Check::warned(
                format!("the server there is older: {}, here {from}", server.shown()),
                "rehearse with unpack --preview and read the notes of the real run",
            ))
        }
        true => None,
        false => Some(Check::warned(
            format!("another product: {} there, here {from}", server.shown()),
            "tables are translated for it; rehearse with unpack --preview, and test the site's \
             programs",
        )),
    }
}

/// Tables without a primary key, where the server wants one.
fn keyless(link: &mut Link, structure: &Structure) -> Result<Option<Check>> {
    // The session has asked for the contrary; not every login is heard.
    if !link.server.is_mysql_from((8, 0, 13))
        || link.one("SELECT @@sql_require_primary_key")?.as_deref() != Some("1")
    {
        return Ok(None);
    }
    let keyless = structure.tables.iter().filter(|table| table.key.is_empty());
    let names: Vec<String> = keyless.map(|table| table.name.clone()).collect();
    Ok((!names.is_empty()).then(|| {
        Check::failed(
            format!("the server there requires primary keys; tables without: {}", named(&names, 6)),
            "give them one at the source, or ask the host to switch sql_require_primary_key off",
        )
    }))
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

#[cfg(test)]
mod tests {
    use super::*;
    use fernweh_core::finding::Verdict;

    #[test]
    fn versions_are_compared_within_one_product() {
        let said = |there: &str, here: &str| {
            versions(&Server::named(there, ""), here).map(|check| (check.verdict, check.what))
        };
        assert_eq!(said("10.11.2-MariaDB", "MariaDB 10.11.19"), None);
        assert_eq!(said("8.4.3", "MySQL 8.0.39"), None);
        let (verdict, what) = said("10.5.1-MariaDB", "MariaDB 10.11.19").unwrap();
        assert!(verdict == Verdict::Warned && what.contains("older: MariaDB 10.5.1"), "{what}");
        let (_, what) = said("8.0.36", "MariaDB 10.3.1").unwrap();
        assert!(what.contains("another product: MySQL 8.0.36"), "{what}");
    }
}
