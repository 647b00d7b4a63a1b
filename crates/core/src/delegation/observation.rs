//! What was asked and what came: the raw material of every judgement about delegation. Can be saved.
//!
//! Filled by `brightharbor-io`; read by `question` and `rules`.

use std::collections::HashMap;
use std::net::SocketAddr;

use foldhash::fast::RandomState;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::name::DnsName;
use crate::zone::{Record, RecordData, RecordType};

/// One question to one server.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Question {
    pub server: SocketAddr,
    pub name: DnsName,
    pub record_type: RecordType,
    pub transport: Transport,
    /// Whether the server is asked to look further itself (a resolver) or to answer from its own data.
    pub recursion_desired: bool,
    /// Whether signatures are wanted as well (the DO bit of RFC 3225). They always do with SOA, DNSKEY and DS.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub with_signatures: bool,
    /// Whether a validating resolver is to answer without validating (the CD bit of RFC 4035 section 3.2.2).
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub checking_disabled: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Transport {
    /// UDP with EDNS; a truncated answer is fetched again over TCP.
    Udp,
    /// UDP as before EDNS (RFC 6891): for servers that cannot have it.
    PlainUdp,
    Tcp,
}

/// A question with what came of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Observation {
    pub question: Question,
    pub outcome: Outcome,
    pub at: Timestamp,
    pub elapsed_ms: u32,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    Reply(Reply),
    /// No answer in time, after the retries.
    Silent,
    /// The network said no; with its words.
    Unreachable(String),
    /// This host has no address of that family: says nothing about the server.
    NoRoute,
    /// Something came that is no DNS answer to the question.
    Garbled(String),
}

impl Question {
    /// A question to a server about its own data, over UDP.
    pub fn authoritative(server: SocketAddr, name: &DnsName, record_type: RecordType) -> Self {
        Self {
            server,
            name: name.clone(),
            record_type,
            transport: Transport::Udp,
            recursion_desired: false,
            with_signatures: false,
            checking_disabled: false,
        }
    }
}

impl Outcome {
    /// Why it is no answer, in a few words.
    pub fn in_words(&self) -> String {
        match self {
            Outcome::Reply(reply) => format!("answered {}", reply.rcode_word()),
            Outcome::Silent => "did not answer in time".into(),
            Outcome::Unreachable(reason) => format!("could not be reached ({reason})"),
            Outcome::NoRoute => "has an address of a family that this host lacks".into(),
            Outcome::Garbled(reason) => format!("sent something that is not a DNS answer ({reason})"),
        }
    }
}

/// A decoded answer.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reply {
    pub rcode: u16,
    pub authoritative: bool,
    pub recursion_available: bool,
    /// Whether the answer has an OPT record: the server knows EDNS.
    #[serde(default)]
    pub edns: bool,
    pub answer: Vec<Record>,
    pub authority: Vec<Record>,
    pub additional: Vec<Record>,
}

impl Reply {
    pub const NOERROR: u16 = 0;
    pub const SERVFAIL: u16 = 2;
    pub const NXDOMAIN: u16 = 3;
    pub const REFUSED: u16 = 5;

    /// The mnemonic of the response code (RFC 1035 section 4.1.1, RFC 6895 section 2.3).
    pub fn rcode_word(&self) -> String {
        match self.rcode {
            0 => "NOERROR".into(),
            1 => "FORMERR".into(),
            2 => "SERVFAIL".into(),
            3 => "NXDOMAIN".into(),
            4 => "NOTIMP".into(),
            5 => "REFUSED".into(),
            9 => "NOTAUTH".into(),
            other => format!("RCODE{other}"),
        }
    }
}

/// All observations of one look at the world, found by their question.
#[derive(Debug, Clone, Default)]
pub struct Observations {
    seen: HashMap<Question, Observation, RandomState>,
    /// Names that were seen to be aliases when their addresses were asked for, with what they lead to.
    pub(super) aliases: HashMap<DnsName, DnsName, RandomState>,
    /// When the last one was made.
    pub(super) latest: Option<Timestamp>,
}

impl Observations {
    pub fn add(&mut self, observation: Observation) {
        if let Outcome::Reply(reply) = &observation.outcome
            && reply.authoritative
        {
            for record in &reply.answer {
                if let RecordData::Cname(target) = &record.data
                    && record.owner == observation.question.name
                {
                    self.aliases.insert(record.owner.clone(), target.clone());
                }
            }
        }
        self.latest = self.latest.max(Some(observation.at));
        self.seen.insert(observation.question.clone(), observation);
    }

    pub fn get(&self, question: &Question) -> Option<&Observation> {
        self.seen.get(question)
    }

    pub fn outcome(&self, question: &Question) -> Option<&Outcome> {
        self.seen.get(question).map(|observation| &observation.outcome)
    }

    pub fn len(&self) -> usize {
        self.seen.len()
    }

    pub fn is_empty(&self) -> bool {
        self.seen.is_empty()
    }

    pub fn iter(&self) -> impl Iterator<Item = &Observation> {
        self.seen.values()
    }
}
