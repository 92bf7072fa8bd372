//! The core's observer on a terminal: a progress bar for what takes long, warnings, Ctrl-C.

use std::io::{self, IsTerminal};
use std::process::ExitStatus;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use odd_stack_core::notice::Notice;
use odd_stack_core::observer::{Observer, Work};

use crate::output::tell_at_once;
use crate::show::units::{files, number};

/// No bar for anything shorter.
const WORTH_A_BAR: Duration = Duration::from_millis(500);

const KEYS_COME_WITHIN: Duration = Duration::from_millis(100);

static STOPPED: AtomicBool = AtomicBool::new(false);
/// A program runs that gets Ctrl-C as well; it decides.
static LISTENS: AtomicBool = AtomicBool::new(true);

/// Makes Ctrl-C ask the core to stop; a second one ends the process, which the next command mends.
pub fn watch_for_stop() {
    // Without a handler Ctrl-C ends the process at once, which is as safe.
    let _ = ctrlc::set_handler(|| {
        if STOPPED.swap(true, Ordering::SeqCst) && LISTENS.load(Ordering::SeqCst) {
            std::process::exit(130);
        }
    });
}

/// Waits for a program, and says whether Ctrl-C was pressed meanwhile, which is for the program.
pub fn while_a_program_runs(wait: impl FnOnce() -> io::Result<ExitStatus>) -> (io::Result<ExitStatus>, bool) {
    LISTENS.store(false, Ordering::SeqCst);
    let ended = wait();
    if !ended.as_ref().is_ok_and(ExitStatus::success) {
        // A key that ended the program reaches us a moment later than it.
        std::thread::sleep(KEYS_COME_WITHIN);
    }
    LISTENS.store(true, Ordering::SeqCst);
    (ended, STOPPED.swap(false, Ordering::SeqCst))
}

/// Whether Ctrl-C was pressed while a program runs.
pub fn was_interrupted() -> bool {
    STOPPED.load(Ordering::SeqCst)
}

/// Tells a person how the work goes.
pub struct Progress {
    shows_bars: bool,
    is_plain: bool,
    current: Mutex<Option<Current>>,
    notices: Mutex<Vec<Notice>>,
}

struct Current {
    begun: Instant,
    bar: ProgressBar,
    is_shown: bool,
    counts_bytes: bool,
    files: u64,
    total_files: u64,
}

impl Current {
    /// `1,204/20,000 files`, or without the total where that is not known.
    fn files_so_far(&self) -> String {
        match self.total_files {
            0 => files(self.files),
            total => format!("{}/{}", number(self.files), files(total)),
        }
    }
}

impl Progress {
    /// With `is_plain` nothing moves: what takes long is said once.
    pub fn new(quiet: bool, is_plain: bool) -> Self {
        let shows_bars = !quiet && std::io::stderr().is_terminal();
        Self { shows_bars, is_plain, current: Mutex::default(), notices: Mutex::default() }
    }

    /// Whether anybody looks at how the work goes.
    pub fn shows_bars(&self) -> bool {
        self.shows_bars
    }

    /// What the core wanted to be known, so far.
    pub fn take_notices(&self) -> Vec<Notice> {
        std::mem::take(&mut lock(&self.notices))
    }

    /// What of it is about commands that were cut short.
    pub fn take_recovered(&self) -> Vec<Notice> {
        let is_recovered = |notice: &mut Notice| matches!(notice, Notice::Recovered(_));
        lock(&self.notices).extract_if(.., is_recovered).collect()
    }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

fn word(work: Work) -> &'static str {
    match work {
        Work::Scanning => "looking through the game",
        Work::Reading => "reading the package",
        Work::Comparing => "comparing",
        Work::Guarding => "protecting originals",
        Work::Staging => "preparing files",
        Work::Placing => "putting files in place",
        Work::Clearing => "clearing up",
    }
}

impl Observer for Progress {
    fn begin(&self, work: Work, total_files: u64, total_bytes: u64) {
        if !self.shows_bars {
            return;
        }
        let counts_bytes = total_bytes > 0;
        let bar = ProgressBar::with_draw_target(
            Some(if counts_bytes { total_bytes } else { total_files }),
            ProgressDrawTarget::hidden(),
        );
        let template = match (counts_bytes, total_files) {
            (true, _) => "{msg:<20} {bar:20} {bytes}/{total_bytes}, {prefix}, {bytes_per_sec}, {eta} left",
            (false, 0) => "{msg:<24} {pos} files",
            (false, _) => "{msg:<24} {bar:28} {pos}/{len} files {eta} left",
        };
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style);
        }
        bar.set_message(word(work));
        let begun = Instant::now();
        let current = Current { begun, bar, is_shown: false, counts_bytes, files: 0, total_files };
        *lock(&self.current) = Some(current);
    }

    fn advance(&self, files: u64, bytes: u64) {
        if !self.shows_bars {
            return;
        }
        if let Some(current) = lock(&self.current).as_mut() {
            current.files += files;
            if current.counts_bytes && files > 0 && current.is_shown {
                current.bar.set_prefix(current.files_so_far());
            }
            current.bar.inc(if current.counts_bytes { bytes } else { files });
            if !current.is_shown && current.begun.elapsed() > WORTH_A_BAR {
                current.is_shown = true;
                if self.is_plain {
                    tell_at_once(&format!("{} ...", current.bar.message()));
                } else {
                    current.bar.set_prefix(current.files_so_far());
                    current.bar.set_draw_target(ProgressDrawTarget::stderr());
                }
            }
        }
    }

    fn end(&self) {
        if let Some(current) = lock(&self.current).take() {
            current.bar.finish_and_clear();
        }
    }

    fn notice(&self, notice: Notice) {
        lock(&self.notices).push(notice);
    }

    fn is_cancelled(&self) -> bool {
        STOPPED.load(Ordering::Relaxed)
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        if let Some(current) = lock(&self.current).take() {
            current.bar.finish_and_clear();
        }
    }
}
