//! `oddstack settle`

use std::collections::{BTreeMap, BTreeSet};

use clap::Args;
use odd_stack_core::OpenGame;
use odd_stack_core::jobs::{ChangeReport, ConflictsRequest, Ruling, SettledRow, select};
use odd_stack_core::ledger::Layer;
use odd_stack_core::stack::ContestState;
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::conflicts::contest_text;
use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::args::ChangeArgs;
use crate::errors::{Exit, Failure};
use crate::questions::{self, Answer};
use crate::session::{Session, change_options};
use crate::shell::quoted;
use crate::show::change::{edits, effects, summary, verdict};
use crate::show::style::{BOLD, DIM, NAME, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, number};

#[derive(Debug, Args)]
pub struct SettleArgs {
    /// An address, a folder, or a pattern of addresses; without any, walk through what is open
    #[arg(value_name = "ADDRESS-OR-GLOB")]
    pub at: Vec<String>,
    /// This layer wins there, even if it lies lower
    #[arg(long = "with", value_name = "LAYER", requires = "at", group = "ruling")]
    pub with: Option<String>,
    /// It is fine as it is: the upper layer wins
    #[arg(long, requires = "at", group = "ruling")]
    pub keep_order: bool,
    /// Forget what was settled there
    #[arg(long, requires = "at", group = "ruling")]
    pub clear: bool,
    #[command(flatten)]
    pub change: ChangeArgs,
}

/// What JSON tells of `settle`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct SettleReport {
    /// What is settled from now on, or no longer is, by address.
    pub settled: Vec<SettledRow>,
    /// What changes on disk.
    pub change: ChangeReport,
}

pub fn run(session: &mut Session, args: &SettleArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let layers = game.layers()?;
    let ruling = match (&args.with, args.keep_order, args.clear) {
        (Some(wanted), ..) => Some(Ruling::With(select(&layers, wanted)?.id)),
        (_, true, _) => Some(Ruling::KeepOrder),
        (_, _, true) => Some(Ruling::Clear),
        _ => None,
    };
    match ruling {
        Some(ruling) => {
            let rulings: Vec<(String, Ruling)> = args.at.iter().map(|at| (at.clone(), ruling)).collect();
            carry_out(session, &game, &rulings, &args.change)
        }
        None if args.at.is_empty() => walk(session, &game, &layers, &args.change),
        None => {
            let message = format!("say what counts at {}", args.at.join(" "));
            let mut failure = Failure::new(Exit::Usage, "no_ruling", message);
            for side in sides(&game, &args.at)? {
                failure = failure.choice(&format!("{side} wins there"), format!("--with {}", quoted(&side)));
            }
            Err(failure
                .choice("it is fine as it is", "--keep-order")
                .choice("forget what was settled there", "--clear"))
        }
    }
}

/// The layers that want different things at these addresses.
fn sides(game: &OpenGame, at: &[String]) -> Result<BTreeSet<String>, Failure> {
    let mut sides = BTreeSet::new();
    for at in at {
        let request = ConflictsRequest { at: Some(at.clone()), all: true, layer: None };
        for pair in game.conflicts(&request)?.pairs {
            if pair
                .contests
                .iter()
                .any(|contest| matches!(contest.state, ContestState::Open | ContestState::Won))
            {
                sides.extend([pair.upper, pair.lower]);
            }
        }
    }
    Ok(sides)
}

fn carry_out(
    session: &mut Session,
    game: &OpenGame,
    rulings: &[(String, Ruling)],
    args: &ChangeArgs,
) -> Result<Ended, Failure> {
    let command = match rulings {
        [(at, _)] => format!("settle {at}"),
        several => format!("settle {}", counted(several.len() as u64, "contest", "contests")),
    };
    let settling = game.settle(rulings, &command, change_options(args), args.dry_run)?;
    let rows = settling.rows;
    let most = if session.out.verbose || args.dry_run { usize::MAX } else { MOST_EFFECTS };
    let change = session.carry_out(game, settling.change, args, |out, report| {
        out.text(&format!(
            "{}{command}: {}\n{}{}",
            settled(&rows, most),
            summary(report),
            effects(report, most),
            edits(report, most)
        ));
    })?;
    let is_clear = rulings.iter().all(|(_, ruling)| *ruling == Ruling::Clear);
    let count = counted(rows.len() as u64, "address", "addresses");
    let done = if is_clear {
        format!("Nothing is settled at {count} any more.")
    } else {
        format!("Settled at {count}.")
    };
    let text = verdict(&change, &done);
    session.out.result(Some(&game.about().name), &SettleReport { settled: rows, change }, &text);
    Ok(Ended::Well)
}

fn settled(rows: &[SettledRow], most: usize) -> String {
    let lines = rows.iter().take(most).map(|row| {
        let others: Vec<&str> =
            row.sides.iter().filter(|side| **side != row.winner).map(String::as_str).collect();
        vec![
            cell(row.address.clone(), Look::Plain),
            cell(row.winner.clone(), Look::Name),
            cell(format!("over {}", others.join(", ")), Look::Dim),
        ]
    });
    let mut text = table(&[], lines.collect());
    if rows.len() > most {
        text.push_str(&paint(DIM, &format!("  ... and {} more\n", number((rows.len() - most) as u64))));
    }
    text
}

/// Asks about each open contest; one key an answer. All answers become one change.
fn walk(
    session: &mut Session,
    game: &OpenGame,
    layers: &[Layer],
    args: &ChangeArgs,
) -> Result<Ended, Failure> {
    if !session.can_ask() {
        return Err(Failure::new(
            Exit::Usage,
            "nobody_to_ask",
            "there is no terminal to ask on; say what counts: `oddstack settle ADDRESS-OR-GLOB --with LAYER`, \
             `--keep-order` or `--clear`",
        ));
    }
    let report = game.conflicts(&ConflictsRequest { all: true, ..ConflictsRequest::default() })?;
    // By address: the layers that meet there, and how each pair of them differs.
    let mut open: BTreeMap<String, (Vec<String>, String)> = BTreeMap::new();
    for pair in &report.pairs {
        for contest in pair.contests.iter().filter(|contest| contest.state == ContestState::Open) {
            let (sides, text) = open.entry(contest.address.clone()).or_default();
            for side in [&pair.upper, &pair.lower] {
                if !sides.contains(side) {
                    sides.push(side.clone());
                }
            }
            text.push_str(&format!("{} over {}\n{}", pair.upper, pair.lower, contest_text(contest, pair)));
        }
    }
    if open.is_empty() {
        session.out.text("No unresolved conflicts.\n");
        return Ok(Ended::Well);
    }
    let all = open.len();
    let mut rulings = Vec::new();
    for (number, (address, (sides, text))) in open.into_iter().enumerate() {
        let mut question = format!(
            "\n{} {}\n{text}",
            paint(BOLD, &format!("{} of {all}", number + 1)),
            paint(BOLD, &address)
        );
        for (at, side) in sides.iter().take(9).enumerate() {
            question.push_str(&format!("  {}  {} wins\n", at + 1, paint(NAME, side)));
        }
        question
            .push_str("  k  fine as it is     s  leave it open   d  done, apply   q  quit, change nothing\n");
        session.out.text(&question);
        match questions::key(sides.len().min(9))? {
            Answer::Number(at) => {
                let layer = layers.iter().find(|layer| layer.about.name == sides[at]);
                rulings.extend(layer.map(|layer| (address, Ruling::With(layer.id))));
            }
            Answer::Keep => rulings.push((address, Ruling::KeepOrder)),
            Answer::Skip => {}
            Answer::Done => break,
            Answer::Quit => {
                session.out.text("Nothing was changed.\n");
                return Ok(Ended::Well);
            }
        }
    }
    if rulings.is_empty() {
        session.out.text("Nothing was settled.\n");
        return Ok(Ended::Well);
    }
    carry_out(session, game, &rulings, args)
}
