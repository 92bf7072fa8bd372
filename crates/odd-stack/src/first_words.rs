//! What people write before they know the commands: paths alone, words of the trade, and a plea for help.

use std::ffi::OsString;
use std::path::Path;

use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{Command, CommandFactory, FromArgMatches};

use crate::args::Cli;
use crate::show::style::{BOLD, NAME};

/// Words that name no command, and what does what they mean.
const MEANT: [(&[&str], &str); 12] = [
    (&["mods", "layers"], "`oddstack stack` shows the layers"),
    (&["info", "details"], "`oddstack show LAYER` shows one layer, `oddstack game show` the game"),
    (&["init", "setup", "register", "new"], "`oddstack game add FOLDER` adds a game"),
    (&["games"], "`oddstack game list` lists the games"),
    (
        &["config", "settings", "configure"],
        "`oddstack game set` configures a game, `oddstack tweak` changes its settings files",
    ),
    (&["deploy", "apply", "activate"], "`oddstack lay LAYER` puts a layer on the game"),
    (
        &["purge", "clean", "reset", "vanilla", "deactivate"],
        "`oddstack lift --all` takes all layers off: the game is itself again",
    ),
    (&["fix", "repair", "restore"], "`oddstack mend` puts files right that were changed outside Odd Stack"),
    (
        &["diff", "compare"],
        "`oddstack conflicts` shows where layers disagree, `oddstack check` what changed on disk",
    ),
    (
        &["order", "sort", "reorder", "priority"],
        "`oddstack move LAYER --top`, `--above OTHER` or `--below OTHER` changes the order",
    ),
    (&["search", "find", "scan", "detect"], "`oddstack game find FOLDER` finds games in a folder"),
    (
        &["patch", "downgrade"],
        "`oddstack upgrade LAYER PACKAGE` replaces a layer with another version; `oddstack patchday` sees the game's own update through",
    ),
];

/// The commands by what people do, for one screen of help.
const GROUPS: [(&str, &[&str]); 5] = [
    ("Look", &["stack", "show", "conflicts", "trace", "check", "inspect", "open"]),
    ("Change", &["game", "add", "upgrade", "remove", "lay", "lift", "move", "adopt", "fit"]),
    ("Decide", &["settle", "tweak", "set", "mend", "lineup"]),
    ("Go back", &["history", "undo", "redo", "rewind", "mark"]),
    ("Live with updates", &["patchday", "capture", "play", "culprit", "rescue", "tidy"]),
];
/// These are told in one line.
const MORE: [&str; 4] = ["demo", "completions", "man", "help"];

/// What was written on the command line.
pub fn parse(words: &[OsString]) -> Result<Cli, clap::Error> {
    let read = |words: &[OsString]| {
        let is_screen = words.iter().any(|word| word == "-h");
        command(is_screen).try_get_matches_from(words).and_then(|matches| Cli::from_arg_matches(&matches))
    };
    let error = match read(words) {
        Err(error) if error.kind() == ErrorKind::InvalidSubcommand => error,
        read => return read,
    };
    let Some(ContextValue::String(unknown)) = error.get(ContextKind::InvalidSubcommand) else {
        return Err(error);
    };
    let at = words.iter().skip(1).position(|word| word.to_string_lossy() == unknown.as_str());
    match at {
        Some(at) if Path::new(&words[at + 1]).exists() => {
            let mut words = words.to_vec();
            // A name that no slip of the fingers comes near.
            words.insert(at + 1, "paths-without-a-command".into());
            read(&words)
        }
        _ => match meant(unknown) {
            Some(meant) => {
                let message = format!("there is no command `{unknown}`: {meant}\n");
                Err(clap::Error::raw(ErrorKind::InvalidSubcommand, message))
            }
            None => Err(error),
        },
    }
}

fn meant(word: &str) -> Option<&'static str> {
    let word = word.to_lowercase();
    MEANT.iter().find(|(words, _)| words.contains(&word.as_str())).map(|(_, meant)| *meant)
}

/// All commands, with help that is one screen when it is asked for with `-h`.
fn command(is_screen: bool) -> Command {
    let options = if is_screen { "" } else { "\n\n{all-args}" };
    let command = Cli::command();
    let screen = screen(&command);
    command
        .help_template(format!("{{about}}\n\n{{usage-heading}} {{usage}}{options}{{after-help}}"))
        .override_usage("oddstack COMMAND [OPTIONS]\n       oddstack PACKAGE...")
        .after_help("Of every command: -g NAME (which game), -n (dry run, where it changes anything), --json, -y, -q, -v.\n\
                     `oddstack COMMAND -h` says more of one, `oddstack --help` of these and of exit codes.")
        .about(format!(
            "{}\n{screen}",
            "Install mods and patches as tracked layers, and always get back to the untouched game."
        ))
        .mut_subcommands(|command| command.hide(true))
        .mut_args(|arg| arg.hide_short_help(true))
}

/// The commands in groups.
fn screen(command: &Command) -> String {
    let line = |name: &&str| {
        let about = command.find_subcommand(name).and_then(Command::get_about).map(ToString::to_string);
        let about = about.unwrap_or_default();
        format!("  {NAME}{name:<11}{NAME:#} {about}\n")
    };
    let group = |(title, names): &(&str, &[&str])| {
        format!("{BOLD}{title}{BOLD:#}\n{}", names.iter().map(line).collect::<String>())
    };
    let more = MORE.map(|name| format!("{NAME}{name}{NAME:#}")).join(", ");
    GROUPS.iter().map(group).chain([format!("{BOLD}More{BOLD:#}: {more}\n")]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_is_on_the_screen_and_each_line_fits() {
        let command = Cli::command();
        let shown = GROUPS.iter().flat_map(|(_, names)| names.iter().copied());
        let shown: Vec<&str> = shown.chain(MORE).collect();
        for known in command.get_subcommands().filter(|known| !known.is_hide_set()) {
            let times = shown.iter().filter(|name| **name == known.get_name()).count();
            assert_eq!(times, 1, "{}", known.get_name());
        }
        let screen = screen(&command);
        let screen = anstream::adapter::strip_str(&screen).to_string();
        assert!(screen.lines().count() <= 38, "{screen}");
        assert!(screen.lines().all(|line| line.len() <= 86), "{screen}");
    }

    #[test]
    fn words_of_the_trade_name_what_is_meant() {
        let known: Vec<String> = Cli::command()
            .get_subcommands()
            .flat_map(|command| {
                command
                    .get_name_and_visible_aliases()
                    .into_iter()
                    .chain(command.get_all_aliases())
                    .map(str::to_owned)
                    .collect::<Vec<_>>()
            })
            .collect();
        for (words, _) in MEANT {
            assert!(
                words.iter().all(|word| !known.iter().any(|name| name == word)),
                "{words:?} are commands"
            );
        }
        for word in
            ["install", "uninstall", "list", "ls", "status", "enable", "disable", "verify", "run", "delete"]
        {
            assert!(known.iter().any(|name| name == word), "{word}");
        }
        let words = |line: &str| line.split(' ').map(OsString::from).collect::<Vec<_>>();
        let error = parse(&words("oddstack mods")).unwrap_err().to_string();
        assert!(error.contains("oddstack stack"), "{error}");
        assert!(parse(&words("oddstack src")).is_ok(), "a path alone");
        assert!(parse(&words("oddstack nowhere.zip")).is_err());
    }
}
