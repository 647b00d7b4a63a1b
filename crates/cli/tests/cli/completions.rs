//! What shells complete, asked through the shells themselves with the files that `manual` writes.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::coast::{Coast, brightharbor};

/// A harbor with a site, the files for the shells, and a folder with the program in it.
struct Shells {
    coast: Coast,
    share: PathBuf,
    path: String,
}

impl Shells {
    fn new() -> Self {
        let coast = Coast::with_bakery();
        let share = coast.path("share");
        let written = coast.json(&["manual", "--to", share.to_str().unwrap()], 0);
        assert!(written["pages"].as_u64().unwrap() > 70, "{written}");
        let folder = Path::new(brightharbor().get_program()).parent().unwrap().display().to_string();
        let path = format!("{folder}:{}", std::env::var("PATH").unwrap());
        Self { coast, share, path }
    }

    fn ask(&self, shell: &str, script: &str) -> Vec<String> {
        let mut command = Command::new(shell);
        command.arg("-c").arg(script).env("PATH", &self.path).env("BRIGHTHARBOR", self.coast.harbor());
        let output = command.env("HOME", self.coast.path(".")).env("TERM", "dumb").output().unwrap();
        let err = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success() && err.is_empty(), "{shell}: {err}");
        String::from_utf8_lossy(&output.stdout).lines().map(String::from).collect()
    }

    /// As bash does it when somebody presses Tab behind the last word.
    fn bash(&self, line: &str) -> Vec<String> {
        let file = self.share.join("bash-completion/completions/brightharbor");
        let words: Vec<&str> = line.split(' ').collect();
        let script = format!(
            "source {}; COMP_WORDS=({}); COMP_CWORD={}; COMP_TYPE=9; _clap_complete_brightharbor brightharbor '{}' x; \
             printf '%s\\n' \"${{COMPREPLY[@]}}\"",
            file.display(),
            words.iter().map(|word| format!("'{word}'")).collect::<Vec<_>>().join(" "),
            words.len() - 1,
            words[words.len() - 1],
        );
        self.ask("bash", &script).into_iter().map(|word| word.trim_end().to_string()).collect()
    }

    fn fish(&self, line: &str) -> Vec<String> {
        let file = self.share.join("fish/vendor_completions.d/brightharbor.fish");
        self.ask("fish", &format!("source {}; complete -C '{line}'", file.display()))
    }
}

#[test]
fn shells_complete_commands_and_the_names_of_the_harbor() {
    let shells = Shells::new();
    assert_eq!(shells.bash("brightharbor cert"), ["certificate"]);
    assert_eq!(shells.bash("brightharbor site show c"), ["crumbandtide.example"]);
    assert_eq!(shells.bash("brightharbor survey www.c"), ["www.crumbandtide.example"]);
    assert_eq!(shells.bash("brightharbor attach x.example --account b"), ["bakery"]);
    assert_eq!(shells.bash("brightharbor account show ")[..2], ["bakery", "--harbor"]);
    assert_eq!(shells.bash("brightharbor zone check cr"), ["crumbandtide.example"]);
    assert!(shells.bash("brightharbor explain glue-m").contains(&"glue-missing".to_string()));
    assert!(shells.bash("brightharbor attach --doc").contains(&"--document-root".to_string()));
    assert!(shells.bash("brightharbor site show gull").iter().all(String::is_empty));
    // The harbor that the line names, and none, which is no error either.
    let elsewhere = shells.bash("brightharbor --harbor /nowhere site show c");
    assert!(elsewhere.iter().all(String::is_empty), "{elsewhere:?}");

    assert_eq!(shells.fish("brightharbor site show c"), ["crumbandtide.example"]);
    let codes = shells.fish("brightharbor explain glue-missin");
    assert!(codes[0].starts_with("glue-missing\t"), "{codes:?}");

    // zsh finds its file by the first line.
    let file = shells.share.join("zsh/site-functions/_brightharbor");
    assert!(std::fs::read_to_string(&file).unwrap().starts_with("#compdef brightharbor\n"));
    shells.ask("zsh", &format!("compdef() {{ }}; source {}", file.display()));
}

#[test]
fn manual_pages_say_what_the_help_says() {
    let shells = Shells::new();
    let page = |name: &str| {
        let section = if name == "harbor.toml" { 5 } else { 1 };
        let file = shells.share.join(format!("man/man{section}/{name}.{section}"));
        let mut command = Command::new("man");
        command.args(["--warnings", "-E", "UTF-8", "-l"]).arg(file).env("MANWIDTH", "100").env("LC_ALL", "C.UTF-8");
        let output = command.output().unwrap();
        let warned = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(output.status.success() && warned.is_empty(), "{name}: {warned}");
        String::from_utf8_lossy(&output.stdout).split_whitespace().collect::<Vec<_>>().join(" ")
    };
    let whole = page("brightharbor");
    for part in ["EXIT STATUS 0 done 1 a fault was found", "brightharbor-attach(1) Attach", "ENVIRONMENT BRIGHTHARBOR"]
    {
        assert!(whole.contains(part), "{part}: {whole}");
    }
    let settings = page("harbor.toml");
    for part in ["NAME harbor.toml - the settings", "pool-folder = \"/etc/php/8.2/fpm/pool.d\" # one file an account"] {
        assert!(settings.contains(part), "{part}: {settings}");
    }
    let detach = page("brightharbor-detach");
    for part in [
        "SYNOPSIS brightharbor detach",
        "--dry-run Show the changes",
        "EXAMPLES brightharbor detach gullrock.example brightharbor detach gullrock.example --zone remove SEE ALSO",
    ] {
        assert!(detach.contains(part), "{part}: {detach}");
    }
    for path in std::fs::read_dir(shells.share.join("man/man1")).unwrap() {
        let name = path.unwrap().path().file_stem().unwrap().to_string_lossy().into_owned();
        assert!(page(&name).contains("NAME brightharbor"), "{name}");
    }
}
