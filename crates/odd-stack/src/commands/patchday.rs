//! `oddstack patchday ...`

use clap::{Args, Subcommand};
use odd_stack_core::expected::DriftKind;
use odd_stack_core::jobs::{ChangeReport, CheckSummary, DriftCount, Fate, FateRow, Help, PatchDayReport};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::check::{kind_word, kinds_words};
use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::args::ChangeArgs;
use crate::errors::Failure;
use crate::session::{Session, change_options};
use crate::shell::quoted;
use crate::show::change::{edits, effects, summary, verdict};
use crate::show::style::{BOLD, DIM, GOOD, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, files, layers as layers_of};

#[derive(Debug, Subcommand)]
pub enum PatchDayCommand {
    /// Lift everything and check that the game is untouched again; then update it
    Begin(ChangeArgs),
    /// Look at the updated game, take its files as its own, and lay what still fits; also after an update that you did not prepare for
    Finish(FinishArgs),
    /// Say whether a patch day is under way, and what waits
    Status,
}

impl PatchDayCommand {
    pub fn name(&self) -> &'static str {
        match self {
            Self::Begin(_) => "patchday begin",
            Self::Finish(_) => "patchday finish",
            Self::Status => "patchday status",
        }
    }
}

#[derive(Debug, Args)]
pub struct FinishArgs {
    /// The game's new version, where none of its files tells it
    #[arg(long, value_name = "V")]
    pub game_version: Option<String>,
    /// Only say what would be done
    #[arg(short = 'n', long)]
    pub dry_run: bool,
}

/// What JSON tells of `patchday begin`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct PatchDayBegun {
    /// What lifting all layers changes on disk.
    pub change: ChangeReport,
    /// The game compared with what it was, by content where that is known; none in a dry run.
    pub proof: Option<CheckSummary>,
}

/// What JSON tells of `patchday finish`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct PatchDayFinished {
    /// What was found and done.
    #[serde(flatten)]
    report: PatchDayReport,
    /// Each layer that was laid, from the top to the bottom.
    layers: Vec<LayerFate>,
}

/// What becomes of one layer.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
struct LayerFate {
    #[serde(flatten)]
    row: FateRow,
    /// What would help, as commands.
    helps: Vec<String>,
}

impl PatchDayFinished {
    fn of(mut report: PatchDayReport) -> Self {
        let fate = |row| LayerFate { helps: helps(&row), row };
        let layers = std::mem::take(&mut report.layers).into_iter().map(fate).collect();
        Self { report, layers }
    }
}

pub fn run(session: &mut Session, command: &PatchDayCommand) -> Result<Ended, Failure> {
    match command {
        PatchDayCommand::Begin(args) => begin(session, args),
        PatchDayCommand::Finish(args) => finish(session, args),
        PatchDayCommand::Status => status(session),
    }
}

fn begin(session: &mut Session, args: &ChangeArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    // The whole game is looked through when all is lifted, and must be there for that.
    game.roots_are_there()?;
    let laid = game.layers()?.iter().filter(|layer| layer.laid).count() as u64;
    let prepared = game.begin_patchday(change_options(args), args.dry_run)?;
    let most = if session.out.verbose { usize::MAX } else { 0 };
    let change = session.carry_out(&game, prepared, args, |out, report| {
        let head = format!("lifting {}: {}", layers_of(laid), summary(report));
        out.text(&format!("{head}\n{}{}", effects(report, most), edits(report, most)));
    })?;
    if args.dry_run {
        session.out.result(
            Some(&game.about().name),
            &PatchDayBegun { change, proof: None },
            &format!("{}\n", paint(BOLD, "Dry run: nothing was changed.")),
        );
        return Ok(Ended::Well);
    }
    let proof = game.check(true)?;
    // What nobody knows lies beside the game's own files and does not change them.
    let (unknown, own): (Vec<DriftCount>, Vec<DriftCount>) = proof
        .kinds
        .iter()
        .cloned()
        .partition(|count| matches!(count.of, DriftKind::BaseAdded | DriftKind::Stray));
    let is_exact = own.is_empty();
    let mut text = if is_exact {
        let all = files(proof.as_laid_files);
        let compared = files(proof.compared.files);
        let line =
            format!("The game is itself again: {all} as they were, {compared} of them proved by content.");
        format!("{}\n", paint(GOOD, &line))
    } else {
        let line = format!("All layers are off; of the game itself: {}.", kinds_words(&own));
        let rows = proof.drifted.iter().filter(|row| own.iter().any(|count| count.of == row.kind));
        let rows = rows
            .take(MOST_EFFECTS)
            .map(|row| vec![cell(kind_word(row.kind), Look::Warn), cell(row.address.clone(), Look::Plain)]);
        format!("{}\n{}", paint(WARN, &line), table(&[], rows.collect()))
    };
    if !unknown.is_empty() {
        let line = format!("Beside it lie {}; they stay.", kinds_words(&unknown));
        text.push_str(&paint(DIM, &format!("{line}\n")));
    }
    text.push_str(&format!(
        "{}\n",
        paint(BOLD, "Now update the game with its own client; then `oddstack patchday finish`.")
    ));
    session.out.result(Some(&game.about().name), &PatchDayBegun { change, proof: Some(proof) }, &text);
    if !is_exact {
        session.out.hint("The client's repair (often called \"verify\") brings these as it has them.");
    }
    Ok(Ended::Well)
}

fn status(session: &mut Session) -> Result<Ended, Failure> {
    let game = session.open()?;
    let status = game.patchday_status()?;
    let mut text = match &status.begun_at {
        None => "No patch day is under way.\n".to_owned(),
        Some(since) => {
            let waiting = layers_of(status.waiting.len() as u64);
            let mut text =
                format!("{} since {since}; {waiting} wait\n", paint(BOLD, "A patch day is under way"));
            text.extend(status.waiting.iter().rev().map(|layer| format!("  {layer}\n")));
            text
        }
    };
    let (known, now) = (status.known_version.as_deref(), status.version_now.as_deref());
    match (known, now) {
        (Some(known), Some(now)) if known != now => {
            let line = format!("The game was {known} and is {now} now: it was updated.");
            text.push_str(&format!("{}\n", paint(WARN, &line)));
        }
        (_, Some(now)) => text.push_str(&format!("The game is {now}.\n")),
        (_, None) => text.push_str("The game's version is not known.\n"),
    }
    let is_updated = known.is_some() && known != now;
    session.out.result(Some(&game.about().name), &status, &text);
    match (status.begun_at.is_some(), is_updated) {
        (true, true) | (false, true) => session.out.hint("Go on with `oddstack patchday finish`."),
        (true, false) => {
            session.out.hint("Update the game with its own client; then `oddstack patchday finish`.")
        }
        (false, false) => {}
    }
    Ok(Ended::Well)
}

fn finish(session: &mut Session, args: &FinishArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let name = game.about().name.clone();
    let stated = args.game_version.as_deref();
    let finishing = game.finish_patchday(stated, args.dry_run)?;
    let mut report = finishing.report;
    let most = if session.out.verbose { usize::MAX } else { MOST_EFFECTS };
    let change = ChangeArgs { despite: true, ..ChangeArgs::plain(args.dry_run) };
    report.change = match finishing.change {
        Some(prepared) => session.carry_out(&game, prepared, &change, |out, change| {
            out.text(&found(&report, most));
            out.text(&format!("{}\n{}", summary(change), edits(change, most)));
            out.text(&format!("{}{}", fates(&report), old_originals(&report, most)));
        })?,
        None => {
            session.out.text(&format!("{}{}", found(&report, most), fates(&report)));
            ChangeReport { dry_run: args.dry_run, ..ChangeReport::default() }
        }
    };
    let lifted = report.layers.iter().filter(|row| row.fate == Fate::Lifted).count() as u64;
    let done = match lifted {
        0 => "The stack is on the game again.".to_owned(),
        count => {
            format!("What fits is on the game; {}.", counted(count, "layer waits", "layers wait"))
        }
    };
    let is_nothing = report.change.revision.is_none() && !args.dry_run;
    let text = match is_nothing {
        true => format!(
            "{}\n",
            paint(BOLD, "Nothing to do: the game was not updated, and no patch day is under way.")
        ),
        false => verdict(&report.change, &done),
    };
    let is_left = !report.left.is_empty();
    session.out.result(Some(&name), &PatchDayFinished::of(report), &text);
    if is_left {
        session.out.hint("What was left as it is: `oddstack check`, then `oddstack mend`.");
    }
    Ok(if lifted > 0 || is_left { Ended::WantsAttention } else { Ended::Well })
}

/// What has become of the game.
fn found(report: &PatchDayReport, most: usize) -> String {
    let mut text = match (&report.version_before, &report.version_after) {
        (Some(before), Some(after)) if before != after => {
            format!("{}\n", paint(BOLD, &format!("{before} -> {after}")))
        }
        (Some(_), Some(version)) => format!("The game is {version}, as before.\n"),
        (None, Some(version)) => format!("The game is {version}; what it was before is not known.\n"),
        (_, None) => "The game's version is not known; state it with --game-version V.\n".to_owned(),
    };
    let lists = [
        ("changed", Look::Warn, &report.changed, "of the game's own with other content"),
        (
            "touched",
            Look::Plain,
            &report.touched,
            "of the game's own with another time only; whether their content changed can't be told",
        ),
        ("added", Look::Good, &report.added, "new in the game"),
        ("gone", Look::Warn, &report.gone, "no longer in the game"),
        (
            "put back",
            Look::Warn,
            &report.put_back,
            "of layers that were missing, or that the client had put its own in place of: there again",
        ),
        (
            "kept",
            Look::Good,
            &report.kept,
            "of settings that you or the game changed: kept as edits of your own",
        ),
        ("left", Look::Warn, &report.left, "left as on disk"),
    ];
    for (word, look, list, says) in lists.into_iter().filter(|(_, _, list, _)| !list.is_empty()) {
        let folders = list.iter().filter(|address| address.ends_with('/')).count();
        let and = match folders {
            0 => String::new(),
            count => format!(" and {}", counted(count as u64, "folder", "folders")),
        };
        text.push_str(&format!("  {}{and} {says}\n", files((list.len() - folders) as u64)));
        let rows =
            list.iter().take(most).map(|address| vec![cell(word, look), cell(address.clone(), Look::Plain)]);
        text.push_str(&table(&[], rows.collect()));
        if list.len() > most {
            text.push_str(&paint(DIM, &format!("  ... and {} more (-v lists all)\n", list.len() - most)));
        }
    }
    text
}

/// The commands that would help.
fn helps(row: &FateRow) -> Vec<String> {
    let Some(Help::Lay { despite }) = row.help else { return Vec::new() };
    let despite = if despite { " --despite" } else { "" };
    vec![format!("oddstack lay {}{despite}", quoted(&row.layer))]
}

fn fates(report: &PatchDayReport) -> String {
    let row = |row: &FateRow| {
        let look = if row.fate == Fate::Laid { Look::Good } else { Look::Warn };
        let version = row.version.clone().unwrap_or_default();
        let fate = if row.fate == Fate::Laid { "laid" } else { "waits" };
        vec![
            cell(fate, look),
            cell(row.layer.clone(), Look::Name),
            cell(version, Look::Plain),
            cell(row.reasons.join("; "), Look::Dim),
        ]
    };
    let mut text = table(&[], report.layers.iter().map(row).collect());
    let lifted: Vec<&FateRow> = report.layers.iter().filter(|row| row.fate == Fate::Lifted).collect();
    if !lifted.is_empty() {
        text.push_str("What would help, where there is no version for this game yet (`oddstack upgrade LAYER PACKAGE`):\n");
        for row in lifted {
            text.push_str(&format!("  {}: {}\n", row.layer, helps(row).join(", or ")));
        }
    }
    text
}

fn old_originals(report: &PatchDayReport, most: usize) -> String {
    if report.originals_old.is_empty() {
        return String::new();
    }
    let count =
        counted(report.originals_old.len() as u64, "file that a layer covers", "files that layers cover");
    let line = format!(
        "The client could not see {count}: what the game itself has there is of before the update.\n\
         To have all of the update: `oddstack patchday begin`, the client's repair, `oddstack patchday finish`."
    );
    let mut text = format!("{}\n", paint(WARN, &line));
    text.extend(report.originals_old.iter().take(most).map(|address| format!("  {address}\n")));
    if report.originals_old.len() > most {
        let more = report.originals_old.len() - most;
        text.push_str(&paint(DIM, &format!("  ... and {more} more (-v lists all)\n")));
    }
    text
}
