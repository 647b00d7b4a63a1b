//! `zone change --sign` and `--no-sign`: has the DNS server sign a zone, or sign it no more.

use brightharbor_core::zone::{sign, sign_no_more};
use brightharbor_io::load;
use serde_json::{Value, json};

use super::source::find;
use crate::commands::Report;
use crate::error::Exit;
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::{Page, change_report};
use crate::show::{Shown, json};

/// `policy` is `None` where it is to be signed no more.
pub fn run(zone: &str, policy: Option<&str>, options: &ChangeOptions, context: &Context) -> Report {
    let title = match policy {
        Some(policy) => format!("zone change {zone} --sign {policy}"),
        None => format!("zone change {zone} --no-sign"),
    };
    let (carried, name) = context.block_on(change(context, &title, options, async |overlay, now| {
        let zone = find(overlay, zone)?;
        let loaded = load::signing(overlay, &zone).await?;
        let (settings, layout) = (&overlay.settings, &overlay.layout);
        let plan = match policy {
            Some(policy) => sign(&loaded, policy, settings, layout)?,
            None => sign_no_more(&loaded, settings, layout, now)?,
        };
        Ok((plan, zone.name))
    }))??;
    Ok(Box::new(Signed { carried, zone: name.to_string(), on: policy.is_some() }))
}

struct Signed {
    carried: Carried,
    zone: String,
    on: bool,
}

impl Shown for Signed {
    fn human(&self, page: &mut Page) {
        change_report(page, &self.carried);
        if self.on {
            page.blank();
            let keys =
                format!("its keys, and when their DS is wanted at the parent: brightharbor zone show {}", self.zone);
            page.hanging("next: ", &keys);
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "zone change",
            "carried_out": self.carried.entry.is_some(),
            "change": json::ChangeDocument::from(&self.carried),
            "zone": self.zone,
            "signed": self.on,
        })
    }

    fn exit(&self) -> Exit {
        self.carried.exit(Exit::Done)
    }
}
