//! The same once more over IPv6 alone: tests of this binary run again in a network namespace of their own, where every root
//! server, nameserver, resolver, web server and CA has a unique local address (RFC 4193) and nothing else. Domains of both
//! families, and one family that fails, are in `both_families`.
//!
//! A namespace needs root. Elsewhere the machine's own ::1 is what there is, and that is said.

use std::process::{Command, Stdio};

use brightharbor_standins::{V6_OF_INTERFACE, V6_ROUTE};

use super::servers::need;

/// What is run again: every part of the way of a domain, on stand-ins and on real servers.
const AGAIN: [&str; 20] = [
    "attaching::an_alias_domain_shows_the_other_site_and_gets_into_its_certificate",
    "attaching::several_names_in_one_call_as_they_were_pasted_with_one_reload",
    "before_orders::what_caa_records_forbid_is_told_before_the_ca_is_asked",
    "delegations::a_nameserver_is_looked_at_before_during_and_after_its_registration",
    "delegations::each_rule_fires_in_its_own_scenario_and_in_no_good_one",
    "delegations::waiting_says_how_it_ended_and_which_servers_of_the_parent_have_it",
    "delegations::what_was_saved_is_judged_again_without_a_network",
    "delegations::zones_begin_where_the_dns_says_and_not_where_a_list_guesses",
    "former_zone::a_move_is_prepared_where_the_world_gets_the_zone_from",
    "former_zone::mail_and_names_of_a_domain_go_along_when_it_is_attached",
    "former_zone::nobody_is_asked_to_move_a_domain_that_would_lose_its_mail",
    "issuing::a_wildcard_is_proven_by_the_zone_which_is_clean_afterwards",
    "nameservers::a_handover_is_waited_for",
    "nameservers::a_set_with_names_of_the_customers_own",
    "nameservers::how_far_a_change_has_spread",
    "nameservers::nameservers_join_and_leave_a_set_in_the_right_order",
    "patience::one_of_two_nameservers_is_silent",
    "real::voyage::the_whole_voyage_with_nginx_bind_and_a_test_ca",
    "sites::a_site_without_a_name_is_served_by_its_address",
    "voyage::one_domain_from_elsewhere_to_served_and_secured",
];

/// A network of loopback alone.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Network {
    /// With the addresses of IPv6 worlds.
    V6,
    /// Where no address of IPv6 but ::1 is reached.
    V4Alone,
}

impl Network {
    /// What tests in it find in the variable that tells stand-ins of their family.
    fn word(self) -> &'static str {
        match self {
            Network::V6 => "ipv6",
            Network::V4Alone => "ipv4-alone",
        }
    }

    /// Whether this process runs in it.
    pub fn is_here(self) -> bool {
        std::env::var_os("BRIGHTHARBOR_WORLD").is_some_and(|word| word == self.word())
    }

    /// Makes it, and runs something in it.
    fn command(self) -> Command {
        let ip = need("ip", "iproute2").display().to_string();
        let mut prepare = format!("{ip} link set lo up");
        if self == Network::V6 {
            prepare.push_str(&format!(
                " && {ip} -6 route add {route} && {ip} -6 address add {V6_OF_INTERFACE}/128 dev lo nodad \
                 && echo 1 > /proc/sys/net/ipv6/ip_nonlocal_bind",
                route = V6_ROUTE.join(" "),
            ));
        }
        let mut command = Command::new(need("unshare", "util-linux"));
        command.args(["--net", "sh", "-c", &format!("{prepare} && exec \"$@\""), "sh"]).stdin(Stdio::null());
        command
    }

    /// Whether it can be made here. Only root can; whoever is not is told what was not tried.
    fn can_be_made(self) -> bool {
        let done = self.command().arg("true").output().unwrap();
        let root = Command::new("id").arg("-u").output().is_ok_and(|done| done.stdout.trim_ascii() == b"0");
        assert!(done.status.success() || !root, "no such network: {}", String::from_utf8_lossy(&done.stderr));
        if !done.status.success() {
            eprintln!("without root there is no network of one's own: over IPv6, ::1 alone is tried");
        }
        done.status.success()
    }

    /// Runs tests of this binary in it, each exactly once.
    pub fn run_again(self, tests: &[&str]) {
        if !self.can_be_made() {
            return;
        }
        let done = self
            .command()
            .arg(std::env::current_exe().unwrap())
            .args(tests)
            .arg("--exact")
            .env("BRIGHTHARBOR_WORLD", self.word())
            .output()
            .unwrap();
        let text = String::from_utf8_lossy(&done.stdout).into_owned();
        assert!(done.status.success(), "{text}\n{}", String::from_utf8_lossy(&done.stderr));
        // A name that is mistyped would run nothing.
        assert!(text.contains(&format!("test result: ok. {} passed", tests.len())), "{text}");
    }
}

#[test]
fn over_ipv6_alone_everything_goes_the_same_way() {
    Network::V6.run_again(&AGAIN);
}
