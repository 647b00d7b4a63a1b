//! What CAs demand or offer beside the ordinary: accounts bound to customers, several chains, authorizations that are
//! reused; on the test CA of the `pebble` package, beside the stand-in CA of the settings.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use brightharbor_core::certificate::{CertificateFacts, read_chain};
use serde_json::json;

use super::ca::{Ca, Manner, start_ca_with};
use crate::coast::Coast;

const SITE: &str = "crumbandtide.example";

fn with_ca(manner: &Manner, more: &str) -> (Coast, Ca) {
    let coast = Coast::with_bakery();
    let ca = start_ca_with(&coast.world.cast, coast.folder.path(), manner);
    settle(&coast, &ca, more);
    (coast, ca)
}

/// Puts the CA into harbor.toml as `pier`, with further lines.
fn settle(coast: &Coast, ca: &Ca, more: &str) {
    let toml = coast.harbor().join("harbor.toml");
    let text = fs::read_to_string(&toml).unwrap();
    let text = text.split("\n[cas.pier]").next().unwrap();
    let roots = format!("trust-roots = [\"{}\", ", ca.root.display());
    let text = if text.contains(&roots) { text.to_string() } else { text.replace("trust-roots = [", &roots) };
    let (directory, root) = (&ca.directory, ca.https_root.display());
    let table = format!("[cas.pier]\ndirectory = \"{directory}\"\nterms-accepted = true\ntrust-root = \"{root}\"\n");
    fs::write(&toml, format!("{text}\n{table}{more}")).unwrap();
}

fn chain(coast: &Coast) -> Vec<CertificateFacts> {
    let folders = fs::read_dir(coast.harbor().join("certificates").join(SITE)).unwrap();
    let folders = folders.map(|entry| entry.unwrap().path()).filter(|path| !path.ends_with("aside"));
    let last = folders.max().unwrap();
    read_chain(&fs::read(last.join("chain.pem")).unwrap()).unwrap()
}

#[test]
fn an_account_is_bound_to_a_customer_where_the_ca_demands_it() {
    const KEY: &str = "zWNDZM6eQGHWpSRTPal5eIUYFTu7EajVIoguysqZ9wG44nMEtx3MUAsUDkMTQ12W";
    let customer = Some(("customer-7", KEY));
    let (coast, ca) = with_ca(&Manner { customer, ..Manner::default() }, "");
    let issue = ["certificate", "issue", SITE, "--ca", "pier"];
    let refused = coast.run(&issue).expect(4);
    assert!(refused.contains("not bound to one of its customers") && refused.contains("external-account"), "{refused}");

    let file = coast.path("customer.key");
    let line = format!("external-account = {{ id = \"customer-7\", key-file = \"{}\" }}\n", file.display());
    settle(&coast, &ca, &line);
    fs::write(&file, format!("{KEY}\n")).unwrap();
    fs::set_permissions(&file, fs::Permissions::from_mode(0o644)).unwrap();
    assert!(coast.run(&issue).expect(4).contains("chmod 600"));
    fs::set_permissions(&file, fs::Permissions::from_mode(0o600)).unwrap();
    fs::write(&file, KEY.replace('z', "Z")).unwrap();
    let wrong = coast.run(&issue).expect(4);
    assert!(wrong.contains("the CA refuses (opening the account)"), "{wrong}");
    assert!(!wrong.contains(KEY));
    fs::write(&file, KEY).unwrap();
    let issued = coast.json(&issue, 0);
    assert_eq!(issued["certificate"]["outcome"], "served", "{issued}");
    let listed = coast.json(&["certificate", "list"], 0);
    assert_eq!(
        (&listed["certificates"][0]["ca"], &listed["certificates"][0]["source"]),
        (&json!("pier"), &json!("ca"))
    );
    // It is revoked where it came from.
    let revoked = coast.json(&["certificate", "revoke", SITE], 0);
    assert_eq!(revoked["successor"]["outcome"], "served");
}

#[test]
fn a_demand_for_a_staple_that_the_ca_leaves_out_is_told_and_not_asked_for_at_every_run() {
    let (coast, _ca) = with_ca(&Manner::default(), "");
    let told = coast.run(&["certificate", "issue", SITE, "--ca", "pier", "--stapled"]).expect(0);
    assert!(told.contains("the CA has left it out"), "{told}");
    let before = chain(&coast);
    assert!(!before[0].must_staple);
    coast.json(&["tend"], 0);
    assert_eq!(coast.json(&["certificate", "issue", SITE], 0)["certificate"]["new"], false);
    assert_eq!(chain(&coast), before);
}

#[test]
fn of_several_chains_the_preferred_one_is_taken() {
    let (coast, ca) = with_ca(&Manner { alternate_roots: 2, ..Manner::default() }, "");
    let name_of_root = |number: u8| read_chain(&ca.fetch_root(number)).unwrap()[0].subject.clone();
    let issue = ["certificate", "issue", SITE, "--ca", "pier"];
    coast.json(&issue, 0);
    assert_eq!(chain(&coast).last().unwrap().issuer, name_of_root(0));
    // The last one, by the part of its name that tells the roots of this CA apart.
    let name = name_of_root(2);
    let part = name.rsplit(' ').next().unwrap();
    assert!(!name_of_root(0).contains(part));
    let second = coast.path("second-root.pem");
    fs::write(&second, ca.fetch_root(2)).unwrap();
    settle(&coast, &ca, &format!("preferred-chain = \"{part}\"\n"));
    let toml = coast.harbor().join("harbor.toml");
    let text = fs::read_to_string(&toml).unwrap();
    fs::write(&toml, text.replace("trust-roots = [", &format!("trust-roots = [\"{}\", ", second.display()))).unwrap();
    coast.json(&["certificate", "renew", SITE], 0);
    assert_eq!(chain(&coast).last().unwrap().issuer, name);
}

#[test]
fn authorizations_of_earlier_orders_are_taken_where_the_ca_reuses_them_and_not_missed_where_it_does_not() {
    for reuse in [0, 100] {
        let (coast, _ca) = with_ca(&Manner { reuse, refused_nonces: 30, ..Manner::default() }, "");
        coast.json(&["certificate", "issue", SITE, "--ca", "pier"], 0);
        for _ in 0..3 {
            let renewed = coast.json(&["certificate", "renew", SITE, "--wildcard"], 0);
            assert_eq!(renewed["certificate"]["names"], json!([SITE, format!("*.{SITE}")]), "{renewed}");
        }
    }
}

#[test]
fn the_account_gets_another_key_another_contact_and_an_end() {
    let (coast, ca) =
        with_ca(&Manner { refused_nonces: 30, ..Manner::default() }, "contact = \"crew@saltmarsh.example\"\n");
    assert!(coast.run(&["ca", "change-key", "pier"]).expect(4).contains("no account"));
    coast.json(&["certificate", "issue", SITE, "--ca", "pier"], 0);
    let account = || coast.json(&["ca", "list"], 0)["cas"][1]["account"].as_str().map(String::from);
    let (first, folder) = (account().unwrap(), ca_folder(&coast, &ca));
    let key = || fs::read(folder.join("account.pem")).unwrap();
    let before = key();
    coast.run(&["ca", "change-key", "pier"]).expect(0);
    assert_ne!(key(), before);
    coast.json(&["certificate", "renew", SITE], 0);
    assert_eq!(account(), Some(first.clone()), "the account is the same");

    // Cut off after the CA was told: the old key is back in place, and the new one lies beside it.
    fs::rename(folder.join("account.pem"), folder.join("account.next.pem")).unwrap();
    fs::write(folder.join("account.pem"), &before).unwrap();
    assert!(coast.run(&["certificate", "renew", SITE]).expect(4).contains("ca change-key"));
    coast.run(&["ca", "change-key", "pier"]).expect(0);
    coast.json(&["certificate", "renew", SITE], 0);
    // Cut off before: the CA does not know the new one yet.
    let unknown = rcgen::KeyPair::generate().unwrap().serialize_pem();
    fs::write(folder.join("account.next.pem"), unknown).unwrap();
    coast.run(&["ca", "change-key", "pier"]).expect(0);
    coast.json(&["certificate", "renew", SITE], 0);

    assert!(coast.run(&["ca", "tell-contact", "pier"]).expect(0).contains("crew@saltmarsh.example"));
    assert!(coast.run(&["ca", "close", "pier"]).expect(4).contains("--yes"));
    coast.run(&["ca", "close", "pier", "--yes"]).expect(0);
    assert_eq!(account(), None);
    coast.json(&["certificate", "renew", SITE], 0);
    assert_ne!(account().unwrap(), first, "another account");
}

#[test]
fn certificates_that_live_for_six_days_or_for_seconds_are_renewed_in_time() {
    let (coast, ca) = with_ca(&Manner { lifetime: Some(6 * 86_400), ..Manner::default() }, "");
    let issue = ["certificate", "issue", SITE, "--ca", "pier"];
    coast.json(&issue, 0);
    let listed = coast.json(&["certificate", "list"], 0);
    assert_eq!(listed["certificates"][0]["days_left"], 5, "{listed}");
    assert_eq!(coast.json(&["tend"], 0)["tried"], json!([]), "it is not due for days");
    let soon = coast.run(&["certificate", "list", "--expiring", "7"]).expect(3);
    assert!(soon.starts_with("1 certificate, 1 within 7 days"), "{soon}");
    drop(ca);

    let ca = start_ca_with(&coast.world.cast, coast.folder.path(), &Manner { lifetime: Some(20), ..Manner::default() });
    settle(&coast, &ca, "");
    coast.done(&["certificate", "renew", SITE]);
    let first = chain(&coast).remove(0);
    let late = coast.run(&["survey", SITE]);
    assert!(!late.stdout.contains("less than two days left"), "{late:?}");
    let started = std::time::Instant::now();
    let renewed = loop {
        let tended = coast.done(&["tend"]);
        if tended["tried"] != json!([]) {
            break tended;
        }
        assert!(started.elapsed().as_secs() < 20, "it ran out");
        std::thread::sleep(std::time::Duration::from_millis(500));
    };
    assert_eq!(renewed["tried"][0]["outcome"], "served", "{renewed}");
    let second = chain(&coast).remove(0);
    assert!(second.public_key != first.public_key && second.not_before < first.not_after, "before it ran out");
}

fn ca_folder(coast: &Coast, ca: &Ca) -> std::path::PathBuf {
    let hash = brightharbor_core::change::content_hash(ca.directory.as_bytes());
    coast.harbor().join("ca").join(&hash[..16])
}

/// The settings name a CA that no visitor trusts: one for trying out, or one whose root has not arrived anywhere yet.
#[test]
fn a_certificate_that_nobody_would_trust_never_takes_the_place_of_a_trusted_one() {
    let coast = Coast::with_bakery();
    let ca = start_ca_with(&coast.world.cast, coast.folder.path(), &Manner::default());
    let toml = coast.harbor().join("harbor.toml");
    let before = fs::read_to_string(&toml).unwrap();
    settle(&coast, &ca, "");
    // Its root is not among those that visitors have.
    let roots = format!("trust-roots = [\"{}\", ", ca.root.display());
    let settings = fs::read_to_string(&toml).unwrap().replace(&roots, "trust-roots = [");
    fs::write(&toml, &settings).unwrap();
    let served = || coast.json(&["certificate", "check", SITE], 0);
    let first = chain(&coast)[0].clone();
    for command in [&["certificate", "issue", SITE, "--ca", "pier"][..], &["certificate", "renew", SITE]] {
        let kept = coast.json(command, 4);
        let text = kept.to_string();
        assert!(text.contains("issued-untrusted") && text.contains("would not trust"), "{text}");
    }
    assert_eq!(chain(&coast)[0].der, first.der, "the one that visitors trust is in place");
    served();
    let aside = coast.harbor().join("certificates").join(SITE).join("aside");
    let issued = read_chain(&fs::read(aside.join("chain.pem")).unwrap()).unwrap();
    assert_ne!(issued[0].der, first.der);
    assert_eq!(fs::metadata(aside.join("key.pem")).unwrap().permissions().mode() & 0o777, 0o600);
    let told = coast.run(&["tend"]).expect(3);
    assert!(told.contains("would not trust"), "{told}");

    // With the root known, the same certificate is as good as another.
    fs::write(&toml, settings.replace("trust-roots = [", &roots)).unwrap();
    coast.json(&["certificate", "renew", SITE], 0);
    assert_ne!(chain(&coast)[0].der, first.der);
    served();
    fs::write(&toml, before).unwrap();
}
