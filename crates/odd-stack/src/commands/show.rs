//! `oddstack show`

use std::collections::BTreeMap;

use clap::Args;
use odd_stack_core::jobs::{EntryRow, LayerThen, Owner, ShowReport, select};

use super::history::revision_meant;
use crate::Ended;
use crate::errors::Failure;
use crate::session::Session;
use crate::show::about::title;
use crate::show::change::runs_code;
use crate::show::fit::place_words;
use crate::show::needs::unmet_line;
use crate::show::style::{BOLD, DIM, paint};
use crate::show::table::{Look, cell, table};
use crate::show::time::local;
use crate::show::units::{counted, files, number, size};
use crate::show::wishes::wishes as asked;

#[derive(Debug, Args)]
pub struct ShowArgs {
    /// The layer, by name or number in the stack
    #[arg(value_name = "LAYER")]
    pub layer: String,
    /// The layer as it was after this revision: its number, or a name given by `oddstack mark`
    #[arg(long, value_name = "REVISION")]
    pub at: Option<String>,
}

/// Files that are listed before the rest is folded.
const MOST_FILES: usize = 30;

pub fn run(session: &mut Session, args: &ShowArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    if let Some(at) = &args.at {
        let then = game.layer_at(revision_meant(&game, at)?, &args.layer)?;
        let most = if session.out.verbose { usize::MAX } else { MOST_FILES };
        session.out.result(Some(&game.about().name), &then, &then_text(&then, most));
        return Ok(Ended::Well);
    }
    let layers = game.layers()?;
    let report = game.show(select(&layers, &args.layer)?.id)?;
    let most = if session.out.verbose { usize::MAX } else { MOST_FILES };
    let text = text(&report, most);
    session.out.result(Some(&game.about().name), &report, &text);
    Ok(Ended::Well)
}

/// The layer as it was.
fn then_text(then: &LayerThen, most: usize) -> String {
    let title = title(&then.name, then.version.as_deref(), None);
    let state = if then.laid { "laid" } else { "lifted" };
    let title = paint(BOLD, &title);
    let mut text =
        format!("{title}, number {} in the stack, {state}, after revision {}\n", then.number, then.revision);
    let package = if then.source.is_empty() { "none: these were your own edits" } else { &then.source };
    text.push_str(&fact("package", package));
    text.push_str(&fact("added", &local(&then.added_at)));
    let Some(entries) = &then.files else {
        text.push_str(&paint(DIM, "  what it had was tidied away\n"));
        return text;
    };
    let rows = entries.iter().take(most).map(|file| {
        let what = match (&file.hash, file.changes_keys) {
            (None, _) => "takes it away".to_owned(),
            (_, true) => "changes keys".to_owned(),
            (Some(hash), false) => format!("{}  {}", size(file.size_bytes), hash.get(..8).unwrap_or(hash)),
        };
        vec![cell(file.address.clone(), Look::Plain), cell(what, Look::Dim)]
    });
    text.push_str(&table(&[], rows.collect()));
    if entries.len() > most {
        let more = files((entries.len() - most) as u64);
        text.push_str(&paint(DIM, &format!("  ... and {more} more (-v lists all)\n")));
    }
    text
}

fn text(report: &ShowReport, most: usize) -> String {
    let layer = &report.layer;
    let title = title(&layer.name, layer.version.as_deref(), layer.variant.as_deref());
    let state = match (layer.laid, layer.has_no_effect) {
        (false, _) => "lifted",
        (true, true) => "laid, but wholly covered by other layers: it has no effect",
        (true, false) => "laid",
    };
    let mut text = format!("{}, number {} in the stack, {state}\n", paint(BOLD, &title), layer.number);
    for (what, value) in origin(report).into_iter().chain(placement(report)).chain(wishes(report)) {
        text.push_str(&fact(what, &value));
    }
    for unmet in &report.unmet {
        text.push_str(&fact("not met", &unmet_line(unmet)));
    }
    let beneath = report.entries.iter().filter_map(|entry| entry.covers.clone());
    text.push_str(&fact("covers", &tally(beneath)));
    let above = report.entries.iter().filter_map(|entry| entry.covered_by.clone());
    text.push_str(&fact("covered", &tally(above.map(Owner::Layer))));
    let code = report.entries.iter().filter(|entry| entry.runs_code);
    let code = code.map(|entry| (entry.address.as_str(), entry.covers.is_some()));
    text.push_str(&runs_code(code, most == usize::MAX));
    text.push_str(&asked(&report.starts, &report.clears));
    text.push_str(&table(&[], report.entries.iter().take(most).map(entry_row).collect()));
    if report.entries.len() > most {
        let more = files((report.entries.len() - most) as u64);
        text.push_str(&paint(DIM, &format!("  ... and {more} more (-v lists all)\n")));
    }
    text
}

fn fact(what: &str, value: &str) -> String {
    format!("  {} {value}\n", paint(DIM, &format!("{what:<9}")))
}

/// Where the layer comes from.
fn origin(report: &ShowReport) -> Vec<(&'static str, String)> {
    let layer = &report.layer;
    let mut told = vec![match (report.source.is_empty(), &report.made_by) {
        (true, _) => ("package", "none: these are your own edits (`oddstack tweak list`)".to_owned()),
        (false, Some(_)) => ("made by", report.source.clone()),
        (false, None) => ("package", format!("{} {}", report.source_kind, report.source)),
    }];
    if let Some(made_by) = &report.made_by {
        let how = match &made_by.end {
            Some(end) => match end.exit_code {
                Some(code) => format!(", exit code {code}, {} s", end.seconds),
                None => format!(", ended by a signal, {} s", end.seconds),
            },
            None => String::new(),
        };
        told.push(("made", format!("on {}{how}", made_by.begun_at)));
    }
    told.push(("added", layer.added_at.clone()));
    told.push(("files", format!("{}, {}", number(layer.files), size(layer.bytes))));
    if layer.laid && layer.bytes > 0 {
        told.push(("on disk", on_disk(report)));
    }
    told
}

/// What a laid layer takes in the game and in the ledger, where each content lies once.
fn on_disk(report: &ShowReport) -> String {
    let in_game = report.entries.iter().filter(|entry| entry.covered_by.is_none() && !entry.changes_keys);
    let in_game: u64 = in_game.map(|entry| entry.size_bytes).sum();
    let kept: BTreeMap<&String, u64> =
        report.entries.iter().filter_map(|entry| Some((entry.hash.as_ref()?, entry.size_bytes))).collect();
    let in_ledger = size(kept.values().sum());
    let shared = match report.linked.files {
        0 if report.may_share_blocks => " (this disk can keep once what both have)".to_owned(),
        0 => String::new(),
        1 => format!("; 1 of them, {}, is one file in both", size(report.linked.bytes)),
        count => format!("; {} of them, {}, are one file in both", number(count), size(report.linked.bytes)),
    };
    format!("{} in the game, {in_ledger} in the ledger{shared}", size(in_game))
}

/// Where its files go, and what was chosen.
fn placement(report: &ShowReport) -> Vec<(&'static str, String)> {
    let mut told = Vec::new();
    for (index, place) in report.fit.place.iter().enumerate() {
        told.push((if index == 0 { "placed" } else { "" }, place_words(&place.from, &place.to)));
    }
    for choice in &report.fit.choice {
        let chosen = report.chosen.get(&choice.id);
        let others = choice.option.iter().map(|option| &option.name).filter(|name| Some(*name) != chosen);
        let others: Vec<&str> = others.map(String::as_str).collect();
        let chosen = chosen.map_or("nothing", String::as_str);
        told.push(("chosen", format!("{}={chosen}, not {}", choice.id, others.join(", not "))));
        let taken = choice.option.iter().filter(|option| option.name == chosen);
        told.extend(
            taken.flat_map(|option| &option.place).map(|place| ("", place_words(&place.from, &place.to))),
        );
    }
    for part in &report.fit.part {
        told.push(("part", format!("{} is {}", part.id, if part.on { "on" } else { "off" })));
        let places = part.place.iter().filter(|_| part.on);
        told.extend(places.map(|place| ("", place_words(&place.from, &place.to))));
    }
    let lists = [
        ("only", report.only.join(" ")),
        ("skipped", report.skip.join(" ")),
        ("no place", report.passed_over.join(", ")),
    ];
    told.extend(lists.into_iter().filter(|(_, list)| !list.is_empty()));
    told
}

fn entry_row(entry: &EntryRow) -> Vec<comfy_table::Cell> {
    let beneath = match &entry.covers {
        Some(owner) => format!("over {}", own(owner)),
        None if entry.original_unknown => "the game's own is not known".to_owned(),
        None => String::new(),
    };
    let above = entry.covered_by.as_ref().map(|name| format!("under {name}")).unwrap_or_default();
    let content = match entry.hash.as_deref() {
        None => "taken away",
        Some(_) if entry.changes_keys => "keys",
        Some(hash) => &hash[..8],
    };
    vec![
        cell(entry.address.clone(), Look::Plain),
        cell(size(entry.size_bytes), Look::Right),
        cell(content, Look::Dim),
        cell(beneath, Look::Dim),
        cell(above, Look::Warn),
    ]
}

/// What the fit sheet says beyond places.
fn wishes(report: &ShowReport) -> Vec<(&'static str, String)> {
    let fit = &report.fit;
    let mut told = Vec::new();
    told.extend(report.needs.iter().map(|need| ("asks", need.clone())));
    told.extend(fit.takes_away.iter().map(|address| ("takes off", address.clone())));
    told.extend(fit.set.iter().map(|set| ("sets", format!("{} = {} in {}", set.key, set.value, set.file))));
    told
}

fn own(owner: &Owner) -> &str {
    match owner {
        Owner::Base => "the game's own",
        Owner::Layer(name) => name,
    }
}

/// `4 of the game's own, 2 of fog`, or `nothing`.
fn tally(owners: impl Iterator<Item = Owner>) -> String {
    let mut counts: Vec<(Owner, u64)> = Vec::new();
    for owner in owners {
        match counts.iter_mut().find(|(known, _)| *known == owner) {
            Some((_, count)) => *count += 1,
            None => counts.push((owner, 1)),
        }
    }
    if counts.is_empty() {
        return "nothing".to_owned();
    }
    let told = counts.iter().map(|(name, count)| match name {
        Owner::Base => counted(*count, "file of the game's own", "files of the game's own"),
        Owner::Layer(name) => format!("{} by {name}", files(*count)),
    });
    told.collect::<Vec<_>>().join(", ")
}
