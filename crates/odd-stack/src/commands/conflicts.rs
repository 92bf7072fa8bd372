//! `oddstack conflicts`

use std::ops::ControlFlow;

use clap::Args;
use odd_stack_core::blend::BlendRules;
use odd_stack_core::front::OpenGame;
use odd_stack_core::jobs::{
    ConflictsPart, ConflictsReport, ConflictsRequest, ContestRow, Differs, PairRow, select,
};
use odd_stack_core::stack::ContestState;

use crate::Ended;
use crate::errors::Failure;
use crate::session::Session;
use crate::shell::quoted;
use crate::show::style::{BOLD, DIM, NAME, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, number, short, size};

#[derive(Debug, Args)]
pub struct ConflictsArgs {
    /// Only contests of this layer
    #[arg(value_name = "LAYER")]
    pub layer: Option<String>,
    /// Only contests at this address, in this folder, or at addresses that match the pattern
    #[arg(long, value_name = "ADDRESS-OR-GLOB")]
    pub at: Option<String>,
    /// List all, also what is the same or settled, instead of those that tell most
    #[arg(long)]
    pub all: bool,
}

/// Pairs that are shown before the rest is counted.
const MOST_PAIRS: usize = 10;

pub fn run(session: &mut Session, args: &ConflictsArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let layers = game.layers()?;
    let only = args.layer.as_deref().map(|wanted| select(&layers, wanted)).transpose()?;
    let request = ConflictsRequest {
        layer: only.map(|layer| layer.id),
        at: args.at.clone(),
        all: args.all || session.out.verbose,
    };
    let open_files = if request.all && !session.out.json {
        tell(session, &game, &request)?
    } else {
        let report = game.conflicts(&request)?;
        session.out.result(Some(&game.about().name), &report, &text(&report));
        report.open_files
    };
    if open_files == 0 {
        return Ok(Ended::Well);
    }
    session.out.hint(
        "The upper layer of each pair wins for now. `oddstack settle ADDRESS --with LAYER` or `--keep-order` settles \
         it, `oddstack settle` walks through them; `oddstack move LAYER --above OTHER` changes the order.",
    );
    Ok(Ended::WantsAttention)
}

/// Writes all as it is found out, since there may be very many; gives how many addresses are open.
fn tell(session: &mut Session, game: &OpenGame, request: &ConflictsRequest) -> Result<u64, Failure> {
    let (mut open_files, mut end) = (0, String::new());
    let out = &mut session.out;
    game.tell_conflicts(request, &mut |part| {
        match part {
            ConflictsPart::Whole(report) => {
                open_files = report.open_files;
                end = also_text(report);
                out.text(&headline(report));
            }
            ConflictsPart::Pair(pair) => out.text(&format!("\n{}", pair_head(pair))),
            ConflictsPart::Contest(pair, contest) => out.text(&contest_text(&contest, pair)),
        }
        if out.is_closed() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })?;
    out.text(&end);
    Ok(open_files)
}

fn headline(report: &ConflictsReport) -> String {
    let headline = match (report.pairs.len(), report.open_files) {
        (0, _) if report.asked_addresses == Some(0) => "No layer has a file there.".to_owned(),
        (0, _) if report.asked_addresses.is_some() => {
            "No two laid layers have a file at the same address there.".to_owned()
        }
        (0, _) => "No unresolved conflicts: no two laid layers have a file at the same address.".to_owned(),
        (_, 0) => "Layers overlap; there are no unresolved conflicts.".to_owned(),
        (_, open) => format!("Layers disagree at {}.", counted(open, "address", "addresses")),
    };
    format!("{}\n", paint(BOLD, &headline))
}

fn text(report: &ConflictsReport) -> String {
    let mut text = headline(report);
    let most = if report.is_complete { usize::MAX } else { MOST_PAIRS };
    let (open, settled): (Vec<&PairRow>, Vec<&PairRow>) =
        report.pairs.iter().partition(|pair| !pair.contests.is_empty() || pair.open_files > 0);
    for pair in open.iter().take(most) {
        text.push_str(&format!("\n{}", pair_text(pair, report.is_complete)));
    }
    if !settled.is_empty() {
        text.push('\n');
    }
    for pair in settled.iter().take(most) {
        text.push_str(&pair_text(pair, report.is_complete));
    }
    let more = open.len().saturating_sub(most) + settled.len().saturating_sub(most);
    if more > 0 {
        let more = number(more as u64);
        text.push_str(&paint(DIM, &format!("... and {more} more pairs of layers (--all lists them)\n")));
    }
    text.push_str(&also_text(report));
    text
}

/// What is told at the end.
fn also_text(report: &ConflictsReport) -> String {
    let mut text = String::new();
    for layer in &report.no_effect {
        let line = format!("{layer} has no effect: other layers cover all of it.");
        text.push_str(&format!("\n{}\n", paint(WARN, &line)));
    }
    if !report.odd.is_empty() {
        text.push_str(&format!("\n{}\n", paint(BOLD, "Also found:")));
        for row in &report.odd {
            text.push_str(&format!("  {}  {}\n", paint(WARN, &row.address), row.says));
        }
    }
    text
}

fn pair_head(pair: &PairRow) -> String {
    let mut counts = Vec::new();
    for (count, word) in [
        (pair.open_files, "open"),
        (pair.won_files, "won"),
        (pair.blended_files, "merged"),
        (pair.same_files, "the same"),
    ] {
        if count > 0 {
            counts.push(format!("{} {word}", number(count)));
        }
    }
    format!("{} over {}: {}\n", paint(NAME, &pair.upper), paint(NAME, &pair.lower), counts.join(", "))
}

fn pair_text(pair: &PairRow, is_complete: bool) -> String {
    let mut text = pair_head(pair);
    for contest in &pair.contests {
        text.push_str(&contest_text(contest, pair));
    }
    let told = pair.contests.len() as u64;
    if !is_complete && pair.open_files > told {
        let more = number(pair.open_files - told);
        text.push_str(&paint(DIM, &format!("  ... and {more} more open (--all lists them)\n")));
    }
    text
}

fn state_word(state: ContestState) -> &'static str {
    match state {
        ContestState::Same => "same",
        ContestState::Blended => "merged",
        ContestState::Won => "won",
        ContestState::Open => "open",
    }
}

/// One address: its state, sizes, who wins, and what differs.
pub fn contest_text(contest: &ContestRow, pair: &PairRow) -> String {
    let look = match contest.state {
        ContestState::Open => Look::Warn,
        ContestState::Same => Look::Dim,
        _ => Look::Good,
    };
    let told = |bytes: u64, hash: &Option<String>| match hash {
        Some(_) => size(bytes),
        None => "taken away".to_owned(),
    };
    let upper = told(contest.upper_bytes, &contest.upper_hash);
    let sizes = match contest.state {
        ContestState::Same => upper,
        _ => format!("{upper} over {}", told(contest.lower_bytes, &contest.lower_hash)),
    };
    let wins = match contest.state {
        ContestState::Same => String::new(),
        ContestState::Blended => "both are kept".to_owned(),
        _ => format!("{} wins", contest.winner),
    };
    let row = vec![
        cell(state_word(contest.state), look),
        cell(contest.address.clone(), Look::Plain),
        cell(sizes, Look::Dim),
        cell(wins, Look::Plain),
    ];
    let mut text = table(&[], vec![row]);
    if let Some(layer) = &contest.changed_since_settled {
        let line = format!("      it was settled, and {layer} has changed there since\n");
        text.push_str(&paint(WARN, &line));
    }
    if let Some(differs) = &contest.differs
        && contest.state != ContestState::Blended
    {
        for line in differs_lines(differs, &pair.upper, &pair.lower) {
            text.push_str(&format!("      {}\n", paint(DIM, &line)));
        }
        if let Differs::Text { lie_apart: true, .. } = differs {
            let path = contest.address.split_once(':').map_or(contest.address.as_str(), |(_, path)| path);
            let option = quoted(&format!("{}=lines", BlendRules::pattern_of(path)));
            let line =
                format!("these changes lie apart: `oddstack game set --blend {option}` would keep both");
            text.push_str(&format!("      {line}\n"));
        }
    }
    text
}

/// Keys that are shown before the rest is counted.
const MOST_KEYS: usize = 6;

fn differs_lines(differs: &Differs, upper_name: &str, lower_name: &str) -> Vec<String> {
    match differs {
        Differs::Configuration { keys } => {
            let value = |value: &Option<String>| value.as_deref().map_or("(taken out)".to_owned(), short);
            let line = |key: &odd_stack_core::jobs::KeyClashRow| {
                let base = key
                    .base
                    .as_ref()
                    .map(|base| format!(" (the game itself {})", short(base)))
                    .unwrap_or_default();
                format!(
                    "{}: {upper_name} {}, {lower_name} {}{base}",
                    key.key,
                    value(&key.upper),
                    value(&key.lower)
                )
            };
            let mut lines: Vec<String> = keys.iter().take(MOST_KEYS).map(line).collect();
            if keys.len() > MOST_KEYS {
                lines.push(format!("... and {} more keys", keys.len() - MOST_KEYS));
            }
            lines
        }
        Differs::Text { lines, more_lines, .. } => {
            let mut shown = lines.clone();
            if *more_lines > 0 {
                shown.push(format!("... and {more_lines} more lines"));
            }
            shown
        }
        Differs::Picture { lower, upper } => vec![format!("{upper} over {lower}")],
        Differs::Binary { lower, upper } if lower == upper => vec![format!("{upper}, other content")],
        Differs::Binary { lower, upper } => vec![format!("{upper} over {lower}")],
        Differs::TakenAway => Vec::new(),
        Differs::Lost => vec!["a content is missing from the ledger".to_owned()],
    }
}
