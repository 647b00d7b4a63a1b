//! The answers of a CA that get lost on their way: whatever the CA did, the order goes on, and none is placed twice.

use crate::coast::Coast;

const SITE: &str = "crumbandtide.example";

/// One answer lost, whichever it is: the certificate is served by this run or by the next, with one order.
fn with_one_lost(coast: &Coast, lost: usize, command: &[&str]) {
    let before = coast.world.orders();
    coast.world.lose_answer_after(lost);
    let run = coast.run(command);
    let again = coast.run(&["tend"]);
    assert!(run.exit == 0 || again.exit == 0, "answer {lost}: {run:?}\n{again:?}");
    assert_eq!(coast.world.orders(), before + 1, "answer {lost}: {run:?}\n{again:?}");
    let checked = coast.json(&["certificate", "check", SITE], 0);
    assert_eq!(checked["exit"], 0, "{checked}");
}

#[test]
fn each_answer_of_a_first_order_may_get_lost() {
    let whole = {
        let coast = Coast::with_bakery();
        coast.world.ca_requests().0
    };
    assert!((8..30).contains(&whole), "{whole}");
    for lost in 0..whole {
        let coast = Coast::new();
        coast.delegate_here(SITE);
        with_one_lost(&coast, lost, &["attach", SITE, "--account", "bakery"]);
    }
}

#[test]
fn each_answer_of_a_renewal_may_get_lost() {
    let coast = Coast::with_bakery();
    let before = coast.world.ca_requests().0;
    coast.run(&["certificate", "renew", SITE]).expect(0);
    let whole = coast.world.ca_requests().0 - before;
    for lost in 0..whole {
        with_one_lost(&coast, lost, &["certificate", "renew", SITE]);
    }
}
