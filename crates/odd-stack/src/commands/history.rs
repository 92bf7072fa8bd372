//! `oddstack history`

use clap::Args;
use odd_stack_core::OpenGame;
use odd_stack_core::jobs::{FileDifference, HistoryDifference, HistoryReport, LayersDifference, RevisionRow};

use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::args::how_many;
use crate::errors::{Exit, Failure};
use crate::session::Session;
use crate::show::style::{BOLD, DIM, paint};
use crate::show::table::{Look, cell, table};
use crate::show::time::local;
use crate::show::units::{counted, number};

#[derive(Debug, Args)]
pub struct HistoryArgs {
    /// How many changes to show, the last first
    #[arg(long, value_name = "N", default_value = "20", conflicts_with = "all", value_parser = how_many)]
    pub last: u64,
    /// Show all changes
    #[arg(long)]
    pub all: bool,
    /// How the stack differs after two revisions, each a number or a name
    #[arg(long, num_args = 2, value_names = ["A", "B"])]
    pub diff: Option<Vec<String>>,
}

pub fn run(session: &mut Session, args: &HistoryArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let name = game.about().name.clone();
    if let Some([from, to]) = args.diff.as_deref() {
        let (from, to) = (revision_meant(&game, from)?, revision_meant(&game, to)?);
        let difference = game.history_difference(from, to)?;
        let most = if args.all || session.out.verbose { usize::MAX } else { MOST_EFFECTS };
        session.out.result(Some(&name), &difference, &difference_text(&difference, most));
        return Ok(Ended::Well);
    }
    let report = game.history()?;
    let most = if args.all || session.out.verbose {
        usize::MAX
    } else {
        usize::try_from(args.last).unwrap_or(usize::MAX)
    };
    session.out.result(Some(&name), &report, &text(&report, most));
    if report.can_undo > 0 {
        let again = if report.can_redo { ", `oddstack redo` does again what was taken back" } else { "" };
        session.out.hint(&format!(
            "`oddstack undo` takes the last change back{again}; `oddstack rewind N` goes to any of these."
        ));
    }
    Ok(Ended::Well)
}

/// The revision that a number or a name stands for.
pub fn revision_meant(game: &OpenGame, text: &str) -> Result<i64, Failure> {
    if let Ok(revision) = text.parse() {
        return Ok(revision);
    }
    let history = game.history()?;
    let of_name = |names: &[String]| names.iter().any(|name| name.eq_ignore_ascii_case(text));
    if of_name(&history.names_of_the_beginning) {
        return Ok(0);
    }
    let found = history.revisions.iter().find(|row| of_name(&row.names));
    found.map(|row| row.number).ok_or_else(|| {
        Failure::new(
            Exit::Failed,
            "no_such_state",
            format!("`{text}` is neither a revision nor a name of a state"),
        )
        .choice("the revisions and names that there are", "oddstack history")
    })
}

fn text(report: &HistoryReport, most: usize) -> String {
    if report.revisions.is_empty() {
        return "Nothing has been done yet.\n".to_owned();
    }
    let header = [
        ("#", Look::Right),
        ("when", Look::Plain),
        ("what", Look::Plain),
        ("files", Look::Plain),
        ("note", Look::Plain),
    ];
    let rows = report.revisions.iter().take(most).map(row);
    let mut text = table(&header, rows.collect());
    if report.revisions.len() > most {
        let more = number((report.revisions.len() - most) as u64);
        text.push_str(&paint(DIM, &format!("  ... and {more} more (--all lists them)\n")));
    }
    if report.present == 0 {
        text.push_str(&paint(BOLD, "The stack is as it was before all of these.\n"));
    }
    text
}

fn row(row: &RevisionRow) -> Vec<comfy_table::Cell> {
    let mut notes = Vec::new();
    if row.is_present {
        notes.push("the stack is so now".to_owned());
    }
    if let Some(restores) = row.restores.filter(|_| !row.command.starts_with("culprit: try")) {
        notes.push(match restores {
            0 => "back to the beginning".to_owned(),
            revision => format!("back to {revision}"),
        });
    }
    if row.is_tidied {
        notes.push("tidied away".to_owned());
    }
    notes.extend(row.names.iter().map(|name| format!("\"{name}\"")));
    vec![
        cell(row.number.to_string(), Look::Right),
        cell(local(&row.made_at), Look::Dim),
        cell(row.command.clone(), if row.is_present { Look::Good } else { Look::Plain }),
        cell(files_words(row), Look::Dim),
        cell(notes.join(", "), Look::Name),
    ]
}

/// `+3 ~1 -2`: added, overwritten or restored, deleted.
fn files_words(row: &RevisionRow) -> String {
    let Some(did) = row.did else { return String::new() };
    let parts = [("+", did.added), ("~", did.overwritten + did.restored), ("-", did.deleted)];
    let some = parts.iter().filter(|(_, count)| *count > 0);
    some.map(|(sign, count)| format!("{sign}{}", number(*count))).collect::<Vec<_>>().join(" ")
}

fn difference_text(difference: &HistoryDifference, most: usize) -> String {
    let head = paint(BOLD, &format!("From {} to {}:", difference.from, difference.to));
    let layers = stacks_difference(&difference.layers, difference.settled_files);
    format!("{head}\n{layers}{}", files_difference(difference.files.as_deref(), most))
}

/// How two stacks differ, by layers and by what is settled.
pub fn stacks_difference(layers: &LayersDifference, settled_files: u64) -> String {
    let mut text = layers_difference(layers);
    if settled_files > 0 {
        let count = counted(settled_files, "address is", "addresses are");
        text.push_str(&format!("  {count} settled differently\n"));
    }
    if text.is_empty() {
        text.push_str("  no difference\n");
    }
    text
}

/// Addresses at which something else counts, one a line.
pub fn files_difference(found: Option<&[FileDifference]>, most: usize) -> String {
    let Some(found) = found else {
        return paint(DIM, "  which files differ can't be told: what a layer had was tidied away\n");
    };
    if found.is_empty() {
        return String::new();
    }
    let mut text = format!("  {}:\n", counted(found.len() as u64, "file differs", "files differ"));
    let side = |layer: &Option<String>| layer.clone().unwrap_or_else(|| "no layer".to_owned());
    let rows = found.iter().take(most).map(|file| {
        let sides = match file.from == file.to && file.is_merged {
            true => format!("merged differently, {} uppermost", side(&file.to)),
            false => format!("{} -> {}", side(&file.from), side(&file.to)),
        };
        vec![cell(format!("  {}", file.address), Look::Plain), cell(sides, Look::Dim)]
    });
    text.push_str(&table(&[], rows.collect()));
    if found.len() > most {
        let more = number((found.len() - most) as u64);
        text.push_str(&paint(DIM, &format!("    ... and {more} more (-v lists all)\n")));
    }
    text
}

/// How layers differ, a line for each kind of difference.
pub fn layers_difference(difference: &LayersDifference) -> String {
    let mut text = String::new();
    let mut line = |what: &str, names: &[String]| {
        if !names.is_empty() {
            text.push_str(&format!("  {what:<9} {}\n", names.join(", ")));
        }
    };
    let version = |version: &Option<String>| version.clone().unwrap_or_else(|| "no version".to_owned());
    let replaced = difference.replaced.iter();
    let replaced: Vec<String> =
        replaced.map(|it| format!("{} ({} to {})", it.name, version(&it.from), version(&it.to))).collect();
    line("added", &difference.came);
    line("removed", &difference.went);
    line("replaced", &replaced);
    line("laid", &difference.laid);
    line("lifted", &difference.lifted);
    line("moved", &difference.moved);
    text
}
