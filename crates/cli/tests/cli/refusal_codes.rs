//! Every refusal by its code: what is typed on which state, the code that programs get, and that there is advice. That a
//! code is asserted somewhere is checked on the sources (`structure`).

use std::path::Path;

use crate::coast::{Coast, snapshot};

/// What is done between the commands.
enum Step {
    /// A command that is carried out; it may wait.
    Given(&'static str),
    /// A command that is refused with this code, and changes nothing.
    Refused(&'static str, &'static str),
    /// A file with this content, by its path in the world.
    Written(&'static str, &'static str),
    /// A file is removed.
    Removed(&'static str),
    /// A folder.
    Made(&'static str),
    /// A line of harbor.toml is replaced by another text.
    Settings(&'static str, &'static str),
}
use Step::{Given, Made, Refused, Removed, Settings, Written};

#[test]
fn about_sites() {
    let coast = Coast::with_bakery();
    play(
        &coast,
        &[
            Given("account add choir --email choir@saltmarsh.example"),
            Refused("attach choir.crumbandtide.example --account choir", "somebody-elses"),
            Refused("attach crumbandtide.example --account bakery", "already-attached"),
            Refused("attach new.example --account bakery --served-by pages.example", "no-zone"),
            Given("zone create apex.example --account bakery"),
            Refused("attach apex.example --account bakery --served-by pages.example", "alias-at-apex"),
            Refused("attach www.crumbandtide.example --account bakery --no-site", "already-attached"),
            Refused("attach quay.crumbandtide.example --account bakery --no-site", "nothing-to-serve"),
            Refused("attach a.crumbandtide.example --account bakery --served-by a.crumbandtide.example", "alias-loop"),
            Refused("attach --address 192.0.2.77 --account bakery", "not-our-address"),
            Refused("attach gullrock.example --account bakery --document-root /srv/elsewhere", "document-root"),
            Made("homes/bakery/www/gullrock.example"),
            Written("homes/bakery/www/gullrock.example/index.html", "<h1>Boats</h1>"),
            Refused("attach gullrock.example --account bakery --document-root www/gullrock.example", "root-is-there"),
            Refused("attach quay.gullrock.example --account bakery --preview", "no-provider-domain"),
            Written("harbor/servers/plain/lanternchoir.example.json", "{}"),
            Refused("attach lanternchoir.example --account choir", "in-the-way"),
            Removed("harbor/servers/plain/lanternchoir.example.json"),
            Refused("site change crumbandtide.example --https offered --hsts 1d", "hsts-without-https"),
            Given("attach shop.crumbandtide.example --account bakery"),
            Refused("detach crumbandtide.example --zone remove", "zone-in-use"),
            Given("plan add tiny --redirects 1"),
            Given("account change choir --plan tiny"),
            Given("attach quay.example --account choir"),
            Given("redirect add quay.example/a /b"),
            Refused("redirect add quay.example/c /d", "limit"),
            Refused("redirect add quay.example/b /a", "limit"),
            Given("account change choir --plan none"),
            Refused("redirect add quay.example/b /a", "redirect-loop"),
            Refused("redirect add quay.example/x /x/x --prefix --keep-path", "redirect-endless"),
            Refused("redirect remove quay.example/y", "no-redirect"),
            Refused("redirect add shop.crumbandtide.example/x /y --with-twin", "no-twin"),
            Given("record add cdn.crumbandtide.example TXT kept"),
            Refused("attach cdn.crumbandtide.example --account bakery --served-by pages.example", "zone-refuses"),
            Refused("redirect show quay.example/y", "no-redirect"),
            Given("account add boatyard --email yard@saltmarsh.example"),
            Refused("redirect add --all-of boatyard https://gullrock.example/", "no-sites"),
            Settings("addresses = ", "# addresses = "),
            Refused("attach gullrock.example --account bakery", "no-addresses"),
        ],
    );
}

#[test]
fn about_accounts() {
    let coast = Coast::new();
    play(
        &coast,
        &[
            Given("account add choir --email choir@saltmarsh.example --reseller bakery"),
            Refused("account remove bakery", "account-sells"),
            Refused("account add quay --email a@saltmarsh.example --system-user nobody-of-this-name", "no-user"),
            Refused("account add quay --email a@saltmarsh.example --home /home/a:b", "home"),
            Refused("account add quay --email a@saltmarsh.example --home /etc/quay", "home"),
            Refused("account add quay --email a@saltmarsh.example --home WORLD/harbor/quay", "home"),
            Refused("account add quay --email a@saltmarsh.example --home WORLD/homes/bakery/quay", "home"),
            Refused("account change choir --home WORLD/homes/bakery/www", "home"),
            Refused("account add quay --email a@saltmarsh.example --system-user root", "user-is-root"),
            Made("homes/pier"),
            Refused("account add pier --email a@saltmarsh.example", "home-is-there"),
            Given("attach gullrock.example --account choir"),
            Refused("account change choir --home /tmp/never-moved-there", "home-not-moved"),
            Refused("account change choir --plan small", "unknown-plan"),
            Refused("account change choir --nameserver-set tide", "unknown-set"),
        ],
    );
    // Whoever runs the tests decides which of the two it is.
    let create = coast.json(
        &["account", "add", "quay", "--email", "a@saltmarsh.example", "--system-user", "daemon", "--create-user"],
        4,
    );
    assert!(["user-exists", "not-root"].contains(&create["error"]["code"].as_str().unwrap()), "{create}");
}

#[test]
fn about_zones_and_nameservers() {
    let coast = Coast::new();
    coast.delegate_here("crumbandtide.example");
    play(
        &coast,
        &[
            Given("zone create gullrock.example --account bakery"),
            Refused("zone create gullrock.example --account bakery", "zone-exists"),
            Refused("zone create quay.example --account bakery --template never", "template"),
            Refused("zone create quay.example --account bakery --nameserver-set never", "nameserver-set"),
            Refused("zone create quay.example --account bakery --mail here", "no-mail-servers"),
            Refused("record add www.gullrock.example CNAME gullrock.example.", "alias-beside-data"),
            Given("record add old.gullrock.example CNAME quay.example."),
            Refused("record add old.gullrock.example A 192.0.2.9", "alias-beside-data"),
            Given("record add sub.gullrock.example NS ns1.quay.example."),
            Refused("record add a.sub.gullrock.example A 192.0.2.9", "hidden-by-delegation"),
            Given("record add quay.gullrock.example A 192.0.2.9"),
            Refused("record add quay.gullrock.example A 192.0.2.9", "duplicate"),
            Refused("record add quay.example. A 192.0.2.9 --zone gullrock.example", "wrong-use"),
            Refused("record remove quay.gullrock.example AAAA", "record"),
            Given("nameserver add tide ns1.tide.example ns2.tide.example"),
            Refused("nameserver add tide ns1.tide.example ns2.tide.example", "set-exists"),
            Refused("nameserver change tide ns9.tide.example=192.0.2.1", "unknown-nameserver"),
            Refused("nameserver add in ns1.gullrock.example ns2.tide.example", "no-address"),
            Refused("record add www.gullrock.example CNAME quay.example. --zone never.example", "no-zone"),
            Given("zone create elsewhere.example --account bakery --home elsewhere"),
            Refused("zone show elsewhere.example", "zone-elsewhere"),
            Refused("delegation handover lanternchoir.example", "nothing-expected"),
            Refused("delegation handover crumbandtide.example --expect ns1.crumbandtide.example", "no-glue"),
            Written("walks", ""),
            Refused("delegation check gullrock.example --from WORLD/walks", "not-saved"),
            Refused("delegation check crumbandtide.example --save WORLD/walks", "save"),
        ],
    );
    let file = zone_file(&coast, "gullrock.example");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, format!("{text}\nquay IN A not-an-address\n")).unwrap();
    play(&coast, &[Refused("record add b.gullrock.example A 192.0.2.9", "zone-unreadable")]);
    let secondary =
        "\n[[secondaries]]\nname = \"ns2.saltmarsh.example\"\naddress = \"127.0.0.9:53\"\nkey-file = \"/k\"\n";
    let settings = coast.harbor().join("harbor.toml");
    let plain = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(&settings, format!("{plain}{secondary}")).unwrap();
    play(&coast, &[Refused("zone publish", "no-dns-server")]);
    std::fs::write(&settings, plain.replacen("[dns]", "[dns]\ncatalog = \"catalog.example\"", 1)).unwrap();
    std::fs::write(coast.harbor().join("zones/catalog.example.zone"), "@ IN SOA this is none\n").unwrap();
    play(&coast, &[Refused("zone create catalogued.example --account bakery", "catalog")]);
    std::fs::write(&settings, plain).unwrap();
    std::fs::remove_file(&file).unwrap();
    play(
        &coast,
        &[
            Refused("record add b.gullrock.example A 192.0.2.9", "zone-file-gone"),
            Settings("nameservers = [\"ns1.saltmarsh.example.\"", "nameservers = [\"ns1.quay.example.\""),
            Refused("zone create quay.example --account bakery", "nameserver-address"),
            Settings("nameservers = ", "# nameservers = "),
            Refused("zone create quay.example --account bakery", "no-nameservers"),
            Settings("server = \"stand-in\"\ncontrol = \"", "server = \"none\"\n# control = \""),
        ],
    );
}

#[test]
fn about_zones_at_a_primary() {
    let coast = Coast::new();
    let server = coast.world.settings();
    let address = server.lines().find_map(|line| line.strip_prefix("address = ")).unwrap().to_string();
    let settings = coast.harbor().join("harbor.toml");
    let with_primary = format!(
        "{}\n[primaries.pier]\naddress = {address}\nkey-file = \"{}\"\n",
        std::fs::read_to_string(&settings).unwrap(),
        coast.path("pier.key").display()
    );
    std::fs::write(&settings, with_primary).unwrap();
    let refused = |arguments: &[&str]| coast.json(arguments, 4)["error"]["code"].as_str().unwrap().to_string();
    let create = ["zone", "create", "pier.example", "--account", "bakery", "--home", "remote", "--primary"];
    assert_eq!(refused(&[&create[..], &["reef"]].concat()), "unknown-primary");
    assert_eq!(refused(&[&create[..], &["pier"]].concat()), "key-file");
    std::fs::write(coast.path("pier.key"), "key \"pier\" { algorithm hmac-sha256; secret \"c2FsdG1hcnNo\"; };\n")
        .unwrap();
    std::fs::set_permissions(coast.path("pier.key"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    assert_eq!(refused(&[&create[..], &["pier"]].concat()), "transfer");
}

#[test]
fn about_certificates() {
    let coast = Coast::with_bakery();
    play(
        &coast,
        &[
            Given("account add choir --email choir@saltmarsh.example"),
            Given("attach gullrock.example --account choir"),
            Refused("certificate install --site crumbandtide.example --from gullrock.example", "nothing-to-share"),
            Refused("certificate revoke gullrock.example", "nothing-to-revoke"),
            Given("attach shop.crumbandtide.example --account bakery"),
            Given("certificate issue crumbandtide.example --wildcard"),
            Given("certificate install --site shop.crumbandtide.example --from crumbandtide.example"),
            Refused("certificate install --site gullrock.example --from shop.crumbandtide.example", "shared-already"),
            Refused("certificate issue crumbandtide.example --wildcard --proof http-01", "wildcard-proof"),
            Refused("certificate issue crumbandtide.example --proof tls-alpn-01", "no-responder"),
            Refused("certificate issue crumbandtide.example --ca reef", "unknown-ca"),
            Refused("certificate prove gullrock.example --record _5f3a", "wrong-use"),
            Written("request.csr", ""),
            Refused("certificate request crumbandtide.example --out WORLD/request.csr", "in-the-way"),
            Refused("certificate request crumbandtide.example --out WORLD/never/there.csr", "save"),
        ],
    );
    // A certificate that nobody trusts, without its key, with another one's, and for names that are not attached.
    let stranger =
        rcgen::generate_simple_self_signed(["crumbandtide.example", "www.crumbandtide.example"].map(String::from))
            .unwrap();
    let nobody = rcgen::generate_simple_self_signed(vec!["nobody.example".to_string()]).unwrap();
    let write = |name: &str, text: String| std::fs::write(coast.path(name), text).unwrap();
    let boats = rcgen::generate_simple_self_signed(vec!["gullrock.example".to_string()]).unwrap();
    write("boats.pem", boats.cert.pem());
    write("stranger.pem", stranger.cert.pem());
    write("stranger.key", stranger.signing_key.serialize_pem());
    // One that browsers take with a statement of its CA alone (RFC 7633), and that says nobody to ask for it.
    let key = rcgen::KeyPair::generate().unwrap();
    let names = ["crumbandtide.example", "www.crumbandtide.example"].map(String::from).to_vec();
    let mut params = rcgen::CertificateParams::new(names).unwrap();
    let feature = vec![0x30, 0x03, 0x02, 0x01, 0x05];
    params.custom_extensions = vec![rcgen::CustomExtension::from_oid_content(&[1, 3, 6, 1, 5, 5, 7, 1, 24], feature)];
    write("demanding.pem", params.self_signed(&key).unwrap().pem() + &key.serialize_pem());
    write("two.pem", [boats.cert.pem(), boats.signing_key.serialize_pem(), stranger.cert.pem()].concat());
    write("nobody.pem", nobody.cert.pem() + &nobody.signing_key.serialize_pem());
    play(
        &coast,
        &[
            Refused("certificate import WORLD/boats.pem", "no-key"),
            Refused("certificate import WORLD/nobody.pem", "no-site"),
            Refused("certificate import WORLD/nobody.pem --site crumbandtide.example", "unfit"),
            Refused("certificate import WORLD/stranger.pem WORLD/stranger.key", "untrusted"),
            Refused("certificate import WORLD/demanding.pem", "no-staple"),
            Refused("certificate import WORLD/two.pem WORLD/stranger.key", "which-site"),
            // Of two keys, the one for the site is taken: it is no longer refused for not fitting.
            Refused("certificate import WORLD/two.pem WORLD/stranger.key --site crumbandtide.example", "untrusted"),
        ],
    );
    let chain = coast.harbor().join("ca");
    assert!(chain.is_dir());
    play(
        &coast,
        &[
            Settings("directory = ", "# directory = "),
            Refused("certificate issue crumbandtide.example", "no-ca"),
            Settings("trust-root = \"", "trust-root = \"/never/there"),
        ],
    );
}

#[test]
fn about_what_is_typed() {
    let coast = Coast::new();
    for (typed, code, named) in [
        ("atach gullrock.example", "unknown-command", ("command", "atach")),
        ("attach gullrock.example --acount bakery", "unknown-argument", ("arguments", "--acount")),
        ("attach --address 192.0.2.1 gullrock.example --account bakery", "arguments-conflict", ("arguments", "")),
        ("redirect add", "missing-argument", ("arguments", "<SOURCE>")),
        ("zone", "missing-command", ("", "")),
        ("redirect add gullrock.example/a /b --status many", "unusable-value", ("value", "many")),
    ] {
        let document = coast.json(&typed.split(' ').collect::<Vec<_>>(), 2);
        let error = &document["error"];
        assert_eq!(error["code"], code, "{typed}: {document}");
        let (member, value) = named;
        assert!(member.is_empty() || error[member].to_string().contains(value), "{typed}: {document}");
        assert!(error["advice"].is_string() && !error["message"].as_str().unwrap().contains('\n'), "{document}");
    }
}

#[test]
fn about_cas() {
    let coast = Coast::with_bakery();
    play(&coast, &[Given("ca tell-contact"), Given("ca close default --yes")]);
    let told = coast.json(&["ca", "change-key"], 4);
    assert_eq!(told["error"]["code"], "no-ca-account", "{told}");
    let coast = Coast::with_bakery();
    coast.world.fail_ca_after(Some(0));
    // The new key is kept, and in the logbook stands that it was tried.
    let silent = coast.json(&["ca", "change-key"], 4);
    assert_eq!(silent["error"]["code"], "ca-silent", "{silent}");
    coast.world.fail_ca_after(None);
    let renewed = |code: &str| {
        let refused = coast.json(&["certificate", "renew", "crumbandtide.example"], 4);
        assert_eq!(refused["error"]["code"], code, "{refused}");
    };
    renewed("key-change");
    coast.run(&["ca", "change-key"]).expect(0);
    let toml = coast.harbor().join("harbor.toml");
    let settings = std::fs::read_to_string(&toml).unwrap();
    std::fs::write(&toml, settings.replace("terms-accepted = true", "terms-accepted = false")).unwrap();
    renewed("terms");
    std::fs::write(&toml, settings).unwrap();
    std::fs::remove_dir_all(coast.harbor().join("ca")).unwrap();
    std::fs::write(coast.harbor().join("ca"), "no folder").unwrap();
    renewed("ca-files");
}

#[test]
fn about_the_harbor_itself() {
    let coast = Coast::new();
    let inventory = coast.harbor().join("inventory.sqlite");
    let whole = std::fs::read(&inventory).unwrap();
    std::fs::write(&inventory, "this is no database, but it is long enough to be read as one, page by page").unwrap();
    assert_eq!(coast.json(&["site", "list"], 4)["error"]["code"], "inventory-damaged");
    std::fs::write(&inventory, whole).unwrap();
    let values = rusqlite::Connection::open(&inventory).unwrap();
    values.execute("INSERT INTO account (name, email, home) VALUES ('No Name', 'a@b.example', '/x')", []).unwrap();
    assert_eq!(coast.json(&["account", "list"], 4)["error"]["code"], "inventory");
    values.execute("DELETE FROM account WHERE name = 'No Name'", []).unwrap();
    drop(values);
    let database = rusqlite_version(&inventory, 9_999);
    assert_eq!(coast.json(&["site", "list"], 4)["error"]["code"], "newer-harbor");
    rusqlite_version(&inventory, database);
    assert_eq!(coast.json(&["plan", "add", "small"], 0)["exit"], 0);
    let empty = Coast::empty();
    assert_eq!(empty.json(&["site", "list"], 2)["error"]["code"], "no-harbor");
    assert_eq!(empty.json(&["init", "--web", "plain", "--dns", "none"], 2)["error"]["code"], "unusable-value");
    std::fs::write(coast.harbor().join("servers/plain/broken.json"), "{ not json").unwrap();
    let torn = coast.json(&["attach", "gullrock.example", "--account", "bakery"], 5);
    assert_eq!(torn["error"]["code"], "rolled-back");
    std::fs::write(coast.harbor().join("harbor.toml"), "[web]\nserver = 3\n").unwrap();
    assert_eq!(coast.json(&["site", "list"], 2)["error"]["code"], "settings");
}

/// Sets the version in the header of the database (the user version, at offset 60), and gives the one before.
fn rusqlite_version(inventory: &Path, version: u32) -> u32 {
    let mut bytes = std::fs::read(inventory).unwrap();
    let before = u32::from_be_bytes(bytes[60..64].try_into().unwrap());
    bytes[60..64].copy_from_slice(&version.to_be_bytes());
    std::fs::write(inventory, bytes).unwrap();
    before
}

fn zone_file(coast: &Coast, zone: &str) -> std::path::PathBuf {
    let shown = coast.json(&["zone", "show", zone], 0);
    let found = snapshot(&coast.harbor()).into_iter().map(|(path, _)| path);
    let mut named = found.filter(|path| path.to_string_lossy().contains(zone));
    let file = named.find(|path| path.to_string_lossy().contains("zones"));
    coast.harbor().join(file.unwrap_or_else(|| panic!("no file of {zone}: {shown}")))
}

fn play(coast: &Coast, steps: &[Step]) {
    let world = coast.folder.path().to_str().unwrap();
    for step in steps {
        match step {
            Given(typed) => {
                let words: Vec<&str> = typed.split(' ').collect();
                let run = coast.run(&words);
                assert!([0, 1, 3].contains(&run.exit), "{typed}: {run:?}");
            }
            Refused(typed, code) => refused(coast, &typed.replace("WORLD", world), code),
            Written(path, text) => std::fs::write(coast.path(path), text).unwrap(),
            Removed(path) => std::fs::remove_file(coast.path(path)).unwrap(),
            Made(path) => std::fs::create_dir_all(coast.path(path)).unwrap(),
            Settings(from, to) => {
                let file = coast.harbor().join("harbor.toml");
                let text = std::fs::read_to_string(&file).unwrap();
                assert!(text.contains(from), "{from}: {text}");
                std::fs::write(&file, text.replacen(from, to, 1)).unwrap();
            }
        }
    }
}

/// Nothing is changed, and it is said what to do.
fn refused(coast: &Coast, typed: &str, code: &str) {
    let before = (snapshot(&coast.harbor()), snapshot(&coast.path("homes")));
    let words: Vec<&str> = typed.split(' ').collect();
    let exit = if code == "wrong-use" { 2 } else { 4 };
    let document = coast.json(&words, exit);
    let error = &document["error"];
    assert_eq!(error["code"], code, "{typed}: {document}");
    for member in ["message", "advice"] {
        assert!(error[member].as_str().is_some_and(|text| text.len() > 10), "{typed}: {document}");
    }
    let after = (snapshot(&coast.harbor()), snapshot(&coast.path("homes")));
    assert!(before == after, "{typed} was refused and has changed something");
}
