//! What `--help`, the manual pages and the shells are told about the commands: what is derived from the arguments, with an
//! example for each command, and the options that all share behind its own.

mod examples;

use clap::{Command, CommandFactory};

use crate::args::Args;

/// The whole tree of commands.
pub fn command() -> Command {
    with_examples(Args::command(), "")
}

/// The exit codes, each with what it says.
pub const EXIT_CODES: [(u8, &str); 6] = [
    (0, "done"),
    (1, "a fault was found"),
    (2, "wrong use: the arguments or harbor.toml cannot be understood; nothing was changed"),
    (3, "done, but something still waits, or is somebody else's turn"),
    (4, "refused: nothing was changed"),
    (5, "failed midway and rolled back"),
];

fn with_examples(command: Command, path: &str) -> Command {
    let command = command.mut_subcommands(|sub| {
        let path = if path.is_empty() { sub.get_name().to_string() } else { format!("{path} {}", sub.get_name()) };
        with_examples(sub, &path)
    });
    match examples::of(path) {
        [] => command,
        lines => {
            let lines: String = lines.iter().map(|line| format!("\n  brightharbor {line}")).collect();
            command.after_help(format!("Examples:{lines}"))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// All commands that do something, with their path.
    fn leaves<'a>(command: &'a Command, path: &str, found: &mut Vec<(String, &'a Command)>) {
        for sub in command.get_subcommands().filter(|sub| sub.get_name() != "help") {
            let path = format!("{path} {}", sub.get_name());
            match sub.has_subcommands() {
                true => leaves(sub, &path, found),
                false => found.push((path.trim_start().to_string(), sub)),
            }
        }
    }

    /// As a shell splits it, as far as examples need it.
    fn words(line: &str) -> Vec<String> {
        let mut words = vec![String::new()];
        let mut quoted = false;
        for letter in line.chars() {
            match letter {
                '"' => quoted = !quoted,
                ' ' if !quoted => words.push(String::new()),
                _ => words.last_mut().unwrap().push(letter),
            }
        }
        words
    }

    #[test]
    fn every_command_has_examples_that_can_be_typed_and_describes_itself_and_its_options() {
        let mut tree = command();
        tree.build();
        let mut found = Vec::new();
        leaves(&tree, "", &mut found);
        assert!(found.len() > 60, "{}", found.len());
        let mut wrong = Vec::new();
        for (path, sub) in &found {
            let bare = sub.get_arguments().filter(|arg| arg.get_help().is_none());
            wrong.extend(bare.map(|arg| format!("`{path}`: {} is not described", arg.get_id())));
            let lines = examples::of(path);
            if sub.get_about().is_none() || lines.is_empty() {
                wrong.push(format!("`{path}` has no example, or says nothing about itself"));
            }
            for line in lines {
                let line = line.split("   #").next().unwrap_or(line);
                let typed = [vec!["brightharbor".to_string()], words(line)].concat();
                wrong.extend(command().try_get_matches_from(typed).err().map(|error| format!("`{line}`: {error}")));
                let is_its = line == path || line.starts_with(&format!("{path} "));
                if !is_its || line.len() + "  brightharbor ".len() > 100 {
                    wrong.push(format!("`{line}` is no example for `{path}`, or too long"));
                }
            }
        }
        assert!(wrong.is_empty(), "{}", wrong.join("\n"));
        for path in examples::paths() {
            assert!(path.is_empty() || found.iter().any(|(known, _)| known == path), "`{path}` is no command");
        }
    }

    #[test]
    fn examples_come_last_and_what_all_commands_share_behind_their_own() {
        let mut tree = command();
        tree.build();
        let help = tree.find_subcommand_mut("detach").unwrap().render_help().to_string();
        let at = |text: &str| help.find(text).unwrap_or_else(|| panic!("{text}: {help}"));
        assert!(at("--zone") < at("--harbor") && at("--harbor") < at("Examples:\n  brightharbor detach"), "{help}");
    }
}
