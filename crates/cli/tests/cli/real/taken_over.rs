//! Zones that the server had before the harbor came: listed, taken over without an answer missed, edited, given back. On
//! real BIND, Knot DNS and NSD, with configurations written by hand.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;

use brightharbor_core::delegation::{Outcome, Question};
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::RecordType;
use brightharbor_io::dns::ask;

use super::nameservers::{start_knot, start_nsd};
use super::publishing::await_zone;
use super::quay::{Quay, block_on};
use super::servers::start_bind_with;

/// The bakery's zone as somebody wrote it years ago, large enough that loading it takes a moment.
fn old_zone() -> String {
    let head =
        "; by hand, 2019\n$TTL 1h\n@\tSOA\tns1.saltmarsh.example. host ( 2019110301 ; serial\n\t\t4h 30m 4w 5m )\n\
                \tNS\tns1.saltmarsh.example.\n\tNS\tns2.saltmarsh.example.\nwww\tA\t192.0.2.80\n"
            .to_string();
    (0..20_000).fold(head, |text, number| text + &format!("loaf{number}\tA\t192.0.2.{}\n", number % 250 + 1))
}

/// Asks for one record as fast as it is answered, and counts what was no right answer.
pub struct Visitor {
    ends: Arc<AtomicBool>,
    thread: JoinHandle<(usize, Vec<String>)>,
}

impl Visitor {
    pub fn start(quay: &Quay) -> Self {
        let ends = Arc::new(AtomicBool::new(false));
        let (until, server) = (Arc::clone(&ends), quay.server());
        let (comes, has_come) = std::sync::mpsc::channel();
        let thread = std::thread::spawn(move || {
            let name = DnsName::absolute("www.crumbandtide.example").unwrap();
            let question = Question::authoritative(server, &name, RecordType::A);
            let (mut asked, mut wrong) = (0, Vec::new());
            while !until.load(Ordering::Relaxed) {
                asked += 1;
                let _ = comes.send(());
                match block_on(ask(&question)).outcome {
                    Outcome::Reply(reply) if reply.answer.len() == 1 => {}
                    other => wrong.push(format!("{other:?}")),
                }
            }
            (asked, wrong)
        });
        has_come.recv().unwrap();
        Self { ends, thread }
    }

    #[track_caller]
    pub fn missed_nothing(self, lost: usize) {
        self.ended(lost, 0);
    }

    #[track_caller]
    pub fn missed_at_most(self, wrong: usize) {
        self.ended(0, wrong);
    }

    #[track_caller]
    fn ended(self, lost: usize, most_wrong: usize) {
        // A visitor comes before, meanwhile, and after.
        std::thread::sleep(std::time::Duration::from_millis(100));
        self.ends.store(true, Ordering::Relaxed);
        let (asked, wrong) = self.thread.join().unwrap();
        assert!(asked > 0);
        let (silence, wrong): (Vec<String>, Vec<String>) = wrong.into_iter().partition(|words| words == "Silent");
        assert!(wrong.len() <= most_wrong, "{} of {asked} answers: {}", wrong.len(), wrong[0]);
        assert!(silence.len() <= lost, "{} of {asked} are lost", silence.len());
    }
}

/// What the test needs to know of a server that was there before.
struct Before {
    quay: Quay,
    /// The file of the configuration with the zones, and the zone's own.
    configuration: std::path::PathBuf,
    zone: std::path::PathBuf,
    /// An option of the zone that has to stay.
    option: &'static str,
    /// How many datagrams the server loses by itself: NSD some at each reload, whatever it is for.
    lost: usize,
}

/// A server listens before it has loaded its zones.
fn settle_main_file(quay: &Quay, main_file: &Path) {
    await_zone(quay.server(), "crumbandtide.example");
    quay.settle(&format!("main-file = \"{}\"\n", main_file.display()));
}

fn write_zones(folder: &Path) -> std::path::PathBuf {
    let zones = folder.join("old-zones");
    fs::create_dir(&zones).unwrap();
    fs::set_permissions(&zones, fs::Permissions::from_mode(0o755)).unwrap();
    for domain in ["crumbandtide.example", "lanternchoir.example"] {
        fs::write(zones.join(format!("db.{domain}")), old_zone()).unwrap();
    }
    let file = zones.join("db.crumbandtide.example");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o640)).unwrap();
    if is_root() {
        std::os::unix::fs::chown(&file, None, Some(4321)).unwrap();
    }
    zones
}

fn is_root() -> bool {
    fs::metadata("/proc/self").unwrap().uid() == 0
}

fn before_on_bind() -> Before {
    let quay = Quay::new("bind", "named-checkzone", "", |world, folder| {
        let zones = write_zones(folder);
        let own = format!(
            "// zones of the co-op\nzone \"crumbandtide.example\" IN {{\n\ttype master; // since 2019\n\tfile \
             \"{zones}/db.crumbandtide.example\";\n\tallow-transfer {{ 127.0.0.1; }};\n}};\n\
             zone \"lanternchoir.example\" {{ type primary; file \"{zones}/db.lanternchoir.example\"; allow-update {{ \
             127.0.0.1; }}; }};\nzone \"far.example\" {{ type secondary; primaries {{ 127.0.0.99; }}; }};\n",
            zones = zones.display()
        );
        fs::write(folder.join("named.conf.local"), own).unwrap();
        let lines = format!(
            "include \"{}\";\ninclude \"{}\";\n",
            folder.join("named.conf.local").display(),
            folder.join("harbor/servers/bind/zones.conf").display()
        );
        start_bind_with(&world.cast, folder, &lines, "")
    });
    settle_main_file(&quay, &quay.path("bind/named.conf"));
    let (configuration, zone) = (quay.path("named.conf.local"), quay.path("old-zones/db.crumbandtide.example"));
    Before { quay, configuration, zone, option: "allow-transfer { 127.0.0.1; };", lost: 0 }
}

fn before_on_knot() -> Before {
    let quay = Quay::new("knot", "kzonecheck", "", |world, folder| {
        let zones = write_zones(folder);
        let lines = format!(
            "acl:\n  - id: told\n    address: 127.0.0.1\n    action: update\n  - id: looked-at\n    address: 127.0.0.1\n    \
             action: transfer\ninclude: \"{own}\"\ninclude: \"{list}\"\n",
            own = folder.join("zones.local").display(),
            list = folder.join("harbor/servers/knot/zones.conf").display(),
        );
        let own = format!(
            "# zones of the co-op\nzone:\n  - domain: crumbandtide.example\n    file: {zones}/db.crumbandtide.example\n    \
             acl: looked-at\n  - domain: lanternchoir.example\n    file: {zones}/db.lanternchoir.example\n    acl: told\n",
            zones = zones.display()
        );
        fs::write(folder.join("zones.local"), own).unwrap();
        start_knot(folder, (world.cast.nameservers()[0], world.cast.dns_port).into(), &lines)
    });
    settle_main_file(&quay, &quay.path("knot/knot.conf"));
    let (configuration, zone) = (quay.path("zones.local"), quay.path("old-zones/db.crumbandtide.example"));
    Before { quay, configuration, zone, option: "acl: looked-at", lost: 0 }
}

fn before_on_nsd() -> Before {
    let quay = Quay::new("nsd", "nsd-checkzone", "", |world, folder| {
        let zones = write_zones(folder);
        let lines = format!(
            "include: \"{}\"\ninclude: \"{}\"\n",
            folder.join("zones.local").display(),
            folder.join("harbor/servers/nsd/zones.conf").display(),
        );
        let own = format!(
            "# zones of the co-op\nzone:\n  name: \"crumbandtide.example\"\n  zonefile: \"{zones}/db.crumbandtide.example\"\n  \
             provide-xfr: 127.0.0.1 NOKEY\nzone:\n  name: \"far.example\"\n  zonefile: \"far.example\"\n  request-xfr: \
             127.0.0.99 NOKEY\n",
            zones = zones.display()
        );
        fs::write(folder.join("zones.local"), own).unwrap();
        start_nsd(folder, (world.cast.nameservers()[0], world.cast.dns_port).into(), &lines)
    });
    settle_main_file(&quay, &quay.path("nsd/nsd.conf"));
    let (configuration, zone) = (quay.path("zones.local"), quay.path("old-zones/db.crumbandtide.example"));
    Before { quay, configuration, zone, option: "provide-xfr: 127.0.0.1 NOKEY", lost: 3 }
}

const TAKE_OVER: [&str; 6] = ["zone", "create", "crumbandtide.example", "--account", "boatyard", "--from-server"];

fn listed_taken_over_and_given_back(before: &Before) {
    let Before { quay, configuration, zone, option, lost } = before;
    let (text, bytes) = (fs::read_to_string(configuration).unwrap(), fs::read(zone).unwrap());
    let listed = quay.json(&["zone", "list", "--server"], 0);
    let all = listed["zones"].as_array().unwrap();
    assert_eq!((&listed["shown"], &listed["of"]), (&all.len().into(), &all.len().into()));
    let none = quay.run(&["zone", "list", "--server", "--with", "nothing like it"]).expect(0);
    assert!(none.contains("No zone matches.") && !none.contains("defines no zones"), "{none}");
    let ours = all.iter().find(|one| one["zone"] == "crumbandtide.example").unwrap();
    assert_eq!((&ours["kind"], &ours["serial"]), (&"primary".into(), &2_019_110_301.into()), "{ours}");
    assert_eq!(ours["file"], zone.display().to_string(), "{ours}");
    assert_eq!(ours["can_be_taken_over"], true, "{ours}");
    let members: Vec<&String> = ours.as_object().unwrap().keys().collect();
    let expected = [
        "can_be_taken_over",
        "defined_in",
        "dynamic",
        "file",
        "in_view",
        "kind",
        "line",
        "problem",
        "serial",
        "signed",
        "zone",
    ];
    assert_eq!(members, expected);
    let refused = quay.run(&["zone", "create", "crumbandtide.example", "--account", "boatyard"]).expect(4);
    assert!(refused.contains("--from-server"), "{refused}");

    // A server that refuses: all is put back, byte for byte.
    let toml = quay.path("harbor/harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    let check = settings.lines().find(|line| line.starts_with("check =")).unwrap();
    fs::write(&toml, settings.replace(check, "check = [\"/bin/false\"]")).unwrap();
    let visitor = Visitor::start(quay);
    quay.run(&TAKE_OVER).expect(5);
    assert_eq!(fs::read_to_string(configuration).unwrap(), text);
    assert!(fs::symlink_metadata(quay.path("harbor/zones/crumbandtide.example.zone")).is_err());
    fs::write(&toml, &settings).unwrap();
    visitor.missed_nothing(*lost);

    let visitor = Visitor::start(quay);
    let taken = quay.run(&TAKE_OVER).expect(0);
    assert!(taken.contains("kept here") && taken.contains("2019110301"), "{taken}");
    visitor.missed_nothing(*lost);
    assert_eq!(fs::read(zone).unwrap(), bytes, "byte for byte");
    let left = fs::read_to_string(configuration).unwrap();
    assert!(!left.contains(option) && left.contains("# zones") | left.contains("// zones"), "{left}");
    let listed = quay.json(&["zone", "list", "--server"], 0);
    assert!(listed["zones"].as_array().unwrap().iter().all(|one| one["zone"] != "crumbandtide.example"), "{listed}");
    assert_eq!(quay.json(&["zone", "list"], 0)["zones"][0]["serial"], 2_019_110_301_u32);

    // Changed as any other, in its place, with all that it has.
    quay.run(&["record", "add", "oven.crumbandtide.example", "A", "192.0.2.81"]).expect(0);
    let (now, meta) = (fs::read_to_string(zone).unwrap(), fs::metadata(zone).unwrap());
    assert!(now.starts_with("; by hand, 2019\n") && now.contains("192.0.2.81"), "{}", &now[..400]);
    assert_eq!(meta.mode() & 0o777, 0o640);
    if is_root() {
        assert_eq!(meta.gid(), 4321);
    }
    let shown = quay.json(&["zone", "show", "crumbandtide.example"], 0);
    assert_eq!(shown["link"], zone.display().to_string(), "{shown}");
    // By hand as before.
    fs::write(zone, now.replace("192.0.2.81", "192.0.2.82")).unwrap();
    quay.run(&["zone", "load", "--all"]).expect(0);
    assert!(fs::read_to_string(zone).unwrap().contains("192.0.2.82"));

    // Its file is not the harbor's to remove.
    quay.run(&["zone", "remove", "crumbandtide.example", "--yes"]).expect(0);
    assert!(zone.is_file() && !quay.path("harbor/zones/crumbandtide.example.zone").is_symlink());
    let parts = fs::read_dir(quay.path("harbor/servers")).unwrap().flat_map(|server| {
        fs::read_dir(server.unwrap().path().join("parts")).into_iter().flatten().map(|part| part.unwrap().path())
    });
    for part in parts {
        assert!(!fs::read_to_string(&part).unwrap().contains(option), "{}", part.display());
    }
}

#[track_caller]
fn refused(quay: &Quay, domain: &str, code: &str, words: &str) {
    let arguments = ["zone", "create", domain, "--account", "boatyard", "--from-server"];
    let refused = quay.json(&arguments, 4);
    assert_eq!(refused["error"]["code"], code, "{refused}");
    assert!(refused["error"]["message"].as_str().unwrap().contains(words), "{refused}");
}

#[test]
fn zones_of_bind_are_taken_over_without_an_answer_missed() {
    let before = before_on_bind();
    listed_taken_over_and_given_back(&before);
    refused(&before.quay, "lanternchoir.example", "zone-not-static", "takes updates");
    refused(&before.quay, "far.example", "zone-not-static", "secondary");
    refused(&before.quay, "gullrock.example", "zone-not-defined", "defines no such zone");
}

#[test]
fn zones_of_knot_are_taken_over_without_an_answer_missed() {
    let before = before_on_knot();
    listed_taken_over_and_given_back(&before);
    refused(&before.quay, "lanternchoir.example", "zone-not-static", "takes updates");
}

#[test]
fn zones_of_nsd_are_taken_over_without_an_answer_missed() {
    let before = before_on_nsd();
    listed_taken_over_and_given_back(&before);
    refused(&before.quay, "far.example", "zone-not-static", "secondary");
}

#[test]
fn a_file_that_is_not_loaded_and_bind_with_views_stay_as_they_are() {
    let Before { quay, configuration, zone, .. } = before_on_bind();
    let refused = |code: &str, words: &str| refused(&quay, "crumbandtide.example", code, words);
    let text = fs::read_to_string(&zone).unwrap();
    fs::write(&zone, text.replace("2019110301", "2019110302")).unwrap();
    refused("zone-not-loaded", "serial 2019110302, and the server answers with 2019110301");
    fs::write(&zone, &text).unwrap();
    let own = fs::read_to_string(&configuration).unwrap();
    fs::write(&configuration, format!("{own}view inside {{ match-clients {{ any; }}; }};\n")).unwrap();
    refused("zone-not-static", "views");
    fs::write(&configuration, &own).unwrap();
    quay.settle("new-zones = \"addzone\"\n");
    refused("server-remembers-zones", "addzone");
    let toml = quay.path("harbor/harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    let without = settings.lines().filter(|line| !line.starts_with("main-file")).collect::<Vec<_>>().join("\n");
    fs::write(&toml, without).unwrap();
    refused("no-main-file", "does not say where");
}
