//! The part of `zone show` about a zone that the DNS server signs: its keys as they are seen, and the DS records that the
//! parent should have.

use std::net::SocketAddr;

use brightharbor_core::delegation::Ds;
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{KeyState, ParentDs, Zone, algorithm_word, key_states};
use brightharbor_io::clock;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::load::{ds_at_parent, key_answers};
use serde_json::{Value, json};

pub struct SignedZone {
    domain: DnsName,
    server: &'static str,
    policy: String,
    /// Or why the server could not be asked, in words.
    keys: Result<Vec<KeyState>, String>,
    parent: Result<ParentDs, String>,
}

/// Asks the server here and the parent.
pub async fn seen_keys(harbor: &Harbor, zone: &Zone, policy: &str, server: SocketAddr) -> SignedZone {
    let domain = zone.name.dns_name();
    let parent = ds_at_parent(&harbor.settings, &zone.name).await;
    let answers = key_answers(server, &domain).await;
    let keys = answers.map(|answers| key_states(&domain, &answers, parent.as_ref().ok(), clock::now()));
    SignedZone { domain, server: harbor.settings.dns.server.words(), policy: policy.to_string(), keys, parent }
}

impl SignedZone {
    /// The DS records that the server asks for and that the parent lacks.
    fn missing(&self) -> Vec<Ds> {
        let keys = self.keys.iter().flatten();
        keys.filter(|state| state.lacks_ds()).map(|state| state.key.ds(&self.domain)).collect()
    }

    /// Label and words, a line each.
    pub fn lines(&self) -> Vec<(String, String)> {
        let mut lines = vec![("signed".to_string(), format!("by {}, by its policy `{}`", self.server, self.policy))];
        match &self.keys {
            Err(why) => lines.push(("keys".into(), format!("not known: the server {why}"))),
            Ok(keys) if keys.is_empty() => lines.push(("keys".into(), "none yet".into())),
            Ok(keys) => lines.extend(keys.iter().map(|state| (format!("key {}", state.key.key_tag), words(state)))),
        }
        if let Err(why) = &self.parent {
            lines.push(("parent".into(), format!("could not be asked: {why}")));
        }
        for ds in self.missing() {
            let words = format!("{}; how: brightharbor delegation handover {}", ds.text(), self.domain.bare());
            lines.push(("DS to enter".into(), words));
        }
        lines
    }

    pub fn document(&self) -> Value {
        let key = |state: &KeyState| {
            json!({
                "tag": state.key.key_tag,
                "algorithm": state.key.algorithm,
                "entry_point": state.key.is_entry_point(),
                "signs_keys": state.signs_keys,
                "signs_zone": state.signs_zone,
                "ds_wanted": state.ds_wanted,
                "ds_at_parent": state.ds_at_parent,
            })
        };
        json!({
            "policy": self.policy,
            "keys": self.keys.as_ref().ok().map(|keys| keys.iter().map(key).collect::<Vec<_>>()),
            "problem": self.keys.as_ref().err(),
            "ds_missing": self.missing().iter().map(Ds::text).collect::<Vec<_>>(),
            "parent_problem": self.parent.as_ref().err(),
        })
    }
}

/// What a key does, and how far its DS is.
fn words(state: &KeyState) -> String {
    let does = match (state.signs_keys, state.signs_zone) {
        (true, true) => "signs keys and records",
        (true, false) => "signs the keys",
        (false, true) => "signs the records",
        (false, false) => "published only",
    };
    let ds = match (state.key.is_entry_point(), state.ds_wanted, state.ds_at_parent) {
        (false, ..) => "",
        (_, _, None) => ", whether its DS is at the parent is not known",
        (_, true, Some(true)) => ", its DS is at the parent",
        (_, true, Some(false)) => ", its DS is wanted at the parent and not there yet",
        (_, false, Some(true)) => ", its DS is at the parent, not asked for by the server",
        (_, false, Some(false)) => ", its DS is not wanted yet",
    };
    format!("{}, {does}{ds}", algorithm_word(state.key.algorithm))
}
