//! What a database is and holds.

use super::describe::{in_list, list, no_member, schemas};
use super::{Link, large_objects};
use crate::server::Session;
use fernweh_core::finding::Check;
use fernweh_core::sql::Dialect;
use fernweh_ports::{Counting, Overview, Result, Scope, TableInfo, Trouble, counted};

/// Looks at the database; a server that is too old is refused.
pub(super) fn overview(link: &mut Link, scope: &dyn Scope, counting: Counting) -> Result<Overview> {
    let version = link.one("SHOW server_version")?.unwrap_or_default();
    let number = version.split(' ').next().unwrap_or_default().to_owned();
    let major: u32 = link.parsed("SHOW server_version", number.split('.').next())?;
    if major < 14 {
        return Err(Trouble::usage("this PostgreSQL is too old for Fernweh")
            .at(link.shown.clone())
            .because(format!("it is version {number}; 14 is the oldest that is read"))
            .hint("upgrade the server to a supported version"));
    }
    let mut tables = Vec::new();
    let mut not_carried = not_carried(link)?;
    for listed in list(link)? {
        let name = listed.name.to_string();
        if listed.kind == 'f' && scope.holds(&name) {
            not_carried.push(format!("foreign table {name}"));
        }
        if !listed.is_table() || !scope.holds(&name) {
            continue;
        }
        let rows = match listed.rows.filter(|_| !counting.counts(listed.bytes)) {
            Some(about) => about,
            None => {
                let count = format!("SELECT count(*) FROM ONLY {}", listed.name.sql());
                link.number(&count)?
            }
        };
        tables.push(TableInfo { name, rows, bytes: listed.bytes });
    }
    let mut checks = vec![Check::passed("every table can be read at one moment")];
    let large = large_objects::numbers(link, scope)?.len();
    if large > 0 {
        let large = counted(large as u64, "large object travels", "large objects travel");
        let message = format!("{large} along; addresses inside are left unchanged");
        checks.push(Check::passed(message));
    }
    let of_database = |column: &str| {
        format!("SELECT {column} FROM pg_catalog.pg_database WHERE datname = current_database()")
    };
    Ok(Overview {
        dialect: Dialect::Postgres,
        version: format!("PostgreSQL {number}"),
        charset: link.one(&of_database("pg_encoding_to_char(encoding)"))?.unwrap_or_default(),
        collation: link.one(&of_database("datcollate"))?.unwrap_or_default(),
        tables,
        not_carried,
        checks,
        free: None,
    })
}

/// Kinds of objects that an archive does not hold, by name.
fn not_carried(link: &mut Link) -> Result<Vec<String>> {
    let here = in_list(&schemas(link)?);
    let query = format!(
        "SELECT 'operator ' || o.oid::regoperator FROM pg_catalog.pg_operator o \
         JOIN pg_catalog.pg_namespace n ON n.oid = o.oprnamespace WHERE n.nspname IN ({here}) AND {} \
         UNION ALL SELECT 'text search configuration ' || t.cfgname FROM pg_catalog.pg_ts_config t \
         JOIN pg_catalog.pg_namespace n ON n.oid = t.cfgnamespace WHERE n.nspname IN ({here}) AND {} \
         UNION ALL SELECT 'text search dictionary ' || t.dictname FROM pg_catalog.pg_ts_dict t \
         JOIN pg_catalog.pg_namespace n ON n.oid = t.dictnamespace WHERE n.nspname IN ({here}) AND {} \
         UNION ALL SELECT 'cast from ' || c.castsource::regtype || ' to ' || c.casttarget::regtype \
         FROM pg_catalog.pg_cast c WHERE c.oid >= 16384 AND {} \
         UNION ALL SELECT 'event trigger ' || e.evtname FROM pg_catalog.pg_event_trigger e \
         UNION ALL SELECT 'publication ' || p.pubname FROM pg_catalog.pg_publication p \
         UNION ALL SELECT 'foreign server ' || s.srvname FROM pg_catalog.pg_foreign_server s \
         UNION ALL SELECT format('rights of %s on %s tables and views', \
           CASE WHEN a.grantee = 0 THEN 'everybody' ELSE a.grantee::regrole::text END, \
           count(DISTINCT c.oid)) FROM pg_catalog.pg_class c \
         JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
         CROSS JOIN LATERAL aclexplode(c.relacl) a \
         WHERE n.nspname IN ({here}) AND a.grantee <> c.relowner AND {} GROUP BY a.grantee \
         UNION ALL SELECT format('rights of %s on columns of table %s', \
           CASE WHEN g.grantee = 0 THEN 'everybody' ELSE g.grantee::regrole::text END, c.oid::regclass) \
         FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_class c ON c.oid = a.attrelid \
         JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
         CROSS JOIN LATERAL aclexplode(a.attacl) g \
         WHERE n.nspname IN ({here}) AND g.grantee <> c.relowner GROUP BY g.grantee, c.oid \
         UNION ALL SELECT 'setting ' || setting || ' of the database' \
         FROM pg_catalog.pg_db_role_setting s CROSS JOIN LATERAL unnest(s.setconfig) setting \
         WHERE s.setdatabase = (SELECT oid FROM pg_catalog.pg_database WHERE datname = current_database()) \
         UNION ALL SELECT 'comment on schema ' || n.nspname FROM pg_catalog.pg_namespace n \
         JOIN pg_catalog.pg_description d ON d.objoid = n.oid AND d.classoid = 'pg_namespace'::regclass \
         WHERE n.nspname IN ({here}) AND d.description <> 'standard public schema' \
         UNION ALL SELECT 'comment on large object ' || d.objoid FROM pg_catalog.pg_description d \
         WHERE d.classoid = 'pg_largeobject'::regclass \
         UNION ALL SELECT format('type %s of which table %s is made', c.reloftype::regtype, c.oid::regclass) \
         FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
         WHERE n.nspname IN ({here}) AND c.reloftype <> 0",
        no_member("pg_operator", "o.oid"),
        no_member("pg_ts_config", "t.oid"),
        no_member("pg_ts_dict", "t.oid"),
        no_member("pg_cast", "c.oid"),
        no_member("pg_class", "c.oid")
    );
    let found = link.ask(&query)?;
    Ok(found.into_iter().filter_map(|row| row.into_iter().next()?).collect())
}
