//! The links of many hostnames, some at a time: what is seen of all of them would not fit into memory. For `survey` and
//! `report`.

use std::net::IpAddr;

use brightharbor_core::name::Host;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::look::{Looked, look_asking};
use brightharbor_io::probe::RevocationLists;

use crate::error::Error;
use crate::run::Context;

/// Hostnames that are looked at before the next ones.
const AT_ONCE: usize = 400;

/// Hands over what was seen of some hostnames after the other.
pub fn walk(
    context: &Context,
    harbor: &Harbor,
    names: &[Host],
    at: Option<IpAddr>,
    mut each: impl FnMut(Looked) -> Result<(), Error>,
) -> Result<(), Error> {
    let lists = RevocationLists::of(harbor);
    context.block_on(async {
        let mut done = 0;
        for some in names.chunks(AT_ONCE) {
            let more = if some.len() > 1 { format!(" and {} more", some.len() - 1) } else { String::new() };
            context.progress.doing(&format!("walking the links of {}{more}", some[0]));
            if names.len() > AT_ONCE {
                context.progress.counted("hostnames looked at", done, names.len());
            }
            each(look_asking(harbor, some, at, &lists).await?)?;
            done += some.len();
        }
        Ok(())
    })?
}
