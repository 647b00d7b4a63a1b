//! Options that many commands share.

use std::net::{IpAddr, Ipv6Addr};
use std::path::{Path, PathBuf};
use std::time::Duration;

use brightharbor_core::harbor::Layout;
use brightharbor_core::site::WwwPolicy;
use brightharbor_io::master_file::Includes;
use clap::{Args, ValueEnum};

use crate::duration::parse_duration;
use crate::error::Error;

#[derive(Debug, Args)]
#[command(next_help_heading = "Of all commands")]
pub struct Common {
    /// The harbor to work in.
    #[arg(long, global = true, env = "BRIGHTHARBOR", value_name = "FOLDER", default_value = Layout::USUAL)]
    #[arg(display_order = 900, hide_env_values = true)]
    pub harbor: PathBuf,
    /// Print one JSON document instead of text.
    #[arg(long, global = true, display_order = 901)]
    pub json: bool,
    /// Say nothing about what is going on: results and errors alone.
    #[arg(long, short, global = true, display_order = 902, conflicts_with = "verbose")]
    pub quiet: bool,
    /// Say each step on a line of its own, also where no terminal is.
    #[arg(long, short, global = true, display_order = 903)]
    pub verbose: bool,
}

/// For commands that change something.
#[derive(Debug, Clone, Default, Args)]
pub struct ChangeOptions {
    /// Show the changes and a diff, and do nothing. Ends as the command itself would without --yes.
    #[arg(long)]
    pub dry_run: bool,
    /// Do not ask for confirmation, and consent to what is named.
    #[arg(long)]
    pub yes: bool,
}

/// The www twin of a hostname.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum WwwArgument {
    /// Both are served.
    Also,
    /// www redirects to the bare name.
    ToBare,
    /// The bare name redirects to www.
    ToWww,
    /// No twin.
    None,
}

impl From<WwwArgument> for WwwPolicy {
    fn from(typed: WwwArgument) -> WwwPolicy {
        match typed {
            WwwArgument::Also => WwwPolicy::Also,
            WwwArgument::ToBare => WwwPolicy::ToBare,
            WwwArgument::ToWww => WwwPolicy::ToWww,
            WwwArgument::None => WwwPolicy::None,
        }
    }
}

/// For commands that can wait until the authoritative servers have a change.
#[derive(Debug, Args)]
pub struct WatchOption {
    /// Wait until all authoritative servers answer with the change, at most this long (seconds, or as 1h30m).
    #[arg(long, value_name = "DURATION", num_args = 0..=1, default_missing_value = "10m")]
    watch: Option<String>,
}

impl WatchOption {
    pub fn patience(&self) -> Result<Option<Duration>, Error> {
        let read = |text: &String| parse_duration(text, "give seconds, or as 1h30m");
        self.watch.as_ref().map(read).transpose()
    }
}

/// What a master file from outside may lead to.
#[derive(Debug, Clone, Copy, Args)]
pub struct IncludeOptions {
    /// Read what the file includes ($INCLUDE) as well, where it lies below the file's own folder.
    #[arg(long)]
    follow_includes: bool,
}

impl IncludeOptions {
    /// For a file; relative names in it count from `base`.
    pub fn of<'a>(self, file: &'a Path, base: &'a Path) -> Includes<'a> {
        if self.follow_includes { Includes::Beneath { file, base } } else { Includes::Refused }
    }
}

/// An address as people type it: one of IPv6 also in brackets, as it stands in a URL (RFC 3986 section 3.2.2).
pub fn typed_address(typed: &str) -> Result<IpAddr, String> {
    let inside = typed.strip_prefix('[').and_then(|rest| rest.strip_suffix(']'));
    let parsed = match inside {
        Some(inside) => inside.parse::<Ipv6Addr>().ok().map(IpAddr::from),
        None => typed.parse().ok(),
    };
    parsed.ok_or_else(|| "not an IP address".to_string())
}
