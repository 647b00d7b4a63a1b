//! Progress on stderr: what is going on right now. Results never come this way.

use std::io::{IsTerminal, Write};
use std::time::Duration;

use brightharbor_io::carry_out::{Event, Recovered};
use indicatif::{ProgressBar, ProgressStyle};

use crate::show::human::harmless;
use crate::show::words;

/// A spinner on a terminal, from the first thing that is worth telling; elsewhere only what somebody has to know.
pub struct Progress {
    bar: Option<ProgressBar>,
}

impl Progress {
    pub fn new() -> Self {
        let bar = std::io::stderr().is_terminal().then(|| {
            let bar = ProgressBar::new_spinner();
            bar.set_style(ProgressStyle::with_template("{spinner} {msg}").expect("a constant template"));
            bar
        });
        Self { bar }
    }

    /// What is being done; only seen on a terminal, and gone afterwards.
    pub fn doing(&self, what: &str) {
        if let Some(bar) = &self.bar {
            bar.set_message(harmless(what).into_owned());
            bar.enable_steady_tick(Duration::from_millis(120));
        }
    }

    /// How far a long piece of work has come.
    pub fn counted(&self, what: &str, done: usize, of: usize) {
        let Some(bar) = self.bar.as_ref().filter(|_| of > 1) else { return };
        if bar.length() != Some(of as u64) {
            bar.set_length(of as u64);
            bar.set_style(ProgressStyle::with_template("{msg} {bar:40} {pos} of {len}").expect("a constant template"));
            bar.set_message(harmless(what).into_owned());
        }
        bar.set_position(done as u64);
    }

    /// Something to keep on the screen.
    pub fn note(&self, text: &str) {
        // A closed stderr is the reader's wish, not an error.
        let print = |line| drop(writeln!(std::io::stderr(), "{}", harmless(line)));
        self.suspend(|| text.lines().for_each(print));
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

impl Drop for Progress {
    fn drop(&mut self) {
        self.pause();
    }
}
