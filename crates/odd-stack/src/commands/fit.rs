//! `oddstack fit`

use std::path::{Path, PathBuf};

use clap::Args;
use odd_stack_core::fit::{Rank, SHEET_NAME};
use odd_stack_core::jobs::{DraftReport, SheetCheck, TriedRow};

use crate::Ended;
use crate::args::PlaceArgs;
use crate::errors::{Exit, Failure};
use crate::session::{Session, absolute};
use crate::show::about::left_out_words;
use crate::show::safe::{self, one_line};
use crate::show::style::{BOLD, GOOD, WARN, paint};
use crate::show::units::{counted, files};

#[derive(Debug, Args)]
pub struct FitArgs {
    /// A folder or an archive; with --check also a fit sheet, else the one in the current folder
    #[arg(value_name = "PACKAGE", required_unless_present = "check")]
    pub package: Option<PathBuf>,
    /// Check the fit sheet instead: its form, its addresses, and that all it names is in the package
    #[arg(long)]
    pub check: bool,
    #[command(flatten)]
    pub place: PlaceArgs,
}

pub fn run(session: &mut Session, args: &FitArgs) -> Result<Ended, Failure> {
    match &args.package {
        Some(package) if !args.check => write_down(session, package, args),
        package => check(session, package.as_deref(), args),
    }
}

fn write_down(session: &mut Session, package: &Path, args: &FitArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let (wanted, limits) = (args.place.wanted(Some(game.about()), Rank::Option, None)?, args.place.limits()?);
    let report = game.draft_sheet(&absolute(package)?, &wanted, &limits)?;
    let text = sheet_text(&report)?;
    session.out.result(Some(&game.about().name), &report, &text);
    Ok(Ended::Well)
}

/// The sheet with what speaks for each place above it.
fn sheet_text(report: &DraftReport) -> Result<String, Failure> {
    let sheet = toml::to_string(&report.sheet).map_err(|error| {
        Failure::new(Exit::Failed, "fit_not_written", format!("the fit can't be written down: {error}"))
    })?;
    let mut text = String::from(
        "# Where the files of this package go. Edit it, put it into the package or give it with --fit.\n",
    );
    let mut evidence = report.evidence.iter();
    for line in sheet.lines() {
        if line == "[[place]]"
            && let Some(words) = evidence.next().and_then(Option::as_ref)
        {
            text.push_str(&format!("# {}\n", one_line(words)));
        }
        text.push_str(&safe::toml(line));
        text.push('\n');
    }
    Ok(text)
}

fn check(session: &mut Session, package: Option<&Path>, args: &FitArgs) -> Result<Ended, Failure> {
    let path = absolute(package.unwrap_or_else(|| Path::new(SHEET_NAME)))?;
    if !path.exists() {
        let message = format!("there is no {}; give the sheet or its package", path.display());
        return Err(Failure::new(Exit::Failed, "fit_sheet_missing", message));
    }
    let game = match session.choose_game(None) {
        Ok(game) => Some(session.open_game(&game)?),
        Err(failure) if failure.code == "no_games" || failure.code == "which_game" => None,
        Err(failure) => return Err(failure),
    };
    let given = args.place.fit.as_deref().map(absolute).transpose()?;
    let limits = args.place.limits()?;
    let report = session.door.check_sheet(game.as_ref(), &path, given.as_deref(), &limits)?;
    let game = game.as_ref().map(|game| game.about().name.clone());
    session.out.result(game.as_deref(), &report, &check_text(&report));
    if game.is_none() {
        session.out.hint("No game was chosen (--game NAME), so addresses and placements were not tried.");
    }
    let is_missing = report.tried.iter().any(|row| !row.missing.is_empty());
    Ok(if is_missing { Ended::WantsAttention } else { Ended::Well })
}

fn check_text(report: &SheetCheck) -> String {
    let mut parts = vec![counted(report.places, "place", "places")];
    for (id, options) in &report.choices {
        parts.push(format!("a choice {id} ({})", options.join(", ")));
    }
    parts.extend(report.parts.iter().map(|id| format!("a part {id}")));
    let mut text = format!("{} {}\n", paint(GOOD, "The fit sheet is right:"), parts.join(", "));
    for row in &report.tried {
        text.push_str(&tried(row));
    }
    text
}

fn tried(row: &TriedRow) -> String {
    let chosen: Vec<String> = row.chosen.iter().map(|(id, option)| format!("{id}={option}")).collect();
    let with = if chosen.is_empty() { "as it is".to_owned() } else { chosen.join(" ") };
    let mut line = format!("  {}: {} placed", paint(BOLD, &with), files(row.placed_files));
    for count in &row.left_out {
        line.push_str(&format!(", {} left out ({})", count.files, left_out_words(count.reason)));
    }
    line.push('\n');
    for missing in &row.missing {
        line.push_str(&format!("    {}\n", paint(WARN, missing)));
    }
    line
}
