//! `oddstack conflicts`

use clap::Args;
use odd_stack_core::jobs::{ConflictsReport, PairRow, conflicts, select};

use crate::Ended;
use crate::desk::Desk;
use crate::errors::Failure;
use crate::show::style::{BOLD, DIM, NAME, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, number, size};

#[derive(Debug, Args)]
pub struct ConflictsArgs {
    /// Only contests of this layer
    #[arg(value_name = "LAYER")]
    pub layer: Option<String>,
}

/// Addresses of a pair that are listed before the rest is folded.
const MOST_A_PAIR: usize = 10;

pub fn run(desk: &mut Desk, args: &ConflictsArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    let layers = ledger.layers()?;
    let only = args.layer.as_deref().map(|wanted| select(&layers, wanted)).transpose()?;
    let report = conflicts(&ledger, only.map(|layer| layer.id))?;
    let most = if desk.out.verbose { usize::MAX } else { MOST_A_PAIR };
    let text = text(&report, most);
    desk.out.result(Some(&ledger.game().name), &report, &text);
    if report.open_files == 0 {
        return Ok(Ended::Well);
    }
    desk.out.hint(
        "The upper layer of each pair wins for now. `oddstack move LAYER --above OTHER` changes that;\n\
         `oddstack trace ADDRESS` shows all there is at one address.",
    );
    Ok(Ended::WantsAttention)
}

fn text(report: &ConflictsReport, most: usize) -> String {
    let mut text = match (report.pairs.len(), report.open_files) {
        (0, _) => format!("{}\n", paint(BOLD, "No two laid layers have a file at the same address.")),
        (_, 0) => format!("{}\n", paint(BOLD, "Layers meet, but only with equal content: no conflicts.")),
        (_, open) => format!(
            "{}\n",
            paint(
                BOLD,
                &format!("Layers want different things at {}.", counted(open, "address", "addresses"))
            )
        ),
    };
    for pair in &report.pairs {
        text.push_str(&pair_text(pair, most));
    }
    for layer in &report.no_effect {
        let line = format!("{layer} has no effect: other layers cover all of it.");
        text.push_str(&format!("\n{}\n", paint(WARN, &line)));
    }
    text
}

fn pair_text(pair: &PairRow, most: usize) -> String {
    let mut counts = Vec::new();
    if pair.open_files > 0 {
        counts.push(counted(pair.open_files, "file differs", "files differ"));
    }
    if pair.same_files > 0 {
        counts.push(counted(pair.same_files, "file is the same", "files are the same"));
    }
    let mut text =
        format!("\n{} over {}: {}\n", paint(NAME, &pair.upper), paint(NAME, &pair.lower), counts.join(", "));
    let rows = pair.contests.iter().take(most).map(|contest| {
        let is_same = contest.state == "same";
        let sizes = match is_same {
            true => size(contest.upper_bytes),
            false => {
                let told = |bytes: u64, hash: &Option<String>| match hash {
                    Some(_) => size(bytes),
                    None => "taken away".to_owned(),
                };
                let upper = told(contest.upper_bytes, &contest.upper_hash);
                format!("{upper} over {}", told(contest.lower_bytes, &contest.lower_hash))
            }
        };
        let wins = if is_same { String::new() } else { format!("{} wins", contest.winner) };
        vec![
            cell(contest.state.clone(), if is_same { Look::Dim } else { Look::Warn }),
            cell(contest.address.clone(), Look::Plain),
            cell(sizes, Look::Dim),
            cell(wins, Look::Plain),
        ]
    });
    text.push_str(&table(&[], rows.collect()));
    if pair.contests.len() > most {
        let more = number((pair.contests.len() - most) as u64);
        text.push_str(&paint(DIM, &format!("  … and {more} more (-v lists all)\n")));
    }
    text
}
