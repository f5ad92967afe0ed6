//! Progress on the terminal: one line per stage that stays, and one that moves. Without
//! a terminal a plain line every half minute.

use fernweh_ports::{Failpoints, Progress, Unit, count, shown};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use rustix::process::Signal;
use std::fmt::Write;
use std::io::IsTerminal;
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
        flag
    };
    FLAG.get_or_init(make).clone()
}

/// The terminal, or what stands for it.
pub struct Terminal {
    quiet: bool,
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
    /// The how-manieth time.
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
    pub fn new(quiet: bool) -> Self {
        let stop_at = StopAt::asked("FERNWEH_TEST_STOP_AT", Signal::KILL)
            .or(StopAt::asked("FERNWEH_TEST_PAUSE_AT", Signal::STOP));
        Self {
            quiet,
            moving: std::io::stderr().is_terminal() && !quiet,
            stop: stop_flag(),
            stage: Mutex::new(None),
            stop_at,
            seen: AtomicUsize::new(0),
            left_lines: AtomicBool::new(false),
        }
    }

    /// Prints a result beside standard output, which holds something else.
    pub fn page(&self, text: &str) {
        if !self.quiet {
            eprint!("{text}");
        }
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

fn style(unit: Unit, total: bool) -> ProgressStyle {
    let text = match (unit, total) {
        (Unit::Bytes, true) => {
            "{msg:<11}{bar:20} {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left"
        }
        (Unit::Bytes, false) => "{msg:<11}{spinner} {bytes}, {bytes_per_sec}",
        // Several are made at once, and nobody knows how far they are.
        (Unit::Keys, _) => "{msg:<11}{spinner} {done} of {all} made, {elapsed} so far",
        (_, true) => "{msg:<11}{bar:20} {done} of {all}, {rate}, {eta} left",
        (_, false) => "{msg:<11}{spinner} {done}, {rate}",
    };
    ProgressStyle::with_template(text)
        .unwrap_or_else(|_| ProgressStyle::default_bar())
        .with_key("done", |state: &ProgressState, out: &mut dyn Write| {
            let _ = out.write_str(&count(state.pos()));
        })
        .with_key("all", |state: &ProgressState, out: &mut dyn Write| {
            let _ = out.write_str(&count(state.len().unwrap_or(0)));
        })
        .with_key("rate", |state: &ProgressState, out: &mut dyn Write| {
            let _ = write!(out, "{} a second", count(state.per_sec() as u64));
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
            let what = match stage.unit {
                Unit::Bytes => "bytes",
                Unit::Records => "records",
                Unit::Pages => "pages",
                Unit::Keys => "keys",
            };
            let of = stage.total.map(|total| format!(" of {total}")).unwrap_or_default();
            let seconds = stage.began.elapsed().as_secs();
            eprintln!("{}: {}{of} {what} after {seconds} s", stage.name, stage.done);
        }
    }

    fn done(&self, summary: &str) {
        let Some(stage) = self.lock().take() else { return };
        stage.bar.finish_and_clear();
        if self.moving && stage.began.elapsed() > WORTH_A_LINE {
            let seconds = stage.began.elapsed().as_secs_f64();
            eprintln!("{:<11}{}, {seconds:.1} s", stage.name, shown(summary));
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
            eprintln!("{}{end}", shown(text));
        }
    }

    fn stopping(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
}
