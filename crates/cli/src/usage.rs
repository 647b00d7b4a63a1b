//! Arguments that cannot be understood: for people as the parser words it, for programs as a document like any other
//! error. Help and version are no errors.

use std::ffi::{OsStr, OsString};
use std::process::ExitCode;

use clap::error::{ContextKind, ContextValue, ErrorKind};

use crate::error::{Error, Exit};
use crate::show;

/// Prints what the parser gave in the place of arguments.
pub fn print(parsed: &clap::Error, typed: impl IntoIterator<Item = OsString>) -> ExitCode {
    if is_asked_for(parsed.kind()) || !wants_json(typed) {
        let _ = parsed.print();
        return u8::try_from(parsed.exit_code()).map_or(ExitCode::FAILURE, ExitCode::from);
    }
    show::print_error(&error(parsed), true)
}

fn is_asked_for(kind: ErrorKind) -> bool {
    matches!(kind, ErrorKind::DisplayHelp | ErrorKind::DisplayVersion)
}

/// What stands behind `--` is no option.
fn wants_json(typed: impl IntoIterator<Item = OsString>) -> bool {
    let mut options = typed.into_iter().take_while(|word| word != OsStr::new("--"));
    options.any(|word| word == OsStr::new("--json"))
}

fn error(parsed: &clap::Error) -> Error {
    let code = match parsed.kind() {
        ErrorKind::InvalidSubcommand => "unknown-command",
        ErrorKind::UnknownArgument => "unknown-argument",
        ErrorKind::MissingRequiredArgument => "missing-argument",
        ErrorKind::MissingSubcommand | ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand => "missing-command",
        ErrorKind::ArgumentConflict => "arguments-conflict",
        ErrorKind::InvalidValue | ErrorKind::ValueValidation => "unusable-value",
        ErrorKind::NoEquals | ErrorKind::TooManyValues | ErrorKind::TooFewValues | ErrorKind::WrongNumberOfValues => {
            "wrong-number-of-values"
        }
        _ => "wrong-use",
    };
    let mut error = Error::new(Exit::WrongUse, code, message(parsed)).advice("see what can be typed: add --help");
    for (kind, value) in parsed.context() {
        let member = match kind {
            ContextKind::InvalidArg => "arguments",
            ContextKind::InvalidSubcommand => "command",
            ContextKind::InvalidValue => "value",
            ContextKind::PriorArg => "conflicts_with",
            ContextKind::ValidValue => "possible",
            ContextKind::SuggestedArg | ContextKind::SuggestedSubcommand | ContextKind::SuggestedValue => "suggested",
            _ => continue,
        };
        match value {
            // One or several: a list either way.
            ContextValue::String(one) if member == "arguments" => error = error.with(member, vec![one.clone()]),
            ContextValue::String(one) if !one.is_empty() => error = error.with(member, one.clone()),
            ContextValue::Strings(many) if !many.is_empty() => error = error.with(member, many.clone()),
            _ => {}
        }
    }
    error
}

/// The first paragraph, on one line; the usage below it is for people.
fn message(parsed: &clap::Error) -> String {
    if parsed.kind() == ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand {
        return "no command is given".into();
    }
    let text = parsed.render().to_string();
    let lines: Vec<&str> = text.lines().take_while(|line| !line.trim().is_empty()).map(str::trim).collect();
    lines.join(" ").trim_start_matches("error: ").to_string()
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;
    use crate::args::Args;

    fn of(typed: &[&str]) -> Error {
        error(&Args::try_parse_from([&["brightharbor"], typed].concat()).unwrap_err())
    }

    #[test]
    fn what_was_wrong_is_a_code_with_members() {
        let unknown = of(&["attach", "--aliass", "www.gullrock.example"]);
        assert_eq!(unknown.code, "unknown-argument");
        assert_eq!(unknown.facts["arguments"], serde_json::json!(["--aliass"]));
        let missing = of(&["attach"]);
        assert_eq!(missing.code, "missing-argument");
        assert!(missing.message.contains("not provided"), "{}", missing.message);
        assert_eq!(missing.facts["arguments"].as_array().unwrap().len(), 2);
        assert_eq!((of(&["atach"]).code, of(&["zone"]).code), ("unknown-command", "missing-command"));
        let value = of(&["zone", "move", "gullrock.example", "--colour"]);
        assert_eq!((value.code, value.exit), ("unknown-argument", Exit::WrongUse));
        assert!(!value.message.contains('\n'), "{}", value.message);
    }

    #[test]
    fn json_is_an_option_only_before_two_dashes() {
        let words = |line: &str| line.split(' ').map(OsString::from).collect::<Vec<_>>();
        assert!(wants_json(words("brightharbor --json attach")));
        assert!(wants_json(words("brightharbor attach x --json")));
        assert!(!wants_json(words("brightharbor attach -- --json")));
    }
}
