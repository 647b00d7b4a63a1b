//! Options that say which internet is asked, shared by the delegation commands; they work without a harbor too.

use std::path::PathBuf;

use brightharbor_core::delegation::Brief;
use brightharbor_core::harbor::{ServerAddress, Settings};
use brightharbor_core::name::Hostname;
use brightharbor_io::survey::brief;
use clap::Args;

use crate::error::Error;
use crate::run::Context;
use brightharbor_io::harbor::Harbor;

/// Questions for one domain; what a hostile one can make us ask ends here.
const MOST_QUESTIONS: usize = 1_500;

#[derive(Debug, Clone, Args)]
pub struct NetworkOptions {
    /// A root server to start from, instead of the real ones or those in harbor.toml. May be given several times.
    #[arg(long = "root-server", value_name = "ADDRESS[:PORT]")]
    root_servers: Vec<ServerAddress>,
    /// A file with the keys of the root zone (DS or DNSKEY records), to verify signatures from in a closed network. May be
    /// given several times.
    #[arg(long = "trust-anchor", value_name = "FILE")]
    trust_anchors: Vec<PathBuf>,
    /// The port of all nameservers, for closed networks.
    #[arg(long, value_name = "PORT")]
    dns_port: Option<u16>,
    /// Ask no server more often than so many times a second; 0 for no bound.
    #[arg(long, value_name = "COUNT", default_value = "200")]
    pub per_server: u32,
}

/// The harbor, if there is one, and the settings with what was typed.
pub struct Network {
    pub harbor: Option<Harbor>,
    pub settings: Settings,
}

impl NetworkOptions {
    /// Without a harbor nothing is expected, and the real internet is asked.
    pub fn network(&self, context: &Context) -> Result<Network, Error> {
        let harbor = match context.open() {
            Ok(harbor) => Some(harbor),
            Err(error) if error.code == "no-harbor" => None,
            Err(error) => return Err(error),
        };
        let mut settings = harbor.as_ref().map(|harbor| harbor.settings.clone()).unwrap_or_default();
        if let Some(first) = self.root_servers.first() {
            settings.internet.root_servers = self.root_servers.clone();
            // The anchors of another root are none of this one.
            settings.internet.anchors.clear();
            // In a closed network the nameservers listen where its root servers do.
            settings.internet.dns_port = settings.internet.dns_port.or(first.port);
        }
        if !self.trust_anchors.is_empty() {
            settings.internet.anchors = crate::settings::anchors(&self.trust_anchors)?;
            settings.internet.trust_anchors = self.trust_anchors.clone();
        }
        settings.internet.dns_port = self.dns_port.or(settings.internet.dns_port);
        Ok(Network { harbor, settings })
    }
}

impl Network {
    /// The brief of a thorough walk, with the hostnames of the domain that are attached here.
    pub fn brief(&self, domain: &Hostname) -> Result<Brief, Error> {
        /// More hostnames of one domain tell nothing new about its servers.
        const MOST_HOSTNAMES: usize = 8;
        let hostnames = match &self.harbor {
            Some(harbor) => harbor.store.hostnames_of_zone(domain, MOST_HOSTNAMES)?,
            None => vec![],
        };
        Ok(Brief { thorough: true, most_questions: MOST_QUESTIONS, ..brief(&self.settings, domain, &hostnames) })
    }
}
