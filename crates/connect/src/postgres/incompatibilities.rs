//! What another PostgreSQL server cannot take.

use super::Link;
use crate::server::Session;
use fernweh_core::finding::Check;
use fernweh_core::sql::{ObjectKind, Statement};
use fernweh_ports::{Overview, Result, Structure};

pub(super) fn checks(
    link: &mut Link,
    from: &Overview,
    structure: &Structure,
) -> Result<Vec<Check>> {
    let mut checks = Vec::new();
    let may_build =
        link.one("SELECT has_database_privilege(current_database(), 'CREATE')")?.as_deref()
            == Some("t");
    if !may_build {
        checks.push(Check::failed(
            "the user there may not create schemas, and the new state is built in one",
            "ask the database's owner for: GRANT CREATE ON DATABASE … TO …",
        ));
    }
    let names = |rows: Vec<Vec<Option<String>>>| -> Vec<String> {
        rows.into_iter().filter_map(|row| row.into_iter().next()?).collect()
    };
    let extensions = names(link.ask("SELECT name FROM pg_catalog.pg_available_extensions")?);
    let roles = names(link.ask("SELECT rolname FROM pg_catalog.pg_roles")?);
    for statement in structure.before.iter().chain(&structure.afterwards) {
        match statement {
            Statement::Object { kind: ObjectKind::Extension, name, .. }
                if !extensions.contains(name) =>
            {
                checks.push(Check::failed(
                    format!("extension {name} is not available there"),
                    "ask the host to install it",
                ));
            }
            Statement::Object { sql, .. } if sql.starts_with("CREATE POLICY ") => {
                let to = sql.split(" TO ").nth(1).unwrap_or_default();
                let role = to.split([' ', ',']).next().unwrap_or_default().trim_matches('"');
                if role != "PUBLIC" && !roles.iter().any(|known| known == role) {
                    checks.push(Check::warned(
                        format!("role {role}, which a policy names, is not known there"),
                        "the policy will be left out; make the role first",
                    ));
                }
            }
            _ => {}
        }
    }
    let charset = link.one(
        "SELECT pg_encoding_to_char(encoding) FROM pg_catalog.pg_database \
         WHERE datname = current_database()",
    )?;
    if charset.as_deref() != Some(from.charset.as_str()) {
        checks.push(Check::warned(
            format!(
                "the database there has character set {}, here it is {}",
                charset.unwrap_or_default(),
                from.charset
            ),
            "characters that it does not hold will be rejected; UTF8 holds all of them",
        ));
    }
    let version = link.one("SHOW server_version")?.unwrap_or_default();
    let major = |text: &str| text.split(['.', ' ']).next().and_then(|n| n.parse::<u32>().ok());
    let here = from.version.rsplit(' ').next().unwrap_or_default();
    if major(&version) < major(here) {
        checks.push(Check::warned(
            format!("the server there is older: {version}, here {}", from.version),
            "rehearse with unpack --preview and read the notes of the real run",
        ));
    }
    if checks.is_empty() {
        checks.push(Check::passed("the destination accepts every object of the database"));
    }
    Ok(checks)
}
