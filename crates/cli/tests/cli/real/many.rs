//! Many hostnames in one call on a real nginx: one config test and one reload, however many; and what was edited by hand.

use std::fs;

use brightharbor_standins::World;

use super::servers::{Web, await_listener, open_folder};
use crate::coast::{brightharbor, run};

/// A harbor with a real nginx, whose test and reload leave a mark each, and no DNS server.
struct Yard {
    folder: tempfile::TempDir,
    _world: World,
    _nginx: super::servers::Server,
}

impl Yard {
    fn new() -> Self {
        let folder = open_folder();
        fs::create_dir(folder.path().join("homes")).unwrap();
        let world = World::start_around(folder.path()).unwrap();
        let harbor = folder.path().join("harbor");
        let web = Web::nginx(folder.path(), &harbor.join("servers/nginx"));
        let marked = |words: &[String], mark: &str| {
            let line = words.iter().map(|word| format!("'{word}'")).collect::<Vec<_>>().join(" ");
            let script = format!("echo {mark} >> {}; exec {line}", folder.path().join("marks").display());
            format!("{:?}", ["sh".to_string(), "-c".into(), script])
        };
        let settings = format!(
            "[host]\naddresses = [\"{web}\"]\nnameservers = [\"ns1.saltmarsh.example.\"]\n\
             [sites]\nhome = \"{homes}/{{account}}\"\n[web]\nserver = \"nginx\"\nlisten = [\"{web}\"]\n\
             test = {test}\nreload = {reload}\n\
             [internet]\nroot-servers = [\"{root}\"]\nresolvers = [\"{resolver}\"]\ndns-port = {dns}\n\
             http-port = {http}\nhttps-port = {https}\n",
            web = world.cast.web(),
            homes = folder.path().join("homes").display(),
            test = marked(&web.test, "test"),
            reload = marked(&web.reload, "reload"),
            root = world.cast.root(),
            resolver = world.cast.resolver(),
            dns = world.cast.dns_port,
            http = world.cast.http_port,
            https = world.cast.https_port,
        );
        let file = folder.path().join("settings.toml");
        fs::write(&file, settings).unwrap();
        let nginx = {
            fs::create_dir_all(harbor.join("servers/nginx")).unwrap();
            web.start(&world.cast)
        };
        let yard = Self { folder, _world: world, _nginx: nginx };
        yard.run(&["init", "--settings", file.to_str().unwrap()]);
        yard.run(&["account", "add", "boatyard", "--email", "yard@saltmarsh.example"]).expect(0);
        yard
    }

    fn run(&self, arguments: &[&str]) -> crate::coast::Run {
        run(brightharbor().args(arguments).env("BRIGHTHARBOR", self.folder.path().join("harbor")))
    }

    fn marks(&self) -> Vec<String> {
        let text = fs::read_to_string(self.folder.path().join("marks")).unwrap_or_default();
        text.lines().map(String::from).collect()
    }
}

#[test]
fn a_thousand_hostnames_in_one_call_need_one_test_and_one_reload() {
    let yard = Yard::new();
    let names: Vec<String> = (0..1000).map(|number| format!("berth{number}.gullrock.example")).collect();
    let mut arguments = vec!["attach", "--account", "boatyard", "gullrock.example"];
    arguments.extend(names.iter().map(String::as_str));
    let attached = yard.run(&arguments);
    assert_eq!(attached.exit, 3, "{}", attached.stderr);
    assert_eq!(yard.marks(), ["test", "reload"]);
    let zone = fs::read_to_string(yard.folder.path().join("harbor/zones/gullrock.example.zone")).unwrap();
    assert_eq!(zone.matches("\nberth").count(), 1000, "in one edit of the zone");
    // One a site, and one for hosts that nobody has.
    assert_eq!(fs::read_dir(yard.folder.path().join("harbor/servers/nginx")).unwrap().count(), 1002);
    let entries = yard.run(&["logbook", "--json"]).stdout;
    assert_eq!(entries.matches("\"what\": \"attach ").count(), 1, "one entry");
}

#[test]
fn a_site_file_that_was_edited_by_hand_is_shown_and_replaced_only_on_purpose() {
    let yard = Yard::new();
    yard.run(&["attach", "gullrock.example", "--account", "boatyard"]);
    await_listener((yard._world.cast.web(), yard._world.cast.http_port).into());
    let file = yard.folder.path().join("harbor/servers/nginx/gullrock.example.conf");
    let other = file.with_file_name("by-hand.conf");
    fs::write(&other, "# the yard's own\n").unwrap();
    let text = fs::read_to_string(&file).unwrap();
    let edited = text.replace("index index.html", "index harbour.html index.html");
    fs::write(&file, &edited).unwrap();
    assert!(yard.run(&["site", "show", "gullrock.example"]).expect(0).contains("edited by hand"));
    let change = ["redirect", "add", "gullrock.example/old", "/new"];
    let refused = yard.run(&change).expect(4);
    assert!(refused.contains("was edited by hand") && refused.contains("+ index harbour.html"), "{refused}");
    assert_eq!(fs::read_to_string(&file).unwrap(), edited);
    let done = yard.run(&[&change[..], &["--yes"]].concat()).expect(0);
    let copies = || fs::read_dir(yard.folder.path().join("harbor/removed")).unwrap().map(|one| one.unwrap().path());
    let copy = copies().next().unwrap();
    assert_eq!(fs::read_to_string(&copy).unwrap(), edited, "a copy is kept");
    assert!(done.contains(&format!("Kept the edited file of gullrock.example as {}", copy.display())), "{done}");
    assert!(!fs::read_to_string(&file).unwrap().contains("harbour.html"));
    // The timer ends what is over, but not by writing over what somebody has changed.
    let (page, until) = (yard.folder.path().join("8F2C.txt"), ["--until", "2020-01-01"]);
    fs::write(&page, "8F2C").unwrap();
    let prove = ["certificate", "prove", "gullrock.example", "--file", page.to_str().unwrap()];
    yard.run(&[&prove[..], &until].concat());
    yard.run(&["redirect", "add", "gullrock.example/over", "/new", "--until", "2099-01-01"]).expect(0);
    // Nobody can wait for a day to end: what the inventory says is set back.
    let inventory = rusqlite::Connection::open(yard.folder.path().join("harbor/inventory.sqlite")).unwrap();
    inventory.execute("UPDATE site SET rules = replace(rules, '2099-', '2020-')", []).unwrap();
    drop(inventory);
    let kept = fs::read_to_string(&file).unwrap().replace("index index.html", "index harbour.html index.html");
    fs::write(&file, &kept).unwrap();
    let tended = yard.run(&["tend"]).stdout;
    assert!(tended.contains("should have ended"), "{tended}");
    assert!(tended.contains("what the certificate seller asked for is still in place"), "{tended}");
    assert_eq!(fs::read_to_string(&file).unwrap(), kept);
    fs::write(&file, &edited).unwrap();
    assert!(yard.run(&["detach", "gullrock.example"]).expect(4).contains("site change gullrock.example --yes"));
    let again = yard.run(&["site", "change", "gullrock.example", "--yes"]).expect(0);
    assert!(again.contains("Rewrote the file"), "{again}");
    assert_eq!(copies().count(), 1, "the same edit is kept once");
    yard.run(&["detach", "gullrock.example"]).expect(0);
    assert!(!file.exists() && other.exists(), "a file of somebody else is never touched");
    assert_eq!(yard.marks().len() % 2, 0, "each test is followed by its reload");
}
