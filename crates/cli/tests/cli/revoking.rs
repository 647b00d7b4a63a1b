//! Revocation: a successor first, with a key of its own; what has none is known as revoked until it has.

use std::fs;
use std::path::PathBuf;

use brightharbor_core::certificate::{CertificateFacts, read_chain};
use serde_json::json;

use crate::coast::{Coast, snapshot};

const SITE: &str = "crumbandtide.example";

fn folders(coast: &Coast) -> Vec<PathBuf> {
    let mut folders: Vec<_> = fs::read_dir(coast.harbor().join("certificates").join(SITE))
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .collect();
    folders.sort();
    folders
}

fn leaf(coast: &Coast) -> CertificateFacts {
    let mut folders = folders(coast);
    read_chain(&fs::read(folders.pop().unwrap().join("chain.pem")).unwrap()).unwrap().remove(0)
}

fn listed(coast: &Coast, exit: i32) -> String {
    coast.json(&["certificate", "list"], exit)["certificates"][0]["state"].as_str().unwrap().to_string()
}

#[test]
fn a_certificate_is_revoked_once_its_successor_is_served() {
    let coast = Coast::with_bakery();
    // Even one that is pinned: whoever revokes may do so because the key is known to somebody else.
    coast.json(&["certificate", "issue", SITE, "--keep-key"], 0);
    let before = leaf(&coast);
    coast.json(&["certificate", "renew", SITE], 0);
    assert_eq!(leaf(&coast).public_key, before.public_key);

    let harbor = snapshot(&coast.harbor());
    let dry = coast.run(&["certificate", "revoke", SITE, "--reason", "key-compromise", "--dry-run"]).expect(0);
    assert!(
        dry.contains("have the CA `default` revoke the certificate of crumbandtide.example (key-compromise)"),
        "{dry}"
    );
    assert!(dry.contains("a new certificate with a new key is issued"), "{dry}");
    assert_eq!((snapshot(&coast.harbor()), coast.world.revoked()), (harbor, 0));

    let revoked = coast.json(&["certificate", "revoke", SITE, "--reason", "key-compromise"], 0);
    assert_eq!((&revoked["successor"]["outcome"], &revoked["carried_out"]), (&json!("served"), &json!(true)));
    assert_eq!(coast.world.revoked(), 1, "the CA knows");
    assert_ne!(leaf(&coast).public_key, before.public_key);
    assert_eq!(listed(&coast, 0), "served");
    let entry = &coast.json(&["logbook"], 0)["entries"][0];
    assert_eq!(
        (&entry["what"], &entry["outcome"]),
        (&json!("certificate revoke crumbandtide.example"), &json!("done"))
    );
    // It is one of the former ones, and never goes back in place.
    let former = coast.json(&["certificate", "list", "--former"], 0)["former"].clone();
    let all: Vec<_> = former.as_array().unwrap().iter().map(|one| one["revoked"].as_bool().unwrap()).collect();
    assert_eq!(all.iter().filter(|revoked| **revoked).count(), 1, "{former}");
    assert!(all[0] && coast.run(&["certificate", "list", "--former"]).expect(0).contains("revoked"), "the newest");
    let put = ["certificate", "install", "--site", SITE, "--former", former[0]["name"].as_str().unwrap()];
    assert_eq!(coast.json(&put, 4)["error"]["code"], "revoked-certificate");
    // From then on the new key is the one that is kept.
    let pinned = leaf(&coast).public_key;
    coast.json(&["certificate", "renew", SITE], 0);
    assert_eq!(leaf(&coast).public_key, pinned);
}

#[test]
fn who_shares_the_certificate_gets_the_successor_before_it_is_revoked() {
    let coast = Coast::with_bakery();
    coast.json(&["certificate", "issue", SITE, "--wildcard"], 0);
    coast.run(&["attach", "shop.crumbandtide.example", "--account", "bakery"]).expect(0);
    coast.json(&["certificate", "install", "--site", "shop.crumbandtide.example", "--from", SITE], 0);
    let (toml, folder) = (coast.harbor().join("harbor.toml"), coast.path("post"));
    let service = |reload: &str| {
        format!(
            "\n[services.post]\nhostname = \"{SITE}\"\nfolder = \"{}\"\nreload = [\"{reload}\"]\n",
            folder.display()
        )
    };
    let settings = fs::read_to_string(&toml).unwrap();
    fs::write(&toml, settings.clone() + &service("true")).unwrap();
    coast.json(&["certificate", "install"], 0);

    fs::write(&toml, settings.clone() + &service("false")).unwrap();
    let refused = coast.json(&["certificate", "revoke", SITE], 4);
    let error = &refused["error"];
    assert_eq!((&error["code"], &error["still_has"]), (&json!("no-successor"), &json!("the service post")), "{error}");
    assert_eq!(coast.world.revoked(), 0);
    // It is not forgotten, and what is revoked then is not the successor, which is there by now.
    let successor = leaf(&coast).public_key;
    assert_eq!(coast.json(&["certificate", "list"], 3)["to_revoke"], json!([SITE]));
    assert_eq!(coast.json(&["tend", "--dry-run"], 3)["would_try"], json!([SITE]));
    let again = coast.run(&["tend"]).expect(1);
    assert!(again.contains("crumbandtide.example: not revoked yet: the service post"), "{again}");
    fs::write(&toml, settings + &service("true")).unwrap();
    let tended = coast.json(&["tend"], 0);
    let revoked = &tended["revoked"][0];
    assert_eq!((&revoked["site"], &revoked["carried_out"]), (&json!(SITE), &json!(true)), "{tended}");
    assert_eq!(revoked["services"][0]["new"], true, "{revoked}");
    assert_eq!((coast.world.revoked(), leaf(&coast).public_key), (1, successor.clone()));
    let shop = coast.harbor().join("certificates/shop.crumbandtide.example");
    let mut folders: Vec<_> = fs::read_dir(shop).unwrap().map(|entry| entry.unwrap().path()).collect();
    folders.sort();
    let had = |path: PathBuf| read_chain(&fs::read(path).unwrap()).unwrap().remove(0).public_key;
    assert_eq!(coast.json(&["certificate", "list"], 0)["to_revoke"], json!([]));
    for path in [folder.join("chain.pem"), folders.pop().unwrap().join("chain.pem")] {
        assert_eq!(had(path), successor);
    }
    let idle = coast.json(&["tend"], 0);
    assert_eq!((&idle["tried"], &idle["revoked"]), (&json!([]), &json!([])));
}

#[test]
fn what_is_revoked_without_a_successor_is_known_as_such_until_the_next_run_of_the_timer() {
    let coast = Coast::with_bakery();
    coast.json(&["certificate", "issue", SITE, "--keep-key"], 0);
    let before = leaf(&coast).public_key;
    let said = coast.run(&["certificate", "revoke", SITE, "--without-successor"]).expect(0);
    assert!(
        said.contains("revoked the certificate") && said.contains("`brightharbor tend` obtains another one"),
        "{said}"
    );
    assert_eq!(listed(&coast, 1), "revoked");
    let surveyed = coast.run(&["survey", SITE]);
    assert!(surveyed.stdout.contains("the certificate is revoked") && surveyed.exit == 1, "{surveyed:?}");
    coast.run(&["certificate", "revoke", SITE, "--without-successor"]).expect(0);
    assert_eq!((listed(&coast, 1).as_str(), coast.world.revoked()), ("revoked", 1));
    assert_eq!(coast.json(&["tend", "--dry-run"], 3)["would_try"], json!([SITE]));
    assert_eq!(coast.json(&["tend"], 0)["tried"][0]["new"], json!(true));
    assert_eq!(listed(&coast, 0), "served");
    assert_ne!(leaf(&coast).public_key, before, "pinned or not");
}

#[test]
fn what_a_ca_is_told_is_in_the_logbook_also_when_it_was_refused() {
    let coast = Coast::with_bakery();
    let harbor = snapshot(&coast.harbor());
    let dry = coast.run(&["ca", "change-key", "--dry-run"]).expect(0);
    assert!(dry.contains("give the account at the CA `default` a new key"), "{dry}");
    assert_eq!(snapshot(&coast.harbor()), harbor);
    coast.run(&["ca", "change-key"]).expect(0);
    coast.run(&["ca", "tell-contact"]).expect(0);
    assert_ne!(snapshot(&coast.harbor()), harbor, "the key is another one");
    // One that the CA has not issued.
    let key = rcgen::KeyPair::generate().unwrap();
    let strange = rcgen::CertificateParams::new([SITE.to_string()]).unwrap().self_signed(&key).unwrap();
    fs::write(folders(&coast).pop().unwrap().join("chain.pem"), strange.pem()).unwrap();
    let refused = &coast.json(&["certificate", "revoke", SITE, "--without-successor"], 4)["error"];
    assert_eq!(refused["code"], "ca-refuses", "{refused}");
    assert!(refused["message"].as_str().unwrap().contains("has not issued that certificate"), "{refused}");
    assert_eq!(listed(&coast, 0), "served", "nothing was changed");
    let entry = &coast.json(&["logbook"], 0)["entries"][0];
    assert_eq!(entry["outcome"], "rolled back", "{entry}");
    // A backup that was put back with open modes.
    let open = |path: &std::path::Path, mode| {
        fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(mode)).unwrap();
    };
    let ca = fs::read_dir(coast.harbor().join("ca")).unwrap().flatten().map(|entry| entry.path());
    let folder = ca.into_iter().find(|path| path.join("account.pem").exists()).unwrap();
    for (path, mode) in
        [(coast.harbor().join("ca"), 0o755), (folder.clone(), 0o755), (folder.join("account.pem"), 0o644)]
    {
        open(&path, mode);
    }
    open(coast.harbor().parent().unwrap(), 0o755);
    let key = folder.join("account.pem").display().to_string();
    let named = |document: &serde_json::Value| document["open_keys"].to_string().contains(&key);
    assert!(named(&coast.json(&["ca", "list"], 1)["cas"][0]));
    assert!(named(&coast.json(&["init", "--check"], 3)));
    assert!(coast.run(&["ca", "list"]).stdout.contains("chmod 600"));
    open(&folder.join("account.pem"), 0o600);
    assert!(!named(&coast.json(&["init", "--check"], 0)));
    // Closed for ever: the next order opens another account.
    assert!(coast.run(&["ca", "close", "default"]).expect(4).contains("--yes"));
    coast.run(&["ca", "close", "default", "--yes"]).expect(0);
    assert_eq!(coast.json(&["ca", "list"], 0)["cas"][0]["account"], json!(null));
    coast.json(&["certificate", "renew", SITE], 0);
    assert!(coast.json(&["ca", "list"], 0)["cas"][0]["account"].as_str().unwrap().ends_with("/account/1"));
}
