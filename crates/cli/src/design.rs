//! The options that say what a new zone looks like: shared by `attach` and `zone create`; and for `zone change`, a changed
//! one.

use std::path::Path;

use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::zone::{Document, FormerWish, Mail, TemplateName, ZoneDesign};
use brightharbor_io::load::DesignChange;
use clap::{Args, ValueEnum};

use crate::error::{Error, unreadable_zone};
use crate::files;

#[derive(Debug, Clone, Args)]
pub struct DesignOptions {
    /// Where the mail of a new domain goes.
    #[arg(long, value_enum, default_value = "unsaid")]
    mail: MailArgument,
    /// With `--mail elsewhere`: a mail server, the preferred one first. May be given several times.
    #[arg(long = "mail-server", value_name = "NAME")]
    mail_servers: Vec<DnsName>,
    /// The template of a new zone: NAME.zone in the harbor's folder `templates`.
    #[arg(long, value_name = "NAME", default_value = "default")]
    template: TemplateName,
    /// A nameserver set that a new domain is delegated to, in place of that of `[host]`.
    #[arg(long, value_name = "SET")]
    nameserver_set: Option<String>,
    /// Leave the zone alone that the world uses for a new domain today. By default it is looked at, and what it has beside
    /// the addresses of the site is carried over.
    #[arg(long)]
    bare: bool,
}

/// The records of the former provider's zone file, to be carried over.
pub fn former_file(file: &Path, domain: &Hostname) -> Result<FormerWish, Error> {
    let name = file.display().to_string();
    let text = files::given_text(file, "name the zone file that the former provider gives out")?;
    let zone = Document::parse(text, &domain.dns_name()).map_err(|error| unreadable_zone(&name, &error))?;
    Ok(FormerWish::File { name, records: zone.records().cloned().collect() })
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum MailArgument {
    /// Nothing is written: mail is arranged later, or by hand.
    Unsaid,
    /// The domain takes and sends no mail: a null MX, and an SPF policy that allows nobody.
    None,
    /// To the mail servers of harbor.toml.
    Here,
    /// To the mail servers given.
    Elsewhere,
}

impl Default for DesignOptions {
    fn default() -> Self {
        let mail = MailArgument::Unsaid;
        Self { mail, mail_servers: vec![], template: TemplateName::default(), nameserver_set: None, bare: false }
    }
}

/// The same for a zone that is there: what is not given stays.
#[derive(Debug, Clone, Args)]
pub struct DesignChangeOptions {
    /// Where its mail goes.
    #[arg(long, value_enum)]
    mail: Option<MailArgument>,
    /// With `--mail elsewhere`: a mail server, the preferred one first. May be given several times.
    #[arg(long = "mail-server", value_name = "NAME")]
    mail_servers: Vec<DnsName>,
    /// Another template: NAME.zone in the harbor's folder `templates`.
    #[arg(long, value_name = "NAME")]
    template: Option<TemplateName>,
    /// Another nameserver set; `host` for that of `[host]`.
    #[arg(long, value_name = "SET")]
    nameserver_set: Option<String>,
}

impl DesignChangeOptions {
    pub fn change(&self) -> Result<DesignChange, Error> {
        let mail = match (self.mail, self.mail_servers.is_empty()) {
            (None, true) => None,
            (None, false) => Some(mail(MailArgument::Unsaid, &self.mail_servers)?),
            (Some(typed), _) => Some(mail(typed, &self.mail_servers)?),
        };
        let nameserver_set = self.nameserver_set.clone().map(|set| (set != "host").then_some(set));
        Ok(DesignChange { template: self.template.clone(), mail, nameserver_set })
    }
}

impl DesignOptions {
    pub fn design(&self) -> Result<ZoneDesign, Error> {
        let mail = mail(self.mail, &self.mail_servers)?;
        let former = if self.bare { FormerWish::Bare } else { FormerWish::Look };
        let (template, nameserver_set) = (self.template.clone(), self.nameserver_set.clone());
        Ok(ZoneDesign { template, mail, nameserver_set, former, without_addresses: false })
    }
}

fn mail(typed: MailArgument, servers: &[DnsName]) -> Result<Mail, Error> {
    Ok(match (typed, servers.is_empty()) {
        (MailArgument::Elsewhere, true) => {
            return Err(Error::wrong_use("mail elsewhere, but where?").advice("name the servers: --mail-server NAME"));
        }
        (MailArgument::Elsewhere, false) => Mail::Elsewhere(servers.to_vec()),
        (_, false) => {
            return Err(Error::wrong_use("mail servers are given for another --mail than `elsewhere`")
                .advice("give --mail elsewhere with them"));
        }
        (MailArgument::Unsaid, true) => Mail::Unsaid,
        (MailArgument::None, true) => Mail::None,
        (MailArgument::Here, true) => Mail::Here,
    })
}
