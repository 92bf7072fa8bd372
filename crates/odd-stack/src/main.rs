//! `oddstack`: the command line of Odd Stack. Parses, calls the core, renders.

mod args;
mod commands;
mod demo;
mod errors;
mod first_words;
mod memory;
mod output;
mod progress;
mod questions;
#[cfg(test)]
mod reference;
#[cfg(test)]
mod schema;
mod session;
mod shell;
mod show;

use std::process::ExitCode;

use args::Command;
use errors::{Exit, Failure};
use session::Session;

fn main() -> ExitCode {
    memory::hold_little();
    if cfg!(windows) {
        let words: Vec<String> =
            std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
        if let Err(failure) = shell::check_words(&words) {
            return output::report_early(None, &failure, words.iter().any(|word| word == "--json"));
        }
    }
    let cli = match first_words::parse(&std::env::args_os().collect::<Vec<_>>()) {
        Ok(cli) => cli,
        Err(error) if error.use_stderr() && std::env::args_os().any(|word| word == "--json") => {
            let failure = Failure::new(Exit::Usage, "usage", error.to_string().trim());
            return output::report_early(None, &failure, true);
        }
        Err(error) => error.exit(),
    };
    let (command, as_json) = (cli.command.as_ref().map_or("overview", Command::name), cli.common.json);
    let mut session = match Session::new(cli.common, command) {
        Ok(session) => session,
        Err(failure) => return output::report_early(Some(command), &failure, as_json),
    };
    let done = match cli.command {
        Some(command) => run(&mut session, command),
        None => commands::overview::run(&mut session),
    };
    let code = session.close(done);
    shell::hold_own_console();
    code
}

/// How a command ended when nothing failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ended {
    /// All is done, or nothing wants attention.
    Well,
    /// It looked and found something that wants attention.
    WantsAttention,
    /// It looked and found that what the ledger stores is damaged.
    Damaged,
}

fn run(session: &mut Session, command: Command) -> Result<Ended, Failure> {
    match command {
        Command::Game(game) => commands::game::run(session, game),
        Command::Inspect(args) => commands::inspect::run(session, &args),
        Command::Fit(args) => commands::fit::run(session, &args),
        Command::Add(args) => commands::add::run(session, &args),
        Command::Upgrade(args) => commands::upgrade::run(session, &args),
        Command::Adopt(args) => commands::adopt::run(session, &args),
        Command::Remove(args) => commands::remove::run(session, &args),
        Command::Lay(args) => commands::lay::run(session, &args),
        Command::Lift(args) => commands::lift::run(session, &args),
        Command::Move(args) => commands::reorder::run(session, &args),
        Command::Stack(args) => commands::stack::run(session, &args),
        Command::Lineup(command) => commands::lineup::run(session, &command),
        Command::History(args) => commands::history::run(session, &args),
        Command::Undo(args) => commands::going_back::undo(session, &args),
        Command::Redo(args) => commands::going_back::redo(session, &args),
        Command::Rewind(args) => commands::going_back::rewind(session, &args),
        Command::Mark(args) => commands::mark::run(session, &args),
        Command::Show(args) => commands::show::run(session, &args),
        Command::Set(args) => commands::set::run(session, &args),
        Command::Conflicts(args) => commands::conflicts::run(session, &args),
        Command::Settle(args) => commands::settle::run(session, &args),
        Command::Tweak(args) => commands::tweak::run(session, &args),
        Command::Trace(args) => commands::trace::run(session, &args),
        Command::Check(args) => commands::check::run(session, &args),
        Command::Mend(args) => commands::mend::run(session, &args),
        Command::Capture(args) => commands::capture::run(session, &args),
        Command::Patchday(command) => commands::patchday::run(session, &command),
        Command::Culprit(args) => commands::culprit::run(session, &args),
        Command::Play(args) => commands::play::run(session, &args),
        Command::Rescue(args) => commands::rescue::run(session, &args),
        Command::Tidy(args) => commands::tidy::run(session, &args),
        Command::Open(args) => commands::open::run(session, &args),
        Command::Dropped(args) => commands::dropped::run(session, &args),
        Command::Demo(args) => commands::demo::run(session, &args),
        Command::Completions(args) => commands::completions::run(session, &args),
        Command::Man(args) => commands::man::run(session, &args),
    }
}
