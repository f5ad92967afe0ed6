//! Checkers: what stands in databases and folders, read by other means than Fernweh's.

use fernweh_demo::database::{Database, Place};
use std::collections::BTreeMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;
use walkdir::WalkDir;

/// Lists of texts by name. Where two differ, their names and digests are shown, not all
/// of their content.
#[derive(Clone, Default, PartialEq)]
pub struct Cells(BTreeMap<String, Vec<String>>);

impl std::ops::Deref for Cells {
    type Target = BTreeMap<String, Vec<String>>;

    fn deref(&self) -> &Self::Target {
        &self.0
    }
}

impl Cells {
    /// Without one table.
    pub fn without(mut self, table: &str) -> Self {
        self.0.remove(table);
        self
    }
}

impl std::fmt::Debug for Cells {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        for (name, lines) in &self.0 {
            writeln!(f, "{name}: {} lines, {:016x}", lines.len(), digest(lines.join("\n")))?;
        }
        Ok(())
    }
}

fn digest(content: impl Hash) -> u64 {
    let mut hasher = DefaultHasher::new();
    content.hash(&mut hasher);
    hasher.finish()
}

/// Everything a database holds. Values are told apart by their exact bytes and types.
pub fn database_cells(place: &Place) -> Cells {
    match place {
        Place::Sqlite(path) if !path.exists() => Cells::default(),
        Place::Sqlite(_) => sqlite_cells(place),
        Place::Mariadb { .. } => mariadb_cells(place),
        Place::Postgres { .. } => postgres_cells(place),
    }
}

fn text(row: Vec<Option<String>>) -> String {
    row.into_iter().map(|cell| cell.unwrap_or_else(|| "NULL".into())).collect::<Vec<_>>().join("|")
}

fn ask(database: &mut Database, sql: &str) -> Vec<String> {
    database
        .ask(sql)
        .unwrap_or_else(|error| panic!("{sql}: {error}"))
        .into_iter()
        .map(text)
        .collect()
}

fn sqlite_cells(place: &Place) -> Cells {
    let mut database = Database::open(place).expect("the database opens");
    let mut cells = Cells::default();
    let structure = "SELECT type, name, tbl_name, sql FROM sqlite_schema ORDER BY type, name";
    cells.0.insert("structure".into(), ask(&mut database, structure));
    for pragma in ["user_version", "application_id", "auto_vacuum", "encoding", "page_size"] {
        cells.0.insert(pragma.into(), ask(&mut database, &format!("PRAGMA {pragma}")));
    }
    let tables = ask(&mut database, "SELECT name FROM sqlite_schema WHERE type = 'table'");
    for table in tables {
        let quoted = table.replace('\'', "''");
        let columns = ask(
            &mut database,
            &format!("SELECT name FROM pragma_table_xinfo('{quoted}') WHERE hidden <> 1"),
        );
        let exact: Vec<String> = columns
            .iter()
            .map(|name| name.replace('"', "\"\""))
            .map(|name| {
                format!("typeof(\"{name}\"), quote(\"{name}\"), hex(CAST(\"{name}\" AS BLOB))")
            })
            .collect();
        let quoted = table.replace('"', "\"\"");
        // What has no rowid says so; then the values alone are compared.
        let with_rowid = format!("SELECT rowid, {} FROM \"{quoted}\"", exact.join(", "));
        let without = format!("SELECT {} FROM \"{quoted}\"", exact.join(", "));
        let rows = match table.starts_with("sqlite_") {
            true => database.ask(&without),
            false => database.ask(&with_rowid).or_else(|_| database.ask(&without)),
        };
        let mut rows: Vec<String> = rows.expect("rows").into_iter().map(text).collect();
        rows.sort();
        cells.0.insert(table.clone(), rows);
    }
    cells
}

fn mariadb_cells(place: &Place) -> Cells {
    let mut database = Database::open(place).expect("the database opens");
    let mut cells = Cells::default();
    let tables = ask(
        &mut database,
        "SELECT table_name FROM information_schema.tables WHERE table_schema = database() \
         AND left(table_name, 3) <> '_fw' AND coalesce(engine, '') <> 'MRG_MyISAM' ORDER BY table_name",
    );
    for table in &tables {
        let quoted = table.replace('\\', "\\\\").replace('\'', "\\'");
        let table_name = table.replace('`', "``");
        let create = database.ask(&format!("SHOW CREATE TABLE `{table_name}`")).expect("shown");
        // Not the characters that the client used: texts are in those of the collation.
        let told = |mut row: Vec<Option<String>>| {
            row.truncate(2);
            text(row)
        };
        let create = create.into_iter().map(told);
        // The definer of a view is whoever made it; names can carry the name of the database.
        let own = format!("`{}`.", ask(&mut database, "SELECT database()")[0]);
        let create = create.map(|sql| without_definer(&sql).replace(&own, "")).collect();
        cells.0.insert(format!("structure of {table}"), create);
        let mut columns = ask(
            &mut database,
            &format!(
                "SELECT replace(column_name, '`', '``') FROM information_schema.columns \
                 WHERE table_schema = database() AND table_name = '{quoted}' ORDER BY ordinal_position"
            ),
        );
        let kind = format!(
            "SELECT table_type FROM information_schema.tables WHERE table_schema = database() \
             AND table_name = '{quoted}'"
        );
        let versioned = ask(&mut database, &kind) == ["SYSTEM VERSIONED"];
        if versioned && !columns.iter().any(|name| name == "e") {
            columns.extend(["row_start".into(), "row_end".into()]);
        }
        let history = if versioned { " FOR SYSTEM_TIME ALL" } else { "" };
        let of_type = |database: &mut Database, kind: &str| {
            let sql = format!(
                "SELECT replace(column_name, '`', '``') FROM information_schema.columns \
                 WHERE table_schema = database() AND table_name = '{quoted}' AND data_type = '{kind}'"
            );
            ask(database, &sql)
        };
        let enums = of_type(&mut database, "enum");
        let floats = of_type(&mut database, "float");
        // Numbers of enum values are compared beside their texts, floats with all digits.
        let exact: Vec<String> = columns
            .iter()
            .map(|name| match name {
                name if enums.contains(name) => format!("concat(hex(`{name}`), ' ', `{name}` + 0)"),
                name if floats.contains(name) => format!("CAST(`{name}` AS DOUBLE)"),
                name => format!("hex(CAST(`{name}` AS BINARY))"),
            })
            .collect();
        let table_name = table.replace('`', "``");
        let sql = format!("SELECT {} FROM `{table_name}`{history}", exact.join(", "));
        let mut rows = ask(&mut database, &sql);
        rows.sort();
        cells.0.insert(table.clone(), rows);
    }
    for (what, sql) in [
        (
            "routines",
            "SELECT routine_name, routine_type, dtd_identifier, routine_definition, sql_data_access, \
             security_type, sql_mode, routine_comment, is_deterministic, collation_connection \
             FROM information_schema.routines WHERE routine_schema = database() ORDER BY 1, 2",
        ),
        (
            "parameters",
            "SELECT specific_name, ordinal_position, parameter_mode, parameter_name, dtd_identifier, \
             collation_name FROM information_schema.parameters \
             WHERE specific_schema = database() ORDER BY 1, 2",
        ),
        (
            "events",
            "SELECT event_name, time_zone, event_definition, event_type, execute_at, interval_value, \
             interval_field, sql_mode, starts, ends, status, on_completion, event_comment, \
             collation_connection FROM information_schema.events WHERE event_schema = database() ORDER BY 1",
        ),
    ] {
        cells.0.insert(what.into(), ask(&mut database, sql));
    }
    let triggers = ask(
        &mut database,
        "SELECT trigger_name, event_object_table, action_timing, event_manipulation, action_statement, \
         action_order, sql_mode, collation_connection FROM information_schema.triggers WHERE trigger_schema = database() ORDER BY 1",
    );
    cells.0.insert("triggers".into(), triggers);
    let views = ask(
        &mut database,
        "SELECT table_name, collation_connection FROM information_schema.views \
         WHERE table_schema = database() ORDER BY 1",
    );
    cells.0.insert("views".into(), views);
    cells
}

/// What the plain client of the server tells about every object, and all rows as text.
fn postgres_cells(place: &Place) -> Cells {
    let mut cells = Cells::default();
    let mut database = Database::open(place).expect("the database opens");
    let schemas = ask(
        &mut database,
        "SELECT nspname FROM pg_namespace WHERE nspname !~ '^(pg_|_fw|information_schema)' ORDER BY 1",
    );
    for schema in &schemas {
        for what in ["\\d+", "\\dT+", "\\df+", "\\da+", "\\dX", "\\dO+", "\\dd", "\\dm+", "\\dv+"] {
            let told = psql(place, &["-c", &format!("{what} \"{schema}\".*")]);
            let told = told.lines().map(steady).collect();
            cells.0.insert(format!("{what} of {schema}"), told);
        }
    }
    cells.0.insert("extensions".into(), vec![psql(place, &["-c", "\\dx"])]);
    let tables = ask(
        &mut database,
        "SELECT c.oid::regclass, format('SELECT %s FROM %s t ORDER BY 1', CASE relkind WHEN 'S' \
           THEN 'last_value, is_called' ELSE 't::text' END, \
           CASE relkind WHEN 'r' THEN 'ONLY ' ELSE '' END || c.oid::regclass) \
         FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
         WHERE relkind IN ('r', 'm', 'S') AND relispopulated AND nspname !~ '^(pg_|_fw|information_schema)' ORDER BY 1",
    );
    for line in tables {
        let (table, rows) = line.split_once('|').expect("two columns");
        cells.0.insert(table.to_owned(), ask(&mut database, rows));
    }
    cells
}

/// Sizes on disk differ from copy to copy, and so do the owners.
fn steady(line: &str) -> String {
    let cells = line.split('|').map(str::trim).filter(|cell| {
        let size = ["bytes", "kB", "MB"].iter().any(|unit| cell.ends_with(unit));
        !size && !cell.starts_with("u_") && *cell != "root"
    });
    cells.collect::<Vec<_>>().join("|")
}

/// Lets the plain client of MariaDB run a script; gives what it prints.
pub fn mariadb_client(place: &Place, script: Vec<u8>) -> String {
    let Place::Mariadb { port, user, password, name } = place else { return String::new() };
    let mut client = Command::new("mariadb")
        .args(["--no-defaults", "--protocol=tcp", "-h127.0.0.1", "-N", "-B", "-u", user, "-P"])
        .args([&port.to_string(), name])
        .env("MYSQL_PWD", password)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("mariadb starts; scripts/test installs it");
    let mut pipe = client.stdin.take().expect("a pipe");
    let writer = std::thread::spawn(move || pipe.write_all(&script));
    let output = client.wait_with_output().expect("the client ends");
    let _ = writer.join();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Runs the plain client of PostgreSQL; gives what it prints.
pub fn psql(place: &Place, arguments: &[&str]) -> String {
    let Place::Postgres { port, user, password, name } = place else { return String::new() };
    let output = Command::new("psql")
        .args(["-X", "-A", "-t", "-h", "127.0.0.1", "-U", user, "-d", name, "-p"])
        .arg(port.to_string())
        .args(arguments)
        .env("PGPASSWORD", password)
        .output()
        .expect("psql starts; scripts/test installs it");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn without_definer(sql: &str) -> String {
    match (sql.find(" DEFINER="), sql.find(" SQL SECURITY")) {
        (Some(from), Some(to)) if from < to => format!("{}{}", &sql[..from], &sql[to..]),
        _ => sql.to_owned(),
    }
}

/// Every entry of a folder with its kind, mode, content and time, as far as that is not the present; the database file and
/// what Fernweh keeps beside are not listed.
pub fn files_of(root: &Path) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    for entry in WalkDir::new(root).min_depth(1).into_iter() {
        let entry = entry.expect("an entry");
        let path = entry.path().strip_prefix(root).expect("inside").as_os_str().as_bytes().to_vec();
        let path = String::from_utf8_lossy(&path).into_owned();
        if path.starts_with("data/glimmer.db") {
            continue;
        }
        let about = entry.path().symlink_metadata().expect("metadata");
        let content = if about.is_symlink() {
            format!("link to {}", std::fs::read_link(entry.path()).expect("a link").display())
        } else if about.is_file() {
            let bytes = std::fs::read(entry.path()).expect("a file");
            format!("{} bytes, {:016x}", bytes.len(), digest(&bytes))
        } else {
            "folder".into()
        };
        // The folder of the database changes when the database is written; what is rewritten gets
        // the present time. The sample's own files are older than a day.
        let age = about.modified().ok().and_then(|time| time.elapsed().ok()).unwrap_or_default();
        let time = match path == "data" || age < Duration::from_secs(24 * 60 * 60) {
            true => "now".to_owned(),
            false => format!("{}.{:09}", about.mtime(), about.mtime_nsec()),
        };
        found.insert(path, format!("{:o} {time} {content}", about.mode()));
    }
    found
}

/// Lets PHP compare pairs of serialized values: the first one with `from` replaced by `to`
/// in every string, also in serialized strings within it, must be the second one. Gives
/// what differs.
pub fn php_finds_different(pairs: &[(String, String)], from: &str, to: &str) -> Vec<String> {
    let script = r#"
        function norm($value, $from, $to, $depth = 0) {
            if ($depth > 30) { return 'deep'; }
            if (is_object($value)) { $value = ['object' => (array) $value]; }
            if (is_array($value)) {
                $out = [];
                foreach ($value as $key => $item) {
                    $out[is_string($key) ? str_replace($from, $to, $key) : $key] = norm($item, $from, $to, $depth + 1);
                }
                return $out;
            }
            if (!is_string($value)) { return $value; }
            $inner = @unserialize($value);
            if ($inner !== false) { return ['inside' => norm($inner, $from, $to, $depth + 1)]; }
            return str_replace($from, $to, $value);
        }
        while (($line = fgets(STDIN)) !== false) {
            [$old, $new] = array_map('hex2bin', explode(' ', trim($line)));
            $read = @unserialize($new);
            if ($read === false) { echo "PHP cannot read: $new\n"; continue; }
            if (norm(unserialize($old), $argv[1], $argv[2]) != norm($read, '', '')) {
                echo "not as intended: $new\n";
            }
        }"#;
    let hex = |text: &str| text.bytes().map(|byte| format!("{byte:02x}")).collect::<String>();
    let lines: String =
        pairs.iter().map(|(old, new)| format!("{} {}\n", hex(old), hex(new))).collect();
    php(script, &[from, to], lines).lines().map(str::to_owned).collect()
}

/// Runs a PHP script with arguments and input; gives what it prints.
pub fn php(script: &str, arguments: &[&str], input: String) -> String {
    let mut php = Command::new("php")
        .args(["-d", "memory_limit=1G", "-r", script, "--"])
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("php starts; scripts/test installs it");
    let mut pipe = php.stdin.take().expect("a pipe");
    let writer = std::thread::spawn(move || pipe.write_all(input.as_bytes()));
    let output = php.wait_with_output().expect("php ends");
    writer.join().expect("the writer").expect("php reads");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Reads every row of every table with the bare driver, keeps nothing, counts.
pub fn read_and_throw_away(place: &Place) -> u64 {
    let mut database = Database::open(place).expect("the database opens");
    let tables = match place {
        Place::Sqlite(_) => {
            ask(&mut database, "SELECT name FROM sqlite_schema WHERE type = 'table'")
        }
        Place::Mariadb { .. } => {
            ask(&mut database, "SHOW FULL TABLES WHERE table_type = 'BASE TABLE'")
        }
        Place::Postgres { .. } => ask(
            &mut database,
            "SELECT relname FROM pg_class WHERE relkind = 'r' AND \
                 relnamespace = 'public'::regnamespace",
        ),
    };
    let names = tables.iter().map(|name| name.trim_end_matches("|BASE TABLE"));
    names.map(|name| database.count_by_reading(name).expect("rows")).sum()
}
