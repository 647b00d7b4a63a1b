//! What BIND and its secondaries have heard of a zone is not unsaid: whatever is taken back goes back under a higher serial.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{Document, serial_is_newer};
use brightharbor_io::server::ask_serial;

use super::quay::block_on;
use super::voyage::Port;

const ZONE: &str = "crumbandtide.example";

struct Told<'a> {
    port: &'a Port,
    settings: String,
    last: u32,
}

impl Told<'_> {
    /// The serial that BIND answers with, which must never fall.
    fn served(&mut self) -> u32 {
        let cast = &self.port.world.cast;
        let address = (cast.nameservers()[0], cast.dns_port).into();
        let serial = block_on(ask_serial(address, &Hostname::parse(ZONE).unwrap())).unwrap();
        assert!(serial == self.last || serial_is_newer(serial, self.last), "{serial} after {}", self.last);
        self.last = serial;
        serial
    }

    fn zone(&self) -> Document {
        let file = fs::read(self.port.path(&format!("harbor/zones/{ZONE}.zone"))).unwrap();
        Document::parse(file, &Hostname::parse(ZONE).unwrap().dns_name()).unwrap()
    }

    fn has(&self, owner: &str) -> bool {
        self.zone().records().any(|record| record.owner.bare() == format!("{owner}.{ZONE}"))
    }

    /// Has every order reach BIND, and then the command fail or die.
    fn afterwards(&self, what: &str) {
        let script = self.port.path("control");
        let real = self.settings.lines().find(|line| line.starts_with("control-command")).unwrap();
        let words: Vec<String> = real.split('"').skip(1).step_by(2).map(|word| format!("'{word}'")).collect();
        fs::write(&script, format!("#!/bin/sh\n{} \"$@\" || exit 1\nsleep 0.3\n{what}\n", words.join(" "))).unwrap();
        fs::set_permissions(&script, fs::Permissions::from_mode(0o755)).unwrap();
        let changed = format!("control-command = [\"{}\"]", script.display());
        fs::write(self.port.path("harbor/harbor.toml"), self.settings.replace(real, &changed)).unwrap();
    }

    fn as_before(&self) {
        fs::write(self.port.path("harbor/harbor.toml"), &self.settings).unwrap();
    }
}

#[test]
fn a_serial_that_was_heard_is_never_used_twice() {
    let port = Port::new("nginx");
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    port.json(&["attach", ZONE, "--account", "bakery"], 3);
    let settings = fs::read_to_string(port.path("harbor/harbor.toml")).unwrap();
    let mut told = Told { port: &port, settings, last: 1 };
    let start = told.served();
    let add = |name: &str| port.run(&["record", "add", &format!("{name}.{ZONE}"), "A", "192.0.2.7"]);

    // The control program fails after BIND has loaded the zone.
    told.afterwards("exit 1");
    add("pier").expect(5);
    told.as_before();
    assert!(!told.has("pier"));
    let back = told.zone().soa().serial;
    assert!(serial_is_newer(back, start.wrapping_add(1)), "{back}: {} was heard", start + 1);
    let listed = port.json(&["zone", "list"], 0);
    assert_eq!(listed["zones"][0]["edited_by_hand"], false, "put back, and nobody's edit: {listed}");
    // The command that would tell BIND failed: the next one does.
    add("crane").expect(0);
    assert!(serial_is_newer(told.served(), back) && told.has("crane"));

    // The command is killed after BIND has loaded the zone; the next one takes it back, and BIND hears of that.
    let before = told.served();
    told.afterwards("kill -9 $PPID");
    assert_eq!(add("buoy").exit, -1, "killed");
    let heard = told.served();
    assert!(serial_is_newer(heard, before), "BIND has loaded it");
    told.as_before();
    port.run(&["tend"]);
    assert!(!told.has("buoy") && told.has("crane"));
    assert!(serial_is_newer(told.served(), heard), "what was taken back is heard as well");
    assert_eq!(port.json(&["zone", "list"], 0)["zones"][0]["edited_by_hand"], false);

    // A zone file from a backup, older than what is served: the next change goes above what is served.
    let served = told.served();
    let file = port.path(&format!("harbor/zones/{ZONE}.zone"));
    let old = fs::read_to_string(&file).unwrap().replacen(&served.to_string(), &start.to_string(), 1);
    fs::write(&file, old).unwrap();
    add("quay").expect(0);
    assert!(serial_is_newer(told.served(), served) && told.has("quay"));
}
