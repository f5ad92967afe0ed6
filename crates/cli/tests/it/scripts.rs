//! SQL scripts, folders and packed files of others in place of an archive.

use super::PROGRAM;
use super::zoo::{MARIADB, POSTGRES, SQLITE, assert_same, two_sites};
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::Server;
use fernweh_testkit::{Workspace, database_cells, files_of, mariadb_client, new_database};
use std::fs;
use std::process::Command;

/// A script of everything, taken in place of an archive.
fn script_and_back(old: &Place, new: &Place) -> Workspace {
    let workspace = two_sites(old, new);
    workspace.done("pack old --sql zoo.sql");
    workspace.done("unpack zoo.sql new --as-is");
    // Plain clients make the index of a full-text table anew.
    let cells = |place| {
        let made = ["words_data", "words_idx", "sqlite_stat1", "sqlite_stat4"];
        made.iter().fold(database_cells(place), |cells, table| cells.without(table))
    };
    assert_same(&cells(old), &cells(new), "from a script");
    workspace
}

#[test]
fn a_script_of_everything_in_sqlite_arrives() {
    let folder = tempfile::tempdir().unwrap();
    let [old, new] = ["old.db", "new.db"].map(|name| Place::Sqlite(folder.path().join(name)));
    Database::open(&old).unwrap().run(SQLITE.as_bytes()).unwrap();
    script_and_back(&old, &new);
}

#[test]
fn a_script_of_everything_in_mariadb_arrives() {
    let [old, new] = ["script_old", "script_new"].map(|name| new_database(Server::Mariadb, name));
    mariadb_client(&old, MARIADB.into());
    script_and_back(&old, &new);
}

#[test]
fn a_script_of_everything_in_postgres_arrives() {
    let [old, new] = ["script_old", "script_new"].map(|name| new_database(Server::Postgres, name));
    Database::open(&old).unwrap().run(POSTGRES.as_bytes()).unwrap();
    script_and_back(&old, &new);
}

const OF_MARIADB: &str = include_str!("../scripts/mariadb.sql");
const OF_POSTGRES: &str = include_str!("../scripts/postgres.sql");
const OF_SQLITE: &str = include_str!("../scripts/sqlite.sql");

/// Packs a file with a program of the system.
fn packed(workspace: &Workspace, command: &str) {
    let ran = Command::new("sh").args(["-c", command]).current_dir(workspace.path(".")).status();
    assert!(ran.unwrap().success(), "{command}");
}

#[test]
fn a_script_of_another_hand_arrives_in_mariadb_as_its_own_client_would_load_it() {
    let [old, new] = ["hand_old", "hand_new"].map(|name| new_database(Server::Mariadb, name));
    // The plain client has no right to another's definers, and runs marked comments.
    let own = OF_MARIADB.replace("`nobody`@`old.example`", "CURRENT_USER");
    let own = own.replace("nobody@localhost", "CURRENT_USER");
    // It would keep the key that stands beside the column, too.
    let own = own.replace(" REFERENCES `gp_nights` (`id`) ON DELETE CASCADE,", ",");
    let whole = OF_MARIADB.replace(" REFERENCES `gp_nights` (`id`) ON DELETE CASCADE,", ",");
    mariadb_client(&old, own.into());
    let workspace = two_sites(&old, &new);
    workspace.write("night.sql", &whole);
    packed(&workspace, "gzip -k night.sql; bzip2 -k night.sql; xz -k night.sql; zstd -q night.sql");
    workspace.done("unpack night.sql new --as-is");
    let cells = database_cells(&old);
    assert_same(&cells, &database_cells(&new), "plain");
    for ending in ["gz", "bz2", "xz", "zst"] {
        workspace.done(&format!("unpack night.sql.{ending} new --as-is --overwrite"));
        assert_same(&cells, &database_cells(&new), ending);
        workspace.done("undo new --let-go --yes");
    }
    // A key that stands beside its column is a key.
    workspace.write("beside.sql", OF_MARIADB);
    workspace.done("unpack beside.sql new --as-is --overwrite");
    let found = Database::open(&new).unwrap().ask(
        "SELECT count(*) FROM information_schema.referential_constraints \
         WHERE constraint_schema = database()",
    );
    assert_eq!(found.unwrap()[0][0].as_deref(), Some("2"));
}

#[test]
fn a_script_of_another_hand_arrives_in_postgres_as_its_own_client_would_load_it() {
    let [old, new] = ["hand_old", "hand_new"].map(|name| new_database(Server::Postgres, name));
    let workspace = two_sites(&old, &new);
    workspace.write("night.sql", OF_POSTGRES);
    let file = workspace.path("night.sql").display().to_string();
    // Comments on extensions belong to others; the guard is no matter of older clients.
    let own = OF_POSTGRES.replace("COMMENT ON EXTENSION", "-- ").replace("\\restrict", "-- ");
    workspace.write("own.sql", own.replace("\\unrestrict", "-- "));
    let own = file.replace("night.sql", "own.sql");
    let told = fernweh_testkit::psql(&old, &["-v", "ON_ERROR_STOP=1", "-q", "-f", &own]);
    assert!(!told.contains("ERROR"), "{told}");
    workspace.done("unpack night.sql new --as-is").says("comments on the database");
    assert_same(&database_cells(&old), &database_cells(&new), "plain");
    workspace.write("owned.sql", format!(
        "{OF_POSTGRES}\nALTER TABLE public.seen OWNER TO nobody;\nGRANT SELECT ON TABLE public.seen TO nobody;\n"
    ));
    workspace
        .done("unpack owned.sql new --as-is --overwrite")
        .says("who owns what")
        .says("rights of other users");
    assert_same(&database_cells(&old), &database_cells(&new), "with owners");
}

#[test]
fn a_script_of_another_hand_arrives_in_sqlite() {
    let folder = tempfile::tempdir().unwrap();
    let [old, new] = ["old.db", "new.db"].map(|name| Place::Sqlite(folder.path().join(name)));
    Database::open(&old).unwrap().run(OF_SQLITE.as_bytes()).unwrap();
    let workspace = two_sites(&old, &new);
    workspace.write("night.sql", OF_SQLITE);
    packed(&workspace, "gzip -k night.sql");
    workspace.done("unpack night.sql.gz new --as-is");
    assert_same(&database_cells(&old), &database_cells(&new), "from a script");
    // The file of the database itself is taken, too.
    fs::copy(folder.path().join("old.db"), workspace.path("copied.db")).unwrap();
    workspace.done("unpack copied.db new --as-is --overwrite");
    assert_same(&database_cells(&old), &database_cells(&new), "from a database file");
}

#[test]
fn addresses_in_a_script_are_rewritten_from_where_the_user_says_it_comes() {
    let [old, new] = ["from_old", "from_new"].map(|name| new_database(Server::Mariadb, name));
    let workspace = two_sites(&old, &new);
    let toml = fs::read_to_string(workspace.path("fernweh.toml")).unwrap();
    let toml = toml.replace("[site.new]", "[site.new]\nurl = \"https://observatory.test\"");
    workspace.write("fernweh.toml", toml);
    workspace.write("night.sql", OF_MARIADB);
    workspace
        .run("unpack night.sql new")
        .code(2)
        .says("the web address of the old site")
        .says("--from");
    let line = "unpack night.sql new --from http://glimmerpoint.example";
    workspace
        .done(&format!("{line} --preview"))
        .says("fernweh unpack night.sql new --from http://");
    workspace.done(line);
    let asked = Database::open(&new).unwrap().ask("SELECT note FROM gp_seen WHERE night = 0");
    let note = asked.unwrap()[0][0].clone().unwrap();
    assert_eq!(note, "a:1:{s:3:\"url\";s:28:\"https://observatory.test/m31\";}");
}

#[test]
fn texts_end_where_the_modes_of_a_script_say() {
    let mariadb = ["modes_a", "modes_b"].map(|name| new_database(Server::Mariadb, name));
    let postgres = ["modes_c", "modes_d"].map(|name| new_database(Server::Postgres, name));
    let of_mariadb = "SET @old = @@sql_mode, sql_mode = 'NO_BACKSLASH_ESCAPES,ANSI_QUOTES';\n\
         CREATE TABLE \"paths\" (id int PRIMARY KEY, place varchar(80) DEFAULT 'C:\\');\n\
         INSERT INTO \"paths\" VALUES (1, 'C:\\'), (2, 'it''s \\');\n\
         SET sql_mode = @old;\nINSERT INTO paths VALUES (3, 'it\\'s \\\\; --');\n";
    let of_postgres = "SET standard_conforming_strings = off;\n\
         CREATE TABLE paths (id int PRIMARY KEY, place text DEFAULT 'C:\\\\');\n\
         INSERT INTO paths VALUES (1, 'C:\\\\'), (2, 'it\\'s \\\\');\n\
         SET standard_conforming_strings = on;\nINSERT INTO paths VALUES (3, 'it''s \\; --');\n";
    for (places, script) in [(&mariadb, of_mariadb), (&postgres, of_postgres)] {
        let workspace = two_sites(&places[0], &places[1]);
        workspace.write("modes.sql", script);
        workspace.done("unpack modes.sql new --as-is");
        let mut new = Database::open(&places[1]).unwrap();
        new.run(b"INSERT INTO paths (id) VALUES (4)").unwrap();
        let found: Vec<String> = new
            .ask("SELECT place FROM paths ORDER BY id")
            .unwrap()
            .into_iter()
            .map(|row| row[0].clone().unwrap())
            .collect();
        assert_eq!(found, ["C:\\", "it's \\", "it's \\; --", "C:\\"]);
    }
}

#[test]
fn what_a_script_must_not_do_is_refused_by_name_and_line_and_nothing_changes() {
    let mariadb = ["refuse_a", "refuse_b"].map(|name| new_database(Server::Mariadb, name));
    let postgres = ["refuse_a", "refuse_b"].map(|name| new_database(Server::Postgres, name));
    let table = "CREATE TABLE t (id int, stamp timestamp);\n";
    for (places, statement, code, words) in [
        (&mariadb, "GRANT ALL ON *.* TO x;", 2, "GRANT ALL"),
        (&mariadb, "CREATE USER x;", 2, "CREATE USER"),
        (&mariadb, "LOAD DATA INFILE '/etc/passwd' INTO TABLE t;", 2, "LOAD DATA"),
        (&mariadb, "USE a; USE b;", 2, "more than one database"),
        (&mariadb, "INSERT INTO other VALUES (1);", 2, "does not create it"),
        (&mariadb, "INSERT INTO t VALUES (1);", 2, "1 values, the table 2 columns"),
        (&mariadb, "INSERT INTO t VALUES (1, now());", 2, "not executed"),
        (&mariadb, "SET time_zone = '+02:00'; INSERT INTO t VALUES (1, NULL);", 2, "+02:00"),
        (&mariadb, "CREATE TABLE u (a int) DATA DIRECTORY = '/tmp';", 2, "cannot be used: `DATA`"),
        (&mariadb, "INSERT INTO t VALUES (1, 'breaks o", 4, "ends in the middle"),
        (&postgres, "CREATE ROLE x;", 2, "CREATE ROLE"),
        (&postgres, "COPY t FROM '/etc/passwd';", 2, "cannot be used"),
        (&postgres, "DO $$BEGIN END$$;", 2, "DO $$"),
        (&postgres, "\\connect other\n", 2, "connect other"),
        (&postgres, "COPY t (id) FROM stdin;\n1\n2", 4, "ends in the middle"),
        (&postgres, "COPY t (id) FROM stdin;\n1\t2\n\\.\n", 4, "does not fit the columns"),
    ] {
        let workspace = two_sites(&places[0], &places[1]);
        workspace.write("bad.sql", format!("{table}{statement}"));
        let ran = workspace.run("unpack bad.sql new --as-is");
        ran.code(code).says(words).says("line 2").says("nothing was changed");
        let left = Database::open(&places[1]).unwrap().ask(
            "SELECT count(*) FROM information_schema.tables WHERE table_schema NOT IN \
             ('information_schema', 'pg_catalog', 'mysql', 'performance_schema', 'sys')",
        );
        assert_eq!(left.unwrap()[0][0].as_deref(), Some("0"), "{statement}");
        assert!(fs::read_dir(workspace.path(".fernweh/incoming")).unwrap().next().is_none());
    }
}

#[test]
fn a_folder_and_packed_files_are_taken_in_place_of_an_archive() {
    let workspace = Workspace::new(PROGRAM);
    for path in ["from/index.php", "from/.hidden", "from/deep/er/ü.txt"] {
        workspace.write(path, format!("<a href=\"http://glimmerpoint.example/{path}\">"));
    }
    packed(
        &workspace,
        "ln -s ../index.php from/deep/link; ln -s /etc/passwd from/out; mkdir from/empty; \
         chmod 600 from/.hidden; touch -d 2026-01-02T03:04:06Z from/index.php; \
         tar -cf f.tar -C from . ; tar -czf f.tar.gz -C from index.php .hidden deep empty; \
         python3 -c \"import shutil; shutil.make_archive('f', 'zip', 'from')\"",
    );
    workspace
        .write("fernweh.toml", "[site.new]\nfiles = \"new\"\nurl = \"https://observatory.test\"\n");
    for source in ["from", "f.tar", "f.tar.gz", "f.zip"] {
        workspace
            .done(&format!("unpack {source} new --from http://glimmerpoint.example --overwrite"));
        let page = fs::read_to_string(workspace.path("new/deep/er/ü.txt")).unwrap();
        assert_eq!(page, "<a href=\"https://observatory.test/from/deep/er/ü.txt\">", "{source}");
        assert!(workspace.path("new/empty").is_dir(), "{source}");
        assert!(!workspace.path("new/out").is_symlink(), "{source}");
        let found = &files_of(&workspace.path("new"))["deep/link"];
        // What packs zip files here follows links.
        assert_eq!(found.contains("link to ../index.php"), source != "f.zip", "{source}: {found}");
        workspace.done("undo new --let-go --yes");
    }
    workspace.write("evil/x", "x");
    packed(&workspace, "tar -cPf evil.tar --transform 's,^evil,../evil,' evil/x");
    workspace.run("unpack evil.tar new --as-is --overwrite").code(4).says("leaves its folder");
    // A zip file that holds one script is a script.
    packed(
        &workspace,
        "printf 'CREATE TABLE t (a);' > t.sql; \
        python3 -c \"import zipfile as z; z.ZipFile('t.zip', 'w', z.ZIP_DEFLATED).write('t.sql')\"",
    );
    workspace.write("fernweh.toml", "[site.new]\ndatabase = \"sqlite:new.db\"\n");
    workspace.done("unpack t.zip new --as-is").says("1 table");
}
