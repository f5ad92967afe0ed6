//! Floors for unpacking: the engine's own bulk loading, through its plain client.

use crate::check::{mariadb_client, psql};
use fernweh_demo::database::Place;
use std::path::Path;
use std::time::Instant;

/// The largest table of the sample site, and the others that count.
const TABLES: [&str; 4] = ["gp_articles", "gp_nights", "gp_comments", "gp_sightings"];

/// Seconds in which the engine loads the rows of the site's database into tables of the
/// same structure, keys included: MariaDB `LOAD DATA LOCAL` over one connection, PostgreSQL
/// `COPY` over two, SQLite one prepared insert. Writing the rows out before is not counted.
pub fn bulk_load(place: &Place) -> f64 {
    let folder = tempfile::tempdir().expect("a folder");
    match place {
        Place::Sqlite(path) => sqlite(path, folder.path()),
        Place::Mariadb { .. } => mariadb(place, folder.path()),
        Place::Postgres { .. } => postgres(place, folder.path()),
    }
}

fn sqlite(path: &Path, folder: &Path) -> f64 {
    let old = rusqlite::Connection::open(path).expect("the database");
    let new = rusqlite::Connection::open(folder.join("new.db")).expect("a database");
    new.execute_batch("PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF; BEGIN")
        .expect("settings");
    let mut query = old
        .prepare("SELECT name, sql FROM sqlite_schema WHERE type = 'table' AND name LIKE 'gp%'")
        .expect("tables");
    let tables: Vec<(String, String)> = query
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?)))
        .expect("tables")
        .map(|row| row.expect("a table"))
        .collect();
    let began = Instant::now();
    for (name, sql) in tables {
        new.execute_batch(&sql).expect("a table");
        let mut read = old.prepare(&format!("SELECT * FROM {name}")).expect("rows");
        let width = read.column_count();
        let marks = vec!["?"; width].join(",");
        let mut insert = new.prepare(&format!("INSERT INTO {name} VALUES ({marks})")).expect("x");
        let mut rows = read.query([]).expect("rows");
        while let Some(row) = rows.next().expect("a row") {
            for n in 0..width {
                let value: rusqlite::types::Value = row.get(n).expect("a value");
                insert.raw_bind_parameter(n + 1, value).expect("bound");
            }
            insert.raw_execute().expect("inserted");
        }
    }
    new.execute_batch(
        "CREATE INDEX i ON gp_articles (published); CREATE INDEX t ON gp_articles (title); COMMIT",
    )
    .expect("committed");
    began.elapsed().as_secs_f64()
}

fn mariadb(place: &Place, folder: &Path) -> f64 {
    let mut script = String::from("SET foreign_key_checks = 0; SET unique_checks = 0;\n");
    let mut make = String::new();
    for table in TABLES {
        let file = folder.join(table).display().to_string();
        let rows = mariadb_client(place, format!("SELECT * FROM {table}").into_bytes());
        // The client writes NULL as a word; such cells count little here.
        std::fs::write(&file, rows).expect("rows");
        make.push_str(&format!(
            "DROP TABLE IF EXISTS bulk_{table}; CREATE TABLE bulk_{table} LIKE {table};\n"
        ));
        script.push_str(&format!(
            "LOAD DATA LOCAL INFILE '{file}' INTO TABLE bulk_{table} CHARACTER SET binary;\n"
        ));
    }
    mariadb_client(place, make.into_bytes());
    let began = Instant::now();
    mariadb_client(place, script.into_bytes());
    let seconds = began.elapsed().as_secs_f64();
    let drop = TABLES.map(|table| format!("DROP TABLE bulk_{table};")).concat();
    mariadb_client(place, drop.into_bytes());
    seconds
}

fn postgres(place: &Place, folder: &Path) -> f64 {
    for table in TABLES {
        let file = folder.join(table).display().to_string();
        psql(place, &["-q", "-c", &format!("\\copy {table} TO '{file}'")]);
        let make = format!("CREATE TABLE bulk_{table} (LIKE {table} INCLUDING DEFAULTS)");
        psql(place, &["-q", "-c", &make]);
    }
    let load = |tables: &[&str]| {
        for table in tables {
            let file = folder.join(table).display().to_string();
            psql(place, &["-q", "-c", &format!("\\copy bulk_{table} FROM '{file}'")]);
        }
    };
    let began = Instant::now();
    std::thread::scope(|scope| {
        scope.spawn(|| load(&TABLES[..1]));
        load(&TABLES[1..]);
    });
    psql(
        place,
        &[
            "-q",
            "-c",
            "ALTER TABLE bulk_gp_articles ADD PRIMARY KEY (id), ADD UNIQUE (slug); \
        CREATE INDEX ON bulk_gp_articles (published); CREATE INDEX ON bulk_gp_articles (title)",
        ],
    );
    let seconds = began.elapsed().as_secs_f64();
    for table in TABLES {
        psql(place, &["-q", "-c", &format!("DROP TABLE bulk_{table}")]);
    }
    seconds
}
