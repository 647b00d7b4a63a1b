//! Signals that end the program (SIGINT, SIGTERM, SIGHUP) while a change is carried out: the step that is under way is
//! finished, and then the change is taken back, or ends if it was the last step. A second signal ends the program at once;
//! the next command then takes back what was left. Outside of changes the first one does.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, AtomicI32, Ordering};

use tokio::signal::unix::{SignalKind, signal};

static AT_WORK: AtomicBool = AtomicBool::new(false);
/// The number of the signal that came; 0: none.
static CAME: AtomicI32 = AtomicI32::new(0);

const SIGNALS: [(&str, i32); 3] = [("SIGHUP", 1), ("SIGINT", 2), ("SIGTERM", 15)];

/// While it lives, a signal is waited with.
pub(super) struct AtWork;

impl AtWork {
    /// An error if one has come already, between two changes of the same command.
    pub(super) fn begin() -> Result<Self, &'static str> {
        watch();
        AT_WORK.store(true, Ordering::SeqCst);
        let work = Self;
        work.goes_on().map(|()| work)
    }

    /// Asked between two steps; the error is the signal's name.
    pub(super) fn goes_on(&self) -> Result<(), &'static str> {
        match CAME.load(Ordering::SeqCst) {
            0 => Ok(()),
            came => Err(SIGNALS.iter().find(|(_, number)| *number == came).map_or("a signal", |(name, _)| name)),
        }
    }
}

impl Drop for AtWork {
    fn drop(&mut self) {
        AT_WORK.store(false, Ordering::SeqCst);
    }
}

/// From the first change on: until then, signals do what they always do. Comes back when they are listened to.
fn watch() {
    static WATCHING: OnceLock<()> = OnceLock::new();
    WATCHING.get_or_init(|| {
        let (ready, is_ready) = std::sync::mpsc::channel();
        // Without a thread to listen, signals do what they always do.
        if std::thread::Builder::new().spawn(move || listen(&ready)).is_ok() {
            let _ = is_ready.recv();
        }
    });
}

fn listen(ready: &std::sync::mpsc::Sender<()>) {
    let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_io().build() else { return };
    runtime.block_on(async {
        let mut all = Vec::new();
        for (_, number) in SIGNALS {
            // Who starts a program with nohup wants it to go on.
            if !is_ignored(number) {
                all.extend(signal(SignalKind::from_raw(number)).map(|signals| (number, signals)));
            }
        }
        let _ = ready.send(());
        while !all.is_empty() {
            let next = all.iter_mut().map(|(number, signals)| {
                Box::pin(async move {
                    signals.recv().await;
                    *number
                })
            });
            let (number, ..) = futures_util::future::select_all(next).await;
            let is_first = CAME.swap(number, Ordering::SeqCst) == 0;
            if !(is_first && AT_WORK.load(Ordering::SeqCst)) {
                end(number);
            }
        }
    });
}

/// As a shell tells it of a program that a signal has ended.
#[expect(clippy::exit, reason = "a signal ends the program wherever it is; nothing is left to be printed")]
fn end(number: i32) -> ! {
    std::process::exit(128 + number);
}

/// Whether the signal is ignored (proc(5), `SigIgn`); no, where that cannot be told.
fn is_ignored(number: i32) -> bool {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:")).map(str::trim);
    mask.and_then(|mask| u64::from_str_radix(mask, 16).ok()).is_some_and(|mask| mask >> (number - 1) & 1 == 1)
}
