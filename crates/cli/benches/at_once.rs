//! Tables of the same size, filled over two connections at once where the database is empty, and over
//! one where it is in use.
//!
//! `cargo bench -p fernweh --bench at_once -- [records of a table]`

use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::{PrivateServer, Server};
use fernweh_testkit::Workspace;
use std::time::Instant;

fn run(database: &mut Database, sql: &str) {
    database.run(sql.as_bytes()).expect("a statement");
}

fn fill(place: &Place, records: usize) {
    let mut database = Database::open(place).expect("the database opens");
    for table in ["comments", "nights", "reports", "sightings"] {
        run(
            &mut database,
            &format!("CREATE TABLE {table} (id int PRIMARY KEY, slug varchar(60), notes text)"),
        );
        for from in (0..records).step_by(2000) {
            let row = |id: usize| {
                let notes = format!("night {id}, quite clear; ").repeat(30);
                format!(
                    "({id}, '{:08x}-{id}', '{notes}')",
                    id.wrapping_mul(0x9E37_79B9) & 0xFFFF_FFFF
                )
            };
            let rows: Vec<String> = (from..records.min(from + 2000)).map(row).collect();
            run(&mut database, &format!("INSERT INTO {table} VALUES {}", rows.join(",")));
        }
        run(&mut database, &format!("CREATE INDEX {table}_slug ON {table} (slug)"));
    }
}

fn main() {
    let records = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(100_000);
    for (kind, scheme) in [(Server::Mariadb, "mariadb"), (Server::Postgres, "postgres")] {
        let workspace = Workspace::new(env!("CARGO_BIN_EXE_fernweh"));
        let server = PrivateServer::start(kind, &workspace.path("server")).expect("a server");
        let mut text = String::new();
        for name in ["old", "new"] {
            let place = server.make_database(name, name, "a-secret").expect("a database");
            if name == "old" {
                fill(&place, records);
            }
            let port = server.port;
            text.push_str(&format!(
                "[site.{name}]\ndatabase = \"{scheme}://{name}@127.0.0.1:{port}/{name}\"\n\
                 password.database = {{ env = \"SECRET\" }}\n"
            ));
        }
        workspace.write("fernweh.toml", text);
        let timed = |line: &str| {
            let began = Instant::now();
            let ended = workspace.command(line).env("SECRET", "a-secret").output();
            let ended = ended.expect("the program starts");
            assert!(ended.status.success(), "{line}: {}", String::from_utf8_lossy(&ended.stderr));
            began.elapsed().as_secs_f64()
        };
        timed("pack old -o a.tar --level 1");
        let (mut two, mut one) = (Vec::new(), Vec::new());
        for _ in 0..3 {
            two.push(timed("unpack a.tar new --as-is"));
            one.push(timed("unpack a.tar new --as-is --overwrite"));
            for line in ["undo new", "undo new", "undo new --let-go --yes"] {
                timed(line);
            }
        }
        let median = |mut seconds: Vec<f64>| {
            seconds.sort_by(f64::total_cmp);
            seconds[1]
        };
        let (two, one) = (median(two), median(one));
        println!(
            "{kind:?}, four tables of {records} records: two connections {two:.2} s, one {one:.2} s: {:.2}",
            one / two
        );
    }
}
