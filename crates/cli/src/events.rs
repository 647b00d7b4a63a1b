//! Progress on stderr: what is going on right now. Results never come this way.

use std::cell::{Cell, RefCell};
use std::fmt::Write;
use std::io::IsTerminal;
use std::time::{Duration, Instant};

use brightharbor_io::carry_out::{Event, Recovered};
use indicatif::{HumanDuration, ProgressBar, ProgressState, ProgressStyle};

use crate::journal::{Level, write_line};
use crate::show::human::harmless;
use crate::show::words;

/// A spinner on a terminal, from the first thing that is worth telling. Elsewhere a line when something takes long, and
/// what somebody has to know.
pub struct Progress {
    bar: Option<ProgressBar>,
    manner: Manner,
    /// When a line was written last, where there is no terminal.
    written: Cell<Instant>,
    /// The piece of work that is counted, and since when, where there is no terminal.
    counting: RefCell<(String, Instant)>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Manner {
    Quiet,
    Usual,
    /// Each step is a line that stays.
    Verbose,
}

/// On a pipe, a step that begins so long after the last line is written.
const NOW_AND_THEN: Duration = Duration::from_secs(5);

impl Progress {
    pub fn new(quiet: bool, verbose: bool) -> Self {
        let manner = match (quiet, verbose) {
            (true, _) => Manner::Quiet,
            (false, true) => Manner::Verbose,
            (false, false) => Manner::Usual,
        };
        let bar = (manner == Manner::Usual && std::io::stderr().is_terminal()).then(|| {
            let bar = ProgressBar::new_spinner();
            bar.set_style(ProgressStyle::with_template("{spinner} {msg}").expect("a constant template"));
            bar
        });
        let now = Instant::now();
        Self { bar, manner, written: Cell::new(now), counting: RefCell::new((String::new(), now)) }
    }

    /// What is being done; gone afterwards on a terminal.
    pub fn doing(&self, what: &str) {
        match &self.bar {
            Some(bar) => {
                bar.set_message(harmless(what).into_owned());
                bar.enable_steady_tick(Duration::from_millis(120));
            }
            None => self.line(what),
        }
    }

    /// A line where there is no spinner: each one, or one now and then.
    fn line(&self, what: &str) {
        let is_due = match self.manner {
            Manner::Quiet => false,
            Manner::Usual => self.written.get().elapsed() >= NOW_AND_THEN,
            Manner::Verbose => true,
        };
        if is_due {
            self.written.set(Instant::now());
            write_line(Level::Info, what);
        }
    }

    /// How far a long piece of work has come.
    pub fn counted(&self, what: &str, done: usize, of: usize) {
        if self.bar.is_none() && of > 1 {
            let mut counting = self.counting.borrow_mut();
            if counting.0 != what {
                *counting = (what.to_string(), Instant::now());
            }
            self.line(&format!("{what}: {done} of {of}{}", left(counting.1.elapsed(), done, of)));
        }
        let Some(bar) = self.bar.as_ref().filter(|_| of > 1) else { return };
        if bar.length() != Some(of as u64) {
            bar.set_length(of as u64);
            let style =
                ProgressStyle::with_template("{msg} {bar:30} {pos} of {len}{left}").expect("a constant template");
            let left = |state: &ProgressState, text: &mut dyn Write| {
                let words = left(state.elapsed(), state.pos() as usize, state.len().unwrap_or_default() as usize);
                let _ = text.write_str(&words);
            };
            bar.set_style(style.with_key("left", left));
            bar.reset();
            bar.set_message(harmless(what).into_owned());
        }
        bar.set_position(done as u64);
    }

    /// Something to keep on the screen.
    pub fn note(&self, text: &str) {
        if self.manner != Manner::Quiet {
            self.suspend(|| text.lines().for_each(|line| write_line(Level::Notice, line)));
        }
    }

    /// Prints while the spinner is out of the way.
    pub fn suspend(&self, print: impl FnOnce()) {
        match &self.bar {
            Some(bar) => bar.suspend(print),
            None => print(),
        }
    }

    pub fn event(&self, event: Event) {
        match event {
            Event::WaitingForLock { held_by } => {
                self.note(&format!("waiting: another command is running in this harbor ({held_by})"));
            }
            Event::Recovered(Recovered { title, left, again, errands }) => {
                self.note(&match again {
                    false => format!("note: the command `{title}` ended midway; it was rolled back"),
                    true => format!("note: the command `{title}` ended midway, and cannot be rolled back whole yet"),
                });
                for left in left {
                    self.note(&format!("note: this could not be rolled back: {left}"));
                }
                for errand in errands {
                    let line = words::errand_line(&errand);
                    self.note(&format!("note: whether the CA was told is not known; do it again: {line}"));
                }
            }
            Event::LookingWhereNamesLead => self.doing("checking where the names lead"),
            Event::Ordering { site, what } => self.doing(&format!("certificate of {site}: {what}")),
            Event::CaAtOtherHosts(hosts) => {
                self.note(&format!("note: the CA's directory sends requests to other hosts: {}", hosts.join(", ")));
            }
            Event::InstallingCertificates => self.doing("installing certificates"),
            Event::VerifyingCertificates => self.doing("verifying certificates by TLS handshakes"),
            Event::AskingWhenToRenew => self.doing("asking when certificates should be renewed"),
            Event::AskingWhoServes(zone) => self.doing(&format!("asking who serves {zone}")),
            Event::NotEverywhere { missing, of } => {
                self.doing(&format!("{missing} of {of} authoritative servers do not have it yet"));
            }
            Event::LookingAt(what) => self.doing(&format!("checking {what}")),
            Event::ProofsStay { site, reason } => {
                self.note(&format!("note: challenge records for {site} are still in the zone: {reason}"));
            }
            Event::WritingFiles(count) => self.doing(&format!("writing files ({count})")),
            Event::TestingPools => self.doing("PHP tests its pools"),
            Event::ReloadingPools => self.doing("PHP reloads its pools"),
            Event::TestingWebServer => self.doing("the web server tests its configuration"),
            Event::ReloadingWebServer => self.doing("the web server reloads"),
            Event::CheckingZones(count) => self.doing(&format!("the DNS server's checker reads zone files ({count})")),
            Event::LoadingZones => self.doing("the DNS server loads its zones"),
            Event::ZonesServed { done, of } => self.counted("zones served", done, of),
            Event::AwaitingSignatures(zone) => self.doing(&format!("waiting for the signatures of {zone}")),
            Event::UpdatingZone(zone) => self.doing(&format!("the primary server updates {zone}")),
            Event::ReloadingService(service) => self.doing(&format!("the service {service} reloads")),
            Event::TellingCa(ca) => self.doing(&format!("telling the CA `{ca}`")),
            Event::OutOfDate(fault) => self.note(&format!("note: {fault}")),
        }
    }

    /// Clears the line, before a question or a result.
    pub fn pause(&self) {
        if let Some(bar) = &self.bar {
            bar.disable_steady_tick();
            bar.finish_and_clear();
        }
    }
}

/// Before that, an estimate says nothing.
const ESTIMABLE: Duration = Duration::from_secs(2);

/// About how long the rest takes, at the pace so far.
fn left(elapsed: Duration, done: usize, of: usize) -> String {
    if elapsed < ESTIMABLE || done == 0 || done >= of {
        return String::new();
    }
    let rest = elapsed.mul_f64((of - done) as f64 / done as f64);
    format!(", about {} left", HumanDuration(rest))
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.pause();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_left_is_told_once_the_pace_is_known() {
        let seconds = Duration::from_secs;
        assert_eq!(left(seconds(10), 100, 400), ", about 30 seconds left");
        assert_eq!(left(seconds(60), 1, 4), ", about 3 minutes left");
        assert_eq!([left(seconds(1), 100, 400), left(seconds(9), 0, 4), left(seconds(9), 4, 4)], [""; 3]);
    }
}
