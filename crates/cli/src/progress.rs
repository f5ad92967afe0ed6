//! Progress on the terminal: one line per stage that stays, and one that moves. Without
//! a terminal a plain line every half minute.

use crate::hints::pasted;
use crate::messages::{is_lively, say};
use fernweh_ports::{Failpoints, Progress, Unit, count, shown, size, size_of};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use rustix::process::Signal;
use std::fmt::Write;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

/// A stage that took less leaves no line: the result says what it did.
const WORTH_A_LINE: Duration = Duration::from_secs(2);
/// Seconds between two plain lines.
const PLAIN: Duration = Duration::from_secs(30);

/// Says, to whoever has no progress, whether the user wants to stop.
pub fn stops() -> impl Fn() -> bool + Send + Sync + 'static {
    let stop = stop_flag();
    move || stop.load(Ordering::Relaxed)
}

/// Set when the user wants to stop; a second wish ends the program at once.
fn stop_flag() -> Arc<AtomicBool> {
    static FLAG: OnceLock<Arc<AtomicBool>> = OnceLock::new();
    let make = || {
        let flag = Arc::new(AtomicBool::new(false));
        for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM] {
            // The order matters: the first signal must find the flag unset.
            let _ = signal_hook::flag::register_conditional_shutdown(signal, 5, flag.clone());
            let _ = signal_hook::flag::register(signal, flag.clone());
        }
        std::thread::spawn(answer_the_wish);
        flag
    };
    FLAG.get_or_init(make).clone()
}

/// Says at once that the wish to stop was heard: what is under way may need a moment.
fn answer_the_wish() {
    use signal_hook::consts::{SIGINT, SIGTERM};
    let Ok(mut signals) = signal_hook::iterator::Signals::new([SIGINT, SIGTERM]) else { return };
    if signals.forever().next().is_none() {
        return;
    }
    // A question waits for a line, and no signal takes it back.
    crate::prompt::give_up();
    let clear = if is_lively(&std::io::stderr()) { "\r\x1b[2K" } else { "" };
    say(&format!("{clear}stopping …   (Ctrl-C again ends at once)\n"));
    std::thread::sleep(PATIENCE);
    say("the step at work is being ended; nothing is lost if you end it now\n");
}

/// After this time somebody who wanted to stop hears what keeps the program.
const PATIENCE: Duration = Duration::from_secs(4);

/// The terminal, or what stands for it.
pub struct Terminal {
    quiet: bool,
    verbose: bool,
    moving: bool,
    stop: Arc<AtomicBool>,
    stage: Mutex<Option<Stage>>,
    /// Tests stop the program at a named step, at its nth occurrence.
    stop_at: Option<StopAt>,
    seen: AtomicUsize,
    left_lines: AtomicBool,
}

struct Stage {
    name: String,
    unit: Unit,
    bar: ProgressBar,
    done: u64,
    total: Option<u64>,
    began: Instant,
    said: Instant,
}

/// Where tests end or halt the program.
struct StopAt {
    step: String,
    /// Number of this occurrence, from 1.
    count: usize,
    signal: Signal,
}

impl StopAt {
    fn asked(variable: &str, signal: Signal) -> Option<Self> {
        let text = std::env::var(variable).ok()?;
        let (step, count) = text.split_once('#').unwrap_or((&text, "1"));
        Some(Self { step: step.to_owned(), count: count.parse().unwrap_or(1), signal })
    }
}

impl Terminal {
    /// Looks at the terminal and listens for the wish to stop.
    /// With more detail every stage leaves its line, however short it was.
    pub fn new(quiet: bool, verbose: bool) -> Self {
        let stop_at = StopAt::asked("FERNWEH_TEST_STOP_AT", Signal::KILL)
            .or(StopAt::asked("FERNWEH_TEST_PAUSE_AT", Signal::STOP));
        Self {
            quiet,
            verbose,
            moving: is_lively(&std::io::stderr()) && !quiet,
            stop: stop_flag(),
            stage: Mutex::new(None),
            stop_at,
            seen: AtomicUsize::new(0),
            left_lines: AtomicBool::new(false),
        }
    }

    /// Prints a result beside standard output, which holds something else.
    pub fn page(&self, text: &str) {
        say(text);
    }

    /// Parts the lines of stages from the result, if there are any.
    pub fn part(&self) {
        if self.left_lines.swap(false, Ordering::Relaxed) {
            eprintln!();
        }
    }

    /// Takes the moving line away, so that something else can be printed.
    pub fn clear(&self) {
        if let Some(stage) = self.lock().take() {
            stage.bar.finish_and_clear();
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Option<Stage>> {
        self.stage.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
    }
}

/// How often a line moves where nothing is counted.
const TICK: Duration = Duration::from_millis(500);

/// How far a stage is: what is done of what, how fast, and how long it will still take.
#[derive(Clone, Copy)]
struct Pace {
    unit: Unit,
    done: u64,
    total: Option<u64>,
    /// Units a second.
    rate: f64,
}

impl Pace {
    fn words(self) -> String {
        let Self { unit, done, total, rate } = self;
        let name = match unit {
            Unit::Bytes => "",
            Unit::Records => " records",
            Unit::Entries => " entries",
            Unit::Pages => " pages",
            Unit::Keys => " keys",
            Unit::Checks => " checks",
            Unit::Servers => " servers",
        };
        let of = match (unit, total) {
            (Unit::Bytes, Some(total)) => size_of(done, total),
            (Unit::Bytes, None) => size(done),
            (_, Some(total)) => format!("{} of {}{name}", count(done), count(total)),
            (_, None) => format!("{}{name}", count(done)),
        };
        // How fast few things are done says nothing.
        if matches!(unit, Unit::Checks | Unit::Servers) {
            return of;
        }
        let speed = match unit {
            Unit::Bytes => format!("{}/s", size(rate as u64)),
            _ => format!("{}{name}/s", count(rate as u64)),
        };
        let left = total.map(|total| total.saturating_sub(done)).filter(|_| rate > 0.0);
        match left {
            Some(left) => format!("{of}, {speed}, {} left", spoken(left as f64 / rate)),
            None => format!("{of}, {speed}"),
        }
    }
}

/// Seconds as people say them.
fn spoken(seconds: f64) -> String {
    match seconds {
        ..90.0 => format!("{seconds:.0} s"),
        ..5400.0 => format!("{:.0} min", seconds / 60.0),
        _ => format!("{:.1} h", seconds / 3600.0),
    }
}

fn style(unit: Unit, total: bool) -> ProgressStyle {
    let width = console::Term::stderr().size_checked().map_or(80, |(_, width)| width);
    let text = match (unit, total, width) {
        // Several are made at once, and nobody knows how far they are.
        (Unit::Keys, ..) => "{msg:<11}{spinner} {keys} made, {elapsed} so far",
        (_, false, _) => "{msg:<11}{spinner} {pace}",
        (_, true, ..60) => "{msg:<11}{pace}",
        (_, true, 60..90) => "{msg:<11}{bar:10} {pace}",
        (_, true, _) => "{msg:<11}{bar:20} {pace}",
    };
    let pace = move |state: &ProgressState| Pace {
        unit,
        done: state.pos(),
        total: state.len().filter(|_| total),
        rate: state.per_sec(),
    };
    ProgressStyle::with_template(text)
        .unwrap_or_else(|_| ProgressStyle::default_bar())
        .with_key("keys", |state: &ProgressState, out: &mut dyn Write| {
            let (done, all) = (count(state.pos()), count(state.len().unwrap_or(0)));
            let _ = write!(out, "{done} of {all}");
        })
        .with_key("pace", move |state: &ProgressState, out: &mut dyn Write| {
            let _ = out.write_str(&pace(state).words());
        })
        .progress_chars("━╸ ")
}

impl Failpoints for Terminal {
    fn reached(&self, step: &str) {
        let Some(at) = self.stop_at.as_ref().filter(|at| at.step == step) else { return };
        if self.seen.fetch_add(1, Ordering::Relaxed) + 1 == at.count {
            let _ = rustix::process::kill_process(rustix::process::getpid(), at.signal);
        }
    }
}

impl Progress for Terminal {
    fn stage(&self, name: &str, total: Option<u64>, unit: Unit) {
        self.clear();
        let target =
            if self.moving { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() };
        let bar = ProgressBar::with_draw_target(total, target);
        bar.set_style(style(unit, total.is_some()));
        bar.set_message(name.to_owned());
        if self.moving && unit == Unit::Keys {
            bar.enable_steady_tick(TICK);
        }
        let now = Instant::now();
        *self.lock() =
            Some(Stage { name: name.into(), unit, bar, done: 0, total, began: now, said: now });
    }

    fn advance(&self, by: u64) {
        let mut stage = self.lock();
        let Some(stage) = stage.as_mut() else { return };
        stage.done += by;
        stage.bar.inc(by);
        // What was expected may be an estimate.
        if let Some(total) = stage.total.as_mut().filter(|total| **total < stage.done) {
            *total = stage.done;
            stage.bar.set_length(stage.done);
        }
        if !self.moving && !self.quiet && stage.said.elapsed() > PLAIN {
            stage.said = Instant::now();
            let seconds = stage.began.elapsed().as_secs_f64();
            let rate = stage.done as f64 / seconds;
            let pace = Pace { unit: stage.unit, done: stage.done, total: stage.total, rate };
            say(&format!("{:<10} {}\n", stage.name, pace.words()));
        }
    }

    fn done(&self, summary: &str) {
        let Some(stage) = self.lock().take() else { return };
        stage.bar.finish_and_clear();
        if self.verbose || self.moving && stage.began.elapsed() > WORTH_A_LINE {
            let seconds = stage.began.elapsed().as_secs_f64();
            say(&format!("{:<11}{}, {seconds:.1} s\n", stage.name, shown(summary)));
            self.left_lines.store(true, Ordering::Relaxed);
        }
    }

    fn note(&self, line: &str) {
        if !self.quiet {
            // A line break at its end parts it from what follows.
            let (text, end) = match line.strip_suffix('\n') {
                Some(text) => (text, "\n"),
                None => (line, ""),
            };
            say(&format!("{}{end}\n", shown(&pasted(text))));
        }
    }

    fn stopping(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_says_how_much_how_fast_and_how_long() {
        let pace = |unit, done, total, rate| Pace { unit, done, total, rate }.words();
        let gb = 1_000_000_000;
        assert_eq!(
            pace(Unit::Bytes, 13 * gb / 10, Some(21 * gb / 10), 43e6),
            "1.3 of 2.1 GB, 43.0 MB/s, 19 s left"
        );
        assert_eq!(
            pace(Unit::Records, 1200, Some(8_401_200), 1000.0),
            "1200 of 8401200 records, 1000 records/s, 2.3 h left"
        );
        assert_eq!(pace(Unit::Pages, 12, None, 3.0), "12 pages, 3 pages/s");
        // Nothing is promised before anything was done.
        assert_eq!(pace(Unit::Bytes, 0, Some(5), 0.0), "0 of 5 bytes, 0 bytes/s");
    }
}
