//! Keys of tables that do not fit the server's memory are made when the rows are in.

use super::PROGRAM;
use super::zoo::{assert_same, two_sites};
use fernweh_demo::database::Place;
use fernweh_demo::server::{PrivateServer, Server};
use fernweh_testkit::{Habits, Version, Workspace, database_cells, mariadb_client};

/// 16,000 records of 400 bytes, in which addresses are unique too.
const TABLES: &str = "\
    CREATE TABLE nights (id int NOT NULL AUTO_INCREMENT PRIMARY KEY, slug varchar(80) NOT NULL, \
    seeing varchar(300), link varchar(120), `key` int AS (char_length(slug) % 7) STORED, \
    UNIQUE KEY slug (slug), UNIQUE KEY `li``nk` (link(100)) COMMENT 'one, (two)', \
    KEY seeing (seeing(40), slug DESC), KEY `key` (`key`), FULLTEXT KEY words (seeing)) \
    ENGINE=InnoDB DEFAULT CHARSET=utf8mb4; \
    CREATE TABLE small (id int PRIMARY KEY, night int, UNIQUE KEY night (night), \
    CONSTRAINT of_night FOREIGN KEY (night) REFERENCES nights (id)); \
    INSERT INTO nights (slug, seeing, link) SELECT concat('night-', sha1(seq)), \
    repeat(concat(sha1(seq + 7), ' '), 7), if(seq % 3, concat('http://old.example/?p=', seq), NULL) \
    FROM seq_1_to_16000; \
    INSERT INTO small SELECT seq, seq FROM seq_1_to_50;";

/// A server with little memory, and two sites on it.
fn little_memory(folder: &Workspace) -> (PrivateServer, [Place; 2]) {
    let server = PrivateServer::start(Server::Mariadb, &folder.path("server")).expect("a server");
    let mut admin = server.administrator().expect("its administrator");
    admin.run(b"SET GLOBAL innodb_buffer_pool_size = 8388608").expect("little memory");
    let place = |name: &str| server.make_database(name, name, "a-secret").expect("a database");
    let places = ["old", "new"].map(place);
    mariadb_client(&places[0], TABLES.into());
    (server, places)
}

/// The keys of the tables that are built beside the site's.
fn built_keys(place: &Place) -> String {
    mariadb_client(
        place,
        b"SELECT DISTINCT index_name FROM information_schema.statistics WHERE table_schema = \
          database() AND table_name LIKE '\\_fw%' ORDER BY 1"
            .to_vec(),
    )
}

#[test]
fn keys_of_a_large_table_wait_and_arrive_whatever_breaks_off() {
    let folder = Workspace::new(PROGRAM);
    let (_server, [old, new]) = little_memory(&folder);
    let workspace = two_sites(&old, &new);
    workspace.done("pack old -o a.tar");
    workspace.run_killed_at("unpack a.tar new --as-is", "filled");
    assert_eq!(built_keys(&new), "night\nPRIMARY\nwords\n");
    // Nobody waits for what a run that is gone had begun; its lock is in the way.
    let building = mariadb_client(&new, b"SHOW TABLES LIKE '\\_fw%'".to_vec());
    let building = building.lines().next().expect("a table");
    let held = format!(
        "SELECT get_lock(concat('fernweh ', sha1(database())), 0); \
         SELECT sleep(600) FROM {building} LIMIT 1"
    );
    let place = new.clone();
    let abandoned = std::thread::spawn(move || {
        // It is ended from outside.
        std::panic::catch_unwind(|| mariadb_client(&place, held.into_bytes())).is_err()
    });
    let holds = b"SELECT is_used_lock(concat('fernweh ', sha1(database()))) IS NOT NULL".to_vec();
    while mariadb_client(&new, holds.clone()).trim() != "1" {
        std::thread::yield_now();
    }
    workspace.done("unpack a.tar new --as-is");
    assert!(abandoned.join().expect("it has ended"), "the statement went on");
    assert_same(&database_cells(&old), &database_cells(&new), "unpacked");
    workspace.done("unpack a.tar new --as-is --overwrite");
    assert_same(&database_cells(&old), &database_cells(&new), "unpacked over it");
    workspace.done("undo new");
    assert_same(&database_cells(&old), &database_cells(&new), "taken back");
}

#[test]
fn a_unique_key_that_cannot_be_made_names_the_records() {
    let folder = Workspace::new(PROGRAM);
    let (_server, [old, new]) = little_memory(&folder);
    let workspace = two_sites(&old, &new);
    // Its address is the new one already: rewriting makes it that of record 5000.
    let twice = "UPDATE nights SET link = 'https://new.example/?p=5000' WHERE id = 9000";
    mariadb_client(&old, twice.into());
    workspace.done("pack old -o a.tar");
    let rule = "[[rule]]\nfrom = \"http://old.example\"\nto = \"https://new.example\"\n";
    workspace.write("fernweh.toml", workspace.read("fernweh.toml") + rule);
    let line = "unpack a.tar new";
    let refused = workspace.run(line).code(3);
    refused.says("id 9000").says("li`nk").says("--on-bad-record skip");
    assert_eq!(mariadb_client(&new, b"SHOW TABLES".to_vec()), "", "nothing is left");
    let skipped = workspace.run(&format!("{line} --on-bad-record skip --json")).code(1);
    let report = skipped.json();
    assert_eq!(report["rejected"], 1, "{report}");
    let file = report["rejected_file"].as_str().expect("a file");
    let kept = std::fs::read_to_string(workspace.folder().join(file)).expect("the file");
    assert!(kept.contains("(9000,") && !kept.contains("(5000,"), "{kept}");
    let question = b"SELECT count(*), min(id), max(id), sum(id = 9000), sum(link = \
                     'https://new.example/?p=5000') FROM nights"
        .to_vec();
    assert_eq!(mariadb_client(&new, question), "15999\t1\t16000\t0\t1\n");
    let keys = mariadb_client(&new, b"SHOW CREATE TABLE nights".to_vec());
    assert!(keys.contains("UNIQUE KEY `li``nk` (`link`(100))"), "{keys}");
}

#[test]
fn mysql_makes_such_keys_too() {
    for version in Version::ALL {
        let folder = Workspace::new(PROGRAM);
        let (server, [old, new]) = little_memory(&folder);
        let workspace = two_sites(&old, &new);
        let mask = fernweh_testkit::MysqlMask::before(server.port, version, Habits::default());
        let text = workspace.read("fernweh.toml").replace("mariadb://", "mysql://");
        workspace.write(
            "fernweh.toml",
            text.replace(&format!(":{}/", server.port), &format!(":{}/", mask.port)),
        );
        workspace.done("pack old -o a.tar");
        workspace.run_killed_at("unpack a.tar new --as-is", "filled");
        assert_eq!(built_keys(&new), "night\nPRIMARY\nwords\n", "{version:?}");
        workspace.done("unpack a.tar new --as-is");
        let question =
            b"SELECT count(*), sum(crc32(concat_ws('|', id, slug, seeing, link, `key`))) \
                         FROM nights"
                .to_vec();
        assert_eq!(
            mariadb_client(&old, question.clone()),
            mariadb_client(&new, question),
            "{version:?}"
        );
    }
}
