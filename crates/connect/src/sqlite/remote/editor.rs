//! Changing cells of a SQLite database of another host: in a copy, which takes the place of
//! the file if nobody has written to it meanwhile.

use super::{COMPANIONS, RemoteSqlite, Snapshot};
use crate::remote::single;
use crate::sqlite::{SqliteEditor, SqliteTarget, trouble};
use fernweh_core::record::Table;
use fernweh_ports::{
    Applied, Change, DatabaseEditor, Direction, Record, Refreshing, Result, Scope, Trouble,
};

/// A database file of another host whose cells are changed.
pub struct RemoteSqliteEditor {
    far: RemoteSqlite,
    copy: Snapshot,
    inner: SqliteEditor,
}

impl RemoteSqliteEditor {
    /// Fetches the database.
    pub fn open(far: RemoteSqlite) -> Result<Self> {
        let copy = far.present()?;
        let inner = SqliteEditor::open(&copy.path())?;
        Ok(Self { far, copy, inner })
    }

    /// Puts the changed copy in place of the file.
    fn bring(&mut self) -> Result<()> {
        let busy = |because: &str| {
            Trouble::outside("the changed database cannot be put in its place")
                .at(self.far.shown())
                .because(because)
                .hint("stop the site for a moment (maintenance mode), and type the command again")
        };
        let now = self.far.look()?;
        let in_use = now[1..].iter().flatten().any(|seen| seen.size > 0);
        if in_use || self.copy.state.as_ref() != Some(&now) {
            return Err(busy("the site wrote to it since it was fetched, or has it open"));
        }
        let path = self.copy.path();
        SqliteTarget::settle(&path)
            .map_err(|error| trouble("cannot write the changed database", &path, &error))?;
        let swap = self.far.bring(&path, "edited")?;
        single::switch_file(&self.far.tree, &swap, &COMPANIONS, Direction::Forward)?;
        single::let_go_file(&self.far.tree, &swap, &COMPANIONS)?;
        self.copy.state = Some(self.far.look()?);
        Ok(())
    }
}

impl DatabaseEditor for RemoteSqliteEditor {
    fn tables(&mut self, scope: &dyn Scope) -> Result<Vec<Table>> {
        self.inner.tables(scope)
    }

    fn key_columns(&mut self, table: &Table) -> Result<Vec<String>> {
        self.inner.key_columns(table)
    }

    fn each_batch(
        &mut self,
        table: &Table,
        visit: &mut dyn FnMut(&[Record]) -> Result<Vec<Change>>,
    ) -> Result<Applied> {
        let applied = self.inner.each_batch(table, visit)?;
        if applied.changed > 0 {
            self.bring()?;
        }
        Ok(applied)
    }

    fn apply(&mut self, table: &Table, changes: &[Change]) -> Result<Applied> {
        let applied = self.inner.apply(table, changes)?;
        if applied.changed > 0 {
            self.bring()?;
        }
        Ok(applied)
    }

    fn refresh(&mut self, steps: &[Refreshing]) -> Result<Vec<u64>> {
        let done = self.inner.refresh(steps)?;
        self.bring()?;
        Ok(done)
    }
}
