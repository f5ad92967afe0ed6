//! What a site consists of, and whether everything needed can be reached.

use crate::patterns::Patterns;
use fernweh_core::entries::EntryList;
use fernweh_core::finding::Check;
use fernweh_core::limits;
use fernweh_core::record::{EntryKind, Value};
use fernweh_core::rewrite::{Origin, Reason, Rewriter, Rule, origins};
use fernweh_core::settings::{self, Role, Setting};
use fernweh_ports::{
    Counting, DatabaseSource, FileSource, Held, LeftOut, Overview, Progress, Result, Scope, Unit,
    in_turn, read_whole,
};
use serde::Serialize;
use std::collections::BTreeMap;

/// What to look at.
pub struct SurveyOptions<'a> {
    /// The site's name.
    pub site: String,
    /// Its web address.
    pub url: Option<String>,
    /// Which tables are the site's.
    pub tables: &'a dyn Scope,
    /// Paths that packing will leave out.
    pub leave_out: Patterns,
    /// Where the database file lies below the site's folder, if it does.
    pub inside_files: Option<String>,
}

/// What a site consists of.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct SurveyReport {
    /// The site's name.
    pub site: String,
    /// Its web address.
    pub url: Option<String>,
    /// The database.
    pub database: Option<Overview>,
    /// Where the database is, for people.
    pub database_place: Option<String>,
    /// Beginnings of table names that several tables share, with their number.
    pub prefixes: BTreeMap<String, u64>,
    /// The files.
    pub files: Option<FilesReport>,
    /// The settings found.
    pub settings: Option<SettingsReport>,
    /// Addresses, with the number of cells and files in which they occur.
    pub addresses: Vec<AddressCount>,
    /// What was tested.
    pub checks: Vec<Check>,
    /// How many states of the site are kept by earlier runs from here.
    pub kept_states: u64,
    /// Bytes that they take, as far as that is known.
    pub kept_bytes: u64,
}

/// The files of a site.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct FilesReport {
    /// Where they are.
    pub place: String,
    /// Number of files.
    pub files: u64,
    /// Number of folders.
    pub folders: u64,
    /// Number of links.
    pub links: u64,
    /// Bytes of all files.
    pub bytes: u64,
    /// Number and bytes by kind.
    pub kinds: BTreeMap<String, (u64, u64)>,
    /// What cannot be packed.
    pub left_out: Vec<LeftOut>,
    /// Bytes free on the disk.
    pub free: Option<u64>,
}

/// A file with connection settings.
#[derive(Clone, Debug, Serialize, schemars::JsonSchema)]
pub struct SettingsReport {
    /// The file.
    pub file: String,
    /// The lines used.
    pub lines: Vec<usize>,
    /// Names and values; passwords are not among the values.
    pub values: Vec<(String, String)>,
    /// Whether there is a password among them.
    pub password: bool,
    /// Further files that hold such settings.
    pub others: Vec<String>,
}

/// How often an address occurs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct AddressCount {
    /// Scheme and host.
    pub address: String,
    /// Cells of the database in which it occurs.
    pub cells: u64,
    /// Files in which it occurs.
    pub files: u64,
    /// Whether it is the site's own.
    pub own: bool,
    /// In how many of these it is spelled in which way: plain, json, percent or entity.
    pub spellings: BTreeMap<&'static str, u64>,
    /// The columns and files in which it occurs, with the number of cells; not more than a few
    /// dozen.
    pub places: BTreeMap<String, u64>,
}

/// Places that are noted of one address.
const PLACES: usize = 40;

/// How often an address was seen.
#[derive(Default)]
struct Seen {
    cells: u64,
    files: u64,
    spellings: BTreeMap<&'static str, u64>,
    places: BTreeMap<String, u64>,
}

impl Seen {
    fn note(&mut self, place: &str) {
        if let Some(number) = self.places.get_mut(place) {
            *number += 1;
        } else if self.places.len() < PLACES {
            self.places.insert(place.to_owned(), 1);
        }
    }
}

#[derive(Default)]
struct AddressCounts {
    addresses: BTreeMap<Origin, Seen>,
    damaged: Vec<String>,
}

/// Looks at everything a site consists of.
pub fn survey(
    options: &SurveyOptions<'_>,
    mut database: Option<&mut dyn DatabaseSource>,
    files: Option<&mut dyn FileSource>,
    progress: &dyn Progress,
) -> Result<SurveyReport> {
    let mut report = SurveyReport {
        site: options.site.clone(),
        url: options.url.clone(),
        ..SurveyReport::default()
    };
    let mut counting = AddressCounts::default();
    if let Some(source) = &mut database {
        progress.stage("database", None, Unit::Records);
        let mut overview = source.overview(options.tables, Counting::Exact)?;
        let total = overview.tables.iter().map(|table| table.rows).sum();
        progress.stage("database", Some(total), Unit::Records);
        report.checks.append(&mut overview.checks);
        report.prefixes = prefixes(overview.tables.iter().map(|table| table.name.as_str()));
        count_cells(options, *source, &mut counting, progress)?;
        progress.done("read the database");
        report.database = Some(overview);
    }
    if let Some(source) = files {
        progress.stage("files", None, Unit::Bytes);
        let (found, settings) = look_at_files(options, source, &mut counting, progress)?;
        progress.done("read the files");
        report.settings = settings;
        report.files = Some(found);
    }
    report.addresses = counted(options, counting.addresses);
    add_checks(&mut report, &counting.damaged);
    Ok(report)
}

impl AddressCounts {
    /// Counts the addresses in a value; each once, however often and in whatever spellings.
    fn see(&mut self, value: &[u8], once: impl Fn(&mut Seen)) {
        let found = origins(value);
        for (n, (origin, spelled)) in found.iter().enumerate() {
            let seen = self.addresses.entry(origin.clone()).or_default();
            *seen.spellings.entry(spelled.name()).or_default() += 1;
            if !found[..n].iter().any(|(earlier, _)| earlier == origin) {
                once(seen);
            }
        }
    }
}

fn count_cells(
    options: &SurveyOptions<'_>,
    source: &mut dyn DatabaseSource,
    counting: &mut AddressCounts,
    progress: &dyn Progress,
) -> Result<()> {
    source.begin()?;
    let own = options.url.as_deref().and_then(|url| Rule::new(url, "http://survey.invalid").ok());
    let rewriter = own.and_then(|rule| Rewriter::new(vec![rule]).ok());
    let tables = source.structure(options.tables)?.tables;
    for table in tables {
        let mut seen = 0;
        source.rows(&table, None, &mut |row| {
            seen += 1;
            if seen % 1024 == 0 {
                progress.advance(1024);
                progress.go_on()?;
            }
            for (column, value) in table.columns.iter().zip(&row) {
                let (Value::Text(bytes) | Value::Bytes(bytes)) = value else { continue };
                let Some(text) = column.text else { continue };
                counting.see(bytes, |seen| {
                    seen.cells += 1;
                    seen.note(&format!("{}.{}", table.name, column.name));
                });
                let found = rewriter.as_ref().and_then(|rewriter| rewriter.cell(text, bytes));
                let is_damaged = found.is_some_and(|outcome| {
                    outcome.found.left.iter().any(|left| left.reason == Reason::DamagedSerialized)
                });
                if is_damaged {
                    let record = table.record_name(&row);
                    counting
                        .damaged
                        .push(format!("{}, {record}, column {}", table.name, column.name));
                }
            }
            Ok(())
        })?;
        progress.advance(seen % 1024);
    }
    Ok(())
}

fn look_at_files(
    options: &SurveyOptions<'_>,
    source: &mut dyn FileSource,
    counting: &mut AddressCounts,
    progress: &dyn Progress,
) -> Result<(FilesReport, Option<SettingsReport>)> {
    let mut report =
        FilesReport { place: source.place(), free: source.free(), ..FilesReport::default() };
    let mut texts = EntryList::default();
    let mut outside = Vec::new();
    let inside = options.inside_files.as_deref();
    let enter = |path: &[u8]| !crate::pack::is_database(path, inside);
    report.left_out = source.walk(&enter, &mut |entry| {
        match &entry.kind {
            EntryKind::Folder => report.folders += 1,
            EntryKind::HardLink(_) => report.links += 1,
            EntryKind::Link(target) => {
                report.links += 1;
                if crate::pack::leads_out(&entry.path, target) {
                    outside.push(entry.shown());
                }
            }
            EntryKind::File(size) => {
                report.files += 1;
                report.bytes += size;
                let kind = report.kinds.entry(kind_of(&entry.shown()).into()).or_default();
                kind.0 += 1;
                kind.1 += size;
                if *size <= limits::TEXT_FILE {
                    texts.push(entry);
                }
            }
        }
        Ok(())
    })?;
    let mut settings: Vec<(String, Vec<Setting>)> = Vec::new();
    let because = "a link that points out of the site";
    report.left_out.extend(outside.into_iter().map(|path| LeftOut::new(path, because)));
    in_turn(source, &texts, |source, entry| {
        progress.go_on()?;
        let content = match read_whole(source, &entry.path, limits::TEXT_FILE)? {
            Held::Whole(file) => file.bytes,
            Held::Gone => {
                report.left_out.push(LeftOut::vanished(&entry.path));
                return Ok(());
            }
            // Larger files are counted and not read.
            Held::TooLarge => return Ok(()),
        };
        progress.advance(content.len() as u64);
        if content.contains(&0) {
            return Ok(());
        }
        counting.see(&content, |seen| {
            seen.files += 1;
            seen.note(&entry.shown());
        });
        if (content.len() as u64) < limits::SETTINGS_FILE {
            let found = settings::find(&content).into_iter();
            settings.extend(found.map(|found| (entry.shown(), found.settings)));
        }
        Ok(())
    })?;
    Ok((report, settings_report(settings)))
}

fn settings_report(found: Vec<(String, Vec<Setting>)>) -> Option<SettingsReport> {
    // The file with the most roles is the one that the site reads.
    let best = found.iter().map(|(_, settings)| settings.len()).max()?;
    let (file, settings) = found.iter().find(|(_, settings)| settings.len() == best)?;
    let open = settings.iter().filter(|setting| setting.role != Role::Password);
    Some(SettingsReport {
        file: file.clone(),
        lines: lines_of(settings),
        values: open.map(|setting| (setting.name.clone(), setting.value.clone())).collect(),
        password: settings.iter().any(|setting| setting.role == Role::Password),
        others: found.iter().map(|(name, _)| name).filter(|name| *name != file).cloned().collect(),
    })
}

/// The lines on which settings stand, each once.
pub fn lines_of(settings: &[Setting]) -> Vec<usize> {
    let mut lines: Vec<usize> = settings.iter().map(|setting| setting.line).collect();
    lines.sort_unstable();
    lines.dedup();
    lines
}

/// What a file is, by the ending of its name.
fn kind_of(path: &str) -> &'static str {
    let name = path.rsplit('/').next().unwrap_or(path).to_ascii_lowercase();
    match name.rsplit_once('.').map_or("", |(_, ending)| ending) {
        "png" | "jpg" | "jpeg" | "gif" | "webp" | "svg" | "ico" | "avif" => "pictures",
        "css" | "scss" | "less" => "styles",
        "js" | "mjs" => "scripts",
        "html" | "htm" | "tpl" | "twig" | "phtml" => "templates",
        "php" | "py" | "rb" | "pl" => "programs",
        "woff" | "woff2" | "ttf" | "otf" => "fonts",
        "mp3" | "mp4" | "ogg" | "webm" | "wav" => "sound and film",
        _ => "others",
    }
}

/// Beginnings up to the first `_` that at least three tables share.
pub fn prefixes<'a>(tables: impl Iterator<Item = &'a str>) -> BTreeMap<String, u64> {
    let mut found: BTreeMap<String, u64> = BTreeMap::new();
    for table in tables {
        if let Some((prefix, _)) = table.split_once('_') {
            *found.entry(format!("{prefix}_")).or_default() += 1;
        }
    }
    found.retain(|_, count| *count >= 3);
    found
}

fn counted(options: &SurveyOptions<'_>, found: BTreeMap<Origin, Seen>) -> Vec<AddressCount> {
    let own = options.url.as_deref();
    let own = own.and_then(|url| fernweh_core::address::WebAddress::parse(url).ok());
    let is_own = |host: &str| {
        own.as_ref().is_some_and(|own| {
            let written = match own.port {
                Some(port) => format!("{}:{port}", own.stem_host()),
                None => own.stem_host().to_owned(),
            };
            host == written || host.strip_prefix("www.") == Some(&written)
        })
    };
    // `//x` is only an address for sure where x also occurs with a scheme, or is our own.
    let schemes: Vec<String> =
        found.keys().filter(|origin| !origin.scheme.is_empty()).map(|o| o.host.clone()).collect();
    let mut counts: Vec<AddressCount> = found
        .into_iter()
        .filter(|(origin, _)| {
            !origin.scheme.is_empty() || schemes.contains(&origin.host) || is_own(&origin.host)
        })
        .map(|(origin, seen)| AddressCount {
            address: origin.to_string(),
            own: is_own(&origin.host),
            cells: seen.cells,
            files: seen.files,
            spellings: seen.spellings,
            places: seen.places,
        })
        .collect();
    counts.sort_by(|a, b| {
        (b.own, b.cells + b.files, &a.address).cmp(&(a.own, a.cells + a.files, &b.address))
    });
    counts
}

fn add_checks(report: &mut SurveyReport, damaged: &[String]) {
    let size = report.database.iter().flat_map(|d| &d.tables).map(|t| t.bytes).sum::<u64>()
        + report.files.as_ref().map_or(0, |files| files.bytes);
    let free = report.files.as_ref().and_then(|files| files.free);
    let free = free.or_else(|| report.database.as_ref().and_then(|database| database.free));
    if let Some(free) = free {
        let what =
            format!("{} free, about {} needed for a second copy", megabytes(free), megabytes(size));
        report.checks.push(match free > size {
            true => Check::passed(what),
            false => Check::failed(what, "make room before you unpack here"),
        });
    }
    for place in damaged.iter().take(5) {
        report.checks.push(Check::warned(
            format!("a serialized value is already damaged: {place}"),
            format!(
                "copied unchanged; repair it with: fernweh rewrite {} --mend-lengths",
                report.site
            ),
        ));
    }
    if damaged.len() > 5 {
        report.checks.push(Check::warned(
            format!("{} more serialized values are already damaged", damaged.len() - 5),
            "they are copied unchanged",
        ));
    }
    if let Some(database) = &report.database {
        if !database.not_carried.is_empty() {
            report.checks.push(Check::warned(
                format!("not supported, so not moved: {}", database.not_carried.join(", ")),
                "create them by hand in the new database",
            ));
        }
        if report.prefixes.len() > 1 {
            let names: Vec<String> =
                report.prefixes.iter().map(|(name, count)| format!("{name}* ({count})")).collect();
            report.checks.push(Check::warned(
                format!("the database holds several groups of tables: {}", names.join(", ")),
                "set tables = [\"…_*\"] to choose this site's",
            ));
        }
    }
    if report.database.is_some() && report.files.is_some() && report.settings.is_none() {
        report.checks.push(Check::warned(
            "no connection settings in a known form were found in the files",
            "after a move, write the new database connection into the site's settings by hand",
        ));
    }
    if let Some(files) = &report.files {
        for left in &files.left_out {
            report.checks.push(Check::warned(
                format!("cannot be packed: {}, {}", left.path, left.because),
                "it is left out, unless you pack with --outside-links",
            ));
        }
    }
    report.checks.sort_by_key(|check| check.verdict);
}

fn megabytes(bytes: u64) -> String {
    match bytes {
        0..1_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        1_000_000..1_000_000_000 => format!("{:.0} MB", bytes as f64 / 1e6),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_prefix_is_shared_by_three_tables() {
        let found = prefixes(["gp_a", "gp_b", "gp_c", "x_a", "plain"].into_iter());
        assert_eq!(found.into_iter().collect::<Vec<_>>(), [("gp_".to_owned(), 3)]);
    }
}
