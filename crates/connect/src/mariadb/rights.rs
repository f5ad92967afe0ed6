//! What the user may see. A server hides what a user has no right to, so that it would
//! be missing in silence.

use super::Link;
use crate::server::Session;
use fernweh_core::finding::Check;
use fernweh_ports::Result;

/// Rights without which objects are invisible, and these objects.
const NEEDED: [(&str, &str); 4] = [
    ("TRIGGER", "triggers"),
    ("EVENT", "events"),
    ("SHOW VIEW", "the definitions of views"),
    ("EXECUTE", "procedures and functions"),
];

/// A warning for every right that is missing.
pub(super) fn checks(link: &mut Link) -> Result<Vec<Check>> {
    let grants = link.ask("SHOW GRANTS")?;
    let grants: Vec<String> =
        grants.into_iter().filter_map(|row| row.into_iter().next()?).collect();
    let database = link.one("SELECT database()")?.unwrap_or_default();
    let missing = missing(&grants, &database);
    Ok(missing
        .into_iter()
        .map(|(right, objects)| {
            Check::warned(
                format!("the user lacks the right {right}: {objects} cannot be seen"),
                "if the site has any, they will be missing; ask the host to grant the right",
            )
        })
        .collect())
}

/// Global rights that do no harm beyond the site.
const HARMLESS: [&str; 9] = [
    "USAGE",
    "SHOW DATABASES",
    "PROCESS",
    "REPLICATION CLIENT",
    "BINLOG MONITOR",
    "SLAVE MONITOR",
    "REPLICA MONITOR",
    "CREATE TEMPORARY TABLES",
    "LOCK TABLES",
];

/// What this login could do beyond its database, in words.
pub(super) fn powers(link: &mut Link) -> Result<Vec<String>> {
    let grants = link.ask("SHOW GRANTS")?;
    let grants: Vec<String> =
        grants.into_iter().filter_map(|row| row.into_iter().next()?).collect();
    let database = link.one("SELECT database()")?.unwrap_or_default();
    Ok(beyond(&grants, &database))
}

fn beyond(grants: &[String], database: &str) -> Vec<String> {
    let mut found = Vec::new();
    for grant in grants {
        let Some((rights, rest)) =
            grant.strip_prefix("GRANT ").and_then(|rest| rest.split_once(" ON "))
        else {
            continue;
        };
        let on = rest.split(" TO ").next().unwrap_or_default().replace('`', "");
        let on = on.trim_start_matches("PROCEDURE ").trim_start_matches("FUNCTION ").to_owned();
        // What may be done to whom is not shown by the server alone.
        let (place, _) = on.rsplit_once('.').unwrap_or((&on, ""));
        if place == "*" {
            let global = rights.split(", ").filter(|right| !HARMLESS.contains(right));
            found.extend(global.map(|right| format!("{right} on every database")));
            continue;
        }
        let plain = place.replace("\\_", "_").replace("\\%", "%");
        let is_pattern = place.replace("\\%", "").contains('%');
        if rights != "USAGE" && (plain != database || is_pattern) {
            let what = if is_pattern { "databases like" } else { "database" };
            found.push(format!("rights on {what} {plain}"));
        }
    }
    found
}

fn missing(grants: &[String], database: &str) -> Vec<(&'static str, &'static str)> {
    let covers = |grant: &&String| {
        let on = grant.split(" ON ").nth(1).and_then(|rest| rest.split(" TO ").next());
        let on = on.unwrap_or_default().replace('`', "").replace("\\_", "_");
        // A pattern of the server: anything before a percent sign.
        let (scope, all) = (on.trim_end_matches(".*"), on.ends_with(".*"));
        let pattern = scope.split('%').next().unwrap_or_default();
        let fits = scope == database || scope.contains('%') && database.starts_with(pattern);
        all && (scope == "*" || fits)
    };
    let held: Vec<String> = grants
        .iter()
        .filter(covers)
        .filter_map(|grant| grant.strip_prefix("GRANT ")?.split(" ON ").next().map(str::to_owned))
        .collect();
    // Rights can come with a role, whose grants are not listed here.
    let by_role = grants.iter().any(|grant| !grant.contains(" ON "));
    let has = |right: &str| {
        held.iter().any(|list| {
            list.starts_with("ALL PRIVILEGES") || list.split(", ").any(|one| one == right)
        })
    };
    if by_role {
        return Vec::new();
    }
    NEEDED.into_iter().filter(|(right, _)| !has(right)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rights_beyond_the_database_are_found() {
        let found = |grants: &[&str]| {
            let grants: Vec<String> = grants.iter().map(|g| (*g).to_owned()).collect();
            beyond(&grants, "gp_site")
        };
        let own = [
            "GRANT USAGE ON *.* TO `k`@`%` IDENTIFIED BY PASSWORD '*A'",
            "GRANT ALL PRIVILEGES ON `gp\\_site`.* TO `k`@`%`",
        ];
        assert!(found(&own).is_empty());
        assert_eq!(
            found(&["GRANT FILE, PROCESS, SUPER ON *.* TO `k`@`%`"]),
            ["FILE on every database", "SUPER on every database"]
        );
        assert_eq!(found(&["GRANT SELECT ON `shop`.* TO `k`@`%`"]), ["rights on database shop"]);
        assert_eq!(
            found(&["GRANT ALL PRIVILEGES ON `gp\\_%`.* TO `k`@`%`"]),
            ["rights on databases like gp_%"]
        );
        assert_eq!(
            found(&["GRANT ALL PRIVILEGES ON *.* TO `root`@`localhost` WITH GRANT OPTION"]),
            ["ALL PRIVILEGES on every database"]
        );
    }

    #[test]
    fn rights_that_are_missing_are_found() {
        let none = |grants: &[&str]| {
            let grants: Vec<String> = grants.iter().map(|g| (*g).to_owned()).collect();
            missing(&grants, "gp_site").iter().map(|(right, _)| *right).collect::<Vec<_>>()
        };
        assert!(none(&["GRANT ALL PRIVILEGES ON `gp\\_site`.* TO `k`@`%`"]).is_empty());
        assert!(none(&["GRANT ALL PRIVILEGES ON *.* TO `k`@`%`"]).is_empty());
        assert!(none(&["GRANT ALL PRIVILEGES ON `gp\\_%`.* TO `k`@`%`"]).is_empty());
        assert_eq!(
            none(&[
                "GRANT USAGE ON *.* TO `k`@`%`",
                "GRANT SELECT, TRIGGER, SHOW VIEW ON `gp_site`.* TO `k`@`%`"
            ]),
            ["EVENT", "EXECUTE"]
        );
        assert_eq!(none(&["GRANT ALL PRIVILEGES ON `other`.* TO `k`@`%`"]).len(), 4);
    }
}
