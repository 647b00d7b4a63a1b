//! Records and zones: on any master file without a harbor, and on a zone of the harbor.

use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;

use crate::coast::{Coast, Run, brightharbor, run};

const ZONE: &str = "; kept by hand\n$TTL 1h\n@ IN SOA ns1 hostmaster ( 2026110101 ; serial\n 4h 30m 4w 5m )\n\
                    @ NS ns1\nns1 A 192.0.2.1\n@ A 192.0.2.2 ; slipway\n   MX 10 mail\nmail A 192.0.2.3\nwww CNAME @\n";

struct Loose {
    folder: tempfile::TempDir,
}

impl Loose {
    fn new() -> Self {
        let loose = Self { folder: tempfile::tempdir().unwrap() };
        std::fs::write(loose.file(), ZONE).unwrap();
        loose
    }

    fn file(&self) -> PathBuf {
        self.folder.path().join("zone")
    }

    fn text(&self) -> String {
        std::fs::read_to_string(self.file()).unwrap()
    }

    /// A command on the file.
    fn run(&self, arguments: &[&str]) -> Run {
        run(brightharbor().args(arguments).arg("--file").arg(self.file()).args(["--origin", "gullrock.example"]))
    }

    fn print(&self, more: &[&str]) -> Run {
        let file = self.file();
        run(brightharbor().args(["zone", "print"]).arg(file).args(["--origin", "gullrock.example"]).args(more))
    }
}

#[test]
fn only_the_lines_concerned_and_the_serial_change() {
    let loose = Loose::new();
    std::fs::set_permissions(loose.file(), std::fs::Permissions::from_mode(0o640)).unwrap();
    let shown = loose.run(&["record", "add", "shop", "A", "192.0.2.9", "192.0.2.10", "--dry-run"]).expect(0);
    assert!(shown.contains("nothing was changed.") && shown.contains("+shop 3600 IN A 192.0.2.9"), "{shown}");
    assert_eq!(loose.text(), ZONE);
    loose.run(&["record", "add", "shop", "A", "192.0.2.9", "192.0.2.10"]).expect(0);
    let (before, after) = (ZONE.replace("2026110101", "SERIAL"), loose.text());
    let serial = after.split("hostmaster ( ").nth(1).unwrap().split(' ').next().unwrap().to_string();
    assert!(serial.as_str() > "2026110101", "{serial}");
    let added = "shop\t3600\tIN\tA\t192.0.2.9\nshop\t3600\tIN\tA\t192.0.2.10\n";
    assert_eq!(after.replace(&serial, "SERIAL"), before + added);
    assert_eq!(std::fs::metadata(loose.file()).unwrap().permissions().mode() & 0o777, 0o640);
    loose.run(&["record", "replace", "mail", "A", "192.0.2.33", "--ttl", "5m"]).expect(0);
    assert!(loose.text().contains("   MX 10 mail\nmail\t300\tIN\tA\t192.0.2.33\nwww CNAME @\n"), "{}", loose.text());
    loose.run(&["record", "remove", "@", "A", "192.0.2.2"]).expect(0);
    assert!(loose.text().contains("ns1 A 192.0.2.1\n@   MX 10 mail\n"), "{}", loose.text());
}

#[test]
fn what_was_made_of_it_is_said_and_what_would_break_the_zone_is_refused() {
    let loose = Loose::new();
    let said =
        loose.run(&["record", "add", "https://boats.gullrock.example/x", "CNAME", "pages.provider.example"]).expect(0);
    assert!(said.contains("is a URL") && said.contains("taken as the full name pages.provider.example."), "{said}");
    let doubled = loose.run(&["record", "add", "a.gullrock.example.gullrock.example", "TXT", "x"]).expect(0);
    assert!(doubled.contains("repeats the zone's name"), "{doubled}");
    let long = loose.run(&["record", "add", "key._domainkey", "TXT", &"k".repeat(400)]).expect(0);
    assert!(long.contains("split into 2 strings"), "{long}");
    let before = loose.text();
    for (arguments, code) in [
        (&["record", "add", "www", "TXT", "x"][..], "(alias-beside-data)"),
        (&["record", "add", "@", "CNAME", "other.example"], "(alias-beside-data)"),
        (&["record", "add", "@", "NS", "ns7"], "(apex-nameserver-without-address)"),
        (&["record", "add", "@", "MX", "10 www"], "(mail-server-unusable)"),
        (&["record", "add", "dock", "NS", "ns.dock"], "(glue-missing-in-zone)"),
        (&["record", "add", "www.choir.example.", "A", "192.0.2.1"], "lies outside the zone"),
        (&["record", "add", "@", "A", "192.0.2.2"], "already has the record"),
        (&["record", "remove", "@", "NS"], "(no-nameserver)"),
        (&["record", "remove", "@", "SOA"], "the SOA record stays"),
        (&["record", "remove", "ftp", "A"], "ftp.gullrock.example has no A record"),
    ] {
        let run = loose.run(arguments);
        assert!([2, 4].contains(&run.exit), "{arguments:?}: {run:?}");
        assert!(run.stderr.split_whitespace().collect::<Vec<_>>().join(" ").contains(code), "{arguments:?}: {run:?}");
    }
    for wrong in [&["record", "add", "a b", "A", "192.0.2.1"][..], &["record", "add", "a", "A", "192.0.2.999"]] {
        loose.run(wrong).expect(2);
    }
    assert_eq!(loose.text(), before);
}

#[test]
fn a_zone_is_checked_and_printed_and_refused_where_a_server_would() {
    let loose = Loose::new();
    assert!(loose.run(&["zone", "check"]).expect(0).contains("gullrock.example: sound (7 records, serial 2026110101)"));
    assert_eq!(loose.print(&["--exact"]).stdout, ZONE);
    assert!(loose.print(&[]).expect(0).contains("www.gullrock.example. 3600 IN CNAME gullrock.example."));
    std::fs::write(loose.file(), ZONE.to_string() + "www TXT x\n@ TXT \"v=spf1 -all\"\n@ TXT \"v=spf1 mx\"\n").unwrap();
    let refused = loose.run(&["zone", "check"]).expect(1);
    assert!(refused.contains("would be refused by a server") && refused.contains("(several-spf)"), "{refused}");
    assert!(loose.print(&[]).expect(1).contains("(alias-beside-data)"));
    assert!(loose.print(&["--anyway"]).expect(0).contains("www.gullrock.example. 3600 IN TXT \"x\""));
    std::fs::write(loose.file(), ZONE.to_string() + "\nwww A 192.0.2.999\n").unwrap();
    let place = format!("{}:12:7: `192.0.2.999` is not an IPv4 address", loose.file().display());
    assert!(loose.run(&["zone", "check"]).expect(1).contains(&place));
    loose.run(&["record", "add", "x", "A", "192.0.2.1"]).expect(4);
}

#[test]
fn a_zone_of_the_harbor_is_changed_through_the_one_door() {
    let coast = Coast::new();
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery", "--bare"]).expect(3);
    let added = coast.json(&["record", "add", "crumbandtide.example", "MX", "10 mail.provider.example"], 0);
    assert_eq!(added["added"], serde_json::json!(["crumbandtide.example. 3600 IN MX 10 mail.provider.example."]));
    // The domain is still with its old host: said first, with where an edit for visitors belongs.
    assert_eq!(added["change"]["remarks"][0]["code"], "zone-not-in-use");
    assert_eq!(added["change"]["remarks"][0]["finding"]["code"], "nameservers-not-as-expected");
    let said = added["change"]["remarks"][0]["text"].as_str().unwrap();
    assert!(said.starts_with("nobody uses this zone yet") && said.contains("ns1.oldquay.example"), "{said}");
    assert_eq!((&added["change"]["entry"], &added["old_answers_for"]), (&3.into(), &300.into()));
    coast.delegate_here("crumbandtide.example");
    let text = coast.run(&["record", "remove", "@", "MX", "--zone", "crumbandtide.example"]).expect(0);
    assert!(!text.contains("nobody uses"), "{text}");
    assert!(text.contains("Resolvers may give the old answer until"), "{text}");
    let zones = coast.json(&["zone", "list"], 0);
    assert_eq!(
        (&zones["zones"][0]["zone"], &zones["zones"][0]["records"]),
        (&"crumbandtide.example".into(), &5.into())
    );
    assert!(coast.run(&["zone", "check", "crumbandtide.example"]).expect(0).contains("private-address"));
    let dmarc = coast.json(&["record", "add", "_dmarc.crumbandtide.example", "TXT", "v=DMARC1; p=none"], 0);
    assert_eq!(dmarc["added"][0], "_dmarc.crumbandtide.example. 3600 IN TXT \"v=DMARC1; p=none\"");
    coast.run(&["record", "remove", "_dmarc.crumbandtide.example", "TXT"]).expect(0);
    assert!(coast.run(&["record", "add", "www.choir.example", "A", "192.0.2.1"]).expect(4).contains("no zone"));
    assert_eq!(coast.json(&["logbook"], 0)["entries"][0]["what"], "record remove _dmarc.crumbandtide.example TXT");
}

#[test]
fn a_zone_that_is_kept_elsewhere_gives_lines_to_copy_and_changes_nothing() {
    let coast = Coast::new();
    coast.run(&["attach", "gullrock.example", "--account", "bakery", "--zone", "elsewhere"]).expect(3);
    let text = coast.run(&["record", "add", "shop.gullrock.example", "A", "192.0.2.1", "192.0.2.2"]).expect(3);
    let lines = "shop.gullrock.example. 3600 IN A 192.0.2.1 shop.gullrock.example. 3600 IN A 192.0.2.2";
    assert!(text.contains("To enter where the zone gullrock.example is kept:") && text.contains(lines), "{text}");
    let removed = coast.json(&["record", "remove", "@", "MX", "--zone", "gullrock.example"], 3);
    assert_eq!(
        removed["task"],
        "To remove where the zone gullrock.example is kept: all MX records of gullrock.example"
    );
    assert_eq!(coast.json(&["logbook"], 0)["entries"].as_array().unwrap().len(), 2);
}

#[test]
fn a_zone_is_made_for_a_domain_that_is_not_served_here() {
    let coast = Coast::new();
    let create = ["zone", "create", "lanternchoir.example", "--account", "bakery", "--mail", "none"];
    assert!(coast.run(&[&create[..], &["--dry-run"]].concat()).expect(0).contains("+@ IN MX 0 ."));
    assert_eq!(coast.json(&["zone", "list"], 0)["zones"], serde_json::json!([]));
    coast.run(&create).expect(0);
    assert_eq!(coast.json(&["zone", "list"], 0)["zones"][0]["records"], 7);
    assert!(coast.run(&create).expect(4).contains("zone lanternchoir.example already exists"));
    assert!(
        coast
            .run(&["zone", "create", "a.lanternchoir.example", "--account", "bakery"])
            .expect(4)
            .contains("record add")
    );
    assert!(
        coast
            .run(&["zone", "create", "gullrock.example", "--account", "nobody"])
            .expect(4)
            .contains("account `nobody` not found")
    );
    // A name of it can be attached later; the zone is used.
    coast.delegate_here("lanternchoir.example");
    let attached = coast.run(&["attach", "hall.lanternchoir.example", "--account", "bakery"]).expect(0);
    assert!(attached.contains("to zone lanternchoir.example: hall.lanternchoir.example."), "{attached}");
}
