//! MySQL, as a mask before a real server answers for it.

use super::fixture;
use fernweh_testkit::{Engine, Version, database_cells, files_of};

#[test]
fn the_whole_way_on_every_version() {
    for version in Version::ALL {
        let fixture = fixture(Engine::Mysql(version));
        let other = super::fixture(Engine::Mariadb);
        let survey = fixture.workspace.done("survey old --json").json();
        assert_eq!(
            survey["database"]["version"],
            format!("MySQL {}", version.text().trim_end_matches("-log"))
        );
        fixture.workspace.done("survey old --for new");
        let archive = fixture.pack();
        fixture.workspace.done("show site.fernweh.tar --verify");
        fixture.workspace.done(&format!("unpack {archive} new"));
        other.workspace.done(&format!("unpack {} new", other.pack()));
        // What MySQL has is what MariaDB has, cell by cell.
        assert_eq!(records(&fixture), records(&other), "{version:?}");
        let before = (database_cells(&fixture.new), files_of(&fixture.root("new")));
        fixture.workspace.done("rewrite new --from https://www.glimmer-point.example --to https://third.example --apply");
        fixture.workspace.done("trace new https://third.example/");
        fixture.workspace.done("undo new");
        assert_eq!(
            before,
            (database_cells(&fixture.new), files_of(&fixture.root("new"))),
            "{version:?}"
        );
        fixture.workspace.done(&format!("unpack {archive} new --overwrite"));
        fixture.workspace.done("undo new");
        assert_eq!(
            before,
            (database_cells(&fixture.new), files_of(&fixture.root("new"))),
            "{version:?}"
        );
    }
}

/// Every record of the new site, table by table.
fn records(fixture: &fernweh_testkit::Fixture) -> Vec<(String, Vec<Vec<Option<String>>>)> {
    let mut database = fixture.database("new");
    let tables = database.ask("SHOW TABLES").unwrap();
    let tables = tables.into_iter().filter_map(|row| row.into_iter().next()?);
    tables
        .filter(|table| !table.starts_with("_fw"))
        .map(|table| {
            let rows = database.ask(&format!("SELECT * FROM `{table}` ORDER BY 1, 2")).unwrap();
            (table, rows)
        })
        .collect()
}
