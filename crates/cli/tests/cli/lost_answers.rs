//! What a CA that cannot answer as it should costs: answers that get lost on their way cost no order, and a CA that has had
//! too many requests is left alone until the time that it names.

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

/// The CA counts requests for nonces and its directory as well.
#[test]
fn a_ca_that_has_had_too_many_requests_is_left_alone_until_the_time_that_it_names() {
    let coast = Coast::with_bakery();
    coast.delegate_here("gullrock.example");
    coast.world.limit_ca(Some("3600"));
    let first = coast.json(&["certificate", "renew", SITE], 4);
    assert!(first["error"]["message"].as_str().unwrap().contains("too many requests"), "{first}");
    coast.world.limit_ca(None);
    // Not one request more, for this site or another, by whatever command.
    let asked = coast.world.ca_requests();
    coast.run(&["certificate", "renew", SITE]).expect(4);
    let attached = coast.run(&["attach", "gullrock.example", "--account", "bakery"]);
    assert_eq!(attached.exit, 3, "{attached:?}");
    assert!(attached.stdout.contains("too many requests"), "{attached:?}");
    let tended = coast.run(&["tend"]).expect(3);
    assert!(tended.contains("gullrock.example") && tended.contains("not before"), "{tended}");
    assert_eq!(coast.world.ca_requests(), asked, "nobody asks before the hour is over");
    coast.json(&["certificate", "check", SITE], 0);
}

#[test]
fn the_time_may_be_a_date_and_when_it_has_come_orders_go_on() {
    let coast = Coast::with_bakery();
    let soon = jiff::Timestamp::now() + jiff::SignedDuration::from_secs(2);
    let date = jiff::fmt::rfc2822::DateTimePrinter::new().timestamp_to_rfc9110_string(&soon).unwrap();
    coast.world.limit_ca(Some(&date));
    coast.run(&["certificate", "renew", SITE]).expect(4);
    coast.world.limit_ca(None);
    let asked = coast.world.ca_requests();
    coast.run(&["certificate", "renew", SITE]).expect(4);
    assert_eq!(coast.world.ca_requests(), asked);
    std::thread::sleep(std::time::Duration::from_secs(3));
    coast.run(&["certificate", "renew", SITE]).expect(0);
}

#[test]
fn without_a_time_the_rest_of_the_command_leaves_the_ca_alone() {
    let coast = Coast::new();
    let domains: Vec<String> = (0..30).map(|number| format!("tide{number}.example")).collect();
    domains.iter().for_each(|domain| coast.delegate_here(domain));
    let mut arguments = vec!["attach", "--account", "bakery"];
    arguments.extend(domains.iter().map(String::as_str));
    // So many are left to the timer.
    assert_eq!(coast.run(&arguments).exit, 3);
    coast.world.limit_ca(Some("soon, perhaps"));
    let asked = coast.world.ca_requests().0;
    coast.run(&["tend"]).expect(3);
    // Those that were under way already, and no other.
    let more = coast.world.ca_requests().0 - asked;
    assert!((1..=12).contains(&more), "{more} requests for 30 sites");
}
