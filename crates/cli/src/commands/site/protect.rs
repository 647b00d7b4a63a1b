//! `site protect`: who may see a path of a site.

use std::path::{Path, PathBuf};

use brightharbor_core::site::{Network, Protect as Request, SiteRefusal, check_user, parse_path, protect};
use brightharbor_io::keys::password_hash;
use brightharbor_io::load;
use clap::Args;

use crate::commands::{Report, host};
use crate::error::Error;
use crate::files;
use crate::options::ChangeOptions;
use crate::run::{Context, change, until_served};
use crate::show::{ChangeReport, Shown};

/// Protect a path of a site by passwords, by where visitors come from, or both.
///
/// With users and networks together, a visitor needs a password and has to come from one of the networks. The longest
/// protected path counts. Proofs for CAs are answered to everybody.
#[derive(Debug, Args)]
pub struct Protect {
    /// One of its hostnames.
    hostname: String,
    /// The path, with what lies below it.
    #[arg(long, value_name = "PATH", default_value = "/")]
    path: String,
    /// A user who may see it; a new password if there is one of the name already.
    #[arg(long, value_name = "NAME", requires = "password_file")]
    user: Option<String>,
    /// A file whose first line is the password of that user; - is standard input.
    #[arg(long, value_name = "FILE", requires = "user")]
    password_file: Option<PathBuf>,
    /// A user who may not see it any more.
    #[arg(long, value_name = "NAME", conflicts_with = "user")]
    remove_user: Option<String>,
    /// Where visitors may come from: addresses and networks with commas between, or anywhere.
    #[arg(long, value_name = "NETWORKS")]
    from: Option<String>,
    /// Let everybody see it again.
    #[arg(long, conflicts_with_all = ["user", "remove_user", "from"])]
    off: bool,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Protect, context: &Context) -> Report {
    let name = host(&args.hostname)?;
    let request = request(args)?;
    let title = format!("site protect {name} {}", request.path);
    context.block_on(async {
        let (carried, ()) = change(context, &title, &args.options, async |overlay, _| {
            let site = overlay.site_of(&name)?.ok_or_else(|| SiteRefusal::NotAttached(name.clone()))?;
            let loaded = load::protect(overlay, site, &request.path)?;
            Ok((protect(&request, &loaded, &overlay.settings, &overlay.layout)?, ()))
        })
        .await?;
        until_served(context, &carried).await?;
        Ok::<_, Error>(Box::new(ChangeReport { command: "site protect", carried }) as Box<dyn Shown>)
    })?
}

fn request(args: &Protect) -> Result<Request, Error> {
    let path = parse_path(&args.path)?;
    if !args.off && args.user.is_none() && args.remove_user.is_none() && args.from.is_none() {
        return Err(Error::wrong_use("nothing says who may see it")
            .advice("give --user NAME --password-file FILE, --from NETWORKS, or --off"));
    }
    let wrong = |error: brightharbor_core::site::GuardError| {
        Error::wrong_use(error.to_string()).advice("see what can be typed: brightharbor site protect --help")
    };
    let from = match args.from.as_deref() {
        None => None,
        Some("anywhere") => Some(vec![]),
        Some(typed) => {
            let networks = typed.split(',').map(|network| Network::parse(network.trim()));
            Some(networks.collect::<Result<_, _>>().map_err(wrong)?)
        }
    };
    let user = match (&args.user, &args.password_file) {
        (Some(name), Some(file)) => {
            check_user(name).map_err(wrong)?;
            Some((name.clone(), hashed(file)?))
        }
        _ => None,
    };
    Ok(Request { path, user, remove_user: args.remove_user.clone(), from, off: args.off })
}

/// The hash of a password. More than 72 bytes would be cut off without a word (bcrypt).
fn hashed(file: &Path) -> Result<String, Error> {
    let password = files::given_password(file)?;
    if password.len() < 8 || password.len() > 72 || password.contains('\0') {
        return Err(Error::wrong_use("a password has 8 to 72 bytes").advice("choose another one"));
    }
    password_hash(&password).ok_or_else(|| Error::refused("file", "the password could not be hashed"))
}
