//! Keys of a table that does not fit the memory of a MariaDB server: unpacking at 1 to 16 times the
//! buffer pool, against the server's own bulk loading with all keys in place.
//!
//! `cargo bench -p fernweh --bench keys -- [MB of the buffer pool] [largest size with keys in place]`

use fernweh_demo::database::Place;
use fernweh_demo::server::{PrivateServer, Server};
use fernweh_testkit::{Workspace, mariadb_client};
use std::time::Instant;

/// Bytes of a record, about.
const RECORD: usize = 240;

const TABLE: &str = "CREATE TABLE nights (id int NOT NULL AUTO_INCREMENT PRIMARY KEY, \
    slug varchar(60) NOT NULL, seeing varchar(60), kind int, notes varchar(160), \
    UNIQUE KEY slug (slug), KEY seeing (seeing), KEY kind (kind, slug)) \
    ENGINE=InnoDB DEFAULT CHARSET=utf8mb4";

fn ask(place: &Place, sql: &str) -> String {
    mariadb_client(place, sql.into())
}

fn timed(work: impl FnOnce()) -> f64 {
    let began = Instant::now();
    work();
    began.elapsed().as_secs_f64()
}

/// A configuration of two sites that have nothing but a database.
fn configure(workspace: &Workspace, places: &[Place; 2]) {
    let mut text = String::new();
    for (site, place) in ["old", "new"].iter().zip(places) {
        let Place::Mariadb { port, user, password, name } = place else { continue };
        workspace.write(&format!("{site}-password"), password);
        text.push_str(&format!(
            "[site.{site}]\ndatabase = \"mariadb://{user}@127.0.0.1:{port}/{name}\"\n\
             password.database = {{ file = \"{site}-password\" }}\n"
        ));
    }
    workspace.write("fernweh.toml", text);
}

fn main() {
    let numbers: Vec<usize> =
        std::env::args().skip(1).filter_map(|word| word.parse().ok()).collect();
    let at = |place: usize, usual| numbers.get(place).copied().unwrap_or(usual);
    let (pool, in_place) = (at(0, 32), at(1, 4));
    let workspace = Workspace::new(env!("CARGO_BIN_EXE_fernweh"));
    let server =
        PrivateServer::start(Server::Mariadb, &workspace.path("server")).expect("a server");
    let mut admin = server.administrator().expect("its administrator");
    let set = format!("SET GLOBAL innodb_buffer_pool_size = {}", pool << 20);
    admin.run(set.as_bytes()).expect("the buffer pool");
    let place = |name: &str| server.make_database(name, name, "a-secret").expect("a database");
    let places = ["old", "new"].map(place);
    configure(&workspace, &places);
    println!("a buffer pool of {pool} MB, records of {RECORD} bytes, three keys of texts");
    for times in [1, 2, 4, 8, 16] {
        let records = times * (pool << 20) / RECORD;
        // The source's keys do not matter: it is filled without them.
        ask(
            &places[0],
            &format!(
                "DROP TABLE IF EXISTS nights; {TABLE}; ALTER TABLE nights DROP KEY slug, DROP KEY \
                 seeing, DROP KEY kind; INSERT INTO nights SELECT seq, sha1(seq), \
                 sha1(seq + 1000000000), seq % 1000, repeat(sha1(seq), 3) FROM seq_1_to_{records}; \
                 ALTER TABLE nights ADD UNIQUE KEY slug (slug), ADD KEY seeing (seeing), ADD KEY \
                 kind (kind, slug)"
            ),
        );
        let archive = format!("{times}.fernweh.tar");
        workspace.done(&format!("pack old -o {archive} --level 1"));
        let unpack = timed(|| {
            workspace.done(&format!("unpack {archive} new --as-is"));
        });
        workspace.done("undo new");
        workspace.done("undo new --let-go --yes");
        print!("{times:>3} times, {records:>8} records: unpack {unpack:>6.1} s");
        if times > in_place {
            println!();
            continue;
        }
        let file = workspace.path("rows").display().to_string();
        std::fs::write(&file, ask(&places[0], "SELECT * FROM nights")).expect("rows");
        ask(&places[1], TABLE);
        let load =
            format!("LOAD DATA LOCAL INFILE '{file}' INTO TABLE nights CHARACTER SET binary");
        let loaded = timed(|| drop(ask(&places[1], &load)));
        ask(&places[1], "DROP TABLE nights");
        println!(", loaded with all keys in place {loaded:>6.1} s: {:.1}", loaded / unpack);
    }
}
