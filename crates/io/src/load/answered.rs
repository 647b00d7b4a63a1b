//! What the running web server answers for names before they are attached. Each is asked about once for a command; those of
//! one call are asked about side by side.

use std::rc::Rc;

use brightharbor_core::harbor::WebServer;
use brightharbor_core::name::Host;
use brightharbor_core::site::{AnsweredBefore, AttachRequest, wanted_names};
use futures_util::{StreamExt, stream};

use super::LoadError;
use crate::overlay::{NotAsked, Overlay};
use crate::probe::{hear_before, hear_strangers};

/// Questions to one server of this host at the same time.
const AT_ONCE: usize = 32;

/// Asks about all names of the requests, so that [`answered`] has the answers at hand.
pub async fn ask_ahead(overlay: &Overlay<'_>, requests: &[AttachRequest]) -> Result<(), LoadError> {
    let here = requests.iter().filter(|request| request.place.is_here());
    let names: Vec<Host> = here.flat_map(|request| wanted_names(&request.hostname, request.www)).collect();
    overlay.note_many(requests.len());
    // Strangers first, once: all others are compared with them.
    let Some(first) = names.first() else { return Ok(()) };
    ask(overlay, first).await?;
    let mut asking = stream::iter(names.iter().skip(1).map(|host| ask(overlay, host))).buffer_unordered(AT_ONCE);
    while let Some(answer) = asking.next().await {
        answer?;
    }
    Ok(())
}

/// Where the running web server answers for one of the names by something of its own.
pub(super) async fn answered(overlay: &Overlay<'_>, names: &[Host]) -> Result<Option<AnsweredBefore>, LoadError> {
    for host in names {
        let found = ask(overlay, host).await?;
        if found.is_some() {
            return Ok(found);
        }
    }
    Ok(None)
}

async fn ask(overlay: &Overlay<'_>, host: &Host) -> Result<Option<AnsweredBefore>, NotAsked> {
    let settings = &overlay.settings;
    if settings.web.server == WebServer::None || host.name().is_none() {
        return Ok(None);
    }
    let asking = async { Rc::new(hear_strangers(settings).await) };
    let strangers = overlay.ask("what the web server answers for names that nobody has", asking).await?;
    overlay.ask(&format!("what the web server answers for {host}"), hear_before(settings, host, &strangers)).await
}
