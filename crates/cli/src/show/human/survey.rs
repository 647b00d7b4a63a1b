//! The six links of hostnames: the verdict first, then each link, then what to hand over.

use brightharbor_core::survey::{Link, LinkState, Survey, Turn, reasons};
use brightharbor_io::clock;

use super::Page;
use super::lists::table;
use anstyle::Style;

use super::page::{style_of, when};
use crate::show::words::host_words;

/// All surveys; a hostname whose links stand exactly like those of an earlier one takes one line, with what is to be handed
/// over where that is not the same.
pub fn surveys(page: &mut Page, surveys: &[Survey]) {
    let mut shown: Vec<&Survey> = Vec::new();
    for survey in surveys {
        page.blank();
        match shown.iter().find(|earlier| stands_like(earlier, survey)) {
            Some(earlier) => {
                let (hostname, other) = (&survey.hostname, &earlier.hostname);
                page.hanging("", &format!("{hostname}: the same links as {other}"));
                if values(survey) != values(earlier) {
                    hand_over(page, survey);
                }
            }
            None => {
                one(page, survey);
                shown.push(survey);
            }
        }
    }
}

/// Many hostnames: how many stand how, then one line for each that stops somewhere.
pub fn survey_list(page: &mut Page, surveys: &[Survey]) {
    let counted = reasons(surveys);
    let hold = surveys.iter().filter(|survey| survey.first_open().is_none()).count();
    let open = surveys.len() - hold;
    let what = match (hold, open) {
        (0, 0) => "there are none".to_string(),
        (0, _) => "all stop somewhere".to_string(),
        (_, 0) => "all six links of each hold".to_string(),
        _ => format!("{hold} hold in all six links, {open} stop somewhere"),
    };
    page.heading(&format!("{}: {what}", crate::show::counted(surveys.len(), "hostname")));
    if open == 0 {
        return;
    }
    for (code, count) in counted {
        page.line(&format!("  {count:>6}  {code}"));
    }
    page.blank();
    let row = |survey: &Survey| {
        let link = survey.first_open()?;
        let whose = link.turn.map(|turn| turn.words().to_string()).unwrap_or_default();
        let at = format!("{} ({})", link.name.word(), link.state.word());
        Some(vec![host_words(&survey.hostname), at, link.code.to_string(), whose])
    };
    table(page, &["hostname", "stops at", "reason", "next"], surveys.iter().filter_map(row).collect());
    page.blank();
    page.hanging("next: ", "brightharbor survey HOSTNAME tells all about one");
}

/// Whether every link has the same state for the same reason, but for the name that it is about.
fn stands_like(one: &Survey, other: &Survey) -> bool {
    let of_it = |survey: &Survey, link: &Link| link.because.replace(survey.hostname.as_str(), "this name");
    one.links.iter().zip(&other.links).all(|(a, b)| {
        let same_reason = a.because == b.because || of_it(one, a) == of_it(other, b);
        a.state == b.state && a.turn == b.turn && same_reason && a.values.len() == b.values.len()
    })
}

fn values(survey: &Survey) -> Vec<&Vec<String>> {
    survey.links.iter().map(|link| &link.values).collect()
}

fn one(page: &mut Page, survey: &Survey) {
    page.heading(&verdict(survey));
    for link in &survey.links {
        let state = link.state.word();
        let (name, shown) = (format!("  {:<12}", link.name.word()), format!("{state:<9}"));
        let text = match link.state {
            LinkState::Waiting(Some(until)) => format!("until {}: {}", when(until, clock::now()), link.because),
            _ => link.because.clone(),
        };
        page.styled(&[(&name, Style::new()), (&shown, style_of(state)), (" ", Style::new())], &text);
    }
    hand_over(page, survey);
}

/// The exact values for whoever has to act.
fn hand_over(page: &mut Page, survey: &Survey) {
    let handed: Vec<&Link> = survey.links.iter().filter(|link| !link.values.is_empty()).collect();
    let Some(link) = handed.first() else { return };
    let whom = match link.turn {
        Some(Turn::DnsHost) => "To enter where the zone is kept:",
        _ => "To set at the registrar:",
    };
    page.line(&format!("  {whom}"));
    for value in &link.values {
        page.line(&format!("    {value}"));
    }
}

/// One line: whether it works, else where it stops and whose turn it is.
pub fn verdict(survey: &Survey) -> String {
    let shown = host_words(&survey.hostname);
    match survey.first_open() {
        None => format!("{shown}: all six links hold"),
        Some(link) => {
            let turn = link.turn.map(|turn| format!("; next: {}", turn.words())).unwrap_or_default();
            format!("{shown}: stops at `{}`{turn}", link.name.word())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use brightharbor_core::name::Host;
    use brightharbor_core::survey::LinkName;

    fn link(name: LinkName, state: LinkState, because: &str) -> Link {
        Link { name, state, code: "seen", because: because.into(), turn: None, values: vec![] }
    }

    fn elsewhere(hostname: &str) -> Survey {
        let mut delegated = link(
            LinkName::Delegated,
            LinkState::Broken,
            "gullrock.example is delegated to ns1.oldquay.example, not to ns1.saltmarsh.example, ns2.saltmarsh.example",
        );
        delegated.turn = Some(Turn::Registrar);
        delegated.values = vec!["nameserver ns1.saltmarsh.example".into(), "nameserver ns2.saltmarsh.example".into()];
        let links = vec![
            link(LinkName::Registered, LinkState::Holds, "example delegates gullrock.example"),
            delegated,
            link(LinkName::Resolves, LinkState::Unchecked, "nothing yet"),
        ];
        Survey { hostname: Host::parse(hostname).unwrap(), links }
    }

    fn shown(all: &[Survey]) -> String {
        let mut page = Page::of_width(100);
        surveys(&mut page, all);
        page.plain()
    }

    #[test]
    fn the_verdict_comes_first_and_the_values_to_hand_over_last() {
        let expected = "\
gullrock.example: stops at `delegated`; next: whoever holds the registrar login
  registered  holds     example delegates gullrock.example
  delegated   broken    gullrock.example is delegated to ns1.oldquay.example, not to
                        ns1.saltmarsh.example, ns2.saltmarsh.example
  resolves    unchecked nothing yet
  To set at the registrar:
    nameserver ns1.saltmarsh.example
    nameserver ns2.saltmarsh.example

www.gullrock.example: the same links as gullrock.example
";
        assert_eq!(shown(&[elsewhere("gullrock.example"), elsewhere("www.gullrock.example")]), expected);
    }

    #[test]
    fn names_stand_alike_only_if_every_reason_is_the_same_and_each_has_its_own_records() {
        let to_enter = |hostname: &str| {
            let mut survey = elsewhere(hostname);
            survey.links[1].turn = Some(Turn::DnsHost);
            survey.links[1].values = vec![format!("{hostname}. 3600 IN A 192.0.2.10")];
            survey.links[2].because = format!("http://{hostname}/ does not answer");
            survey
        };
        let text = shown(&[to_enter("gullrock.example"), to_enter("www.gullrock.example")]);
        let expected = "\
www.gullrock.example: the same links as gullrock.example
  To enter where the zone is kept:
    www.gullrock.example. 3600 IN A 192.0.2.10
";
        assert!(text.ends_with(expected), "{text}");
        let mut other = elsewhere("www.gullrock.example");
        other.links[2].because = "something else".into();
        let text = shown(&[elsewhere("gullrock.example"), other]);
        assert!(!text.contains("the same links") && text.contains("something else"), "{text}");
    }

    #[test]
    fn an_international_name_is_shown_in_both_forms() {
        let mut survey = elsewhere("xn--bckerei-5wa.example");
        survey.links.truncate(1);
        let expected = "bäckerei.example (xn--bckerei-5wa.example): all six links hold";
        assert!(shown(&[survey]).starts_with(expected));
    }

    #[test]
    fn a_wait_shows_its_bound() {
        let until = clock::now();
        let waiting = link(LinkName::Resolves, LinkState::Waiting(Some(until)), "a cache");
        let survey = Survey { hostname: Host::parse("gullrock.example").unwrap(), links: vec![waiting] };
        let text = shown(&[survey]);
        assert!(text.contains(&format!("waiting   until {}: a cache", when(until, until))), "{text}");
    }
}
