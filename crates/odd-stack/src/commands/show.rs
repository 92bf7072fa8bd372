//! `oddstack show`

use clap::Args;
use odd_stack_core::jobs::{EntryRow, ShowReport, select, show};

use super::add::title;
use crate::Ended;
use crate::desk::Desk;
use crate::errors::Failure;
use crate::show::change::runs_code;
use crate::show::style::{BOLD, DIM, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, files, number, size};

#[derive(Debug, Args)]
pub struct ShowArgs {
    /// The layer, by name or number in the stack
    #[arg(value_name = "LAYER")]
    pub layer: String,
}

/// Files that are listed before the rest is folded.
const MOST_FILES: usize = 30;

pub fn run(desk: &mut Desk, args: &ShowArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    let layers = ledger.layers()?;
    let report = show(&ledger, select(&layers, &args.layer)?.id)?;
    let most = if desk.out.verbose { usize::MAX } else { MOST_FILES };
    let text = text(&report, most);
    desk.out.result(Some(&ledger.game().name), &report, &text);
    Ok(Ended::Well)
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
    let mut say = |what: &str, value: &str| {
        text.push_str(&format!("  {} {value}\n", paint(DIM, &format!("{what:<9}"))))
    };
    say("package", &format!("{} {}", report.source_kind, report.source));
    say("added", &layer.added_at);
    say("files", &format!("{}, {}", number(layer.files), size(layer.bytes)));
    let placed = match report.places.is_empty() {
        true => "by the package's own folders".to_owned(),
        false => report.places.iter().map(|place| format!("--place {place}")).collect::<Vec<_>>().join(" "),
    };
    say("placed", &placed);
    if !report.only.is_empty() {
        say("only", &report.only.join(" "));
    }
    if !report.skip.is_empty() {
        say("skipped", &report.skip.join(" "));
    }
    say("covers", &tally(&report.entries, |entry| entry.covers.as_deref()));
    say("covered", &tally(&report.entries, |entry| entry.covered_by.as_deref()));
    let code = report.entries.iter().filter(|entry| entry.runs_code);
    let code = code.map(|entry| (entry.address.as_str(), entry.covers.is_some()));
    text.push_str(&runs_code(code, most == usize::MAX));
    let rows = report.entries.iter().take(most).map(|entry| {
        let beneath = entry.covers.as_deref().map(|name| format!("over {}", own(name))).unwrap_or_default();
        let above = entry.covered_by.as_ref().map(|name| format!("under {name}")).unwrap_or_default();
        vec![
            cell(entry.address.clone(), Look::Plain),
            cell(size(entry.size_bytes), Look::Right),
            cell(entry.hash[..8].to_owned(), Look::Dim),
            cell(beneath, Look::Dim),
            cell(above, Look::Warn),
        ]
    });
    text.push_str(&table(&[], rows.collect()));
    if report.entries.len() > most {
        let more = files((report.entries.len() - most) as u64);
        text.push_str(&paint(DIM, &format!("  … and {more} more (-v lists all)\n")));
    }
    text
}

fn own(name: &str) -> &str {
    if name == "base" { "the game's own" } else { name }
}

/// `4 of the game's own, 2 of fog`, or `nothing`.
fn tally(entries: &[EntryRow], of: impl Fn(&EntryRow) -> Option<&str>) -> String {
    let mut counts: Vec<(&str, u64)> = Vec::new();
    for name in entries.iter().filter_map(of) {
        match counts.iter_mut().find(|(known, _)| *known == name) {
            Some((_, count)) => *count += 1,
            None => counts.push((name, 1)),
        }
    }
    if counts.is_empty() {
        return "nothing".to_owned();
    }
    let told = counts.iter().map(|(name, count)| match *name {
        "base" => counted(*count, "file of the game's own", "files of the game's own"),
        name => format!("{} by {name}", files(*count)),
    });
    told.collect::<Vec<_>>().join(", ")
}
