//! The options about what answers at the paths of a site: of `attach` and `site change`.

use brightharbor_core::site::{
    Cached, ContentError, ContentWish, parse_names, parse_overridable, parse_part, parse_path, parse_size,
};
use clap::{Args, ValueEnum};

use crate::duration::parse_duration;
use crate::error::Error;

#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = "What the site shows")]
pub struct ContentOptions {
    /// What answers at a path, and below it: files, php:VERSION, php:unix:SOCKET, http://ADDRESS:PORT, unix:SOCKET, or off
    /// to take a part away. Without a path: the whole site. The longest path counts.
    #[arg(long, value_name = "[PATH=]WHAT")]
    serve: Vec<String>,
    /// The pages for a folder, the preferred one first, with commas between; `usual` for index.html and index.htm.
    #[arg(long, value_name = "NAMES")]
    index: Option<String>,
    /// Whether a folder without such a page is listed.
    #[arg(long, value_enum, value_name = "ON|OFF")]
    listing: Option<Switch>,
    /// The page that answers for files that do not exist, for applications that run in the browser; `off` for 404.
    #[arg(long, value_name = "PAGE")]
    single_page: Option<String>,
    /// The page that is shown with 404; `off` for a plain sentence.
    #[arg(long, value_name = "PAGE")]
    missing_page: Option<String>,
    /// For how long browsers may keep files, by their endings: css,js=7d; `off` for no word about it.
    #[arg(long, value_name = "ENDINGS=DURATION")]
    cache: Vec<String>,
    /// Whether PHP has one script, index.php, for every path that is no file.
    #[arg(long, value_enum, value_name = "ON|OFF")]
    front_script: Option<Switch>,
    /// Folders that visitors put files into: no script in them is run. With commas between; `off` for none.
    #[arg(long, value_name = "FOLDERS")]
    no_scripts: Option<String>,
    /// What files named .htaccess may set, on Apache httpd: AuthConfig, FileInfo, Indexes, Limit, with commas between;
    /// `off` for nothing. Needs a consent: the web server reads them as itself, and may read what other accounts may not.
    #[arg(long, value_name = "GROUPS")]
    htaccess: Option<String>,
    /// The largest request that programs get, such as 50M; `usual` for 20M.
    #[arg(long, value_name = "SIZE")]
    body_limit: Option<String>,
    /// How long a program may be silent, such as 5m; `usual` for a minute.
    #[arg(long, value_name = "DURATION")]
    time_limit: Option<String>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Switch {
    On,
    Off,
}

impl ContentOptions {
    /// What was asked for.
    pub fn wish(&self) -> Result<ContentWish, Error> {
        let parts = self.serve.iter().map(|typed| parse_part(typed));
        let is_on = |switch: Option<Switch>| switch.map(|switch| switch == Switch::On);
        Ok(ContentWish {
            parts: parts.collect::<Result<_, _>>()?,
            index: or(&self.index, "usual", parse_names)?.map(Option::unwrap_or_default),
            listing: is_on(self.listing),
            single_page: or(&self.single_page, "off", parse_path)?,
            missing_page: or(&self.missing_page, "off", parse_path)?,
            cache: self.cached()?,
            front: is_on(self.front_script),
            no_scripts: or(&self.no_scripts, "off", |typed| {
                typed.split(',').map(|one| parse_path(one.trim())).collect()
            })?
            .map(Option::unwrap_or_default),
            htaccess: or(&self.htaccess, "off", parse_overridable)?.map(Option::unwrap_or_default),
            body_limit: or(&self.body_limit, "usual", parse_size)?,
            time_limit: self.time_limit()?,
        })
    }

    fn cached(&self) -> Result<Option<Vec<Cached>>, Error> {
        if self.cache.is_empty() {
            return Ok(None);
        }
        let mut all = Vec::new();
        for typed in self.cache.iter().filter(|typed| *typed != "off") {
            let advice = "give endings and a duration: css,js=7d";
            let wrong = || Error::wrong_use(format!("`{typed}` does not say for how long")).advice(advice);
            let (endings, duration) = typed.split_once('=').ok_or_else(wrong)?;
            let seconds = parse_duration(duration, advice)?.as_secs();
            let endings = parse_names(endings)?;
            all.push(Cached { endings, seconds: u32::try_from(seconds).unwrap_or(u32::MAX) });
        }
        Ok(Some(all))
    }

    fn time_limit(&self) -> Result<Option<Option<u32>>, Error> {
        let Some(typed) = self.time_limit.as_deref() else { return Ok(None) };
        if typed == "usual" {
            return Ok(Some(None));
        }
        let advice = "give it as 90 or 5m, up to a day";
        match parse_duration(typed, advice)?.as_secs() {
            seconds @ 1..=86_400 => Ok(Some(u32::try_from(seconds).ok())),
            _ => Err(Error::wrong_use(format!("`{typed}` is no time for a program to answer in")).advice(advice)),
        }
    }
}

/// What is typed, or the word that takes it away.
fn or<T>(
    typed: &Option<String>,
    nothing: &str,
    read: impl Fn(&str) -> Result<T, ContentError>,
) -> Result<Option<Option<T>>, ContentError> {
    match typed.as_deref() {
        None => Ok(None),
        Some(word) if word == nothing => Ok(Some(None)),
        Some(typed) => read(typed).map(|value| Some(Some(value))),
    }
}

impl From<ContentError> for Error {
    fn from(error: ContentError) -> Self {
        let advice = match &error {
            ContentError::Path(_) | ContentError::Proofs(_) => "choose another path, such as /blog",
            ContentError::Unknown(_) => {
                "give files, php:VERSION, php:unix:SOCKET, http://ADDRESS:PORT, unix:SOCKET, or off; before it PATH= for a \
                 part of the site"
            }
            ContentError::NoAddress(_) => "give the address that it listens at: http://127.0.0.1:3000",
            ContentError::PathOfProgram(_) => "leave the path out: the program is asked for the visitor's own",
            ContentError::Version(_) => "give it as php:8.2",
            ContentError::Socket(_) => "give the whole path of the socket: unix:/run/app.sock",
            ContentError::Size(_) => "give it as 500K, 50M or 1G",
            ContentError::Group(_) => "give AuthConfig, FileInfo, Indexes, Limit, with commas between, or off",
            ContentError::Page(_) => "give names with commas between, without folders",
        };
        Error::wrong_use(error.to_string()).advice(advice)
    }
}
