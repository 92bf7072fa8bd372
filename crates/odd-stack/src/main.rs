//! `oddstack`: the command line of Odd Stack. Parses, calls the core, renders.

mod args;
mod commands;
mod demo;
mod desk;
mod errors;
mod output;
mod progress;
#[cfg(test)]
mod schema;
mod shell;
mod show;

use std::process::ExitCode;

use clap::Parser;

use args::{Cli, Command};
use desk::Desk;
use errors::{Exit, Failure};

/// Reading files of settings makes very many small pieces of memory, which the systems' own allocators are slow at.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    if cfg!(windows) {
        let words: Vec<String> =
            std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
        if let Err(failure) = shell::check_words(&words) {
            return output::report_early(None, &failure, words.iter().any(|word| word == "--json"));
        }
    }
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) if error.use_stderr() && std::env::args_os().any(|word| word == "--json") => {
            let failure = Failure::new(Exit::Usage, "usage", error.to_string().trim());
            return output::report_early(None, &failure, true);
        }
        Err(error) => error.exit(),
    };
    let (command, as_json) = (cli.command.as_ref().map_or("overview", Command::name), cli.common.json);
    let mut desk = match Desk::new(cli.common, command) {
        Ok(desk) => desk,
        Err(failure) => return output::report_early(Some(command), &failure, as_json),
    };
    let done = match cli.command {
        Some(command) => run(&mut desk, command),
        None => commands::overview::run(&mut desk),
    };
    desk.close(done)
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

fn run(desk: &mut Desk, command: Command) -> Result<Ended, Failure> {
    match command {
        Command::Game(game) => commands::game::run(desk, game),
        Command::Inspect(args) => commands::inspect::run(desk, &args),
        Command::Fit(args) => commands::fit::run(desk, &args),
        Command::Add(args) => commands::add::run(desk, &args),
        Command::Upgrade(args) => commands::upgrade::run(desk, &args),
        Command::Adopt(args) => commands::adopt::run(desk, &args),
        Command::Remove(args) => commands::remove::run(desk, &args),
        Command::Lay(args) => commands::lay::run(desk, &args),
        Command::Lift(args) => commands::lift::run(desk, &args),
        Command::Move(args) => commands::reorder::run(desk, &args),
        Command::Stack => commands::stack::run(desk),
        Command::Show(args) => commands::show::run(desk, &args),
        Command::Set(args) => commands::set::run(desk, &args),
        Command::Conflicts(args) => commands::conflicts::run(desk, &args),
        Command::Settle(args) => commands::settle::run(desk, &args),
        Command::Tweak(args) => commands::tweak::run(desk, &args),
        Command::Trace(args) => commands::trace::run(desk, &args),
        Command::Check(args) => commands::check::run(desk, &args),
        Command::Mend(args) => commands::mend::run(desk, &args),
        Command::Capture(args) => commands::capture::run(desk, &args),
        Command::Patchday(command) => commands::patchday::run(desk, &command),
        Command::Play(args) => commands::play::run(desk, &args),
        Command::Rescue(args) => commands::rescue::run(desk, &args),
        Command::Demo(args) => commands::demo::run(desk, &args),
        Command::Completions(args) => commands::completions::run(desk, &args),
        Command::Man(args) => commands::man::run(desk, &args),
    }
}
