//! What the records of runs tell.

use super::*;
use fernweh_ports::Silent;

fn records() -> (tempfile::TempDir, Records) {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::beside(folder.path());
    (folder, records)
}

#[test]
fn a_journal_tells_where_its_run_stands() {
    let (_folder, records) = records();
    let mut journal = records.begin(Operation::Unpack, "new", "a.tar").unwrap();
    let state = || records.runs().unwrap()[0].state();
    assert_eq!(state(), RunState::Open);
    let plan = Plan { tables: vec!["a".into()], ..Plan::default() };
    let switching = Step::Switching { direction: Direction::Forward, plan: plan.clone() };
    journal.step(&switching, &Silent).unwrap();
    assert_eq!(state(), RunState::Switching(Direction::Forward, plan.clone()));
    let fingerprint = Fingerprint::default();
    let done = Step::Done {
        direction: Direction::Forward,
        at: "x".into(),
        fingerprint,
        kept: None,
        kept_files: None,
    };
    journal.step(&done, &Silent).unwrap();
    assert!(matches!(state(), RunState::InPlace { plan: found, .. } if found == plan));
    journal.step(&Step::LetGo, &Silent).unwrap();
    assert_eq!(state(), RunState::Closed);
}

#[test]
fn a_line_that_was_not_written_to_its_end_does_not_count() {
    let (_folder, records) = records();
    let mut journal = records.begin(Operation::Unpack, "new", "a.tar").unwrap();
    journal.step(&Step::Built, &Silent).unwrap();
    journal.file.write_all(b"{\"step\":\"disc").unwrap();
    let runs = records.runs().unwrap();
    assert_eq!(runs[0].steps.len(), 2);
    assert!(runs[0].is_unfinished());
}

#[test]
fn a_torn_line_is_ended_when_its_run_is_gone_on_with() {
    for torn in ["{\"step\":\"disc", "{\"step\":\"discarded\"}"] {
        let (_folder, records) = records();
        let mut journal = records.begin(Operation::Unpack, "new", "a.tar").unwrap();
        journal.step(&Step::Built, &Silent).unwrap();
        journal.file.write_all(torn.as_bytes()).unwrap();
        drop(journal);
        let run = records.runs().unwrap().remove(0);
        assert!(run.is_unfinished(), "{torn} was never acted upon");
        let mut journal = Journal::resume(&run).unwrap();
        journal.step(&Step::Checked, &Silent).unwrap();
        journal.step(&Step::Discarded, &Silent).unwrap();
        let run = records.runs().unwrap().remove(0);
        assert_eq!(run.steps[1..], [Step::Built, Step::Checked, Step::Discarded]);
    }
}

#[test]
fn a_line_that_cannot_be_read_stops_everything_and_says_what_to_do() {
    let (_folder, records) = records();
    let mut journal = records.begin(Operation::Unpack, "new", "a.tar").unwrap();
    journal.file.write_all(b"{\"step\":\"of a later version\"}\n").unwrap();
    journal.step(&Step::Built, &Silent).unwrap();
    let trouble = records.runs().unwrap_err();
    assert!(trouble.place.as_deref().unwrap().ends_with("journal.jsonl, line 2"), "{trouble}");
    assert!(trouble.hint.as_deref().unwrap().contains("move"), "{trouble}");
}

#[test]
fn what_lies_among_the_runs_and_is_none_is_passed_over() {
    let (folder, records) = records();
    records.begin(Operation::Unpack, "new", "a.tar").unwrap();
    let runs = folder.path().join(".fernweh/runs");
    fs::write(runs.join("notes.txt"), "mine").unwrap();
    fs::create_dir(runs.join("empty")).unwrap();
    fs::create_dir(runs.join("torn")).unwrap();
    fs::write(runs.join("torn/journal.jsonl"), "{\"step\":").unwrap();
    assert_eq!(records.runs().unwrap().len(), 1);
}

#[test]
fn runs_that_begin_in_the_same_second_keep_their_order() {
    let (_folder, records) = records();
    let begun = [Operation::Unpack, Operation::Rewrite, Operation::Unpack, Operation::Move];
    for command in begun {
        records.begin(command, "new", "").unwrap();
    }
    let runs = records.runs().unwrap();
    let commands: Vec<_> = runs.iter().map(|run| run.header.command).collect();
    assert_eq!(commands, begun);
}

#[test]
fn one_run_per_site_at_a_time() {
    let (_folder, records) = records();
    let held = records.lock("new").unwrap();
    assert!(records.lock("new").is_err());
    assert!(records.lock("other").is_ok());
    drop(held);
    assert!(records.lock("new").is_ok());
}

#[test]
fn a_run_of_a_later_version_is_listed_all_the_same() {
    let (_folder, records) = records();
    let journal = records.begin(Operation::Unpack, "new", "a.tar").unwrap();
    let path = journal.folder().join("journal.jsonl");
    let text = fs::read_to_string(&path).unwrap();
    fs::write(&path, text.replace("\"unpack\"", "\"weave\"")).unwrap();
    assert_eq!(records.runs().unwrap()[0].header.command, Operation::Unknown);
}
