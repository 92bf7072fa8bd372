//! `oddstack check`

use clap::Args;
use odd_stack_core::disk::check;
use odd_stack_core::jobs::{CheckSummary, check_report, proofs};

use super::play::proof_rows;
use crate::Ended;
use crate::desk::Desk;
use crate::errors::Failure;
use crate::show::style::{BOLD, DIM, GOOD, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{files, size};

#[derive(Debug, Args)]
pub struct CheckArgs {
    /// Compare contents, not only sizes and times
    #[arg(long)]
    pub deep: bool,
    /// Also say whether one sees that layers work, as far as their fit sheets say how
    #[arg(long)]
    pub proofs: bool,
}

/// Drifted files that are listed before the rest is folded.
const MOST_FILES: usize = 40;

pub fn run(desk: &mut Desk, args: &CheckArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    let found = check(&ledger, args.deep, &desk.progress)?;
    let mut report = check_report(&ledger, &found, args.deep)?;
    let most = if desk.out.verbose { usize::MAX } else { MOST_FILES };
    let mut text = text(&report, most);
    if args.proofs {
        let found = proofs(&ledger)?;
        text.push_str(&proof_rows(&found));
        if found.is_empty() {
            text.push_str("No laid layer says how one sees that it works.\n");
        }
        report.proofs = Some(found);
    }
    desk.out.result(Some(&ledger.game().name), &report, &text);
    let is_proved = report.proofs.iter().flatten().all(|proof| proof.holds);
    if report.drifted.is_empty() {
        return Ok(if is_proved { Ended::Well } else { Ended::WantsAttention });
    }
    for hint in hints(&report) {
        desk.out.hint(&hint);
    }
    Ok(Ended::WantsAttention)
}

/// What can be done about what was found.
fn hints(report: &CheckSummary) -> Vec<String> {
    let has = |kinds: &[&str]| report.drifted.iter().any(|row| kinds.contains(&row.kind.as_str()));
    let mut hints = Vec::new();
    if let Some(update) = &report.update {
        let what = match (&update.known_version, &update.version_now) {
            (Some(known), Some(now)) if known != now => format!("the game is {now} now and was {known}"),
            _ => format!("{} of the game's own changed", files(update.base_changed_files)),
        };
        hints.push(format!(
            "An update of the game, it seems: {what}. `oddstack patchday finish` takes its files as the game's own\n\
             and lays again what still fits."
        ));
    } else if has(&["edited", "missing", "put_back"]) {
        hints.push(
            "`oddstack mend` goes through them; `oddstack mend --restore` puts layers' files again as the stack has \
             them,\n`--keep` keeps your versions as edits of your own, `--accept` takes them as the game's own."
                .to_owned(),
        );
    } else if has(&["base_changed", "base_added", "base_gone", "stray"]) {
        hints.push(
            "`oddstack mend ADDRESS --accept` takes what lies there as the game's own; `oddstack mend` goes through \
             them."
                .to_owned(),
        );
    }
    if !report.volatile_proposals.is_empty() {
        let options: Vec<String> =
            report.volatile_proposals.iter().map(|glob| format!("--volatile \"{glob}\"")).collect();
        hints.push(format!(
            "Some of it the game seems to write by itself; to have that left alone:\n  oddstack game set {}",
            options.join(" ")
        ));
    }
    hints
}

fn text(report: &CheckSummary, most: usize) -> String {
    let how = match report.deep {
        false => "compared by size and time; --deep compares contents".to_owned(),
        true => {
            let by_time = report.as_laid_files.saturating_sub(report.compared.files);
            let rest = match by_time {
                0 => String::new(),
                count => format!("; {} of the game itself, never covered, by size and time", files(count)),
            };
            format!(
                "{} compared by content, {}{rest}",
                files(report.compared.files),
                size(report.compared.bytes)
            )
        }
    };
    let fine = format!("{} as laid", files(report.as_laid_files));
    let mut text = format!("{}  {}\n", paint(GOOD, &fine), paint(DIM, &format!("({how})")));
    if report.volatile_files > 0 {
        let line = format!("{} left alone where the game writes by itself\n", files(report.volatile_files));
        text.push_str(&paint(DIM, &line));
    }
    if report.drifted.is_empty() {
        text.push_str(&format!("{}\n", paint(BOLD, "Nothing drifted: the game is what the stack says.")));
        return text;
    }
    let count = files(report.drifted.len() as u64);
    text.push_str(&format!("{}\n", paint(WARN, &format!("{count} drifted:"))));
    let rows = report.drifted.iter().take(most).map(|row| {
        let kind = match row.kind.as_str() {
            "put_back" => "put back",
            "base_changed" => "base changed",
            "base_added" => "base added",
            "base_gone" => "base gone",
            "folder_gone" => "folder gone",
            "other_spelling" => "two spellings",
            kind => kind,
        };
        let whose = match (row.kind.as_str(), &row.layer) {
            ("stray", Some(layer)) => format!("in a folder of {layer}"),
            ("put_back", Some(layer)) => format!("the game's own, in the place of {layer}'s"),
            ("updated", Some(layer)) => format!("by the game, in the place of {layer}'s"),
            ("other_spelling", Some(layer)) => format!("beside a file of {layer}; the game may read either"),
            (_, Some(layer)) => format!("of {layer}"),
            (_, None) => String::new(),
        };
        vec![cell(kind, Look::Warn), cell(row.address.clone(), Look::Plain), cell(whose, Look::Dim)]
    });
    text.push_str(&table(&[], rows.collect()));
    if report.drifted.len() > most {
        let more = report.drifted.len() - most;
        text.push_str(&paint(DIM, &format!("  … and {more} more (-v lists all)\n")));
    }
    text
}
