//! A CA that does not answer, or is out of order: nobody is held up for long, and what was begun is gone on with.

use std::fs;
use std::net::TcpListener;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::coast::Coast;

#[test]
fn an_order_that_was_begun_is_gone_on_with_once_the_ca_answers_again() {
    let coast = Coast::with_bakery();
    let orders = coast.world.orders();
    // Nonce, order, and one authorization.
    coast.world.fail_ca_after(Some(3));
    let refused = coast.run(&["certificate", "renew", "crumbandtide.example"]).expect(4);
    assert!(refused.contains("the CA cannot be reached") && refused.contains("status 503"), "{refused}");
    assert_eq!(coast.world.orders(), orders + 1);
    coast.world.fail_ca_after(None);
    let renewed = coast.json(&["certificate", "renew", "crumbandtide.example"], 0);
    assert_eq!((&renewed["certificate"]["new"], coast.world.orders()), (&true.into(), orders + 1));
}

#[test]
fn many_orders_are_not_tried_one_after_the_other_at_a_ca_that_does_not_answer() {
    let coast = Coast::with_bakery();
    let listener = TcpListener::bind((coast.world.cast.ca(), 0)).unwrap();
    let address = listener.local_addr().unwrap();
    let tries = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&tries);
    std::thread::spawn(move || listener.incoming().for_each(|_| _ = counted.fetch_add(1, Ordering::Relaxed)));
    let toml = coast.harbor().join("harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    let line = settings.lines().find(|line| line.starts_with("directory = \"https")).unwrap();
    fs::write(&toml, settings.replace(line, &format!("directory = \"https://{address}/directory\""))).unwrap();
    let names: Vec<String> = (0..24).map(|number| format!("berth{number}.crumbandtide.example")).collect();
    let names = names.iter().map(String::as_str);
    let attach: Vec<&str> = ["attach"].into_iter().chain(names).chain(["--account", "bakery"]).collect();
    coast.run(&attach).expect(3);
    let tended = coast.json(&["tend"], 3);
    let tried = tended["tried"].as_array().unwrap();
    assert_eq!(tried.iter().filter(|one| one["outcome"] == "refused").count(), 24, "{tended}");
    // Five tries for each of the few that were on their way at once, not for all.
    let tries = tries.load(Ordering::Relaxed);
    assert!((10..=50).contains(&tries), "{tries}");
    fs::write(&toml, settings).unwrap();
    coast.json(&["certificate", "issue", "berth7.crumbandtide.example"], 0);
}

#[test]
fn a_ca_that_the_settings_name_for_it_steps_in_after_an_hour_and_the_first_one_is_asked_again_at_the_next_renewal() {
    let coast = Coast::with_bakery();
    let toml = coast.harbor().join("harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    let (_, of_ca) = settings.split_once("[ca]\n").unwrap();
    let of_ca = of_ca.split("\n[").next().unwrap();
    // Nobody listens there.
    let listener = TcpListener::bind((coast.world.cast.ca(), 0)).unwrap();
    let nobody = format!("directory = \"https://{}/directory\"", listener.local_addr().unwrap());
    drop(listener);
    let line = of_ca.lines().find(|line| line.starts_with("directory = ")).unwrap();
    let silent = format!("{}\nfallback = [\"lighthouse\"]", of_ca.replace(line, &nobody));
    fs::write(
        &toml,
        settings.replace(of_ca, &silent)
            + &format!("\n[cas.lighthouse]\ncaa-identities = [\"lighthouse.example\"]\n{of_ca}\n"),
    )
    .unwrap();
    let issue = ["certificate", "issue", "quay.crumbandtide.example"];
    let orders = coast.world.orders();
    coast.run(&["attach", "quay.crumbandtide.example", "--account", "bakery"]).expect(3);
    let refused = coast.json(&issue, 4);
    assert_eq!(refused["error"]["code"], "ca-silent", "{refused}");
    assert_eq!(coast.world.orders(), orders, "nobody steps in at once");
    let [kept] = &silences(&coast)[..] else { panic!("one CA is silent") };
    let long_ago = fs::metadata(kept).unwrap().modified().unwrap() - std::time::Duration::from_secs(2 * 3600);
    let long_ago = jiff::Timestamp::try_from(long_ago).unwrap();
    fs::write(kept, long_ago.to_string()).unwrap();
    let issued = coast.run(&issue).expect(0);
    assert!(issued.contains("from: the CA `lighthouse`, since `default` does not answer"), "{issued}");
    assert_eq!(coast.world.orders(), orders + 1);
    let again = coast.json(&issue, 0);
    assert_eq!(
        (&again["certificate"]["new"], &again["certificate"]["stepped_in"]),
        (&false.into(), &"lighthouse".into())
    );
    assert_eq!(coast.world.orders(), orders + 1, "what is there is good");
    // It gets all the names that were ordered, or none.
    let forbidden = ["record", "add", "www.pier.crumbandtide.example", "CAA", "0 issue \"harbour-office.example\""];
    coast.run(&forbidden).expect(0);
    coast.run(&["attach", "pier.crumbandtide.example", "--www", "also", "--account", "bakery"]).expect(3);
    let refused = coast.json(&["certificate", "issue", "pier.crumbandtide.example"], 4);
    let message = refused["error"]["message"].as_str().unwrap();
    assert!(message.contains("`lighthouse`, asked in its place: ") && message.contains("www.pier"), "{message}");

    fs::write(&toml, &settings).unwrap();
    let renewed = coast.json(&["certificate", "renew", "quay.crumbandtide.example"], 0);
    assert_eq!(renewed["certificate"]["stepped_in"], serde_json::Value::Null, "{renewed}");
    let listed = coast.json(&["certificate", "list"], 3);
    let of_quay =
        listed["certificates"].as_array().unwrap().iter().find(|one| one["site"] == "quay.crumbandtide.example");
    assert!(of_quay.unwrap()["ca"].is_null(), "{listed}");
}

/// The files that say since when a CA is silent.
fn silences(coast: &Coast) -> Vec<std::path::PathBuf> {
    let folders = fs::read_dir(coast.harbor().join("ca")).unwrap().flatten();
    folders.map(|folder| folder.path().join("silent-since")).filter(|path| path.exists()).collect()
}
