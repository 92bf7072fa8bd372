//! Paths without a command, as when files are dragged onto the program: packages to look into and to add, or a game's folder.

use std::path::{Path, PathBuf};

use clap::Parser;

use super::game::{AddGameArgs, add as add_game};
use super::{add, inspect};
use crate::Ended;
use crate::errors::{Exit, Failure};
use crate::questions::confirm;
use crate::session::{Session, absolute};
use crate::shell::in_quotes;

#[derive(Debug, clap::Args)]
pub struct DroppedArgs {
    /// Packages, or one game's folder
    #[arg(value_name = "PATH", required = true)]
    pub paths: Vec<PathBuf>,
}

/// The arguments of another command, as that reads them.
#[derive(Debug, Parser)]
#[command(no_binary_name = true)]
struct Of<A: clap::Args> {
    #[command(flatten)]
    args: A,
}

fn args_of<A: clap::Args>(paths: &[PathBuf]) -> Result<A, Failure> {
    let words = std::iter::once(std::ffi::OsString::from("--")).chain(paths.iter().map(|path| path.into()));
    let read = Of::<A>::try_parse_from(words);
    read.map(|of| of.args).map_err(|error| Failure::new(Exit::Usage, "usage", error.to_string().trim()))
}

pub fn run(session: &mut Session, args: &DroppedArgs) -> Result<Ended, Failure> {
    if let [folder] = args.paths.as_slice()
        && let Some(program) = session.new_game_at(folder)?
    {
        return offer_game(session, folder, &program);
    }
    for package in &args.paths {
        inspect::run(session, &args_of(std::slice::from_ref(package))?)?;
    }
    let words: Vec<String> = args.paths.iter().map(|path| in_quotes(&path.display().to_string())).collect();
    let it = if words.len() == 1 { "it" } else { "them" };
    if !session.says_yes() {
        if !session.can_ask() {
            session.out.hint(&format!("`oddstack add {}` adds {it}.", words.join(" ")));
            return Ok(Ended::Well);
        }
        if !confirm(&format!("Add {it} to the game?"), true)? {
            return Ok(Ended::Well);
        }
    }
    add::run(session, &args_of(&args.paths)?)
}

/// A folder that looks like a game, and is none of those that were added.
fn offer_game(session: &mut Session, folder: &Path, program: &str) -> Result<Ended, Failure> {
    let shown = absolute(folder)?.display().to_string();
    let message = format!("{shown} looks like a game (its program is {program})");
    let agrees = session.says_yes() || session.can_ask() && confirm(&format!("{message}. Add it?"), true)?;
    if agrees {
        return add_game(session, &args_of::<AddGameArgs>(&[folder.to_path_buf()])?);
    }
    Err(Failure::new(Exit::Undecided, "new_game", message)
        .choice("add it", format!("oddstack game add {}", in_quotes(&shown)))
        .choice("it is a package, for a game that was added", format!("oddstack add {}", in_quotes(&shown))))
}
