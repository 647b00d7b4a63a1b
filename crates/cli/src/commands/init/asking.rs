//! What `init` asks at a terminal: what no look at this machine can tell. Each answer may be left out, and given later as
//! an option or in harbor.toml.

use std::io::{BufRead, IsTerminal, Write};

use brightharbor_core::account::check_email;
use brightharbor_core::name::DnsName;

use super::{Init, is_directory};
use crate::options::typed_address;
use crate::run::Context;
use crate::show::human::harmless;

/// Whether somebody sits there who can answer, and has not given everything to be taken as it is.
pub fn can_be_asked(args: &Init, context: &Context) -> bool {
    let terminal = std::io::stdin().is_terminal() && std::io::stderr().is_terminal();
    terminal && args.settings.is_none() && !args.dry_run && !args.yes && !context.json
}

/// Asks for what the options do not give.
pub fn ask(args: &mut Init, questions: &mut dyn Questions) {
    if args.addresses.is_empty() {
        let asked = "Addresses that visitors reach sites at, such as 192.0.2.10";
        args.addresses = questions.several(asked, &mut |typed| typed_address(typed)).unwrap_or_default();
    }
    if args.nameservers.is_empty() {
        let asked = "Nameservers that domains are delegated to, such as ns1.saltmarsh.example";
        let mut read = |typed: &str| typed.parse::<DnsName>().map_err(|_| "not a hostname".to_string());
        args.nameservers = questions.several(asked, &mut read).unwrap_or_default();
    }
    if args.ca.directory.is_none() {
        let asked = "Directory of the CA that certificates come from, an https URL";
        let mut read = |typed: &str| match is_directory(typed) {
            true => Ok(typed.to_string()),
            false => Err("not an https URL".to_string()),
        };
        args.ca.directory = questions.one(asked, &mut read);
    }
    if args.ca.directory.is_none() {
        return;
    }
    if args.ca.contact.is_none() {
        let asked = "Mail address that the CA may write to";
        let mut read = |typed: &str| check_email(typed).map(|()| typed.to_string()).map_err(|error| error.to_string());
        args.ca.contact = questions.one(asked, &mut read);
    }
    if !args.ca.terms_accepted {
        let mut read = |typed: &str| match typed {
            "y" | "yes" => Ok(true),
            "n" | "no" => Ok(false),
            _ => Err("neither y nor n".to_string()),
        };
        let asked = "Have you read the CA's terms, and accept them [y/n]";
        args.ca.terms_accepted = questions.one(asked, &mut read).unwrap_or(false);
    }
}

/// Somebody who answers.
pub trait Questions {
    /// One line; `None` once there is nobody any more.
    fn line(&mut self, asked: &str) -> Option<String>;
}

impl dyn Questions + '_ {
    /// What is typed, once it can be understood; nothing for Enter alone.
    fn one<T>(&mut self, asked: &str, read: &mut dyn FnMut(&str) -> Result<T, String>) -> Option<T> {
        let mut asked = asked.to_string();
        loop {
            let typed = self.line(&asked)?;
            let typed = typed.trim();
            match read(typed) {
                _ if typed.is_empty() => return None,
                Ok(read) => return Some(read),
                Err(reason) => asked = format!("  `{}` is {reason}; again", harmless(typed)),
            }
        }
    }

    fn several<T>(&mut self, asked: &str, read: &mut dyn FnMut(&str) -> Result<T, String>) -> Option<Vec<T>> {
        self.one(asked, &mut |typed| {
            typed.split([' ', ',']).filter(|word| !word.is_empty()).map(&mut *read).collect::<Result<Vec<T>, _>>()
        })
    }
}

/// The person at the terminal.
pub struct Terminal;

impl Questions for Terminal {
    fn line(&mut self, asked: &str) -> Option<String> {
        let mut err = std::io::stderr().lock();
        let _ = write!(err, "{asked} (Enter: later): ");
        let _ = err.flush();
        let mut answer = String::new();
        match std::io::stdin().lock().read_line(&mut answer) {
            Ok(1..) => Some(answer),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;

    #[derive(Parser)]
    struct Typed {
        #[command(flatten)]
        init: Init,
    }

    struct Said(Vec<&'static str>, Vec<String>);

    impl Questions for Said {
        fn line(&mut self, asked: &str) -> Option<String> {
            self.1.push(asked.to_string());
            (!self.0.is_empty()).then(|| format!("{}\n", self.0.remove(0)))
        }
    }

    fn answered(typed: &[&str], said: &[&'static str]) -> (Init, Vec<String>) {
        let mut init = Typed::parse_from([&["init"], typed].concat()).init;
        let mut questions = Said(said.to_vec(), vec![]);
        ask(&mut init, &mut questions);
        (init, questions.1)
    }

    #[test]
    fn what_is_missing_is_asked_until_it_can_be_understood() {
        let said =
            ["192.0.2.10, 2001:db8::300", "192.0.2.10, 2001:db8::10", "ns1.saltmarsh.example ns2.saltmarsh.example"];
        let ca = ["http://ca.example", "https://ca.saltmarsh.example/directory", "crew@saltmarsh.example", "y"];
        let (init, asked) = answered(&[], &["192.0.2.300", said[1], said[2], ca[0], ca[1], ca[2], ca[3]]);
        assert_eq!((init.addresses.len(), init.nameservers.len()), (2, 2), "{asked:?}");
        assert_eq!(init.ca.directory.as_deref(), Some(ca[1]));
        assert_eq!((init.ca.contact.as_deref(), init.ca.terms_accepted), (Some(ca[2]), true));
        assert_eq!(asked[1], "  `192.0.2.300` is not an IP address; again");
        assert_eq!(asked.len(), 7, "{asked:?}");
    }

    #[test]
    fn what_is_given_is_not_asked_and_enter_leaves_it_for_later() {
        let (init, asked) = answered(&["--address", "192.0.2.10"], &["", ""]);
        assert!(init.nameservers.is_empty() && init.ca.directory.is_none() && !init.ca.terms_accepted);
        // Without a CA, nothing about it.
        assert_eq!(asked.len(), 2, "{asked:?}");
        // Nobody is there any more.
        assert_eq!(answered(&[], &[]).1.len(), 3);
    }
}
