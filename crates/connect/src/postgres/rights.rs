//! What a login could do beyond its database.

use super::Link;
use super::catalog::cells;
use crate::server::Session;
use fernweh_ports::Result;

/// Roles of the server that reach its files, its programs or other people's data
/// (PostgreSQL documentation, "Predefined Roles").
const ROLES: &str = "'pg_read_server_files', 'pg_write_server_files', \
     'pg_execute_server_program', 'pg_read_all_data', 'pg_write_all_data', 'pg_signal_backend', \
     'pg_checkpoint', 'pg_create_subscription', 'pg_maintain'";

/// What this login could do beyond its database, in words.
pub(super) fn powers(link: &mut Link) -> Result<Vec<String>> {
    let attributes = link.ask(
        "SELECT rolsuper, rolcreaterole, rolcreatedb, rolreplication, rolbypassrls \
         FROM pg_catalog.pg_roles WHERE rolname = current_user",
    )?;
    let words = ["superuser", "create roles", "create databases", "replication", "bypass policies"];
    let mut found = Vec::new();
    for row in &attributes {
        let cell = cells(row);
        let set = words.iter().enumerate().filter(|(place, _)| cell(*place) == "t");
        found.extend(set.map(|(_, word)| (*word).to_owned()));
    }
    let roles = link.ask(&format!(
        "SELECT rolname FROM pg_catalog.pg_roles WHERE rolname IN ({ROLES}) \
         AND pg_has_role(current_user, oid, 'MEMBER') ORDER BY 1"
    ))?;
    // A superuser is a member of every role.
    if found.is_empty() {
        let names = roles.into_iter().filter_map(|row| row.into_iter().next()?);
        found.extend(names.map(|name| format!("member of {name}")));
    }
    Ok(found)
}
