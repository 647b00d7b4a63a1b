//! What decisions about zones have to tell.

use crate::account::AccountName;
use crate::name::{DnsName, Hostname};
use crate::zone::{CarriedOver, Record};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ZoneRemark {
    New {
        zone: Hostname,
        serial: u32,
    },
    /// A new zone has what the world's zone has, as far as it was seen.
    CarriedOver {
        zone: Hostname,
        carried: CarriedOver,
    },
    /// Kept here from now on; the server goes on reading its file where it is.
    TakenOver {
        zone: Hostname,
        records: usize,
        serial: u32,
        file: std::path::PathBuf,
        defined_in: std::path::PathBuf,
    },
    /// The server signs it from now on.
    SigningOn {
        zone: Hostname,
        policy: String,
    },
    SigningOff {
        zone: Hostname,
    },
    /// Known from now on; its primary server has held it before.
    OnPrimary {
        zone: Hostname,
        records: usize,
        serial: u32,
    },
    /// Known from now on, and kept by somebody else.
    Elsewhere {
        zone: Hostname,
    },
    /// No zone here holds the name: its records are handed over.
    KeptElsewhere {
        zone: Hostname,
    },
    AddressesKept {
        zone: Hostname,
        hostname: Hostname,
    },
    RecordAdded {
        zone: Hostname,
        record: Record,
    },
    RecordRemoved {
        zone: Hostname,
        record: Record,
    },
    /// Address records that led here, and others that were put there for a certificate's seller.
    /// By a listing.
    RecordsAdded {
        zone: Hostname,
        records: Vec<Record>,
    },
    AddressesRemoved {
        zone: Hostname,
        addresses: usize,
        others: usize,
    },
    /// With the copy that is kept of its file.
    Removed {
        zone: Hostname,
        copy: std::path::PathBuf,
    },
    /// Its primary server goes on serving it; it is not known here any more.
    StaysOnPrimary {
        zone: Hostname,
    },
    /// Somebody else goes on keeping it; it is not known here any more.
    StaysElsewhere {
        zone: Hostname,
    },
    /// Its start of authority has other values.
    SoaChanged {
        zone: Hostname,
        soa: Box<crate::zone::Soa>,
    },
    /// The times to live of so many record sets are so many seconds from now on.
    TtlsLowered {
        zone: Hostname,
        sets: usize,
        ttl: u32,
    },
    /// From then on nothing is cached for longer.
    ReadyToMove {
        zone: Hostname,
        at: jiff::Timestamp,
        ttl: u32,
    },
    /// A server keeps changes of the zone in a journal, which the file may lack.
    JournalBeside {
        file: std::path::PathBuf,
        journal: std::path::PathBuf,
    },
    /// They are as they were.
    TtlsPutBack {
        zone: Hostname,
        sets: usize,
    },
    HandedTo {
        zone: Hostname,
        account: AccountName,
    },
    /// Its nameservers are others from now on: what the registrar has to enter.
    OtherNameservers {
        zone: Hostname,
        values: Vec<String>,
    },
    CatalogNew {
        catalog: Hostname,
        members: usize,
    },
    /// A catalog that the server had before gets the zones of this harbor as well.
    CatalogJoined {
        catalog: Hostname,
        file: std::path::PathBuf,
    },
    CatalogChanged {
        catalog: Hostname,
        removed: usize,
        added: usize,
    },
    /// Transfers are limited to the keys of so many secondaries.
    Published {
        secondaries: usize,
    },
    /// Visitors get another zone than this one: a finding says why, and these servers answer.
    NotInUse {
        zone: Hostname,
        finding: crate::finding::Finding,
        nameservers: Vec<DnsName>,
    },
}
