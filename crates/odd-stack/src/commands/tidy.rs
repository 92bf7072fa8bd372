//! `oddstack tidy`

use clap::Args;
use odd_stack_core::jobs::{Count, TidyReport, TidyRequest, VerifyReport};
use odd_stack_core::{Moment, OpenGame};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::check::{renewing, stored_text};
use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::args::how_many;
use crate::errors::{Exit, Failure};
use crate::questions::confirm;
use crate::session::Session;
use crate::show::style::{BOLD, DIM, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::time;
use crate::show::units::{counted, files, layers, size};

#[derive(Debug, Args)]
#[command(after_help = "oddstack tidy                  what the ledger uses, and by which layer\n\
                  oddstack tidy --keep 20 -n     what would go if only the last 20 changes could be undone\n\
                  oddstack tidy --older 30d      drop what only changes of more than 30 days ago need\n\
                  oddstack tidy --verify         read all that is stored, and compare it with its hashes")]
pub struct TidyArgs {
    /// Keep what it takes to undo this many of the last changes; older ones can't be undone any more
    #[arg(long, value_name = "N", group = "cut", value_parser = how_many)]
    pub keep: Option<u64>,
    /// Drop what only older changes need: 30d, 12h, 2w, or a time as in `oddstack rewind`. With --keep, what either keeps is kept
    #[arg(long, value_name = "AGE", group = "cut")]
    pub older: Option<String>,
    /// Also delete the edited files that those changes saved
    #[arg(long, requires = "cut")]
    pub edits: bool,
    /// Read everything that is stored and compare it with its hashes; nothing is dropped
    #[arg(long, conflicts_with_all = ["keep", "older", "edits"])]
    pub verify: bool,
    /// Only say what would go
    #[arg(short = 'n', long)]
    pub dry_run: bool,
}

/// What JSON tells.
#[derive(Debug, Default, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct TidyAnswer {
    /// What the ledger uses, and what went of it.
    pub used: Option<TidyReport>,
    /// What reading everything told, where that was asked for.
    pub verified: Option<VerifyReport>,
}

pub fn run(session: &mut Session, args: &TidyArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    if args.verify {
        return verify(session, &game);
    }
    let since = args.older.as_deref().map(|text| since(session, text)).transpose()?;
    let mut request = TidyRequest { keep: args.keep, since, edits: args.edits, dry_run: true };
    let mut report = game.tidy(&request)?;
    let mut text = used(&game.about().name, &report, session.out.verbose);
    if !args.dry_run {
        let is_asked = session.can_ask() && (!report.forgotten.is_empty() || report.edits_go.files > 0);
        if is_asked {
            session.out.text(&format!("{text}{}", what_goes(&report)));
            text.clear();
            if !confirm("Drop it? It can't be recovered.", false)? {
                return Err(Failure::new(Exit::Failed, "declined", "nothing was dropped"));
            }
        }
        request.dry_run = false;
        report = game.tidy(&request)?;
    }
    text.push_str(&what_goes(&report));
    let hint = (args.keep.is_none() && args.older.is_none() && report.history.files > 0).then_some(
        "`oddstack tidy --keep 20 -n` says what would go if only the last 20 changes could be undone; `oddstack mark NAME` \
         names a state, which is never dropped.",
    );
    let answer = TidyAnswer { used: Some(report), verified: None };
    session.out.result(Some(&game.about().name), &answer, &text);
    if let Some(hint) = hint {
        session.out.hint(hint);
    }
    Ok(Ended::Well)
}

/// The time from which on changes are kept.
fn since(session: &Session, text: &str) -> Result<Moment, Failure> {
    let now = session.door.now().to_string();
    let read = time::ago(text, &now).or_else(|| time::read(text, &now));
    read.and_then(|time| Moment::parse(&time).ok()).ok_or_else(|| {
        Failure::new(
            Exit::Usage,
            "bad_time",
            format!("`{text}` is neither an age like 30d, 12h or 2w nor a time like `yesterday 18:00` or 2026-11-28"),
        )
    })
}

/// Files and their size, or nothing.
fn amount(count: Count) -> Option<String> {
    (count.files > 0).then(|| format!("{}, {}", files(count.files), size(count.bytes)))
}

fn used(game: &str, report: &TidyReport, verbose: bool) -> String {
    let counts = [report.stack, report.history, report.originals, report.kept_edits];
    let left_behind = report.left_behind_bytes > 0;
    let all = counts.iter().map(|count| count.bytes).sum::<u64>()
        + report.catalogue_bytes
        + report.left_behind_bytes;
    let mut text = format!("{} uses {}:\n", paint(BOLD, &format!("The ledger of {game}")), size(all));
    let [stack, history, originals, edits] = counts.map(amount);
    let rows = [
        ("layers of the stack", stack),
        ("removed and replaced layers, which going back needs", history),
        ("the game's own files beneath layers", originals),
        ("edited files that were saved", edits),
        (
            "left behind where files went that lay together",
            left_behind.then(|| size(report.left_behind_bytes)),
        ),
        ("the catalogue and its second copy", Some(size(report.catalogue_bytes))),
    ];
    let rows = rows.into_iter().filter_map(|(what, amount)| {
        amount.map(|amount| vec![cell(what, Look::Plain), cell(amount, Look::Dim)])
    });
    text.push_str(&table(&[], rows.collect()));
    if report.shared.files > 0 {
        let (count, bytes) = (files(report.shared.files), size(report.shared.bytes));
        let (verb, they, take) = match report.shared.files {
            1 => ("is one with a file", "it", "takes"),
            _ => ("are one with files", "they", "take"),
        };
        let line = format!("  {count} of it, {bytes}, {verb} in the game: {they} {take} room once\n");
        text.push_str(&paint(DIM, &line));
    }
    if report.layers.is_empty() {
        return text;
    }
    let most = if verbose { usize::MAX } else { MOST_EFFECTS };
    let header = [("layer", Look::Plain), ("stored", Look::Right), ("only its own", Look::Right)];
    let rows = report.layers.iter().take(most).map(|layer| {
        let name = [Some(layer.name.clone()), layer.version.clone()];
        let name = name.into_iter().flatten().collect::<Vec<_>>().join(" ");
        vec![
            cell(name, Look::Name),
            cell(size(layer.bytes), Look::Right),
            cell(size(layer.own_bytes), Look::Right),
        ]
    });
    text.push_str(&table(&header, rows.collect()));
    if report.layers.len() > most {
        let more = format!("  ... and {} more (-v lists all)\n", report.layers.len() - most);
        text.push_str(&paint(DIM, &more));
    }
    text
}

/// What goes, or went.
fn what_goes(report: &TidyReport) -> String {
    let mut text = what_goes_now(report);
    if report.left_behind_bytes > 0 {
        let would = if report.dry_run { "Would free" } else { "Freed" };
        let bytes = size(report.left_behind_bytes);
        text.push_str(&format!("{would} {bytes} that were left behind.\n"));
    }
    text
}

fn what_goes_now(report: &TidyReport) -> String {
    let Count { files: goes, bytes } = report.goes;
    let is_cut = report.oldest > 0;
    if goes == 0 && report.edits_go.files == 0 && report.forgotten.is_empty() {
        return match &report.held_by {
            Some(name) => format!("Nothing to drop: the state `{name}` needs what older changes left.\n"),
            None => {
                "Nothing to drop: the stack, or a change that can be undone, needs all of it.\n".to_owned()
            }
        };
    }
    let would = if report.dry_run { "Would drop" } else { "Dropped" };
    let mut text = format!("{would} {}, {}", files(goes), size(bytes));
    if !report.forgotten.is_empty() {
        let count = layers(report.forgotten.len() as u64);
        text.push_str(&format!(", of {count} no longer in the stack: {}", report.forgotten.join(", ")));
    }
    text.push('\n');
    if report.edits_go.files > 0 {
        let edits = counted(report.edits_go.files, "saved edit", "saved edits");
        text.push_str(&format!("{would} {edits}, {}\n", size(report.edits_go.bytes)));
    }
    if is_cut {
        let can = if report.dry_run { "could" } else { "can" };
        text.push_str(&format!("All states from revision {} on {can} still come back", report.oldest));
        if let Some(name) = &report.held_by {
            text.push_str(&format!(" (the state `{name}` keeps those older than you asked for)"));
        }
        text.push_str(".\n");
    }
    text
}

fn verify(session: &mut Session, game: &OpenGame) -> Result<Ended, Failure> {
    let report = game.verify_stored()?;
    let most = if session.out.verbose { usize::MAX } else { MOST_EFFECTS };
    let mut text = match report.stored.contents + report.stored.originals + report.history.files {
        0 => "The ledger stores nothing yet.\n".to_owned(),
        _ => stored_text(&report.stored, most),
    };
    if let Some(amount) = amount(report.history) {
        let state = if report.history_damaged.is_empty() { ": all whole" } else { "" };
        text.push_str(&paint(DIM, &format!("{amount} of removed layers compared by content{state}\n")));
    }
    if !report.history_damaged.is_empty() {
        let lost = report.history_damaged.join(", ");
        text.push_str(&paint(
            WARN,
            &format!("Can't come back by `undo` or `rewind`, contents are lost: {lost}\n"),
        ));
    }
    let hint = (!report.stored.damaged.is_empty()).then(|| renewing(&report.stored.damaged));
    let is_damaged = hint.is_some() || !report.history_damaged.is_empty();
    let answer = TidyAnswer { used: None, verified: Some(report) };
    session.out.result(Some(&game.about().name), &answer, &text);
    if let Some(hint) = hint {
        session.out.hint(&hint);
    }
    Ok(if is_damaged { Ended::Damaged } else { Ended::Well })
}
