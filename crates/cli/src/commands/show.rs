//! `fernweh show`

use crate::context::Context;
use crate::exit::{DAMAGED, DONE};
use crate::render::{Page, Paint, aligned, count, counted, moment, size, tree, word};
use clap::{Args, ValueHint};
use fernweh_flow::show::{ShowReport, show};
use fernweh_ports::{Result, named, natural};
use std::path::PathBuf;

/// Shows what an archive holds.
///
/// Compares its members with its seal; with --verify every byte is read and every
/// digest checked. Example:
///   fernweh show glimmer.fernweh.tar --verify
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct ShowArgs {
    /// The archive
    #[arg(value_hint = ValueHint::FilePath)]
    pub archive: PathBuf,
    /// Read everything and check every digest
    #[arg(long)]
    pub verify: bool,
}

/// Names of bodies that are listed.
const SHOWN: usize = 12;

/// Runs the command.
pub fn run(context: &Context, args: &ShowArgs) -> Result<u8> {
    let report = show(&args.archive, args.verify, &context.progress)?;
    context.print(&report, &text(context, &report));
    let different = report.different.as_ref().is_some_and(|members| !members.is_empty());
    Ok(if different { DAMAGED } else { DONE })
}

fn text(context: &Context, report: &ShowReport) -> String {
    let style = context.style;
    let mut page = Page::new(style);
    let manifest = &report.manifest;
    page.row("archive", &format!("{}, {}", report.archive, size(report.size)));
    let url = manifest.url.as_deref().unwrap_or("without web address");
    page.row("site", &format!("{}, {url}", manifest.site));
    page.row("packed", &format!("{} by Fernweh {}", moment(&manifest.created), manifest.program));
    for began in &report.breaks {
        page.more(&format!("with a break: later tables are of another moment, {}", moment(began)));
    }
    if let Some(database) = &manifest.database {
        let records = report.rows.iter().map(|(_, rows)| rows).sum();
        page.row(
            "database",
            &format!(
                "{}, {}, {}, {}",
                database.version,
                database.charset,
                counted(report.rows.len() as u64, "table", "tables"),
                counted(records, "record", "records")
            ),
        );
        let mut tables: Vec<_> = report.rows.iter().collect();
        tables.sort_by(|one, other| natural(&one.0, &other.0));
        let rows: Vec<Vec<String>> = tables
            .into_iter()
            .map(|(name, rows)| {
                let bare = database.without_rows.contains(name);
                vec![name.clone(), if bare { "structure only".into() } else { count(*rows) }]
            })
            .collect();
        for line in aligned(&rows, &[1]) {
            page.exact(&format!("  {line}"));
        }
    }
    if let Some(files) = &manifest.files {
        page.row("files", &tree(report.files, report.file_bytes, report.folders, report.links));
        if !files.left_out.is_empty() {
            page.more(&format!("left out when packed: {}", files.left_out.join(", ")));
        }
    }
    if !report.runs.is_empty() {
        page.row(
            "runs",
            &format!(
                "{} in the database:",
                counted(report.runs.len() as u64, "piece of code", "pieces of code",)
            ),
        );
        page.more(&named(&report.runs, SHOWN));
    }
    if !report.settings.is_empty() {
        page.row("secrets", &format!("{} holds connection settings", report.settings.join(", ")));
    }
    let members = counted(report.members, "member", "members");
    match &report.different {
        None => page.row("seal", &format!("{members}, none missing; --verify reads every byte")),
        Some(different) if different.is_empty() => {
            let whole = style.paint(Paint::Good, "whole");
            page.row(
                "seal",
                &format!(
                    "{members}, every digest checked and everything read: the archive is {whole}"
                ),
            );
        }
        Some(different) => {
            let damaged = style.paint(Paint::Bad, "damaged");
            page.row("seal", &format!("the archive is {damaged}; not what was written:"));
            different.iter().for_each(|member| page.more(member));
            page.arrow(0, "copy the archive again, or pack the site again");
        }
    }
    if report.different.as_ref().is_none_or(Vec::is_empty) {
        page.gap();
        page.row("next", &format!("fernweh unpack {} SITE --preview", word(&report.archive)));
    }
    page.finish()
}
