//! What of a structure runs code: now, or when the site next writes.
//!
//! Bodies are as trusted as the site's own programs, and no more than that: with a login that
//! could harm beyond the site they would run with its rights. This says which there are.

use super::lexer::{Modes, Token, tokens};
use super::statement::with_modes;
use super::{Dialect, ObjectKind, Statement};

/// Functions of PostgreSQL that compute a value from what they are given, and nothing else.
const HARMLESS: [&str; 90] = [
    "abs",
    "age",
    "array_agg",
    "array_append",
    "array_cat",
    "array_length",
    "array_lower",
    "array_position",
    "array_prepend",
    "array_remove",
    "array_replace",
    "array_to_string",
    "array_upper",
    "ascii",
    "bit_length",
    "btrim",
    "cardinality",
    "ceil",
    "ceiling",
    "char_length",
    "character_length",
    "chr",
    "clock_timestamp",
    "coalesce",
    "concat",
    "concat_ws",
    "convert_from",
    "convert_to",
    "date",
    "date_part",
    "date_trunc",
    "decode",
    "encode",
    "extract",
    "floor",
    "format",
    "gen_random_uuid",
    "greatest",
    "hashtext",
    "initcap",
    "int4range",
    "int8range",
    "isempty",
    "json_array_length",
    "json_build_object",
    "json_extract_path_text",
    "jsonb_array_length",
    "jsonb_build_object",
    "jsonb_extract_path_text",
    "jsonb_typeof",
    "least",
    "left",
    "length",
    "localtimestamp",
    "lower",
    "lower_inc",
    "lpad",
    "ltrim",
    "make_date",
    "md5",
    "mod",
    "nextval",
    "now",
    "nullif",
    "num_nonnulls",
    "num_nulls",
    "numrange",
    "octet_length",
    "overlay",
    "position",
    "power",
    "quote_literal",
    "random",
    "range_merge",
    "regexp_match",
    "regexp_matches",
    "regexp_replace",
    "replace",
    "reverse",
    "right",
    "round",
    "rpad",
    "rtrim",
    "setweight",
    "sha256",
    "split_part",
    "statement_timestamp",
    "strpos",
    "substr",
    "substring",
];
const HARMLESS_TOO: [&str; 22] = [
    "timezone",
    "to_char",
    "to_date",
    "to_number",
    "to_timestamp",
    "to_tsvector",
    "transaction_timestamp",
    "translate",
    "trim",
    "trunc",
    "tsrange",
    "tstzrange",
    "daterange",
    "upper",
    "upper_inc",
    "uuid_generate_v4",
    "word_similarity",
    "similarity",
    "sign",
    "sqrt",
    "starts_with",
    "currval",
];

/// Words before a parenthesis that call nothing: of the grammar, and types.
const WORDS: [&str; 62] = [
    "all",
    "and",
    "any",
    "array",
    "as",
    "between",
    "bit",
    "box",
    "by",
    "case",
    "char",
    "character",
    "check",
    "column",
    "constraint",
    "decimal",
    "default",
    "distinct",
    "else",
    "enum",
    "exclude",
    "exists",
    "filter",
    "foreign",
    "from",
    "identity",
    "in",
    "include",
    "inherits",
    "interval",
    "is",
    "key",
    "like",
    "list",
    "not",
    "null",
    "numeric",
    "of",
    "on",
    "or",
    "order",
    "over",
    "partition",
    "primary",
    "range",
    "references",
    "row",
    "select",
    "set",
    "some",
    "statistics",
    "table",
    "then",
    "time",
    "timestamp",
    "to",
    "unique",
    "using",
    "values",
    "varbit",
    "varchar",
    "varying",
];
const WORDS_TOO: [&str; 14] = [
    "when",
    "where",
    "with",
    "within",
    "without",
    "zone",
    "hash",
    "precision",
    "real",
    "text",
    "vector",
    "geometry",
    "geography",
    "bpchar",
];

/// What runs code among these statements, named for people.
pub fn bodies<'a>(
    dialect: Dialect,
    statements: impl IntoIterator<Item = &'a Statement>,
) -> Vec<String> {
    let mut found = Vec::new();
    for (modes, statement) in with_modes(statements) {
        match (dialect, statement) {
            // The engine is part of the program: no login, no rights, one file.
            (Dialect::Sqlite, _) => {}
            (_, Statement::Trigger { name, .. }) => found.push(format!("trigger {name}")),
            (_, Statement::Object { kind: ObjectKind::Event, name, .. }) => {
                found.push(format!("event {name}"));
            }
            (_, Statement::Object { kind: ObjectKind::Routine, name, sql, .. }) => {
                found.push(format!("{} {name}", kind_of(dialect, modes, sql)));
            }
            (_, Statement::Object { kind: ObjectKind::Rule, name, sql, .. }) => {
                found.push(format!("{} {name}", kind_of(dialect, modes, sql)));
            }
            (_, Statement::View { name, sql }) => {
                if !runs_as_reader(dialect, modes, sql) {
                    found.push(format!("view {name}"));
                }
            }
            // It names another table and its columns, and calls nothing.
            (_, Statement::ForeignKey { .. }) => {}
            (Dialect::Postgres, other) => {
                let Some(sql) = other.sql() else { continue };
                if let Some(function) = called(sql) {
                    found.push(format!("{}, which calls {function}", place_of(other)));
                }
            }
            (Dialect::Mariadb, _) => {}
        }
    }
    found
}

/// The word that says what is created.
fn kind_of(dialect: Dialect, modes: Modes, sql: &str) -> String {
    const KINDS: [&str; 7] =
        ["PROCEDURE", "FUNCTION", "PACKAGE", "AGGREGATE", "POLICY", "RULE", "ROUTINE"];
    let mut reader = tokens(dialect, modes, sql.as_bytes());
    while let Ok(Some(token)) = reader.next_token() {
        if let Some(kind) = KINDS.iter().find(|kind| token.is(kind)) {
            return kind.to_ascii_lowercase();
        }
    }
    "routine".into()
}

/// Whether a view of MariaDB reads with the rights of whoever asks it.
fn runs_as_reader(dialect: Dialect, modes: Modes, sql: &str) -> bool {
    let mut reader = tokens(dialect, modes, sql.as_bytes());
    while let Ok(Some(token)) = reader.next_token() {
        if token.is("VIEW") {
            return false;
        }
        if token.is("INVOKER") {
            return dialect == Dialect::Mariadb;
        }
    }
    false
}

fn place_of(statement: &Statement) -> String {
    match statement {
        Statement::Table { name, .. } => format!("table {name}"),
        Statement::Index { name, .. } => format!("index {name}"),
        Statement::ForeignKey { name, .. } => format!("foreign key {name}"),
        Statement::Object { kind: ObjectKind::Type, name, .. } => format!("type {name}"),
        Statement::Object { kind: ObjectKind::Constraint, name, .. } => {
            format!("constraint {name}")
        }
        Statement::Object { table: Some(table), .. } => format!("a default of table {table}"),
        Statement::Object { name, .. } => name.clone(),
        _ => "a setting".into(),
    }
}

/// The first function of PostgreSQL that a statement calls and that could do more than compute.
fn called(sql: &str) -> Option<String> {
    let mut reader = tokens(Dialect::Postgres, Modes::default(), sql.as_bytes());
    // The last name, with its schema, and whether it is the name of what is made.
    let (mut name, mut schema): (Option<String>, Option<String>) = (None, None);
    let (mut dot, mut groups) = (false, 0);
    // Whether the name is that of an access method or a table.
    let mut named = false;
    let words: Vec<&str> = sql.split_ascii_whitespace().take(3).collect();
    let is_table = matches!(words[..], ["CREATE", "TABLE", _] | ["CREATE", _, "TABLE"]);
    while let Ok(Some(token)) = reader.next_token() {
        match token {
            Token::Word(word) => {
                let before = name.as_deref().is_some_and(|word| matches!(word, "using" | "on"));
                named = before || (dot && named);
                schema = if dot { name.take() } else { None };
                name = Some(word.to_ascii_lowercase());
                dot = false;
            }
            Token::Name(quoted) => {
                let before = name.as_deref().is_some_and(|word| matches!(word, "using" | "on"));
                named = before || (dot && named);
                schema = if dot { name.take() } else { None };
                name = Some(quoted);
                dot = false;
            }
            Token::Sign(b'.') if name.is_some() => dot = true,
            Token::Sign(b'(') => {
                groups += 1;
                // The columns of a table stand behind its name.
                let of_table = (groups == 1 && is_table) || std::mem::take(&mut named);
                let known = |name: &String| {
                    let builtin = schema.as_deref().is_none_or(|schema| schema == "pg_catalog");
                    let name = name.as_str();
                    builtin && (HARMLESS.contains(&name) || HARMLESS_TOO.contains(&name))
                        || schema.is_none() && (WORDS.contains(&name) || WORDS_TOO.contains(&name))
                };
                if let Some(function) = name.take().filter(|name| !of_table && !known(name)) {
                    return Some(match schema.take() {
                        Some(schema) => format!("{schema}.{function}"),
                        None => function,
                    });
                }
                (schema, dot) = (None, false);
            }
            _ => (name, schema, dot) = (None, None, false),
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(dialect: Dialect, statements: &[&str]) -> Vec<String> {
        let parsed: Vec<Statement> = statements
            .iter()
            .map(|sql| Statement::parse(dialect, Modes::default(), sql.as_bytes()).expect(sql))
            .collect();
        bodies(dialect, &parsed)
    }

    #[test]
    fn bodies_of_mariadb_are_named() {
        assert_eq!(
            of(
                Dialect::Mariadb,
                &[
                    "CREATE TABLE `t` (`a` int(11) DEFAULT (uuid_short()))",
                    "CREATE TRIGGER `g` BEFORE INSERT ON `t` FOR EACH ROW SET NEW.a = 1",
                    "CREATE PROCEDURE `p`() SELECT 1",
                    "CREATE ALGORITHM=UNDEFINED SQL SECURITY DEFINER VIEW `v` AS select 1",
                    "CREATE ALGORITHM=UNDEFINED SQL SECURITY INVOKER VIEW `w` AS select 1",
                    "CREATE EVENT `e` ON SCHEDULE EVERY 1 DAY ON COMPLETION NOT PRESERVE ENABLE \
                     DO SELECT 1",
                ]
            ),
            ["trigger g", "procedure p", "view v", "event e"]
        );
    }

    #[test]
    fn functions_in_definitions_of_postgresql_are_bodies_unless_they_only_compute() {
        assert_eq!(
            of(
                Dialect::Postgres,
                &[
                    "CREATE TABLE \"notes\" (\n  id bigint DEFAULT nextval('s'::regclass) NOT \
                     NULL,\n  \
                     at timestamp(3) with time zone DEFAULT now(),\n  a numeric(10,2),\n  \
                     b varchar(9) DEFAULT upper('x'::text),\n  CONSTRAINT c CHECK ((a > (0)::numeric))\n)",
                    "CREATE INDEX i ON notes USING btree (lower(b))",
                    "CREATE INDEX j ON notes USING btree (public.f(b))",
                    "CREATE TABLE t (a text DEFAULT pg_read_file('/etc/passwd'))",
                    "ALTER TABLE ONLY t ADD CONSTRAINT c CHECK (\"now\"(a))",
                    "ALTER TABLE ONLY t ALTER COLUMN a SET DEFAULT evil.lower('x')",
                    "CREATE POLICY p ON t FOR SELECT USING (true)",
                    "CREATE FUNCTION f() RETURNS int LANGUAGE sql AS $$SELECT 1$$",
                    "ALTER TABLE ONLY t ADD CONSTRAINT k FOREIGN KEY (a) REFERENCES u(a)",
                ]
            ),
            [
                "index j, which calls public.f",
                "table t, which calls pg_read_file",
                "a default of table t, which calls evil.lower",
                "policy p",
                "function f",
            ]
        );
    }
}
