//! Edits of a zone document: only the lines concerned change, and the serial.
//!
//! Every edit returns a new document, parsed again from its bytes, so that what is written is also what is read.

use std::hash::BuildHasher;
use std::ops::Range;

use jiff::civil::Date;

use super::document::records_of;
use super::rules::WORTH_TWO;
use super::{
    Document, EditError, Entry, Item, Record, RecordData, RecordType, Soa, newest_serial, next_serial, serial_is_newer,
};

impl Document {
    /// Adds records, each behind the last record of its owner or else at the end, and raises the serial.
    ///
    /// Refuses what would break the zone: data outside it, beside an alias, below a delegation, or there already.
    pub fn with_records(&self, records: &[Record], today: Date) -> Result<Document, EditError> {
        for record in records {
            self.refuse_unfit(record)?;
        }
        self.spliced(self.additions(records), records, &[], None, today)
    }

    /// The same records under a newer serial than one that servers have: they would never replace what they have otherwise.
    pub fn raised_above(&self, serial: u32, today: Date) -> Result<Document, EditError> {
        self.clone().seen_with(Some(serial)).spliced(vec![], &[], &[], None, today)
    }

    /// What goes back in place of a newer document that a server may have loaded: these records under a serial above that of
    /// the newer one and those that servers have, since none of them takes a serial back. `None`: as it is, since nothing
    /// newer was heard, or its serial stands in another file.
    pub fn put_back_after(&self, newer: &Document, served: &[u32], today: Date) -> Option<Document> {
        let heard = served.iter().copied().chain([newer.soa().serial]);
        let newest = newest_serial(heard).filter(|newest| serial_is_newer(*newest, self.soa().serial))?;
        self.raised_above(newest, today).ok()
    }

    /// Takes records away, and raises the serial. They must stand in lines of this file.
    pub fn without_records(&self, records: &[Record], today: Date) -> Result<Document, EditError> {
        self.spliced(self.removals(records)?, &[], records, None, today)
    }

    /// Takes some records away and adds others in one step, and raises the serial.
    pub fn with_replaced(&self, old: &[Record], new: &[Record], today: Date) -> Result<Document, EditError> {
        self.with_changes(old, new, None, today)
    }

    /// The same, with other values in the start of authority; its serial is raised as ever, whatever `soa` says.
    pub fn with_changes(
        &self,
        old: &[Record],
        new: &[Record],
        soa: Option<&Soa>,
        today: Date,
    ) -> Result<Document, EditError> {
        // Whole lines come before the owner that a following line may have to be given at the same place.
        let mut splices = self.additions(new);
        splices.extend(self.removals(old)?);
        self.spliced(splices, new, old, soa, today)
    }

    fn additions(&self, records: &[Record]) -> Vec<(Range<usize>, String)> {
        let line = |record: &Record| {
            let at = self.place_for(record);
            let owner = self.owner_text_at(at, record);
            let text = format!("{owner}\t{}\tIN\t{}\t{}", record.ttl, record.record_type(), record.data);
            (at..at, self.on_own_line(at, &text))
        };
        records.iter().map(line).collect()
    }

    fn removals(&self, records: &[Record]) -> Result<Vec<(Range<usize>, String)>, EditError> {
        let is_meant = |record: &Record| records.contains(record);
        let mut splices = Vec::new();
        let mut orphaned = false;
        let mut found = 0;
        for entry in &self.entries {
            match &entry.item {
                Item::Record(record) if is_meant(record) => {
                    if record.record_type() == RecordType::SOA {
                        return Err(EditError::Soa);
                    }
                    found += 1;
                    splices.push((entry.span(), String::new()));
                    orphaned |= !self.leaves_owner_out(entry);
                }
                Item::Record(record) => {
                    // A line that took its owner from the one that goes must say it itself now.
                    let was_orphaned = std::mem::take(&mut orphaned);
                    if was_orphaned && self.leaves_owner_out(entry) {
                        let owner = self.owner_text_at(entry.span().start, record);
                        splices.push((entry.span().start..entry.span().start, owner));
                    }
                }
                Item::Generate(generated) if generated.iter().any(is_meant) => {
                    return Err(EditError::NotALine { line: entry.line() });
                }
                _ => {}
            }
        }
        let distinct: std::collections::HashSet<&Record> = records.iter().collect();
        if found < distinct.len() { Err(EditError::Elsewhere) } else { Ok(splices) }
    }

    fn leaves_owner_out(&self, entry: &Entry) -> bool {
        matches!(self.source[entry.span().start], b' ' | b'\t')
    }

    /// Puts texts in place of spans and raises the serial; what comes of it is read again.
    fn spliced(
        &self,
        splices: Vec<(Range<usize>, String)>,
        added: &[Record],
        removed: &[Record],
        soa: Option<&Soa>,
        today: Date,
    ) -> Result<Document, EditError> {
        let expected = self.digest(&|record| !removed.contains(record), added);
        match self.spliced_to(splices.clone(), expected, soa, today) {
            // Lines that take their TTL from the one before it must say it themselves where that one changes.
            Err(EditError::OthersChange) => {
                let guards = self.ttl_guards(&splices);
                self.spliced_to(splices.into_iter().chain(guards).collect(), expected, soa, today)
            }
            other => other,
        }
    }

    /// The TTLs of lines that come first behind a change and have none of their own.
    fn ttl_guards(&self, splices: &[(Range<usize>, String)]) -> Vec<(Range<usize>, String)> {
        let goes = |entry: &Entry| splices.iter().any(|(span, text)| *span == entry.span() && text.is_empty());
        let mut guards: Vec<(Range<usize>, String)> = Vec::new();
        for (span, _) in splices {
            let behind = self.entries().iter().filter(|entry| entry.span().start >= span.end && !goes(entry));
            let next = behind.filter_map(|entry| match &entry.item {
                Item::Record(record) => Some((entry, record)),
                _ => None,
            });
            let Some((entry, record)) = next.into_iter().next() else { continue };
            let guard = self.ttl_of(entry, record.ttl);
            if guard.0.is_empty() && !guards.contains(&guard) {
                guards.push(guard);
            }
        }
        guards
    }

    /// The same, for records that have this digest afterwards.
    pub(super) fn spliced_to(
        &self,
        mut splices: Vec<(Range<usize>, String)>,
        expected: Digest,
        soa: Option<&Soa>,
        today: Date,
    ) -> Result<Document, EditError> {
        if self.is_signed() && !self.of_server {
            return Err(EditError::Signed);
        }
        splices.extend(self.soa_values(soa, today)?);
        // A stable sort keeps the given order of records that go to the same place.
        splices.sort_by_key(|(span, _)| span.start);
        let mut bytes = Vec::with_capacity(self.source().len() + 80 * splices.len());
        let mut done = 0;
        for (span, text) in splices {
            bytes.extend_from_slice(&self.source()[done..span.start]);
            // Where the last line went, which had no end, the one before it has ended already.
            let ended = matches!(bytes.last(), None | Some(b'\n' | b'\r'));
            let text = if ended { text.trim_start_matches(['\r', '\n']) } else { text.as_str() };
            bytes.extend_from_slice(text.as_bytes());
            done = span.end;
        }
        bytes.extend_from_slice(&self.source()[done..]);
        let edited = self.again(bytes).map_err(EditError::Unreadable)?;
        if expected == edited.digest(&|_| true, &[]) { Ok(edited) } else { Err(EditError::OthersChange) }
    }

    /// The values of the start of authority that change, each in its place: the serial always does.
    fn soa_values(&self, wanted: Option<&Soa>, today: Date) -> Result<Vec<(Range<usize>, String)>, EditError> {
        let [primary, hostmaster, serial, times @ ..] = self.soa_places.spans.clone().ok_or(EditError::SoaIncluded)?;
        let present = self.soa();
        let next = next_serial(self.served_serial.unwrap_or(present.serial), today).to_string();
        let mut splices = vec![(serial, next.clone())];
        splices.extend(self.soa_places.more_serials.iter().map(|span| (span.clone(), next.clone())));
        let Some(wanted) = wanted else { return Ok(splices) };
        for (span, old, new) in
            [(primary, &present.primary, &wanted.primary), (hostmaster, &present.hostmaster, &wanted.hostmaster)]
        {
            if old != new {
                splices.push((span, new.to_string()));
            }
        }
        let numbers = |soa: &Soa| [soa.refresh, soa.retry, soa.expire, soa.negative_ttl];
        for ((span, old), new) in times.into_iter().zip(numbers(present)).zip(numbers(wanted)) {
            if old != new {
                splices.push((span, new.to_string()));
            }
        }
        Ok(splices)
    }

    fn refuse_unfit(&self, record: &Record) -> Result<(), EditError> {
        let owner = &record.owner;
        if !owner.is_within(self.origin()) {
            return Err(EditError::OutOfZone(owner.bare(), self.origin().bare()));
        }
        for present in self.records() {
            if present.owner == *owner {
                if present.data == record.data {
                    return Err(EditError::Duplicate(record.to_string()));
                }
                let alias = |r: &Record| r.record_type() == RecordType::CNAME;
                if alias(present) {
                    return Err(EditError::BesideAlias { owner: owner.bare() });
                }
                if alias(record) {
                    let present = present.record_type();
                    return Err(EditError::AliasBeside { owner: owner.bare(), present });
                }
            }
            let is_cut = present.record_type() == RecordType::NS && present.owner != *self.origin();
            if is_cut && owner.is_within(&present.owner) && record.record_type() != RecordType::NS {
                let is_glue = self.records().any(|r| r.data == RecordData::Ns(owner.clone()));
                if !(is_glue && record.data.address().is_some()) {
                    return Err(EditError::BelowDelegation { owner: owner.bare(), cut: present.owner.bare() });
                }
            }
        }
        Ok(())
    }

    /// Behind the last record of the same owner; behind everything if there is none.
    fn place_for(&self, record: &Record) -> usize {
        let last = self
            .entries()
            .iter()
            .rev()
            .find(|entry| matches!(&entry.item, Item::Record(present) if present.owner == record.owner));
        last.map_or(self.source().len(), |entry| entry.span().end)
    }

    /// The owner as written at this place. It is always written out, relative to the zone only while no other
    /// `$ORIGIN` is in force there.
    fn owner_text_at(&self, at: usize, record: &Record) -> String {
        let origin =
            self.entries().iter().take_while(|entry| entry.span().start < at).filter_map(|entry| match &entry.item {
                Item::Origin(name) => Some(name),
                _ => None,
            });
        let in_force = origin.last().unwrap_or(self.origin());
        record.owner.relative_to(in_force).unwrap_or_else(|| record.owner.to_string())
    }

    fn on_own_line(&self, at: usize, text: &str) -> String {
        let (before, end) = (&self.source()[..at], self.line_end(at));
        match before.last() {
            None | Some(b'\n' | b'\r') => format!("{text}{end}"),
            _ => format!("{end}{text}"),
        }
    }

    /// How the line before this place ends; where it does not end, as the first line of the file does.
    fn line_end(&self, at: usize) -> &'static str {
        let of = |bytes: &[u8]| match bytes {
            [.., b'\r', b'\n'] => Some("\r\n"),
            [.., b'\n'] => Some("\n"),
            [.., b'\r'] => Some("\r"),
            _ => None,
        };
        let first = || {
            let newline = self.source().iter().position(|byte| *byte == b'\n');
            // Old files of one kind of system have no line feed at all.
            let end = newline.or_else(|| self.source().iter().position(|byte| *byte == b'\r'))?;
            of(&self.source()[..=end])
        };
        of(&self.source()[..at]).or_else(first).unwrap_or("\n")
    }
}

impl Document {
    /// The [`Digest`] of those records that stay, and of further ones; that of a large zone is made of both halves at once.
    fn digest(&self, stays: &(impl Fn(&Record) -> bool + Sync), more: &[Record]) -> Digest {
        let of = |entries| Digest::of(records_of(entries).filter(|record| stays(record)));
        if self.entries.len() < WORTH_TWO {
            return Digest::of(self.records().filter(|record| stays(record)).chain(more));
        }
        let (one, two) = self.entries.split_at(self.entries.len() / 2);
        let halves = std::thread::scope(|scope| {
            let second = scope.spawn(|| of(two));
            of(one).and(second.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
        });
        halves.and(Digest::of(more.iter()))
    }
}

/// All records but the SOA, whose serial changes, in a form that is the same whatever their order: how many there are, and two
/// sums of what each comes to. One record more, less or other than meant is another digest.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Digest {
    count: usize,
    sum: u128,
    squares: u128,
}

impl Digest {
    pub(super) fn of<'a>(records: impl Iterator<Item = &'a Record>) -> Self {
        let hasher = foldhash::quality::FixedState::default();
        let others = records.filter(|record| record.record_type() != RecordType::SOA);
        others.fold(Self::default(), |all, record| {
            let one = u128::from(hasher.hash_one(record));
            all.and(Self { count: 1, sum: one, squares: one * one })
        })
    }

    fn and(self, other: Self) -> Self {
        Self {
            count: self.count + other.count,
            sum: self.sum.wrapping_add(other.sum),
            squares: self.squares.wrapping_add(other.squares),
        }
    }
}

#[cfg(test)]
#[path = "edit_tests.rs"]
mod tests;
