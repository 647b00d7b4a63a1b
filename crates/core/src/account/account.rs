//! An account: a customer of the administrator, with a home that its document roots lie in.

use std::fmt;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::name::Hostname;

/// A customer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Account {
    pub name: AccountName,
    /// Where to reach the customer.
    pub email: String,
    /// The folder that all document roots of the account lie in.
    pub home: PathBuf,
    /// The system user that owns the document roots; the user who runs the program when not said.
    pub system_user: Option<String>,
    /// What it may have; without a plan, anything.
    #[serde(default)]
    pub plan: Option<AccountName>,
    /// The nameserver set of its new domains; that of `[host]` when not named.
    #[serde(default)]
    pub nameserver_set: Option<String>,
    /// The account that it was sold by, if it was.
    #[serde(default)]
    pub reseller: Option<AccountName>,
}

impl Account {
    /// An account without limits, whose folders belong to the user who runs the program.
    pub fn new(name: AccountName, email: impl Into<String>, home: impl Into<PathBuf>) -> Self {
        Self {
            name,
            email: email.into(),
            home: home.into(),
            system_user: None,
            plan: None,
            nameserver_set: None,
            reseller: None,
        }
    }
}

/// A name of 1 to 31 characters: lower-case letters, digits and hyphens, a letter first.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct AccountName(String);

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "`{}` is not an account name: 1 to 31 lower-case letters, digits or hyphens, a letter first",
    .0.chars().take(60).flat_map(char::escape_default).collect::<String>()
)]
pub struct AccountNameError(pub String);

impl AccountName {
    pub fn parse(text: &str) -> Result<Self, AccountNameError> {
        let mut characters = text.chars();
        let fits = characters.next().is_some_and(|c| c.is_ascii_lowercase())
            && characters.all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-')
            && text.len() <= 31;
        if fits { Ok(Self(text.to_string())) } else { Err(AccountNameError(text.to_string())) }
    }

    /// A name made from a domain: its first label, as far as it fits.
    pub fn from_domain(domain: &Hostname) -> Option<Self> {
        let bare = domain.without_www().unwrap_or_else(|| domain.clone());
        let label = bare.as_str().split('.').next().unwrap_or_default();
        let kept: String = label.chars().skip_while(|c| !c.is_ascii_lowercase()).take(31).collect();
        Self::parse(&kept).ok()
    }

    pub fn as_str(&self) -> &str {
        &self.0
    }
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "`{}` is not the name of a system user: 1 to 31 lower-case letters, digits, hyphens or underscores, a letter first",
    .0.chars().take(60).flat_map(char::escape_default).collect::<String>()
)]
pub struct SystemUserError(pub String);

/// A name that every system takes for a user, and no command for an option.
pub fn check_system_user(text: &str) -> Result<(), SystemUserError> {
    match AccountName::parse(&text.replace('_', "-")) {
        Ok(_) => Ok(()),
        Err(_) => Err(SystemUserError(text.to_string())),
    }
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{}` is not an e-mail address", .0.chars().take(60).flat_map(char::escape_default).collect::<String>())]
pub struct EmailError(pub String);

/// A mailbox as far as it can be judged without sending to it: one `@` between two parts without blanks.
pub fn check_email(text: &str) -> Result<(), EmailError> {
    let sound =
        |part: &str| !part.is_empty() && part.chars().all(|c| c.is_ascii_graphic() && !"\"(),:;<>\\[]".contains(c));
    match text.split_once('@') {
        Some((local, domain))
            if text.len() <= 254 && sound(local) && sound(domain) && domain.contains('.') && !domain.contains('@') =>
        {
            Ok(())
        }
        _ => Err(EmailError(text.to_string())),
    }
}

impl fmt::Display for AccountName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl fmt::Debug for AccountName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::str::FromStr for AccountName {
    type Err = AccountNameError;
    fn from_str(text: &str) -> Result<Self, AccountNameError> {
        Self::parse(text)
    }
}

impl TryFrom<String> for AccountName {
    type Error = AccountNameError;
    fn try_from(text: String) -> Result<Self, AccountNameError> {
        Self::parse(&text)
    }
}

impl From<AccountName> for String {
    fn from(name: AccountName) -> String {
        name.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_are_safe_in_paths_and_files() {
        assert!(AccountName::parse("crumb-and-tide2").is_ok());
        for wrong in ["", "2choir", "Choir", "choir/..", "a b", "a\n", &"a".repeat(32)] {
            assert!(AccountName::parse(wrong).is_err(), "{wrong:?}");
        }
    }

    #[test]
    fn system_users() {
        assert!(check_system_user("web_bakery").is_ok());
        for wrong in ["", "-r", "_x", "Root", "a:b", "a b", &"a".repeat(32)] {
            assert!(check_system_user(wrong).is_err(), "{wrong:?}");
        }
    }

    #[test]
    fn mailboxes() {
        assert!(check_email("baker@crumbandtide.example").is_ok());
        for wrong in ["baker", "@x.example", "a@b", "a@b@c.example", "a b@c.example", "a\n@c.example"] {
            assert!(check_email(wrong).is_err(), "{wrong:?}");
        }
    }

    #[test]
    fn a_name_is_made_from_a_domain() {
        let made = |domain: &str| AccountName::from_domain(&Hostname::parse(domain).unwrap()).map(String::from);
        assert_eq!(made("www.crumbandtide.example").as_deref(), Some("crumbandtide"));
        assert_eq!(made("4thebakery.example").as_deref(), Some("thebakery"));
        assert_eq!(made("a-very-long-name-of-a-bakery-at-the-tide.example").unwrap().len(), 31);
        assert_eq!(made("123.example"), None);
    }
}
