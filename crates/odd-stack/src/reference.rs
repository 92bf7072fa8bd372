//! `docs/commands.md`, written from the program: every command with its arguments and options.
//!
//! `ODDSTACK_WRITE_COMMANDS=1 cargo test -p odd-stack reference` writes it down; without that it is compared.

use clap::{Arg, ArgAction, Command, CommandFactory};

use crate::args::Cli;

fn path() -> std::path::PathBuf {
    std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/commands.md")
}

/// As it stands in a cell of a table.
fn cell(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ").replace('|', "\\|")
}

fn help(arg: &Arg) -> String {
    let mut text = arg.get_help().map(ToString::to_string).unwrap_or_default();
    let values: Vec<String> = arg
        .get_possible_values()
        .iter()
        .filter(|value| !value.is_hide_set())
        .map(|value| format!("`{}`", value.get_name()))
        .collect();
    if arg.get_action().takes_values() && !values.is_empty() {
        text.push_str(&format!(" ({})", values.join(", ")));
    }
    cell(&text)
}

fn name(arg: &Arg) -> String {
    let values = arg.get_value_names().unwrap_or_default();
    let values = values.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ").replace("] [", " ");
    let dashed = match (arg.get_short(), arg.get_long()) {
        (Some(short), Some(long)) => format!("-{short}, --{long}"),
        (None, Some(long)) => format!("--{long}"),
        (Some(short), None) => format!("-{short}"),
        (None, None) => return format!("`{}`", cell(&values)),
    };
    match arg.get_action() {
        ArgAction::Set | ArgAction::Append => format!("`{dashed} {}`", cell(&values)),
        _ => format!("`{dashed}`"),
    }
}

fn rows<'a>(args: impl Iterator<Item = &'a Arg>) -> String {
    let shown = args.filter(|arg| {
        !arg.is_hide_set()
            && !matches!(
                arg.get_action(),
                ArgAction::Version | ArgAction::Help | ArgAction::HelpShort | ArgAction::HelpLong
            )
    });
    let rows: String = shown.map(|arg| format!("| {} | {} |\n", name(arg), help(arg))).collect();
    if rows.is_empty() { rows } else { format!("\n| | |\n|---|---|\n{rows}") }
}

fn told(command: &Command, above: &str, into: &mut String) {
    let path = format!("{above} {}", command.get_name());
    let about = command.get_about().map(ToString::to_string).unwrap_or_default();
    into.push_str(&format!("\n## {}\n\n{about}.\n", path.trim()));
    into.push_str(&rows(command.get_arguments().filter(|arg| !arg.is_global_set())));
    let after = command.get_after_help().map(ToString::to_string).unwrap_or_default();
    if !after.is_empty() {
        into.push_str(&format!("\n```\n{after}\n```\n"));
    }
    let below = command.get_subcommands().filter(|below| !below.is_hide_set() && below.get_name() != "help");
    below.for_each(|below| told(below, &path, into));
}

fn reference() -> String {
    let command = Cli::command();
    let mut text = String::from(
        "# Commands\n\nWritten from the program; `oddstack COMMAND --help` says the same.\n\n## Options of every command\n",
    );
    text.push_str(&rows(command.get_arguments().filter(|arg| arg.is_global_set())));
    let commands = command.get_subcommands().filter(|below| !below.is_hide_set());
    commands.for_each(|below| told(below, "oddstack", &mut text));
    text
}

#[test]
fn the_documented_commands_are_those_of_the_program() {
    let now = reference();
    if std::env::var_os("ODDSTACK_WRITE_COMMANDS").is_some() {
        std::fs::write(path(), &now).unwrap();
    }
    let documented = std::fs::read_to_string(path()).unwrap_or_default().replace("\r\n", "\n");
    assert_eq!(documented, now, "run `ODDSTACK_WRITE_COMMANDS=1 cargo test -p odd-stack reference`");
}
