//! Where texts live: in which record and column, or in which file and line.

use crate::overlap;
use fernweh_core::address::WebAddress;
use fernweh_core::entries::EntryList;
use fernweh_core::limits;
use fernweh_core::record::{EntryKind, Table, Value};
use fernweh_core::rewrite::{ColumnText, Rule};
use fernweh_core::sql::{ObjectKind, Statement};
use fernweh_core::trace::{Form, Hit, Needle, Needles};
use fernweh_ports::{
    DatabaseSource, FileSource, Progress, Result, Scope, Trouble, Unit, counted, in_turn,
};
use serde::Serialize;
use std::collections::BTreeSet;

/// Bytes of an excerpt before and behind what was found.
const CONTEXT: usize = 40;

/// Addresses without repetitions and without those that name nothing to search for.
pub fn searchable(addresses: impl Iterator<Item = String>) -> Vec<String> {
    let unique: BTreeSet<String> = addresses.collect();
    unique.into_iter().filter(|text| Needles::new(std::slice::from_ref(text)).is_ok()).collect()
}

/// What to look for, and where.
pub struct TraceOptions<'a> {
    /// The texts.
    pub needles: &'a Needles,
    /// Which tables are the site's.
    pub tables: &'a dyn Scope,
    /// Which paths are not looked at.
    pub skip: &'a dyn Fn(&[u8]) -> bool,
}

/// What was found.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct TraceReport {
    /// The texts, in the order in which they were asked for.
    pub texts: Vec<Traced>,
    /// Records looked into.
    pub records: u64,
    /// Files looked into.
    pub files: u64,
    /// Rules that would change what was found, if they were asked for.
    pub proposed: Vec<Proposed>,
}

/// One text and where it lives.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct Traced {
    /// The text.
    pub text: String,
    /// In how many places it stands.
    pub found: u64,
    /// The first of them.
    pub places: Vec<TracedPlace>,
}

/// One place.
#[derive(Clone, Debug, Serialize, schemars::JsonSchema)]
pub struct TracedPlace {
    /// The table or the file, or the object whose definition it is.
    #[serde(flatten)]
    pub holder: Holder,
    /// Bytes before it, in the value or the file.
    pub position: u64,
    /// In which form it was found.
    pub form: Form,
    /// How it is spelled: plain, json, percent or entity.
    pub spelled: &'static str,
    /// The text before it.
    pub lead: String,
    /// It, as it stands there.
    pub excerpt: String,
    /// The text behind it.
    pub trail: String,
}

/// What holds a text.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "in")]
pub enum Holder {
    /// A value of a record.
    Cell {
        /// The table.
        table: String,
        /// The record, by its key.
        record: String,
        /// The column.
        column: String,
    },
    /// The definition of an object of the database.
    Definition {
        /// What it is, and its name.
        object: String,
    },
    /// A file.
    File {
        /// Its path below the site's folder.
        file: String,
        /// The line, counted from 1.
        line: u64,
    },
}

/// A rule that would change some of what was found.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, schemars::JsonSchema)]
pub struct Proposed {
    /// The address as it is.
    pub from: String,
    /// What it should become.
    pub to: String,
    /// What has to be known before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// Looks through the database and the files.
pub fn trace(
    options: &TraceOptions<'_>,
    database: Option<&mut dyn DatabaseSource>,
    files: Option<&mut dyn FileSource>,
    progress: &dyn Progress,
) -> Result<TraceReport> {
    let texts = options.needles.texts().iter();
    let texts = texts.map(|text| Traced { text: text.clone(), ..Traced::default() });
    let mut report = TraceReport { texts: texts.collect(), ..TraceReport::default() };
    if let Some(source) = database {
        progress.stage("database", None, Unit::Records);
        in_database(options, source, &mut report, progress)?;
        progress.done(&counted(report.records, "record", "records"));
    }
    if let Some(source) = files {
        progress.stage("files", None, Unit::Bytes);
        in_files(options, source, &mut report, progress)?;
        progress.done(&counted(report.files, "file", "files"));
    }
    Ok(report)
}

fn in_database(
    options: &TraceOptions<'_>,
    source: &mut dyn DatabaseSource,
    report: &mut TraceReport,
    progress: &dyn Progress,
) -> Result<()> {
    source.begin()?;
    let structure = source.structure(options.tables)?;
    for statement in structure.before.iter().chain(&structure.afterwards) {
        let (Some(object), Some(sql)) = (object_of(statement), statement.sql()) else { continue };
        if let Some((view, hits)) = options.needles.cell(ColumnText::Utf8, sql.as_bytes()) {
            let holder = Holder::Definition { object };
            hits.iter().for_each(|hit| report.add(&view, hit, 0, |_| holder.clone()));
        }
    }
    for table in structure.tables.iter().filter(|t| !fernweh_core::record::is_of_engine(&t.name)) {
        source.rows(table, None, &mut |row| {
            report.records += 1;
            if report.records.is_multiple_of(1024) {
                progress.advance(1024);
                progress.go_on()?;
            }
            for (place, column) in table.columns.iter().enumerate() {
                let (bytes, kind) = match &row[place] {
                    Value::Text(bytes) => (bytes, column.text.unwrap_or(ColumnText::Utf8)),
                    Value::Bytes(bytes) => (bytes, ColumnText::Binary),
                    _ => continue,
                };
                let Some((view, hits)) = options.needles.cell(kind, bytes) else { continue };
                for hit in &hits {
                    report.add(&view, hit, 0, |_| cell(table, &row, &column.name));
                }
            }
            Ok(())
        })?;
    }
    Ok(())
}

fn cell(table: &Table, row: &[Value], column: &str) -> Holder {
    let (table, record) = (table.name.clone(), table.record_name(row));
    Holder::Cell { table, record, column: column.to_owned() }
}

/// An object whose definition can hold an address.
fn object_of(statement: &Statement) -> Option<String> {
    Some(match statement {
        Statement::Table { name, .. } => format!("table {name}"),
        Statement::View { name, .. } => format!("view {name}"),
        Statement::Trigger { name, table, .. } => format!("trigger {name} of table {table}"),
        Statement::Object { kind: ObjectKind::Routine, name, .. } => format!("routine {name}"),
        Statement::Object { kind: ObjectKind::Event, name, .. } => format!("event {name}"),
        Statement::Object { kind: ObjectKind::Rule, name, .. } => format!("rule {name}"),
        Statement::Object { kind: ObjectKind::Constraint, name, .. } => {
            format!("constraint {name}")
        }
        Statement::Object { kind: ObjectKind::Type, name, .. } => format!("type {name}"),
        _ => return None,
    })
}

fn in_files(
    options: &TraceOptions<'_>,
    source: &mut dyn FileSource,
    report: &mut TraceReport,
    progress: &dyn Progress,
) -> Result<()> {
    let mut entries = EntryList::default();
    source.walk(&|path| !(options.skip)(path), &mut |entry| {
        if matches!(entry.kind, EntryKind::File(_)) {
            entries.push(entry);
        }
        Ok(())
    })?;
    in_turn(source, &entries, |source, entry| {
        progress.go_on()?;
        // What has gone meanwhile holds nothing any more.
        let Some(mut content) = source.open(&entry.path)? else { return Ok(()) };
        report.files += 1;
        let file = entry.shown();
        overlap::each(&mut content, options.needles.reach(), &mut |portion| {
            progress.advance(portion.new as u64);
            for hit in options.needles.find(portion.bytes) {
                // What lies in the part that comes again is found then.
                if !portion.is_settled(hit.range.start) {
                    continue;
                }
                report.add(portion.bytes, &hit, portion.position, |at| {
                    let line = portion.line + lines(&portion.bytes[..at]);
                    Holder::File { file: file.clone(), line }
                });
            }
        })
        .map_err(|error| {
            Trouble::outside("cannot read a file of the site").at(entry.shown()).because(error)
        })
    })
}

fn lines(bytes: &[u8]) -> u64 {
    memchr::memchr_iter(b'\n', bytes).count() as u64
}

impl TraceReport {
    fn add(&mut self, view: &[u8], hit: &Hit, before: u64, holder: impl Fn(usize) -> Holder) {
        let traced = &mut self.texts[hit.needle];
        traced.found += 1;
        if traced.places.len() >= limits::TRACED_PLACES {
            return;
        }
        let (start, end) = (hit.range.start, hit.range.end);
        let (lead, trail) = fernweh_core::rewrite::surroundings(view, hit.range.clone(), CONTEXT);
        traced.places.push(TracedPlace {
            holder: holder(start),
            position: before + start as u64,
            form: hit.form,
            spelled: hit.encoding.name(),
            lead,
            excerpt: fernweh_core::rewrite::readable(&view[start..end]),
            trail,
        });
    }

    /// Whether nothing at all was found.
    pub fn is_empty(&self) -> bool {
        self.texts.iter().all(|traced| traced.found == 0)
    }

    /// Notes the rules that would change the addresses that were found: `own` is the site's
    /// address, `others` those from which it came.
    pub fn propose(&mut self, own: Option<&WebAddress>, others: &[WebAddress]) {
        let mut proposed = BTreeSet::new();
        for traced in &self.texts {
            let whole = |place: &&TracedPlace| place.form != Form::PathAlone;
            let Some(place) = traced.places.iter().find(whole) else { continue };
            let Ok(Needle::Web(_, host, _)) = Needle::read(&traced.text) else { continue };
            let is_plain_http = plain_scheme(&place.excerpt) == Some("http");
            let at = |address: &WebAddress| {
                let written = match address.port {
                    Some(port) => format!("{}:{port}", address.stem_host()),
                    None => address.stem_host().to_owned(),
                };
                host.strip_prefix("www.").unwrap_or(&host) == written
            };
            let from = match is_plain_http {
                true => format!("http://{host}"),
                false => format!("https://{host}"),
            };
            let rule = |to: String, note: Option<&str>| Proposed {
                from: from.clone(),
                to,
                note: note.map(str::to_owned),
            };
            match own {
                Some(own) if others.iter().any(at) => {
                    let other = others.iter().find(|other| at(other)).map(ToString::to_string);
                    let from = other.unwrap_or(from);
                    proposed.insert(Proposed { from, to: own.to_string(), note: None });
                }
                Some(own) if at(own) => {
                    let to = own.to_string();
                    let differs = Rule::new(&from, &to).is_ok() && from != to;
                    proposed.extend(differs.then(|| rule(to, None)));
                }
                _ if is_plain_http => {
                    let note = "only if that server answers over https";
                    proposed.insert(rule(format!("https://{host}"), Some(note)));
                }
                _ => {}
            }
        }
        self.proposed = proposed.into_iter().collect();
    }
}

fn plain_scheme(excerpt: &str) -> Option<&'static str> {
    let lower = excerpt.to_ascii_lowercase();
    ["https", "http"].into_iter().find(|name| lower.starts_with(name))
}
