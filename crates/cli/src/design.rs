//! The options that say what a new zone looks like: shared by `attach` and `zone create`.

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::ZoneDesign;
use brightharbor_core::zone::{Mail, TemplateName};
use clap::{Args, ValueEnum};

use crate::error::Error;

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
        Self { mail, mail_servers: vec![], template: TemplateName::default(), nameserver_set: None }
    }
}

impl DesignOptions {
    pub fn design(&self) -> Result<ZoneDesign, Error> {
        let mail = match (self.mail, self.mail_servers.is_empty()) {
            (MailArgument::Elsewhere, true) => {
                return Err(
                    Error::wrong_use("mail elsewhere, but where?").advice("name the servers: --mail-server NAME")
                );
            }
            (MailArgument::Elsewhere, false) => Mail::Elsewhere(self.mail_servers.clone()),
            (_, false) => {
                return Err(Error::wrong_use("mail servers are given for another --mail than `elsewhere`")
                    .advice("give --mail elsewhere with them"));
            }
            (MailArgument::Unsaid, true) => Mail::Unsaid,
            (MailArgument::None, true) => Mail::None,
            (MailArgument::Here, true) => Mail::Here,
        };
        Ok(ZoneDesign { template: self.template.clone(), mail, nameserver_set: self.nameserver_set.clone() })
    }
}
