//! `manual`: the manual pages and what shells need to complete commands, written where they look for them. Made from the
//! same texts as `--help`.

use std::path::{Path, PathBuf};

use clap::{Args, Command};
use clap_complete::env::{Bash, EnvCompleter, Fish, Zsh};
use clap_mangen::Man;
use clap_mangen::roff::{Roff, bold, roman};
use serde_json::{Value, json};

use crate::commands::Report;
use crate::completing;
use crate::error::Exit;
use crate::files;
use crate::help;
use crate::show::human::Page;
use crate::show::{Shown, counted};

/// Write the manual pages, and completions for bash, zsh and fish, below a folder.
///
/// Below `/usr/local/share`, `man` and the shells find them there. The Debian package has them already.
#[derive(Debug, Args)]
pub struct Manual {
    /// The folder, such as /usr/local/share. Files of the same names are written over.
    #[arg(long, value_name = "FOLDER")]
    to: PathBuf,
}

/// zsh reads that file when it completes the command for the first time, and expects suggestions then, too.
const FIRST_TIME: &str = "[[ \"$funcstack[1]\" != _brightharbor ]] || _clap_dynamic_completer_brightharbor \"$@\"\n";

/// What shells call the program.
const PROGRAM: &str = "brightharbor";

pub fn run(args: &Manual) -> Report {
    let pages = pages();
    let completions = [
        ("bash-completion/completions/brightharbor", registration(&Bash)),
        ("zsh/site-functions/_brightharbor", registration(&Zsh) + FIRST_TIME),
        ("fish/vendor_completions.d/brightharbor.fish", registration(&Fish)),
    ];
    let of_man = pages.iter().map(|(name, text)| (format!("man/man{}/{name}", &name[name.len() - 1..]), text));
    let of_shells = completions.iter().map(|(path, text)| (path.to_string(), text));
    let all: Vec<(PathBuf, &String)> = of_man.chain(of_shells).map(|(path, text)| (args.to.join(path), text)).collect();
    for folder in all.iter().filter_map(|(path, _)| path.parent()) {
        files::make_folder(folder)?;
    }
    for (path, text) in &all {
        files::save(path, text)?;
    }
    let shells = all[pages.len()..].iter().map(|(path, _)| path.clone()).collect();
    Ok(Box::new(Written { to: args.to.join("man"), pages: pages.len(), shells }))
}

/// A page for each command, with its file's name.
fn pages() -> Vec<(String, String)> {
    let mut tree = help::command();
    tree.build();
    let mut found = Vec::new();
    page_of(&tree, PROGRAM, &mut found);
    found.push(("harbor.toml.5".into(), settings_page()));
    found
}

/// The settings, each key with what it means: the same text as docs/settings.md.
const SETTINGS: &str = include_str!("../../../../docs/settings.md");

fn settings_page() -> String {
    let example = SETTINGS.split("```toml\n").nth(1).and_then(|rest| rest.split("```").next()).unwrap_or_default();
    let mut roff = Roff::new();
    roff.control("TH", ["HARBOR.TOML", "5", "", PROGRAM, "Bright Harbor"]);
    roff.control("SH", ["NAME"]);
    roff.text([roman("harbor.toml - the settings of a harbor of brightharbor")]);
    roff.control("SH", ["DESCRIPTION"]);
    roff.text([roman(
        "Every table and key may be left out. A misspelt key is refused, since it would be ignored otherwise. brightharbor \
         init writes the file, and sets single keys of it.",
    )]);
    roff.control("SH", ["KEYS"]);
    roff.control("nf", []);
    for line in example.lines() {
        roff.text([roman(if line.is_empty() { " " } else { line })]);
    }
    roff.control("fi", []);
    roff.control("SH", ["SEE ALSO"]);
    roff.text([bold(PROGRAM), roman("(1)")]);
    roff.to_roff()
}

fn page_of(command: &Command, name: &str, found: &mut Vec<(String, String)>) {
    found.push((format!("{name}.1"), page(command, name)));
    for sub in command.get_subcommands().filter(|sub| sub.get_name() != "help") {
        page_of(sub, &format!("{name}-{}", sub.get_name()), found);
    }
}

fn page(command: &Command, name: &str) -> String {
    // What follows the options in the help has sections of its own here.
    let examples = command.get_after_help().map(ToString::to_string);
    let shown = command.clone().after_help("").display_name(name.to_string());
    let man = Man::new(shown).title(name.to_uppercase()).manual("Bright Harbor").source(PROGRAM);
    let mut out = Vec::new();
    // Writing to memory does not fail.
    let _ = man.render_title(&mut out);
    let _ = man.render_name_section(&mut out);
    let _ = man.render_synopsis_section(&mut out);
    let _ = man.render_description_section(&mut out);
    let _ = man.render_options_section(&mut out);
    let mut roff = Roff::new();
    if command.has_subcommands() {
        roff.control("SH", ["COMMANDS"]);
        for sub in command.get_subcommands().filter(|sub| sub.get_name() != "help") {
            roff.control("TP", []);
            roff.text([bold(format!("{name}-{}", sub.get_name())), roman("(1)")]);
            roff.text([roman(sub.get_about().map(ToString::to_string).unwrap_or_default())]);
        }
    }
    if let Some(lines) = examples.as_deref().and_then(|text| text.strip_prefix("Examples:\n")) {
        roff.control("SH", ["EXAMPLES"]);
        roff.control("nf", []);
        for line in lines.lines() {
            roff.text([roman(line.trim_start())]);
        }
        roff.control("fi", []);
    }
    if name == PROGRAM {
        whole_program(&mut roff);
    } else {
        roff.control("SH", ["SEE ALSO"]);
        roff.text([bold(PROGRAM), roman("(1), for exit codes and files")]);
    }
    let _ = roff.to_writer(&mut out);
    String::from_utf8_lossy(&out).into_owned()
}

/// What holds for all commands.
fn whole_program(roff: &mut Roff) {
    let mut section = |title: &str, rows: &[(&str, &str)]| {
        roff.control("SH", [title]);
        for (name, words) in rows {
            roff.control("TP", []);
            roff.text([bold(*name)]);
            roff.text([roman(*words)]);
        }
    };
    let codes: Vec<(String, &str)> = help::EXIT_CODES.iter().map(|(code, words)| (code.to_string(), *words)).collect();
    let codes: Vec<(&str, &str)> = codes.iter().map(|(code, words)| (code.as_str(), *words)).collect();
    section("EXIT STATUS", &codes);
    section(
        "ENVIRONMENT",
        &[
            ("BRIGHTHARBOR", "the harbor to work in, where --harbor does not say"),
            ("NO_COLOR", "no colours, whatever the terminal can"),
            (completing::VARIABLE, "set by shells that complete a command"),
        ],
    );
    section(
        "FILES",
        &[
            (
                "/var/lib/brightharbor",
                "the harbor, unless another one is named: zones, keys, certificates, the inventory",
            ),
            (
                "/etc/brightharbor/harbor.toml",
                "the settings of that harbor; of any other one, harbor.toml in its folder",
            ),
        ],
    );
}

/// The lines by which a shell asks the program. They name no place, so that an upgrade or another installation counts.
fn registration(shell: &dyn EnvCompleter) -> String {
    let mut out = Vec::new();
    let _ = shell.write_registration(completing::VARIABLE, PROGRAM, PROGRAM, PROGRAM, &mut out);
    String::from_utf8_lossy(&out).into_owned()
}

struct Written {
    to: PathBuf,
    pages: usize,
    shells: Vec<PathBuf>,
}

impl Shown for Written {
    fn human(&self, page: &mut Page) {
        let shells = counted(self.shells.len(), "file");
        page.heading(&format!("Wrote {} and {shells} of completions.", counted(self.pages, "manual page")));
        let all = std::iter::once(self.to.as_path()).chain(self.shells.iter().map(PathBuf::as_path));
        all.for_each(|path: &Path| page.hanging("  ", &path.display().to_string()));
    }

    fn json(&self) -> Value {
        let shells: Vec<String> = self.shells.iter().map(|path| path.display().to_string()).collect();
        json!({
            "command": "manual",
            "pages": self.pages,
            "pages_in": self.to.display().to_string(),
            "completions": shells,
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
