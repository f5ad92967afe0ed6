//! What a choice of tables leaves behind: objects that look at the chosen tables and are not
//! chosen by their names, and what the chosen ones need of the others.

use super::{ObjectKind, Statement};

/// An object of a database that is not chosen.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Outside {
    /// What it is, as `view` or `function`.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// The statement that makes it; empty for a table.
    pub sql: String,
}

/// Whether a statement mentions a name, as a word of its own, in any letter case.
pub fn mentions(sql: &str, name: &str) -> bool {
    let is_word = |ch: char| ch.is_alphanumeric() || ch == '_' || ch == '$';
    let (sql, name) = (sql.to_lowercase(), name.to_lowercase());
    !name.is_empty()
        && sql.match_indices(&name).any(|(at, found)| {
            let before = sql[..at].chars().next_back().is_some_and(is_word);
            let behind = sql[at + found.len()..].chars().next().is_some_and(is_word);
            !before && !behind
        })
}

/// Which of some routines (name and statement) texts use, directly or through each other.
pub fn used<'a>(mut texts: Vec<&'a str>, routines: &[(&'a str, &'a str)]) -> Vec<bool> {
    let mut used = vec![false; routines.len()];
    while let Some(text) = texts.pop() {
        for ((name, sql), used) in routines.iter().zip(&mut used) {
            if !*used && mentions(text, name) {
                *used = true;
                texts.push(sql);
            }
        }
    }
    used
}

/// What is left behind, in words. `chosen` are the statements of what is taken.
pub fn left_behind(chosen: &[Statement], outside: &[Outside]) -> Vec<String> {
    let mut found = Vec::new();
    let tables: Vec<&str> = chosen
        .iter()
        .filter_map(|statement| match statement {
            Statement::Table { name, .. } => Some(name.as_str()),
            _ => None,
        })
        .collect();
    for other in outside.iter().filter(|other| !other.sql.is_empty()) {
        if let Some(table) = tables.iter().find(|table| mentions(&other.sql, last_part(table))) {
            found.push(format!(
                "{} {}: it uses table {table}, but tables does not name it",
                other.kind, other.name
            ));
        }
    }
    for statement in chosen {
        let Some((kind, name, sql)) = running(statement) else { continue };
        for other in outside.iter().filter(|other| mentions(sql, last_part(&other.name))) {
            found.push(format!(
                "{} {}: {kind} {name} uses it, but tables does not name it",
                other.kind, other.name
            ));
        }
    }
    found.dedup();
    found
}

/// The name without its schema.
fn last_part(name: &str) -> &str {
    name.rsplit('.').next().unwrap_or(name)
}

/// Kind, name and text of a statement that uses other objects.
fn running(statement: &Statement) -> Option<(&'static str, &str, &str)> {
    match statement {
        Statement::View { name, sql } => Some(("view", name, sql)),
        Statement::Trigger { name, sql, .. } => Some(("trigger", name, sql)),
        Statement::ForeignKey { name, sql, .. } => Some(("foreign key", name, sql)),
        Statement::Object { kind: ObjectKind::Routine, name, sql, .. } => {
            Some(("routine", name, sql))
        }
        Statement::Object { kind: ObjectKind::Event, name, sql, .. } => Some(("event", name, sql)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn outside(kind: &str, name: &str, sql: &str) -> Outside {
        Outside { kind: kind.into(), name: name.into(), sql: sql.into() }
    }

    #[test]
    fn a_name_is_mentioned_as_a_word() {
        for sql in ["SELECT * FROM nights", "x(`Nights`)", "SELECT nights.id", "nights"] {
            assert!(mentions(sql, "nights"), "{sql}");
        }
        for sql in ["FROM gp_nights", "nightshift", "nights$", "größenights", ""] {
            assert!(!mentions(sql, "nights"), "{sql}");
        }
    }

    #[test]
    fn routines_are_used_through_each_other() {
        let routines = [("a", "calls b()"), ("b", "calls a()"), ("c", "alone"), ("d", "c")];
        assert_eq!(used(vec!["SET x = A(1)"], &routines), [true, true, false, false]);
    }

    #[test]
    fn both_ways_are_named() {
        let chosen = [
            Statement::Table { name: "gp_nights".into(), at: 0..0, sql: String::new() },
            Statement::Trigger {
                name: "gp_log".into(),
                table: "gp_nights".into(),
                sql: "CREATE TRIGGER gp_log AFTER INSERT ON gp_nights BEGIN INSERT INTO diary \
                      VALUES (1); END"
                    .into(),
            },
        ];
        let others = [
            outside("view", "best", "CREATE VIEW best AS SELECT * FROM gp_nights"),
            outside("view", "shop", "CREATE VIEW shop AS SELECT 1"),
            outside("table", "diary", ""),
            outside("table", "orders", ""),
        ];
        assert_eq!(
            left_behind(&chosen, &others),
            [
                "view best: it uses table gp_nights, but tables does not name it",
                "table diary: trigger gp_log uses it, but tables does not name it",
            ]
        );
    }
}
