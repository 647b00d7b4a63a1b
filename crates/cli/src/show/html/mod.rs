//! The harbor as a page of HTML that stands alone: for `report`. What is on it is made in `sections.rs` of `stops.rs` and
//! `rows.rs`, its drawings in `calendar.rs` and `graph.rs`; the template and what goes with it lie beside.

mod calendar;
mod graph;
mod rows;
mod sections;
mod stops;

use aws_lc_rs::digest::{SHA256, digest};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use minijinja::value::Serde;
use minijinja::{AutoEscape, Environment, UndefinedBehavior, context};

pub use sections::{Facts, Owner};
use sections::{Index, sections};

const TEMPLATE: &str = include_str!("report.html");
const STYLE: &str = include_str!("report.css");
const SCRIPT: &str = include_str!("report.js");

/// What a page says of itself, by which a later report knows that it may be written over.
pub const MARK: &str = "<meta name=\"generator\" content=\"Bright Harbor report\">";

/// The pages of one report.
pub struct Pages<'a> {
    index: Index<'a>,
    environment: Environment<'static>,
}

impl<'a> Pages<'a> {
    pub fn of(facts: &'a Facts) -> Self {
        let mut environment = Environment::new();
        environment.set_undefined_behavior(UndefinedBehavior::Strict);
        environment.set_auto_escape_callback(|_| AutoEscape::Html);
        environment.add_template("report", TEMPLATE).expect("a constant template");
        Self { index: Index::of(facts), environment }
    }

    /// The page of the whole harbor; or, for the owner of an account, the one for the customer.
    pub fn page(&self, owner: Option<&Owner>) -> String {
        let sections = sections(&self.index, owner);
        let safe = |text: &str| minijinja::Value::from_safe_string(text.into());
        let values = context! {
            mark => safe(MARK),
            style => safe(STYLE),
            script => safe(SCRIPT),
            policy => policy(),
            page => Serde(&sections),
        };
        let template = self.environment.get_template("report");
        template.and_then(|template| template.render(values)).expect("a constant template on whole values")
    }
}

/// Nothing but what stands in the page itself runs or is loaded (Content Security Policy Level 3, section 2.3.1).
fn policy() -> String {
    let hash = |text: &str| STANDARD.encode(digest(&SHA256, text.as_bytes()));
    format!("default-src 'none'; style-src 'sha256-{}'; script-src 'sha256-{}'", hash(STYLE), hash(SCRIPT))
}

#[cfg(test)]
mod tests {
    use super::*;
    use brightharbor_core::account::AccountName;
    use brightharbor_core::name::Host;
    use brightharbor_core::site::{HttpsStates, Site, SiteKind, SiteRules};
    use brightharbor_core::survey::{Link, LinkName, LinkState, StoppedSince, Survey, Turn};

    /// Hosts of one site, all of which stop with this reason.
    fn facts(names: &[String], because: &str) -> Facts {
        let hosts: Vec<Host> = names.iter().map(|name| Host::parse(name).unwrap()).collect();
        let survey = |host: &Host| {
            let link = Link {
                name: LinkName::Lands,
                state: LinkState::Broken,
                code: "another-site-answers",
                because: because.into(),
                turn: Some(Turn::Administrator),
                values: vec![because.into()],
            };
            Survey { hostname: host.clone(), links: vec![link] }
        };
        let site = Site {
            account: AccountName::parse("boatyard").unwrap(),
            document_root: "/srv/homes/boatyard/www".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules::default(),
            hostnames: hosts.clone(),
        };
        Facts {
            made_at: "2026-11-28T12:00:00Z".parse().unwrap(),
            surveys: hosts.iter().map(survey).collect(),
            since: StoppedSince::new(),
            walked: true,
            sites: vec![site],
            certificates: vec![],
            zones: vec![],
            owners: vec![],
        }
    }

    fn page(facts: &Facts) -> String {
        Pages::of(facts).page(None)
    }

    #[test]
    fn what_servers_say_is_text_and_never_a_part_of_the_page() {
        let hostile = "</td><script>alert(1)</script><img src=x onerror=alert(2)> & \"quay\"";
        let few = page(&facts(&["gullrock.example".into()], hostile));
        let names: Vec<String> = (0..600).map(|at| format!("boat{at}.gullrock.example")).collect();
        let many = page(&facts(&names, hostile));
        for text in [&few, &many] {
            assert!(!text.contains("<script>alert") && !text.contains("<img"), "escaped");
            assert!(text.contains("&lt;script&gt;alert(1)"), "and there");
            assert!(text.starts_with("<!doctype html>") && text.contains(MARK));
        }
        assert!(many.contains("first 500 of 600") && !few.contains("application/json"));
        assert!(many.contains("boat599.gullrock.example"), "the rest is there as data");
        assert_eq!(many.matches("<tr><th scope=\"row\">boat").count(), 500);
    }

    #[test]
    fn the_policy_names_what_the_page_runs_and_nothing_else() {
        let text = page(&facts(&["gullrock.example".into()], "closed"));
        let policy = text.split("Content-Security-Policy\" content=\"").nth(1).unwrap().split("\">").next().unwrap();
        // Quotes and slashes of the hashes stand as character references.
        assert!(policy.contains("default-src &#x27;none&#x27;") && policy.matches("sha256-").count() == 2, "{policy}");
        assert_eq!(text.matches("<style>").count() + text.matches("<script>").count(), 2);
        assert!(!text.contains("style=\"") && !text.contains("onclick"), "it would not be allowed");
    }
}
