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
