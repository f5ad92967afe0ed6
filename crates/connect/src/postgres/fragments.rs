//! What is added to objects once they are there: keys, indexes, rules, triggers, policies,
//! settings, comments, positions of sequences.

use super::catalog::{Class, Id, cells, oid, without_schema};
use super::{Link, quoted, text};
use crate::server::Session;
use fernweh_ports::Result;

/// A statement that belongs to an object.
pub(super) struct Fragment {
    pub owner: Id,
    pub schema: String,
    pub sql: String,
}

/// The groups of fragments, in the order in which they are made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Phase {
    /// Before rows: partitions, owners of sequences.
    Ties,
    /// Keys and indexes of tables, before views that lean on them.
    Keys,
    /// Indexes of materialized views.
    ViewIndexes,
    /// Foreign keys, rules, triggers, policies.
    Guards,
    /// Settings, statistics, comments.
    Properties,
}

/// The fragments of one group in one schema.
pub(super) fn fragments(link: &mut Link, schema: &str, phase: Phase) -> Result<Vec<Fragment>> {
    link.run(format!("SET search_path = {}", quoted(schema)))?;
    let here = format!("{}::regnamespace", text(&quoted(schema)));
    let queries: &[&str] = match phase {
        Phase::Ties => &[OWNED_SEQUENCES, PARTITIONS, INHERITED_DEFAULTS],
        Phase::Keys => &[KEYS, TABLE_INDEXES, PARTITION_INDEXES],
        Phase::ViewIndexes => &[VIEW_INDEXES],
        Phase::Guards => &[LATE_CHECKS, FOREIGN_KEYS, RULES, TRIGGERS, SWITCHED_TRIGGERS, POLICIES],
        Phase::Properties => {
            &[ROW_SECURITY, COLUMN_SETTINGS, CLUSTERS, IDENTITIES, STATISTICS, COMMENTS]
        }
    };
    let mut found = Vec::new();
    for query in queries {
        for row in link.ask(&query.replace("{here}", &here))? {
            let cell = cells(&row);
            let class = match cell(0).as_str() {
                "t" => Class::Type,
                "p" => Class::Routine,
                _ => Class::Relation,
            };
            let owner = (class, oid(link, &cell(1))?);
            let mut sql = cell(2);
            if *query == STATISTICS {
                sql = without_schema(link, schema, &sql)?;
            }
            found.push(Fragment { owner, schema: schema.to_owned(), sql });
        }
    }
    Ok(found)
}

const OWNED_SEQUENCES: &str = "SELECT 'r', c.oid, \
     format('ALTER SEQUENCE %I OWNED BY %s.%I', c.relname, d.refobjid::regclass, a.attname) \
     FROM pg_catalog.pg_class c JOIN pg_catalog.pg_depend d ON d.classid = 'pg_class'::regclass \
       AND d.objid = c.oid AND d.refclassid = 'pg_class'::regclass AND d.deptype = 'a' \
     JOIN pg_catalog.pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid \
     WHERE c.relnamespace = {here} AND c.relkind = 'S' ORDER BY c.relname";

const PARTITIONS: &str = "SELECT 'r', c.oid, \
     format('ALTER TABLE ONLY %s ATTACH PARTITION %I %s', h.inhparent::regclass, c.relname, \
       pg_get_expr(c.relpartbound, c.oid)) \
     FROM pg_catalog.pg_class c JOIN pg_catalog.pg_inherits h ON h.inhrelid = c.oid \
     WHERE c.relnamespace = {here} AND c.relispartition AND c.relkind IN ('r', 'p') ORDER BY c.oid";

const INHERITED_DEFAULTS: &str = "SELECT 'r', c.oid, \
     format('ALTER TABLE ONLY %I ALTER COLUMN %I SET DEFAULT %s', c.relname, a.attname, \
       pg_get_expr(d.adbin, d.adrelid)) \
     FROM pg_catalog.pg_class c JOIN pg_catalog.pg_attribute a ON a.attrelid = c.oid \
     JOIN pg_catalog.pg_attrdef d ON d.adrelid = c.oid AND d.adnum = a.attnum \
     WHERE c.relnamespace = {here} AND c.relkind = 'r' AND NOT a.attislocal \
     AND NOT c.relispartition AND a.attgenerated = '' AND NOT a.attisdropped \
     ORDER BY c.relname, a.attnum";

const KEYS: &str = "SELECT 'r', c.oid, \
     format('ALTER TABLE ONLY %I ADD CONSTRAINT %I %s', c.relname, k.conname, \
       pg_get_constraintdef(k.oid, true)) \
     FROM pg_catalog.pg_constraint k JOIN pg_catalog.pg_class c ON c.oid = k.conrelid \
     WHERE c.relnamespace = {here} AND k.contype IN ('p', 'u', 'x') \
     ORDER BY c.relname, k.contype <> 'p', k.conname";

const TABLE_INDEXES: &str = "SELECT 'r', c.oid, pg_get_indexdef(i.indexrelid, 0, true) \
     FROM pg_catalog.pg_index i JOIN pg_catalog.pg_class c ON c.oid = i.indrelid \
     JOIN pg_catalog.pg_class x ON x.oid = i.indexrelid \
     WHERE c.relnamespace = {here} AND c.relkind IN ('r', 'p') AND c.relpersistence <> 't' \
     AND (i.indisvalid OR c.relkind = 'p') AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_constraint k \
       WHERE k.conindid = i.indexrelid AND k.conrelid = i.indrelid AND k.contype IN ('p', 'u', 'x')) \
     ORDER BY c.relname, x.relname";

const PARTITION_INDEXES: &str = "SELECT 'r', i.indrelid, \
     format('ALTER INDEX %s ATTACH PARTITION %I', h.inhparent::regclass, x.relname) \
     FROM pg_catalog.pg_class x JOIN pg_catalog.pg_inherits h ON h.inhrelid = x.oid \
     JOIN pg_catalog.pg_index i ON i.indexrelid = x.oid \
     WHERE x.relnamespace = {here} AND x.relkind IN ('i', 'I') ORDER BY x.relkind, x.oid";

const VIEW_INDEXES: &str = "SELECT 'r', c.oid, pg_get_indexdef(i.indexrelid, 0, true) \
     FROM pg_catalog.pg_index i JOIN pg_catalog.pg_class c ON c.oid = i.indrelid \
     JOIN pg_catalog.pg_class x ON x.oid = i.indexrelid \
     WHERE c.relnamespace = {here} AND c.relkind = 'm' ORDER BY c.relname, x.relname";

const LATE_CHECKS: &str = "SELECT 'r', c.oid, \
     format('ALTER TABLE %I ADD CONSTRAINT %I %s', c.relname, k.conname, \
       pg_get_constraintdef(k.oid)) \
     FROM pg_catalog.pg_constraint k JOIN pg_catalog.pg_class c ON c.oid = k.conrelid \
     WHERE c.relnamespace = {here} AND k.contype = 'c' AND NOT k.convalidated AND k.conislocal \
     ORDER BY c.relname, k.conname";

const FOREIGN_KEYS: &str = "SELECT 'r', c.oid, \
     format('ALTER TABLE %I ADD CONSTRAINT %I %s', c.relname, k.conname, \
       pg_get_constraintdef(k.oid, true)) \
     FROM pg_catalog.pg_constraint k JOIN pg_catalog.pg_class c ON c.oid = k.conrelid \
     WHERE c.relnamespace = {here} AND k.contype = 'f' AND k.conparentid = 0 \
     ORDER BY c.relname, k.conname";

const RULES: &str = "SELECT 'r', c.oid, rtrim(pg_get_ruledef(w.oid, true), ';') \
     FROM pg_catalog.pg_rewrite w JOIN pg_catalog.pg_class c ON c.oid = w.ev_class \
     WHERE c.relnamespace = {here} AND w.rulename <> '_RETURN' \
     UNION ALL SELECT 'r', c.oid, format('ALTER TABLE %I %s RULE %I', c.relname, \
       CASE w.ev_enabled WHEN 'D' THEN 'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' \
         ELSE 'ENABLE ALWAYS' END, w.rulename) \
     FROM pg_catalog.pg_rewrite w JOIN pg_catalog.pg_class c ON c.oid = w.ev_class \
     WHERE c.relnamespace = {here} AND w.rulename <> '_RETURN' AND w.ev_enabled <> 'O' \
     AND c.relkind IN ('r', 'p')";

const TRIGGERS: &str = "SELECT 'r', c.oid, pg_get_triggerdef(t.oid, true) \
     FROM pg_catalog.pg_trigger t JOIN pg_catalog.pg_class c ON c.oid = t.tgrelid \
     WHERE c.relnamespace = {here} AND NOT t.tgisinternal AND t.tgparentid = 0 \
     ORDER BY c.relname, t.tgname";

const SWITCHED_TRIGGERS: &str = "SELECT 'r', c.oid, format('ALTER TABLE %I %s TRIGGER %I', \
       c.relname, CASE t.tgenabled WHEN 'D' THEN 'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' \
         ELSE 'ENABLE ALWAYS' END, t.tgname) \
     FROM pg_catalog.pg_trigger t JOIN pg_catalog.pg_class c ON c.oid = t.tgrelid \
     WHERE c.relnamespace = {here} AND NOT t.tgisinternal AND t.tgenabled <> 'O' \
     AND c.relkind IN ('r', 'p') ORDER BY c.relname, t.tgname";

const POLICIES: &str = "SELECT 'r', c.oid, format('CREATE POLICY %I ON %I AS %s FOR %s TO %s%s%s', \
       o.polname, c.relname, CASE WHEN o.polpermissive THEN 'PERMISSIVE' ELSE 'RESTRICTIVE' END, \
       CASE o.polcmd WHEN 'r' THEN 'SELECT' WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE' \
         WHEN 'd' THEN 'DELETE' ELSE 'ALL' END, \
       CASE WHEN o.polroles = '{0}' THEN 'PUBLIC' ELSE (SELECT string_agg(quote_ident(r.rolname), \
         ', ' ORDER BY r.rolname) FROM pg_catalog.pg_roles r WHERE r.oid = ANY (o.polroles)) END, \
       coalesce(' USING (' || pg_get_expr(o.polqual, o.polrelid) || ')', ''), \
       coalesce(' WITH CHECK (' || pg_get_expr(o.polwithcheck, o.polrelid) || ')', '')) \
     FROM pg_catalog.pg_policy o JOIN pg_catalog.pg_class c ON c.oid = o.polrelid \
     WHERE c.relnamespace = {here} ORDER BY c.relname, o.polname";

const ROW_SECURITY: &str = "SELECT 'r', c.oid, \
     format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', c.relname) \
     FROM pg_catalog.pg_class c WHERE c.relnamespace = {here} AND c.relrowsecurity \
     UNION ALL SELECT 'r', c.oid, format('ALTER TABLE %I FORCE ROW LEVEL SECURITY', c.relname) \
     FROM pg_catalog.pg_class c WHERE c.relnamespace = {here} AND c.relforcerowsecurity";

const COLUMN_SETTINGS: &str = "SELECT 'r', c.oid, s.sql FROM pg_catalog.pg_class c \
     JOIN pg_catalog.pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped \
     JOIN pg_catalog.pg_type t ON t.oid = a.atttypid \
     CROSS JOIN LATERAL (VALUES \
       (CASE WHEN c.relkind IN ('r', 'p') AND a.attstorage <> t.typstorage THEN \
         format('ALTER TABLE ONLY %I ALTER COLUMN %I SET STORAGE %s', c.relname, a.attname, \
         CASE a.attstorage WHEN 'p' THEN 'PLAIN' WHEN 'e' THEN 'EXTERNAL' WHEN 'm' THEN 'MAIN' \
           ELSE 'EXTENDED' END) END), \
       (CASE WHEN c.relkind IN ('r', 'p', 'm') AND coalesce(a.attstattarget, -1) >= 0 THEN \
         format('ALTER TABLE ONLY %I ALTER COLUMN %I SET STATISTICS %s', c.relname, a.attname, \
         a.attstattarget) END), \
       (CASE WHEN c.relkind IN ('r', 'p') AND a.attoptions IS NOT NULL THEN \
         format('ALTER TABLE ONLY %I ALTER COLUMN %I SET (%s)', c.relname, a.attname, \
         (SELECT string_agg(format('%s = %L', option_name, option_value), ', ') \
          FROM pg_options_to_table(a.attoptions))) END), \
       (CASE WHEN c.relkind = 'v' AND a.atthasdef THEN \
         format('ALTER TABLE %I ALTER COLUMN %I SET DEFAULT %s', c.relname, a.attname, \
         (SELECT pg_get_expr(d.adbin, d.adrelid) FROM pg_catalog.pg_attrdef d \
          WHERE d.adrelid = c.oid AND d.adnum = a.attnum)) END)) AS s(sql) \
     WHERE c.relnamespace = {here} AND s.sql IS NOT NULL ORDER BY c.relname, a.attnum";

const CLUSTERS: &str = "SELECT 'r', c.oid, format('ALTER TABLE %I CLUSTER ON %I', c.relname, \
                 x.relname) \
     FROM pg_catalog.pg_index i JOIN pg_catalog.pg_class c ON c.oid = i.indrelid \
     JOIN pg_catalog.pg_class x ON x.oid = i.indexrelid \
     WHERE c.relnamespace = {here} AND i.indisclustered ORDER BY c.relname";

const IDENTITIES: &str = "SELECT 'r', c.oid, format('ALTER TABLE ONLY %I REPLICA IDENTITY %s', \
       c.relname, CASE c.relreplident WHEN 'f' THEN 'FULL' WHEN 'n' THEN 'NOTHING' \
       ELSE 'USING INDEX ' || (SELECT quote_ident(x.relname) FROM pg_catalog.pg_index i \
         JOIN pg_catalog.pg_class x ON x.oid = i.indexrelid \
         WHERE i.indrelid = c.oid AND i.indisreplident) END) \
     FROM pg_catalog.pg_class c WHERE c.relnamespace = {here} AND c.relkind IN ('r', 'p') \
     AND c.relreplident <> 'd' ORDER BY c.relname";

const STATISTICS: &str = "SELECT 'r', s.stxrelid, pg_get_statisticsobjdef(s.oid) \
     FROM pg_catalog.pg_statistic_ext s WHERE s.stxnamespace = {here} ORDER BY s.stxname";

const COMMENTS: &str = "SELECT x.class, x.owner, format('COMMENT ON %s IS %L', x.what, \
                 d.description) \
     FROM pg_catalog.pg_description d CROSS JOIN LATERAL ( \
       SELECT 'r', c.oid, CASE WHEN d.objsubid > 0 THEN format('COLUMN %I.%I', c.relname, a.attname) \
         ELSE format('%s %I', CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' \
           WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END, c.relname) END \
       FROM pg_catalog.pg_class c LEFT JOIN pg_catalog.pg_attribute a \
         ON a.attrelid = c.oid AND a.attnum = d.objsubid AND d.objsubid > 0 \
       WHERE d.classoid = 'pg_class'::regclass AND c.oid = d.objoid AND c.relnamespace = {here} \
       AND c.relkind IN ('r', 'p', 'v', 'm', 'S') \
       UNION ALL SELECT 't', c.reltype, CASE WHEN d.objsubid > 0 \
         THEN format('COLUMN %I.%I', c.relname, a.attname) ELSE format('TYPE %I', c.relname) END \
       FROM pg_catalog.pg_class c LEFT JOIN pg_catalog.pg_attribute a \
         ON a.attrelid = c.oid AND a.attnum = d.objsubid AND d.objsubid > 0 \
       WHERE d.classoid = 'pg_class'::regclass AND c.oid = d.objoid AND c.relnamespace = {here} \
       AND c.relkind = 'c' \
       UNION ALL SELECT 'r', i.indrelid, format('INDEX %I', c.relname) FROM pg_catalog.pg_class c \
       JOIN pg_catalog.pg_index i ON i.indexrelid = c.oid \
       WHERE d.classoid = 'pg_class'::regclass AND c.oid = d.objoid AND c.relnamespace = {here} \
       UNION ALL SELECT 't', t.oid, format('%s %I', CASE t.typtype WHEN 'd' THEN 'DOMAIN' \
         ELSE 'TYPE' END, t.typname) FROM pg_catalog.pg_type t \
       WHERE d.classoid = 'pg_type'::regclass AND t.oid = d.objoid AND t.typnamespace = {here} \
       AND t.typtype IN ('c', 'd', 'e', 'r') \
       UNION ALL SELECT 'p', p.oid, format('%s %s', CASE p.prokind WHEN 'a' THEN 'AGGREGATE' \
         WHEN 'p' THEN 'PROCEDURE' ELSE 'FUNCTION' END, \
         CASE WHEN p.prokind = 'a' AND p.pronargs = 0 THEN quote_ident(p.proname) || '(*)' \
           ELSE p.oid::regprocedure::text END) FROM pg_catalog.pg_proc p \
       WHERE d.classoid = 'pg_proc'::regclass AND p.oid = d.objoid AND p.pronamespace = {here} \
       UNION ALL SELECT CASE WHEN k.conrelid <> 0 THEN 'r' ELSE 't' END, \
         CASE WHEN k.conrelid <> 0 THEN k.conrelid ELSE k.contypid END, \
         CASE WHEN k.conrelid <> 0 THEN format('CONSTRAINT %I ON %s', k.conname, k.conrelid::regclass) \
           ELSE format('CONSTRAINT %I ON DOMAIN %s', k.conname, k.contypid::regtype) END \
       FROM pg_catalog.pg_constraint k WHERE d.classoid = 'pg_constraint'::regclass \
       AND k.oid = d.objoid AND k.connamespace = {here} \
       UNION ALL SELECT 'r', t.tgrelid, format('TRIGGER %I ON %s', t.tgname, t.tgrelid::regclass) \
       FROM pg_catalog.pg_trigger t JOIN pg_catalog.pg_class c ON c.oid = t.tgrelid \
       WHERE d.classoid = 'pg_trigger'::regclass AND t.oid = d.objoid AND c.relnamespace = {here} \
       UNION ALL SELECT 'r', o.polrelid, format('POLICY %I ON %s', o.polname, o.polrelid::regclass) \
       FROM pg_catalog.pg_policy o JOIN pg_catalog.pg_class c ON c.oid = o.polrelid \
       WHERE d.classoid = 'pg_policy'::regclass AND o.oid = d.objoid AND c.relnamespace = {here} \
       UNION ALL SELECT 'r', w.ev_class, format('RULE %I ON %s', w.rulename, w.ev_class::regclass) \
       FROM pg_catalog.pg_rewrite w JOIN pg_catalog.pg_class c ON c.oid = w.ev_class \
       WHERE d.classoid = 'pg_rewrite'::regclass AND w.oid = d.objoid AND c.relnamespace = {here} \
       UNION ALL SELECT 'r', s.stxrelid, format('STATISTICS %I', s.stxname) \
       FROM pg_catalog.pg_statistic_ext s WHERE d.classoid = 'pg_statistic_ext'::regclass \
       AND s.oid = d.objoid AND s.stxnamespace = {here} \
     ) AS x(class, owner, what) \
     WHERE d.objoid >= 16384 ORDER BY 3";

/// Where each sequence stands, sequences of identity columns included.
pub(super) fn positions(link: &mut Link, schema: &str) -> Result<Vec<Fragment>> {
    let rows = link.ask(&format!(
        "SELECT c.oid, c.relname, coalesce(d.refobjid, c.oid) FROM pg_catalog.pg_class c \
         LEFT JOIN pg_catalog.pg_depend d ON d.classid = 'pg_class'::regclass AND d.objid = c.oid \
           AND d.refclassid = 'pg_class'::regclass AND d.deptype = 'i' \
         WHERE c.relnamespace = {}::regnamespace AND c.relkind = 'S' AND c.relpersistence <> 't' \
         ORDER BY c.relname",
        text(&quoted(schema))
    ))?;
    let mut found = Vec::new();
    for row in rows {
        let cell = cells(&row);
        let place = format!("{}.{}", quoted(schema), quoted(&cell(1)));
        let state = link.ask(&format!("SELECT last_value, is_called FROM {place}"))?;
        let Some(state) = state.first() else { continue };
        let (last, called) = (cells(state)(0), cells(state)(1) == "t");
        found.push(Fragment {
            owner: (Class::Relation, oid(link, &cell(2))?),
            schema: schema.to_owned(),
            sql: format!("SELECT pg_catalog.setval({}, {last}, {called})", text(&quoted(&cell(1)))),
        });
    }
    Ok(found)
}
