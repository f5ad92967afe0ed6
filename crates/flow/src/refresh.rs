//! What is done after a move: records and files that go because the site makes them anew,
//! statements, commands and requests. What concerns the database is done at once or not at
//! all.

use crate::patterns::Patterns;
use fernweh_core::finding::Check;
use fernweh_core::record::EntryKind;
use fernweh_ports::{
    Editors, PageRequest, PageSource, Progress, Refreshing, Result, SiteAccess, Trouble, counted,
};
use serde::Serialize;

/// What is to be done.
#[derive(Clone, Debug, Default)]
pub struct Refresh {
    /// Tables whose records go: a pattern of names, and a condition.
    pub empty: Vec<(String, Option<String>)>,
    /// Statements for the database.
    pub sql: Vec<String>,
    /// Files that go.
    pub remove: Vec<String>,
    /// Commands for the host, in the site's folder.
    pub command: Vec<String>,
    /// Requests, and the status that is expected.
    pub request: Vec<(String, u16)>,
}

/// Something that was done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Refreshed {
    /// What.
    pub what: String,
    /// What came of it.
    pub outcome: String,
    /// Whether it did not work.
    pub failed: bool,
}

impl Refresh {
    /// Whether something concerns the database.
    pub fn has_database_steps(&self) -> bool {
        !(self.empty.is_empty() && self.sql.is_empty())
    }

    /// Whether something concerns files, programs or pages.
    pub fn has_other_steps(&self) -> bool {
        !(self.remove.is_empty() && self.command.is_empty() && self.request.is_empty())
    }

    /// Steps that the way to this site cannot take, each as a test that failed.
    pub fn impossible(&self, to: &dyn SiteAccess) -> Vec<Check> {
        let has = to.has();
        let mut checks = Vec::new();
        let mut lacks = |is_lacking: bool, what: &str, hint: &str| {
            if is_lacking {
                let what = format!("[after] has {what} of site {}", to.name());
                checks.push(Check::failed(what, hint));
            }
        };
        lacks(
            self.has_database_steps() && !has.database,
            "steps for a database, and there is none",
            "set database in its section, or leave empty and sql out",
        );
        lacks(
            !self.remove.is_empty() && !has.files,
            "files to remove, and there is no place for files",
            "set files in its section, or leave remove out",
        );
        lacks(
            !self.request.is_empty() && to.url().is_none(),
            "requests, and there is no web address",
            "set url in its section, or leave request out",
        );
        lacks(
            !self.command.is_empty() && to.ask_host("true").is_none(),
            "commands, and no shell answers on the host",
            "reach the files by sftp: with a login that has a shell, or leave command out",
        );
        checks
    }

    /// What will be done, for people.
    pub fn plan(&self) -> Vec<String> {
        let empty = self.empty.iter().map(|(tables, condition)| match condition {
            Some(condition) => format!("empty {tables} where {condition}"),
            None => format!("empty {tables}"),
        });
        let remove = self.remove.iter().map(|pattern| format!("remove {pattern}"));
        let command = self.command.iter().map(|command| format!("run {command}"));
        let request = self.request.iter().map(|(url, status)| format!("ask for {url}: {status}"));
        empty.chain(self.sql.iter().cloned()).chain(remove).chain(command).chain(request).collect()
    }

    /// What concerns the database, all or nothing. An error means that nothing was done.
    pub fn database(
        &self,
        parts: &mut Editors,
        holds: &dyn Fn(&str) -> bool,
    ) -> Result<Vec<Refreshed>> {
        let editor = parts.database.as_mut().ok_or_else(|| {
            Trouble::usage("[after] has steps for a database, and the site has none")
        })?;
        let tables = editor.tables(&|table: &str| holds(table))?;
        let mut steps = Vec::new();
        let mut done = Vec::new();
        for (pattern, condition) in &self.empty {
            let patterns = Patterns::of_tables(std::slice::from_ref(pattern))?;
            for table in tables.iter().filter(|table| patterns.hold(table.name.as_bytes())) {
                let (table, condition) = (table.name.clone(), condition.clone());
                done.push(format!("emptied {table}"));
                steps.push(Refreshing::Empty { table, condition });
            }
        }
        for sql in &self.sql {
            done.push(sql.clone());
            steps.push(Refreshing::Statement(sql.clone()));
        }
        let counts = editor.refresh(&steps)?;
        let told = done.into_iter().zip(counts).map(|(what, count)| Refreshed {
            what,
            outcome: counted(count, "record", "records"),
            failed: false,
        });
        Ok(told.collect())
    }

    /// Files, commands and requests; one that fails does not keep the others from being done.
    pub fn others(
        &self,
        parts: &mut Editors,
        site: &dyn SiteAccess,
        pages: Option<&dyn PageSource>,
        progress: &dyn Progress,
    ) -> Result<Vec<Refreshed>> {
        let mut done = Vec::new();
        for pattern in &self.remove {
            progress.go_on()?;
            done.push(told(format!("removed {pattern}"), removed(parts, pattern)));
        }
        for command in &self.command {
            progress.go_on()?;
            let ended = site.run_command(command).and_then(|output| {
                let last = output.printed.trim().lines().last();
                let last = last.unwrap_or("it printed nothing").to_owned();
                match output.succeeded {
                    true => Ok(last),
                    false => Err(Trouble::outside("it failed").because(last)),
                }
            });
            done.push(told(format!("ran {command}"), ended));
        }
        for (url, expected) in &self.request {
            progress.go_on()?;
            done.push(told(format!("asked for {url}"), answered(pages, url, *expected)));
        }
        Ok(done)
    }
}

fn told(what: String, outcome: Result<String>) -> Refreshed {
    match outcome {
        Ok(outcome) => Refreshed { what, outcome, failed: false },
        Err(trouble) => Refreshed { what, outcome: trouble.to_string(), failed: true },
    }
}

fn removed(parts: &mut Editors, pattern: &str) -> Result<String> {
    let (Some(source), Some(editor)) = (&mut parts.files, &mut parts.editor) else {
        return Err(Trouble::usage("the site has no files"));
    };
    let patterns = Patterns::of_paths(&[pattern.to_owned()])?;
    let mut found = Vec::new();
    source.walk(&|_| true, &mut |entry| {
        if entry.kind != EntryKind::Folder && patterns.hold(&entry.path) {
            found.push(entry.path);
        }
        Ok(())
    })?;
    for path in &found {
        editor.remove(path)?;
    }
    Ok(counted(found.len() as u64, "file", "files"))
}

fn answered(pages: Option<&dyn PageSource>, url: &str, expected: u16) -> Result<String> {
    let pages = pages.ok_or_else(|| Trouble::usage("the site has no url"))?;
    let request = PageRequest { url: url.to_owned(), body: Some(1 << 10), texts_only: false };
    match pages.fetch(&request) {
        Ok(answer) if answer.status == expected => Ok(format!("status {expected}")),
        Ok(answer) => Err(Trouble::outside(format!("status {} and not {expected}", answer.status))),
        Err(problem) => Err(Trouble::outside(problem.to_string())),
    }
}
