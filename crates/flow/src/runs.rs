//! What ran, how it ended, and what is unfinished.

use crate::journal::{Operation, Records, Run, RunState};
use crate::looks::{Look, looks};
use fernweh_ports::{Direction, Result};
use serde::Serialize;

/// One run as it is listed.
#[derive(Clone, Debug, PartialEq, Serialize, schemars::JsonSchema)]
pub struct RunLine {
    /// Its name; empty for what only looked or packed.
    pub run: String,
    /// Its command.
    pub command: String,
    /// The site.
    pub site: String,
    /// When it began (RFC 3339, UTC).
    pub started: String,
    /// What went in; of a packing or a scan what came of it.
    pub input: String,
    /// How it ended: `done`, `undone`, `unfinished`, `half switched`, `cleaned up`, `let go`,
    /// `taken over`; of a packing, a scan or a preview its outcome in words.
    pub state: String,
    /// Whether `undo` can still turn it.
    pub kept: bool,
    /// Bytes that the state takes that it keeps, if that is known.
    pub kept_bytes: Option<u64>,
    /// How long it took, in seconds, if it is complete.
    pub seconds: Option<f64>,
    /// The stages of a move that are complete, and how long each took, in seconds.
    pub stages: Vec<(String, f64)>,
}

/// All runs, and what only looked or packed, the oldest first.
pub fn runs(records: &Records) -> Result<Vec<RunLine>> {
    let runs = records.runs()?;
    let mut looks = looks(records);
    let mut lines = Vec::new();
    for run in &runs {
        // Those before it, also where the run before them is not on record any more.
        let later = looks.split_off(&run.header.number);
        lines.extend(
            std::mem::replace(&mut looks, later).into_values().flatten().map(RunLine::of_look),
        );
        lines.push(line(run));
    }
    lines.extend(looks.into_values().flatten().map(RunLine::of_look));
    Ok(lines)
}

impl RunLine {
    fn of_look(look: Look) -> Self {
        let Look { command, site, started, ended, what, outcome, .. } = look;
        let seconds = between(&started, &ended);
        let (run, input, state) = (String::new(), what, outcome);
        let (kept, kept_bytes, stages) = (false, None, Vec::new());
        Self { run, command, site, started, input, state, kept, kept_bytes, seconds, stages }
    }

    /// Whether it has changed a site, or tried to.
    pub fn is_change(&self) -> bool {
        !self.run.is_empty()
    }
}

fn line(run: &Run) -> RunLine {
    let state = run.state();
    let words = match &state {
        RunState::Open => "unfinished",
        RunState::Emptied => "emptied",
        RunState::Switching(..) => "half switched",
        RunState::InPlace { direction: Direction::Forward, .. } => "done",
        RunState::InPlace { direction: Direction::Back, .. } => "undone",
        RunState::Closed if run.steps.contains(&crate::journal::Step::LetGo) => "let go",
        RunState::Closed if run.steps.last() == Some(&crate::journal::Step::TakenOver) => {
            "taken over"
        }
        RunState::Closed if run.is_move() && run.ended().is_some() => "done",
        RunState::Closed => "cleaned up",
    };
    let stages = run.stages().into_iter().map(|(name, seconds, _)| (name.to_owned(), seconds));
    RunLine {
        run: run.header.run.clone(),
        command: run.header.command.to_string(),
        site: run.header.site.clone(),
        started: run.header.started.clone(),
        input: run.header.input.clone(),
        state: words.into(),
        kept: matches!(state, RunState::InPlace { .. }),
        kept_bytes: run.kept_bytes(),
        seconds: run.ended().and_then(|ended| between(&run.header.started, ended)),
        stages: stages.collect(),
    }
}

/// Seconds between two moments (RFC 3339).
fn between(from: &str, to: &str) -> Option<f64> {
    let second = |text: &str| Some(text.parse::<jiff::Timestamp>().ok()?.as_second());
    Some((second(to)? - second(from)?) as f64)
}

/// The runs that have begun to change a site here and were broken off, by their names.
pub fn unfinished(records: &Records, site: &str) -> Result<Vec<String>> {
    let open = |run: &Run| !matches!(run.state(), RunState::InPlace { .. } | RunState::Closed);
    let runs = records.runs_of(site)?.into_iter().filter(open);
    Ok(runs.map(|run| run.header.run).collect())
}

/// What to say about a site whose old state was removed by a run that was broken off.
pub fn emptied(run: &Run) -> String {
    format!(
        "site {0} is empty: {1} of {2} removed its old state and was interrupted; type that \
         command again to resume, or fernweh undo {0} to restore the old state",
        run.header.site, run.header.command, run.header.started
    )
}

/// What to say about a site before anything else: a run that was broken off.
pub fn warning(records: &Records, site: &str) -> Result<Option<String>> {
    for run in records.runs_of(site)? {
        let began = &run.header.started;
        match run.state() {
            RunState::Switching(..) => {
                return Ok(Some(format!(
                    "site {site} was only partly switched by {} of {began}: type that command \
                     again to complete it, or fernweh undo {site} to go back",
                    run.header.command
                )));
            }
            RunState::Emptied => return Ok(Some(emptied(&run))),
            RunState::Open if run.header.command == Operation::Rewrite => {
                return Ok(Some(format!(
                    "a rewriting of site {site} begun {began} was interrupted: type it again to \
                     resume, or fernweh undo {site} to go back"
                )));
            }
            RunState::Open if run.is_edit() => {
                return Ok(Some(format!(
                    "{} of site {site} begun {began} was interrupted: fernweh undo {site} takes \
                     back what it changed",
                    run.header.command
                )));
            }
            _ => {}
        }
    }
    Ok(None)
}
