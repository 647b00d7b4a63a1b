//! Each link judged on made-up looks at a hostname: what holds, what is broken and whose turn it is.

use std::net::IpAddr;

use jiff::Timestamp;

use super::*;
use crate::certificate::{
    Certificate, CertificateDetails, CertificateFiles, CertificateSource, CertificateState, NamePause,
    RevocationStatus, Waiting,
};
use crate::delegation::rules::{Expected, judge};
use crate::delegation::{
    Address, HostAnswer, NameserverSeen, ParentAnswer, Picture, Probed, Reached, Registered, ServerSeen, ServerState,
};
use crate::name::{DnsName, Host};
use crate::redirect::{Hop, Landing, LandingEnd, Shows};
use crate::render::{Clash, ClashKind};
use crate::zone::ZoneHome;

const OURS: &str = "192.0.2.10";
const FOREIGN: &str = "203.0.113.9";
const FINGERPRINT: &str = "0123456789abcdef0123456789abcdef";

/// A look at www.gullrock.example, good in every way until it is spoilt.
struct Look {
    gathered: Gathered,
    expected: Expected,
    harbored: Option<Harbored>,
}

fn name(text: &str) -> DnsName {
    DnsName::absolute(text).unwrap()
}

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

fn address(text: &str, ttl: u32) -> Address {
    Address { address: ip(text), ttl }
}

fn now() -> Timestamp {
    "2026-11-23T07:00:00Z".parse().unwrap()
}

fn good() -> Look {
    let hostname = Host::parse("gullrock.example").unwrap();
    let nameservers = vec![name("ns2.oldquay.example"), name("ns1.saltmarsh.example")];
    let answer = HostAnswer {
        hostname: hostname.dns_name().unwrap(),
        addresses: vec![address(OURS, 300)],
        aliases: vec![],
        no_such_name: false,
        negative_ttl: None,
    };
    let nameserver = |name: &DnsName, address: &str| NameserverSeen {
        name: name.clone(),
        glue: vec![],
        addresses: vec![ip(address)],
        alias: None,
        servers: vec![ServerSeen {
            address: format!("{address}:53").parse().unwrap(),
            state: ServerState::Authoritative { serial: 7, nameservers: nameservers.clone() },
            probed: Probed::default(),
            hosts: vec![answer.clone()],
        }],
    };
    let picture = Picture {
        registered: Registered::Yes,
        parent_zone: name("example"),
        parent: vec![ParentAnswer {
            server: "192.0.2.1:53".parse().unwrap(),
            nameservers: nameservers.clone(),
            ttl: 3600,
            glue: vec![],
            stray: vec![],
            tcp: Reached::Unasked,
            serial: None,
            problem: None,
            denies: false,
        }],
        nameservers: vec![nameserver(&nameservers[1], "192.0.2.53"), nameserver(&nameservers[0], "198.51.100.53")],
        questions: 9,
        ..Picture::unasked(hostname.dns_name().unwrap())
    };
    let resolved = Resolved {
        resolver: "192.0.2.6:53".parse().unwrap(),
        addresses: vec![address(OURS, 200)],
        no_such_name: false,
        negative_ttl: None,
        failed: None,
        answers_unchecked: false,
    };
    let hop = Hop { url: "http://gullrock.example/".into(), status: 301 };
    let end = LandingEnd::Page { url: "https://gullrock.example/".into(), status: 200 };
    let host = HostGathered {
        hostname: hostname.clone(),
        resolved: vec![resolved],
        http: vec![HttpSeen {
            address: "192.0.2.10:80".parse().unwrap(),
            outcome: HttpOutcome::Answer { status: 403, body: FINGERPRINT.into() },
        }],
        tls: vec![TlsSeen { address: "192.0.2.10:443".parse().unwrap(), outcome: shown(Ok(())) }],
        landing: Some(Landing { hops: vec![hop], end, shows: None }),
    };
    let certificate = Certificate {
        site: hostname.clone(),
        names: vec![hostname.clone()],
        files: CertificateFiles { folder: "/harbor/certificates/gullrock.example/1".into() },
        not_before: now(),
        not_after: "2027-02-21T07:00:00Z".parse().unwrap(),
        state: CertificateState::Served,
        source: CertificateSource::Ca,
        details: CertificateDetails::default(),
    };
    Look {
        gathered: Gathered { domain: hostname.name().cloned(), now: now(), picture, hosts: vec![host] },
        expected: Expected { nameservers, ..Expected::default() },
        harbored: Some(Harbored {
            zone_home: ZoneHome::Here,
            fingerprint: FINGERPRINT.into(),
            certificate: Some(certificate),
            waiting: None,
            pause: None,
            has_ca: true,
            awaited: false,
            clash: None,
            silent: None,
            is_guarded: false,
        }),
    }
}

fn shown(verified: Result<(), String>) -> TlsOutcome {
    TlsOutcome::Shown {
        protocol: "TLS 1.3".into(),
        verified,
        names: vec!["gullrock.example".into()],
        not_before: "2026-11-23T07:00:00Z".parse().unwrap(),
        not_after: "2027-02-21T07:00:00Z".parse().unwrap(),
        sent: 2,
        revocation: RevocationStatus::Good,
    }
}

impl Look {
    fn spoilt(change: impl FnOnce(&mut Look)) -> Look {
        let mut look = good();
        change(&mut look);
        look
    }

    fn with<T>(&self, judge_it: impl FnOnce(&Seen<'_>) -> T) -> T {
        let findings = judge(&self.gathered.picture, &self.expected);
        let ours = [ip(OURS)];
        let host = &self.gathered.hosts[0];
        judge_it(&self.gathered.seen(host, &findings, &self.expected, &ours, self.harbored.as_ref()))
    }

    fn survey(&self) -> Survey {
        self.with(survey)
    }

    /// The first letters of all states, such as `hhbbuw`.
    fn states(&self) -> String {
        let letter = |link: &Link| match link.state {
            LinkState::Holds => 'h',
            LinkState::Risk => 'r',
            LinkState::Broken => 'b',
            LinkState::Waiting(_) => 'w',
            LinkState::Unchecked => 'u',
        };
        self.survey().links.iter().map(letter).collect()
    }

    fn link(&self, name: LinkName) -> Link {
        self.survey().links.into_iter().find(|link| link.name == name).unwrap()
    }

    fn host(&mut self) -> &mut HostGathered {
        &mut self.gathered.hosts[0]
    }

    fn answer(&mut self) -> &mut HostAnswer {
        &mut self.gathered.picture.nameservers[0].servers[0].hosts[0]
    }

    fn harbored(&mut self) -> &mut Harbored {
        self.harbored.as_mut().unwrap()
    }
}

const AT_REGISTRAR: [&str; 2] = ["nameserver ns2.oldquay.example", "nameserver ns1.saltmarsh.example"];

#[test]
fn all_six_hold() {
    let look = good();
    assert_eq!(look.states(), "hhhhhh");
    assert!(look.survey().all_hold());
    assert_eq!(look.with(leads_here), Ok(CaWay::Http));
}

#[test]
fn a_domain_that_nobody_registered_is_the_registrars_turn() {
    let look = Look::spoilt(|look| {
        look.gathered.picture.registered = Registered::No;
        look.gathered.picture.nameservers.clear();
        look.host().http.clear();
        look.host().landing = None;
        look.harbored().certificate = None;
    });
    assert_eq!(look.states(), "buuuwu");
    let link = look.link(LinkName::Registered);
    assert_eq!((link.turn, link.values), (Some(Turn::Registrar), AT_REGISTRAR.map(String::from).to_vec()));
    assert!(look.with(leads_here).is_err());
}

#[test]
fn a_parent_that_cannot_be_asked_is_not_blamed_on_the_domain() {
    let look = Look::spoilt(|look| look.gathered.picture.registered = Registered::Unknown("silence".into()));
    assert_eq!(look.link(LinkName::Registered).state, LinkState::Unchecked);
}

#[test]
fn delegated_elsewhere_hands_the_nameservers_over() {
    let look = Look::spoilt(|look| look.expected.nameservers = vec![name("ns9.saltmarsh.example")]);
    let link = look.link(LinkName::Delegated);
    assert_eq!((&link.state, link.turn), (&LinkState::Broken, Some(Turn::Registrar)));
    assert_eq!(link.values, ["nameserver ns9.saltmarsh.example"]);
    assert_eq!(look.with(leads_here), Err(link.because));
}

#[test]
fn nameservers_inside_the_domain_are_handed_over_with_their_addresses() {
    let look = Look::spoilt(|look| {
        let own = name("ns1.gullrock.example");
        look.expected.nameservers = vec![own.clone()];
        look.expected.addresses.insert(own, vec![ip("192.0.2.53"), ip("2001:db8::53")]);
    });
    let values = look.link(LinkName::Delegated).values;
    assert_eq!(values, ["nameserver ns1.gullrock.example with the addresses 192.0.2.53, 2001:db8::53"]);
}

#[test]
fn one_silent_nameserver_is_a_risk_and_none_left_is_broken() {
    let silence = |look: &mut Look, count: usize| {
        for nameserver in look.gathered.picture.nameservers.iter_mut().take(count) {
            nameserver.servers[0].state = ServerState::Silent;
        }
    };
    let look = Look::spoilt(|look| silence(look, 1));
    assert_eq!(look.states(), "hrhhhh");
    let look = Look::spoilt(|look| silence(look, 2));
    assert_eq!(look.states(), "hbuhhh");
    assert_eq!(look.link(LinkName::Delegated).turn, Some(Turn::Administrator));
}

#[test]
fn an_old_answer_in_a_cache_is_waited_for_until_it_must_be_gone() {
    let look = Look::spoilt(|look| look.host().resolved[0].addresses = vec![address(FOREIGN, 120)]);
    let until = "2026-11-23T07:02:01Z".parse().unwrap();
    assert_eq!(look.link(LinkName::Resolves).state, LinkState::Waiting(Some(until)));
    assert_eq!(look.with(leads_here), Ok(CaWay::Http), "a CA asks the nameservers, not this cache");
    let look = Look::spoilt(|look| {
        look.host().resolved[0].addresses.clear();
        look.host().resolved[0].no_such_name = true;
        look.host().resolved[0].negative_ttl = Some(59);
    });
    let until = "2026-11-23T07:01:00Z".parse().unwrap();
    assert_eq!(look.link(LinkName::Resolves).state, LinkState::Waiting(Some(until)));
    let look = Look::spoilt(|look| look.host().resolved[0].failed = Some("did not answer in time".into()));
    assert_eq!(look.link(LinkName::Resolves).state, LinkState::Risk);
}

#[test]
fn a_resolver_that_refuses_what_is_signed_wrongly_is_told_from_one_that_fails() {
    let look = Look::spoilt(|look| {
        look.host().resolved[0].failed = Some("answered SERVFAIL".into());
        look.host().resolved[0].answers_unchecked = true;
    });
    let link = look.link(LinkName::Resolves);
    assert_eq!(
        (link.state, link.code, link.turn),
        (LinkState::Broken, "resolver-refuses-signatures", Some(Turn::Administrator))
    );
}

#[test]
fn a_name_that_leads_elsewhere_is_the_turn_of_who_keeps_the_zone() {
    let elsewhere = |home| {
        Look::spoilt(|look| {
            look.answer().addresses = vec![address(FOREIGN, 300)];
            look.harbored().zone_home = home;
            if home == ZoneHome::Elsewhere {
                look.expected.nameservers.clear();
            }
        })
    };
    let here = elsewhere(ZoneHome::Here).link(LinkName::Resolves);
    assert_eq!((&here.state, here.turn), (&LinkState::Broken, Some(Turn::Administrator)));
    let there = elsewhere(ZoneHome::Elsewhere).link(LinkName::Resolves);
    assert_eq!(there.turn, Some(Turn::DnsHost));
    assert_eq!(there.values, ["gullrock.example. 3600 IN A 192.0.2.10"]);
    let none = Look::spoilt(|look| {
        for nameserver in &mut look.gathered.picture.nameservers {
            nameserver.servers[0].hosts[0].addresses.clear();
            nameserver.servers[0].hosts[0].no_such_name = true;
        }
    });
    assert!(none.link(LinkName::Resolves).because.contains("no such name"));
    let partly = Look::spoilt(|look| look.answer().addresses.push(address(FOREIGN, 300)));
    assert!(partly.link(LinkName::Resolves).because.contains("in part"));
    assert!(partly.with(leads_here).is_err());
}

#[test]
fn a_stop_gap_is_named_as_such() {
    let look = Look::spoilt(|look| {
        look.harbored().certificate.as_mut().unwrap().source = CertificateSource::SelfSigned;
        let TlsOutcome::Shown { verified, .. } = &mut look.host().tls[0].outcome else { panic!() };
        *verified = Err("its issuer is not trusted".into());
    });
    let link = look.link(LinkName::Secure);
    assert_eq!((link.code, link.state), ("self-signed", LinkState::Broken));
}

#[test]
fn a_change_spreads_as_caches_run_out() {
    let changed = Some("2026-11-23T06:58:00Z".parse().unwrap());
    let look = Look::spoilt(|look| {
        let now = &look.host().resolved[0];
        let old = Resolved { addresses: vec![address(FOREIGN, 60)], ..now.clone() };
        let nothing = Resolved { addresses: vec![], negative_ttl: Some(30), no_such_name: true, ..now.clone() };
        let failed = Resolved { addresses: vec![], failed: Some("did not answer in time".into()), ..now.clone() };
        look.host().resolved.extend([old, nothing, failed]);
    });
    let made = look.with(|seen| spread(seen, changed));
    let now = look.gathered.now;
    let at = |seconds: i64| now + jiff::SignedDuration::from_secs(seconds);
    let has: Vec<Has> = made.resolvers.iter().map(|answering| answering.has.clone()).collect();
    let failed = Has::Failed { why: "did not answer in time".into() };
    assert_eq!(has, [Has::Current, Has::Old { until: at(61) }, Has::Nothing { until: at(31) }, failed]);
    assert_eq!((made.caught_up(), made.until()), (1, Some(at(61))));
    // Whoever asked just before the change may keep it for the 300 seconds that the record lives.
    let everywhere = changed.map(|changed: jiff::Timestamp| changed + jiff::SignedDuration::from_secs(301));
    assert_eq!(made.everywhere, everywhere.filter(|until| *until > now));
    assert_eq!(look.with(|seen| spread(seen, None)).everywhere, None);
}

#[test]
fn our_configuration_an_older_one_and_another_server_are_told_apart() {
    let answering = |body: &str| {
        Look::spoilt(|look| look.host().http[0].outcome = HttpOutcome::Answer { status: 200, body: body.into() })
    };
    let older = answering("ffffffffffffffffffffffffffffffff").link(LinkName::Answers);
    assert_eq!((older.code, older.turn), ("older-configuration", Some(Turn::Administrator)));
    let other = answering("<h1>Old Quay</h1>").link(LinkName::Answers);
    assert_eq!(other.code, "another-site-answers");
    let clashing = |address: IpAddr| {
        let mut look = Look::spoilt(|look| {
            look.host().http[0].outcome = HttpOutcome::Answer { status: 200, body: "<h1>Old Quay</h1>".into() };
        });
        let clash = Clash { line: 7, port: 80, kind: ClashKind::TakesOurs(address) };
        look.harbored.as_mut().unwrap().clash = Some(("/etc/nginx/nginx.conf".into(), clash));
        look.link(LinkName::Answers)
    };
    let address = good().gathered.hosts[0].http[0].address.ip();
    let found = clashing(address);
    assert_eq!((found.code, found.turn), ("listener-clash", Some(Turn::Administrator)));
    assert!(found.because.starts_with("the block at /etc/nginx/nginx.conf:7 takes"), "{}", found.because);
    assert_eq!(clashing("192.0.2.99".parse().unwrap()).code, "another-site-answers", "that is another address");
    let silent = Look::spoilt(|look| look.host().http[0].outcome = HttpOutcome::Failed("did not answer".into()));
    assert_eq!(silent.link(LinkName::Answers).state, LinkState::Broken);
    assert!(silent.with(leads_here).is_err());
}

#[test]
fn a_name_that_leads_here_where_nobody_takes_http_may_be_proven_otherwise() {
    let closed = HttpOutcome::Closed("connection refused".into());
    let mut look = Look::spoilt(|look| look.host().http[0].outcome = closed.clone());
    let link = look.link(LinkName::Answers);
    assert_eq!((link.state, link.turn), (LinkState::Broken, Some(Turn::Administrator)));
    assert_eq!(look.with(leads_here), Ok(CaWay::NotHttp("192.0.2.10:80 connection refused".into())));
    // One address that takes them, with an answer that is wrong, is a server to be looked after.
    let wrong = HttpOutcome::Answer { status: 200, body: "<h1>Old Quay</h1>".into() };
    look.host().http.push(HttpSeen { address: "[2001:db8::10]:80".parse().unwrap(), outcome: wrong });
    assert!(look.with(leads_here).is_err());
    look.host().http[1].outcome = HttpOutcome::NoRoute;
    assert!(look.with(leads_here).is_ok());
}

#[test]
fn without_a_certificate_it_says_what_it_waits_for() {
    let waiting = |reason: &str| Waiting {
        site: Host::parse("gullrock.example").unwrap(),
        since: now(),
        not_before: None,
        reason: reason.into(),
    };
    let look = |spoil: &dyn Fn(&mut Harbored)| {
        Look::spoilt(|look| {
            (look.harbored().certificate, look.harbored().awaited) = (None, true);
            spoil(look.harbored());
        })
        .link(LinkName::Secure)
    };
    let link = look(&|_| {});
    assert_eq!((&link.state, link.turn), (&LinkState::Waiting(None), Some(Turn::Tend)));
    assert!(link.because.contains("the next `tend` obtains one"));
    assert!(look(&|harbored| harbored.waiting = Some(waiting("the CA is down"))).because.contains("the CA is down"));
    let until = "2026-11-23T09:00:00Z".parse().unwrap();
    let paused = look(&|harbored| {
        harbored.pause = Some(NamePause {
            name: Host::parse("gullrock.example").unwrap().into(),
            site: Host::parse("gullrock.example").unwrap(),
            since: now(),
            not_before: until,
            reason: "no such name".into(),
        });
    });
    assert_eq!(paused.state, LinkState::Waiting(Some(until)));
    // That of the site is for other names: then it is as if there were none.
    let other = |awaited| {
        Look::spoilt(|look| {
            look.harbored().awaited = awaited;
            look.harbored().certificate.as_mut().unwrap().names = vec![Host::parse("quay.example").unwrap()];
        })
        .link(LinkName::Secure)
    };
    assert_eq!(other(true).state, LinkState::Waiting(None));
    assert_eq!((other(false).code, other(false).state), ("not-covered", LinkState::Broken));
    let no_ca = Look::spoilt(|look| {
        look.harbored().certificate = None;
        look.harbored().has_ca = false;
    });
    assert_eq!(no_ca.link(LinkName::Secure).state, LinkState::Broken);
}

#[test]
fn a_certificate_that_does_not_verify_or_soon_ends_is_told() {
    let look = Look::spoilt(|look| look.host().tls[0].outcome = shown(Err("it has expired".into())));
    assert!(look.link(LinkName::Secure).because.contains("it has expired"));
    assert_eq!(look.link(LinkName::Secure).turn, Some(Turn::Administrator));
    let soon = Look::spoilt(|look| look.gathered.now = "2027-02-20T07:00:00Z".parse().unwrap());
    assert_eq!(soon.link(LinkName::Secure).state, LinkState::Risk);
    let stranger = Look::spoilt(|look| {
        look.harbored = None;
        look.host().tls[0].outcome = TlsOutcome::Failed("connection refused".into());
    });
    let link = stranger.link(LinkName::Secure);
    assert_eq!((&link.state, link.turn), (&LinkState::Broken, None), "a stranger's server is nobody's turn here");
}

#[test]
fn where_a_visitor_lands() {
    let ending = |end: LandingEnd| {
        Look::spoilt(|look| look.host().landing = Some(Landing { hops: vec![], end, shows: None }))
            .link(LinkName::Lands)
    };
    let page = |url: &str, status| LandingEnd::Page { url: url.into(), status };
    assert_eq!(ending(page("https://gullrock.example/", 200)).state, LinkState::Holds);
    assert_eq!(ending(page("http://gullrock.example/", 200)).state, LinkState::Risk);
    assert_eq!(ending(page("https://gullrock.example/", 404)).code, "bad-status");
    assert_eq!(ending(LandingEnd::Loop { url: "http://gullrock.example/".into() }).state, LinkState::Broken);
    assert_eq!(ending(LandingEnd::TooLong).turn, Some(Turn::Administrator));
}

#[test]
fn a_program_that_does_not_answer_is_named_and_told_from_its_own_errors() {
    let landing = |status, shows| {
        let end = LandingEnd::Page { url: "https://gullrock.example/".into(), status };
        Some(Landing { hops: vec![], end, shows })
    };
    let silent = |refused: Option<&str>| {
        let refused = refused.map(String::from);
        let silent = SilentProgram { what: "PHP 8.2".into(), at: "unix:/run/php/a.sock".into(), refused };
        Look::spoilt(|look| {
            look.host().landing = landing(503, Some(Shows::NoProgram));
            look.harbored().silent = Some(silent.clone());
        })
        .link(LinkName::Lands)
    };
    let down = silent(Some("No such file"));
    assert_eq!((down.code, &down.state, down.turn), ("program-silent", &LinkState::Broken, Some(Turn::Administrator)));
    assert!(
        down.because.contains("PHP 8.2 does not take connections at unix:/run/php/a.sock (No such file): start it")
    );
    assert!(silent(None).because.contains("takes connections at unix:/run/php/a.sock, but does not answer in time"));
    let own = Look::spoilt(|look| look.host().landing = landing(503, None)).link(LinkName::Lands);
    assert_eq!(own.code, "bad-status", "the program's own trouble");
    let shows = |shows| {
        let link = Look::spoilt(|look| look.host().landing = landing(200, Some(shows))).link(LinkName::Lands);
        (link.code, link.state)
    };
    assert_eq!(shows(Shows::SetupForm), ("not-set-up", LinkState::Risk));
    assert_eq!(shows(Shows::ScriptText), ("script-text", LinkState::Broken));
    assert_eq!(shows(Shows::Content), ("lands", LinkState::Holds));
}

#[test]
fn a_site_that_is_for_some_alone_is_as_it_should_be() {
    let landing = |status, is_guarded| {
        Look::spoilt(|look| {
            let end = LandingEnd::Page { url: "https://gullrock.example/".into(), status };
            look.host().landing = Some(Landing { hops: vec![], end, shows: None });
            look.harbored().is_guarded = is_guarded;
        })
        .link(LinkName::Lands)
    };
    assert_eq!((landing(401, true).code, landing(403, true).state), ("guarded", LinkState::Holds));
    assert_eq!((landing(401, false).code, landing(404, true).code), ("bad-status", "bad-status"));
}

#[test]
fn a_week_is_little_unless_it_lives_for_six_days() {
    let look_at = |from: &str, until: &str, state| {
        Look::spoilt(|look| {
            look.host().tls[0].outcome = match shown(Ok(())) {
                TlsOutcome::Shown { protocol, verified, names, sent, revocation, .. } => {
                    let (not_before, not_after) = (from.parse().unwrap(), until.parse().unwrap());
                    TlsOutcome::Shown { protocol, verified, names, sent, not_before, not_after, revocation }
                }
                other => other,
            };
            look.harbored.as_mut().unwrap().certificate.as_mut().unwrap().state = state;
        })
        .link(LinkName::Secure)
    };
    let served = CertificateState::Served;
    // It is the 23rd, seven o'clock.
    let end = "2026-11-25T06:00:00Z";
    assert_eq!(look_at("2026-11-19T06:00:00Z", end, served).state, LinkState::Holds, "a third of six days");
    let late = look_at("2026-08-27T06:00:00Z", end, served);
    assert_eq!((late.state, late.code, late.turn), (LinkState::Risk, "expires-soon", Some(Turn::Tend)));
    assert_eq!(look_at("2026-09-01T06:00:00Z", "2026-11-30T06:00:00Z", served).state, LinkState::Risk);
    assert_eq!(look_at("2026-09-02T06:00:00Z", "2026-12-01T06:00:00Z", served).state, LinkState::Holds);
    let far = "2027-02-21T07:00:00Z";
    let revoked = look_at("2026-11-23T07:00:00Z", far, CertificateState::Revoked);
    assert_eq!((revoked.state, revoked.turn), (LinkState::Broken, Some(Turn::Tend)));
}

#[test]
fn what_its_ca_has_revoked_is_broken_however_well_it_verifies() {
    let look_at = |status: RevocationStatus, source: CertificateSource| {
        Look::spoilt(|look| {
            let TlsOutcome::Shown { revocation, .. } = &mut look.host().tls[0].outcome else { panic!() };
            *revocation = status;
            look.harbored.as_mut().unwrap().certificate.as_mut().unwrap().source = source;
        })
        .link(LinkName::Secure)
    };
    let revoked = || RevocationStatus::Revoked { since: "2026-11-20T00:00:00Z".parse().unwrap(), reason: None };
    let ours = look_at(revoked(), CertificateSource::Ca);
    assert_eq!((ours.state, ours.code, ours.turn), (LinkState::Broken, "revoked", Some(Turn::Tend)));
    assert!(ours.because.contains("since 2026-11-20"), "{}", ours.because);
    assert_eq!(
        look_at(revoked(), CertificateSource::Imported).turn,
        Some(Turn::Administrator),
        "nothing here renews it"
    );
    for unsaid in [RevocationStatus::Unknown("silence".into()), RevocationStatus::NotAsked("no list".into())] {
        assert_eq!(look_at(unsaid, CertificateSource::Ca).state, LinkState::Holds);
    }
}

#[test]
fn a_nameserver_that_does_not_hold_the_new_zone_is_told_with_its_cure_and_keeps_no_ca_away() {
    let refusing = |secondary: bool| {
        Look::spoilt(|look| {
            let server = &mut look.gathered.picture.nameservers[1].servers[0];
            server.state = ServerState::Refuses { rcode: "REFUSED".into() };
            server.hosts.clear();
            let name = look.gathered.picture.nameservers[1].name.clone();
            look.expected.secondaries = if secondary { vec![name] } else { vec![] };
        })
    };
    let look = refusing(true);
    let link = look.link(LinkName::Delegated);
    assert_eq!((link.state, link.code), (LinkState::Waiting(None), "server-refuses"));
    assert!(link.because.contains("brightharbor zone publish"), "{}", link.because);
    assert!(!look.survey().all_hold());
    let look = refusing(false);
    let link = look.link(LinkName::Delegated);
    assert_eq!((link.state, link.turn), (LinkState::Broken, Some(Turn::Administrator)));
    assert_eq!(look.with(leads_here), Ok(CaWay::Http));
}

#[test]
fn records_for_a_zone_elsewhere_are_handed_over_before_anybody_can_ask_for_them() {
    let look = Look::spoilt(|look| {
        look.gathered.picture.registered = Registered::No;
        look.gathered.picture.nameservers.clear();
        look.harbored().zone_home = ZoneHome::Elsewhere;
    });
    let link = look.link(LinkName::Resolves);
    assert_eq!((link.state, link.turn), (LinkState::Unchecked, Some(Turn::DnsHost)));
    assert_eq!(link.values, ["gullrock.example. 3600 IN A 192.0.2.10"]);
}
