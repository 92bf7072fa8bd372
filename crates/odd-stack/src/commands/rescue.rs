//! `oddstack rescue`

use std::path::{Path, PathBuf};

use clap::Args;
use odd_stack_core::jobs::{Condition, RescueDone, RescueReport, RescueRequest};
use odd_stack_core::ledger::{GameMark, LedgerError};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::check::state_word;
use super::check::{damage_table, renewing};
use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::errors::{Exit, Failure};
use crate::questions::confirm;
use crate::session::{Session, absolute};
use crate::show::style::{BOLD, DIM, GOOD, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{files, number};

#[derive(Debug, Args)]
#[command(
    after_help = "Without anything it looks at the chosen game, and finds games again that the list has lost."
)]
pub struct RescueArgs {
    /// A game's name, the folder of its ledger, or the game's own folder
    #[arg(value_name = "GAME-OR-FOLDER")]
    pub target: Option<String>,
    /// Copy the game's own files that the ledger holds into this folder, by their names, and change nothing else
    #[arg(long, value_name = "DIR")]
    pub to: Option<PathBuf>,
    /// Put the game's own files back into the game even if the catalogue can be had again; the game is then removed from Odd Stack
    #[arg(long, conflicts_with = "to")]
    pub put_back: bool,
    /// Only say what would be done
    #[arg(short = 'n', long)]
    pub dry_run: bool,
}

/// What JSON tells of `rescue`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct RescueAnswer {
    /// Games that came into the list again, since it had lost them.
    pub listed: Vec<String>,
    /// What was found of one ledger, and done.
    pub rescued: Option<RescueReport>,
}

pub fn run(session: &mut Session, args: &RescueArgs) -> Result<Ended, Failure> {
    let listed = match args.target {
        Some(_) => Vec::new(),
        None => session.door.list_again(args.dry_run)?,
    };
    let mut text = String::new();
    if !listed.is_empty() {
        let would = if args.dry_run { "would come" } else { "came" };
        text.push_str(&format!("{} {would} into the list of games again.\n", listed.join(", ")));
    }
    let Some(target) = target(session, args, !listed.is_empty())? else {
        session.out.result(None, &RescueAnswer { listed, rescued: None }, &text);
        session.out.hint("`oddstack rescue NAME` looks at one of them closely.");
        return Ok(Ended::Well);
    };
    let to = args.to.as_deref().map(absolute).transpose()?;
    let request = RescueRequest { target, to, put_back: args.put_back, dry_run: args.dry_run };
    let can_ask = session.can_ask();
    let Session { out, door, .. } = &mut *session;
    let mut agrees = |would: &RescueReport| {
        !can_ask || {
            out.text(&told(would, out.verbose));
            // No answer is none.
            confirm("Put them back? What lies there is saved.", true).unwrap_or(false)
        }
    };
    let report = door.rescue(&request, &mut agrees)?;
    text.push_str(&told(&report, session.out.verbose));
    let is_lost = !report.damaged.is_empty() || report.originals.iter().any(|file| file.put_to.is_none());
    let hints = hints(&report);
    session.out.result(
        report.game.clone().as_deref(),
        &RescueAnswer { listed, rescued: Some(report) },
        &text,
    );
    for hint in hints {
        session.out.hint(&hint);
    }
    Ok(if is_lost { Ended::Damaged } else { Ended::Well })
}

/// What is to be looked at; nothing where several games were found again and none was named.
fn target(session: &Session, args: &RescueArgs, has_listed: bool) -> Result<Option<String>, Failure> {
    if let Some(target) = &args.target {
        return Ok(Some(target.clone()));
    }
    let mut here = std::env::current_dir().unwrap_or_default();
    if !session.names_a_game() {
        loop {
            if GameMark::read(&here).is_some()
                && session.door.ledger_meant(&here.display().to_string()).is_ok()
            {
                return Ok(Some(here.display().to_string()));
            }
            if !here.pop() {
                break;
            }
        }
    }
    match session.choose_game(None) {
        Ok(game) => Ok(Some(game.ledger.display().to_string())),
        Err(failure) if failure.code == "which_game" && has_listed => Ok(None),
        Err(failure) if failure.code == "no_games" => Err(Failure::new(
            Exit::Failed,
            "nothing_to_rescue",
            "no game has been added, and no ledger was found in the data home; give the folder of a ledger, or of the game: \
             `oddstack rescue FOLDER`",
        )),
        Err(failure) => Err(failure),
    }
}

fn condition(condition: Condition) -> String {
    let (word, style) = match condition {
        Condition::Whole => ("whole", GOOD),
        Condition::Damaged => ("damaged", WARN),
        Condition::Missing => ("missing", WARN),
        Condition::TooNew => ("made by a newer Odd Stack", WARN),
    };
    paint(style, word)
}

fn told(report: &RescueReport, verbose: bool) -> String {
    let most = if verbose { usize::MAX } else { MOST_EFFECTS };
    let game = report.game.as_deref().unwrap_or("a game whose name is lost");
    let mut text = format!("{}  {}\n", paint(BOLD, game), paint(DIM, &report.ledger));
    text.push_str(&format!(
        "  the catalogue is {}, its second copy {}; the list beside them names {} of the game's own\n",
        condition(report.catalogue),
        condition(report.second),
        files(report.names)
    ));
    let is_dry = report.dry_run;
    match report.done {
        RescueDone::Nothing => {}
        RescueDone::Rebuilt => {
            let done = if is_dry { "would take" } else { "took" };
            text.push_str(&format!("  the second copy {done} the catalogue's place\n"));
            if let Some(aside) = &report.set_aside {
                text.push_str(&format!("  the damaged one is kept at {aside}\n"));
            }
        }
        RescueDone::PutBack | RescueDone::Copied => {
            let back = report.originals.iter().filter(|file| file.put_to.is_some()).count() as u64;
            let verb = match (report.done, is_dry) {
                (RescueDone::Copied, false) => "copied, by their names",
                (RescueDone::Copied, true) => "would be copied, by their names",
                (_, false) => "back in the game; what lay there is saved in the ledger",
                (_, true) => "would come back into the game",
            };
            text.push_str(&format!("  {} {verb}\n", files(back)));
            let rows = report.originals.iter().take(most).map(|file| {
                let look = if file.put_to.is_some() { Look::Good } else { Look::Warn };
                let place = file.put_to.clone().unwrap_or_default();
                vec![
                    cell(state_word(file.state), look),
                    cell(file.address.clone(), Look::Plain),
                    cell(place, Look::Dim),
                ]
            });
            text.push_str(&table(&[], rows.collect()));
            if report.originals.len() > most {
                text.push_str(&format!("  ... and {} more (-v lists all)\n", report.originals.len() - most));
            }
        }
    }
    if report.listed_again {
        text.push_str("  the list of games has it again\n");
    }
    match report.stored {
        Some((contents, originals)) if report.damaged.is_empty() => text.push_str(&format!(
            "  {} of layers and {} of the game's own in the ledger are whole\n",
            files(contents),
            number(originals)
        )),
        Some(_) => {
            let head = format!("  {} in the ledger lost:\n", files(report.damaged.len() as u64));
            text.push_str(&paint(WARN, &head));
            text.push_str(&damage_table(&report.damaged, most));
        }
        None => {}
    }
    text
}

fn hints(report: &RescueReport) -> Vec<String> {
    let mut hints = Vec::new();
    match report.done {
        RescueDone::Rebuilt if !report.dry_run => {
            hints.push("`oddstack check --deep` tells whether the game is what the stack says.".to_owned());
        }
        RescueDone::PutBack if !report.dry_run => hints.push(
            "The game is no longer in the list, and files that layers only added are still there: let the game's client \
             check its files, then `oddstack game add NAME FOLDER --afresh`."
                .to_owned(),
        ),
        _ => {}
    }
    if !report.damaged.is_empty() {
        hints.push(renewing(&report.damaged));
    }
    hints
}

/// The next step where a ledger can't be used.
pub fn next_step(error: &LedgerError) -> Option<(String, String)> {
    let folder: &Path = match error {
        LedgerError::Damaged { folder, .. } | LedgerError::Missing { folder } => folder,
        LedgerError::Registry { .. } => {
            return Some(("find the games again by their ledgers".to_owned(), "oddstack rescue".to_owned()));
        }
        _ => return None,
    };
    folder.is_dir().then(|| {
        let option = format!("oddstack rescue {}", crate::shell::in_quotes(&folder.display().to_string()));
        ("say what is whole, and rebuild what can be rebuilt".to_owned(), option)
    })
}
