//! What a seller of certificates demands: put in place, seen as the seller does, and taken away again.

use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;

use serde_json::{Value, json};

use crate::certificates::Seller;
use crate::coast::Coast;

/// What anybody gets over http at a name of this harbor: the status line, and the body.
fn fetch(coast: &Coast, name: &str, path: &str) -> (String, String) {
    let mut stream = TcpStream::connect((coast.world.cast.web(), coast.world.cast.http_port)).unwrap();
    write!(stream, "GET {path} HTTP/1.1\r\nHost: {name}\r\nConnection: close\r\n\r\n").unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    let (head, body) = answer.split_once("\r\n\r\n").unwrap();
    (head.lines().next().unwrap().to_string(), body.to_string())
}

fn proofs(report: &Value) -> Vec<(&str, bool)> {
    let all = report["proofs"].as_array().unwrap().iter();
    all.map(|proof| (proof["subject"].as_str().unwrap(), proof["seen"].as_bool().unwrap())).collect()
}

fn zone(coast: &Coast) -> String {
    fs::read_to_string(coast.harbor().join("zones/crumbandtide.example.zone")).unwrap()
}

fn demanded_files(coast: &Coast) -> usize {
    fs::read_dir(coast.harbor().join("proofs")).unwrap().count()
}

#[test]
fn a_file_and_records_come_and_go() {
    let coast = Coast::with_bakery();
    let before = zone(&coast);
    // Neither https nor a redirect of everything catches it.
    coast.run(&["redirect", "add", "crumbandtide.example", "https://quay.example/", "--keep-path"]).expect(0);
    let file = coast.path("8F2C.txt");
    fs::write(&file, "8F2C11\nseller.example\n").unwrap();
    let prove =
        |more: &[&str], exit| coast.json(&[&["certificate", "prove", "crumbandtide.example"], more].concat(), exit);
    let given = file.to_str().unwrap();
    let dry = prove(&["--file", given, "--record", "_5f3a CNAME 9c1e.seller.example.", "--dry-run"], 0);
    assert_eq!((&dry["change"]["carried_out"], &dry["proofs"]), (&json!(false), &json!([])), "{dry}");
    assert_eq!((demanded_files(&coast), zone(&coast)), (0, before.clone()));

    let records = ["--record", "_5f3a CNAME 9c1e.seller.example.", "--record", "@ 300 IN TXT seller-check=7d1"];
    let placed = prove(&[&["--file", given][..], &records].concat(), 0);
    let path = "/.well-known/pki-validation/8F2C.txt";
    let at = |name: &str| format!("http://{name}{path}");
    assert_eq!(
        proofs(&placed),
        [
            (at("crumbandtide.example").as_str(), true),
            (at("www.crumbandtide.example").as_str(), true),
            ("_5f3a.crumbandtide.example CNAME 9c1e.seller.example.", true),
            ("crumbandtide.example TXT \"seller-check=7d1\"", true),
        ]
    );
    for name in ["crumbandtide.example", "www.crumbandtide.example"] {
        let (status, body) = fetch(&coast, name, path);
        assert_eq!((status.as_str(), body.as_str()), ("HTTP/1.1 200 OK", "8F2C11\nseller.example\n"));
        assert!(fetch(&coast, name, "/else").0.contains("301"));
    }

    // What somebody takes out of the zone meanwhile is noticed, and comes back.
    coast.run(&["record", "remove", "crumbandtide.example", "TXT", "seller-check=7d1"]).expect(0);
    assert!(!zone(&coast).contains("seller-check"));
    assert!(prove(&[], 0)["proofs"][3]["seen"].as_bool().unwrap());
    // Another content at the same path takes the place of the first.
    fs::write(&file, "8F2C22\n").unwrap();
    assert_eq!(proofs(&prove(&["--file", given], 0)).len(), 4);
    assert_eq!(fetch(&coast, "crumbandtide.example", path).1, "8F2C22\n");
    assert_eq!(demanded_files(&coast), 1);
    let idle = coast.json(&["tend"], 0);
    assert_eq!(idle["demanded"].as_array().unwrap().len(), 4, "{idle}");

    let gone = prove(&["--remove"], 0);
    assert_eq!((&gone["proofs"], &gone["removed"]), (&json!([]), &json!(true)));
    assert!(fetch(&coast, "crumbandtide.example", path).0.contains("301"));
    assert_eq!(demanded_files(&coast), 0);
    let records = |zone: &str| zone.lines().filter(|line| !line.contains("SOA")).count();
    assert_eq!(records(&zone(&coast)), records(&before), "{}", zone(&coast));
    assert!(!zone(&coast).contains("seller"), "{}", zone(&coast));
    assert!(
        coast
            .run(&["certificate", "prove", "crumbandtide.example"])
            .expect(0)
            .contains("nothing for a certificate seller")
    );
}

#[test]
fn it_goes_when_its_day_is_over_and_with_its_site() {
    let coast = Coast::with_bakery();
    let record = ["certificate", "prove", "crumbandtide.example", "--record", "_5f3a TXT one"];
    coast.run(&[&record[..], &["--until", "2020-01-01"]].concat()).expect(0);
    assert!(zone(&coast).contains("_5f3a"));
    let tended = coast.json(&["tend"], 0);
    let ended = &tended["ended"][0];
    assert_eq!((&ended["code"], &ended["elsewhere"]), (&json!("demand-over"), &json!(false)));
    assert_eq!(ended["proof"], "_5f3a.crumbandtide.example TXT \"one\"");
    assert!(!zone(&coast).contains("_5f3a"));

    let file = coast.path("x.txt");
    fs::write(&file, "x").unwrap();
    coast.run(&[&record[..], &["--file", file.to_str().unwrap(), "--at", "/x.txt"]].concat()).expect(0);
    coast.run(&["detach", "crumbandtide.example"]).expect(0);
    assert_eq!(demanded_files(&coast), 0);
    assert!(!zone(&coast).contains("_5f3a"));
}

#[test]
fn where_the_zone_is_elsewhere_the_lines_are_handed_over_and_watched() {
    let coast = Coast::new();
    coast.run(&["attach", "gullrock.example", "--account", "bakery", "--zone", "elsewhere"]).expect(3);
    let handed = coast.json(&["certificate", "prove", "gullrock.example", "--record", "_5f3a TXT one"], 3);
    assert_eq!(handed["handed_over"], json!(["_5f3a.gullrock.example. 3600 IN TXT \"one\""]));
    assert_eq!(proofs(&handed), [("_5f3a.gullrock.example TXT \"one\"", false)]);
    let again = coast.run(&["certificate", "prove", "gullrock.example"]).expect(3);
    assert!(again.contains("1 of 1 checks of the seller would fail"), "{again}");
    let tended = coast.run(&["tend"]).expect(3);
    let removed = coast.run(&["certificate", "prove", "gullrock.example", "--remove"]).expect(0);
    assert!(removed.contains("Remove where the zone is kept: _5f3a.gullrock.example TXT"), "{removed}");
    assert!(tended.contains("gullrock.example: a check of its certificate seller would fail"), "{tended}");
    coast.json(&["certificate", "prove", "gullrock.example", "--record", "_7d1 TXT two"], 3);
    let detached = coast.run(&["detach", "gullrock.example"]).expect(0);
    assert!(detached.contains("Remove where the zone is kept: _7d1.gullrock.example TXT"), "{detached}");
}

#[test]
fn what_a_seller_cannot_have_meant_is_refused_and_nothing_changes() {
    let coast = Coast::with_bakery();
    let before = zone(&coast);
    let refused = |more: &[&str], exit| {
        coast.run(&[&["certificate", "prove", "crumbandtide.example"], more].concat()).expect(exit)
    };
    assert!(refused(&["--file", "/no/such/file"], 4).contains("No such file"));
    let file = coast.path("y.txt");
    fs::write(&file, "y").unwrap();
    let given = file.to_str().unwrap();
    assert!(refused(&["--file", "/dev/zero"], 2).contains("larger than 16 KiB"));
    let address = coast.world.cast.web().to_string();
    coast.run(&["attach", "--address", &address, "--account", "bakery"]).expect(0);
    let nameless = coast.run(&["certificate", "prove", &address, "--record", "_x TXT y"]).expect(2);
    assert!(nameless.contains("by address") && nameless.contains("next: have the seller check"), "{nameless}");
    assert!(refused(&["--file", given, "--at", "/../y"], 2).contains("`..`"));
    assert!(refused(&["--file", given, "--at", "/.well-known/acme-challenge/y"], 2).contains("other certificates"));
    assert!(refused(&["--record", "_x.gullrock.example TXT y"], 2).contains("not a name of crumbandtide.example"));
    assert!(refused(&["--record", "www CNAME seller.example."], 4).contains("alias-beside-data"));
    assert!(coast.run(&["certificate", "prove", "no.example"]).expect(4).contains("no.example"));
    assert_eq!((demanded_files(&coast), zone(&coast)), (0, before));
}

#[test]
fn an_imported_certificate_ends_it() {
    let coast = Coast::with_bakery();
    let seller = Seller::new();
    let roots = coast.path("ca-root.pem");
    fs::write(&roots, fs::read_to_string(&roots).unwrap() + &seller.root_pem).unwrap();
    let request = coast.path("request.pem");
    coast.run(&["certificate", "request", "crumbandtide.example", "--out", request.to_str().unwrap()]).expect(0);
    let record = ["--record", "_5f3a CNAME 9c1e.seller.example."];
    coast.json(&[&["certificate", "prove", "crumbandtide.example"], &record[..]].concat(), 0);
    assert!(zone(&coast).contains("_5f3a"));
    let sold = coast.path("sold.pem");
    fs::write(&sold, seller.sell(&fs::read_to_string(&request).unwrap()) + &seller.issuer_pem).unwrap();
    let imported = coast.run(&["certificate", "import", sold.to_str().unwrap()]).expect(0);
    assert!(imported.contains("Removed _5f3a.crumbandtide.example CNAME"), "{imported}");
    assert!(!zone(&coast).contains("_5f3a"));
}
