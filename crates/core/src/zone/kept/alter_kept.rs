//! The decision to add, replace or remove records in a zone of the inventory, as a plan.

use jiff::Timestamp;

use super::{KeptZone, ZoneRefusal, ZoneRemark};
use crate::change::{FileWrite, Plan, Purpose};
use crate::zone::rules::Surroundings;
use crate::zone::{AlterFacts, AlterRequest, Altered, Document, alter, serial_date};
use std::path::PathBuf;

/// Decides a change of records; `not_in_use` is what was seen of who serves the zone to visitors.
pub fn alter_kept(
    kept: &KeptZone,
    request: &AlterRequest,
    around: &Surroundings,
    not_in_use: Option<ZoneRemark>,
    title: &str,
    now: Timestamp,
) -> Result<(Plan, AlterFacts), ZoneRefusal> {
    let Altered { zone, facts } = alter(&kept.document, request, around, serial_date(now))?;
    let mut plan = Plan::new(title);
    not_in_use.into_iter().for_each(|remark| plan.remark(remark));
    plan.change(kept.change(&zone, &facts.removed, &facts.added));
    Ok((plan, facts))
}

/// The same in a master file anywhere, which no server has to hear of. For a process that ends soon: what was read of the file
/// and made of it is left until then.
pub fn alter_loose(
    path: PathBuf,
    document: Document,
    request: &AlterRequest,
    title: &str,
    now: Timestamp,
) -> Result<(Plan, AlterFacts), ZoneRefusal> {
    let Altered { zone, facts } = alter(&document, request, &Surroundings::default(), serial_date(now))?;
    let mut plan = Plan::new(title);
    let before = Some(document.leave_to_the_end());
    plan.set.file(FileWrite::new(path, before, zone.leave_to_the_end(), 0o644, Purpose::Loose));
    Ok((plan, facts))
}
