//! Delegations judged by what this harbor expects: what `delegation check`, `wait` and `handover` share.

use std::collections::HashMap;

use brightharbor_core::delegation::rules::{Expected, judge};
use brightharbor_core::delegation::{Picture, Verdict, by_cause};
use brightharbor_core::finding::Finding;
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_io::clock;
use brightharbor_io::look::expected;
use jiff::{SignedDuration, Timestamp};

use crate::error::{Error, Exit};
use crate::network::Network;

/// Changes longer ago than this explain nothing any more.
const LOOKED_BACK: SignedDuration = SignedDuration::from_hours(24 * 7);

/// What pictures are judged by.
pub struct Judge<'a> {
    network: &'a Network,
    expect: &'a [DnsName],
    changed: HashMap<Hostname, Timestamp>,
}

/// One domain, judged.
pub struct Checked {
    pub picture: Picture,
    pub findings: Vec<Finding>,
    pub wanted: Expected,
    pub verdict: Verdict,
}

impl<'a> Judge<'a> {
    pub fn new(network: &'a Network, expect: &'a [DnsName]) -> Result<Self, Error> {
        let since = clock::now().checked_sub(LOOKED_BACK).unwrap_or(Timestamp::UNIX_EPOCH);
        let changed = network.harbor.as_ref().map(|harbor| harbor.store.zones_changed_since(since)).transpose()?;
        Ok(Self { network, expect, changed: changed.unwrap_or_default() })
    }

    pub fn judge(&self, picture: Picture) -> Result<Checked, Error> {
        let domain = Hostname::parse_zone(&picture.domain.bare()).ok();
        let mut wanted = match (&self.network.harbor, &domain) {
            (Some(harbor), Some(domain)) => expected(harbor, domain)?,
            _ => Expected::default(),
        };
        wanted.changed_at = domain.as_ref().and_then(|domain| self.changed.get(domain)).copied();
        if !self.expect.is_empty() {
            wanted.nameservers = self.expect.to_vec();
        }
        let findings = by_cause(judge(&picture, &wanted), &picture);
        let verdict = Verdict::of(&picture, &findings);
        Ok(Checked { picture, findings, wanted, verdict })
    }
}

/// A fault before waiting, and waiting before all is well.
pub fn exit_of(checked: &[Checked]) -> Exit {
    match checked {
        checked if checked.iter().any(|one| one.verdict.is_fault()) => Exit::Fault,
        checked if checked.iter().any(|one| matches!(one.verdict, Verdict::Waiting(_))) => Exit::Waits,
        _ => Exit::Done,
    }
}
