//! The six links of hostnames: the verdict first, then each link, then what to hand over.

use brightharbor_core::survey::{Link, LinkState, Survey, Turn};
use brightharbor_io::clock;

use super::Page;
use super::page::{style_of, when};

/// All surveys; a hostname that stands exactly like the one before it takes one line.
pub fn surveys(page: &mut Page, surveys: &[Survey]) {
    let mut shown: Vec<&Survey> = Vec::new();
    for survey in surveys {
        page.blank();
        match shown.iter().find(|earlier| same_states(earlier, survey)) {
            Some(earlier) => page.hanging("", &format!("{}: the same links as {}", survey.hostname, earlier.hostname)),
            None => {
                one(page, survey);
                shown.push(survey);
            }
        }
    }
}

fn same_states(one: &Survey, other: &Survey) -> bool {
    one.links.iter().zip(&other.links).all(|(a, b)| state_word(a) == state_word(b) && a.turn == b.turn)
}

fn one(page: &mut Page, survey: &Survey) {
    page.heading(&verdict(survey));
    for link in &survey.links {
        let state = state_word(link);
        let style = style_of(state);
        let prefix = format!("  {:<12}{style}{state:<9}{style:#} ", link.name.word());
        let text = match link.state {
            LinkState::Waiting(Some(until)) => format!("until {}: {}", when(until, clock::now()), link.because),
            _ => link.because.clone(),
        };
        page.styled(&prefix, anstyle::Style::new(), 2 + 12 + 9 + 1, &text);
    }
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
    let name = &survey.hostname;
    let international = name.international();
    let shown = if international == name.as_str() { international } else { format!("{international} ({name})") };
    match survey.first_open() {
        None => format!("{shown}: all six links hold"),
        Some(link) => {
            let turn = link.turn.map(|turn| format!("; next: {}", turn.words())).unwrap_or_default();
            format!("{shown}: stops at `{}`{turn}", link.name.word())
        }
    }
}

fn state_word(link: &Link) -> &'static str {
    match link.state {
        LinkState::Holds => "holds",
        LinkState::Risk => "risk",
        LinkState::Broken => "broken",
        LinkState::Waiting(_) => "waiting",
        LinkState::Unchecked => "unchecked",
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
