//! `oddstack show`

use clap::Args;
use odd_stack_core::jobs::Owner;
use odd_stack_core::jobs::{ShowReport, select};

use crate::Ended;
use crate::errors::Failure;
use crate::session::Session;
use crate::show::about::title;
use crate::show::change::runs_code;
use crate::show::fit::place_words;
use crate::show::needs::unmet_line;
use crate::show::style::{BOLD, DIM, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, files, number, size};
use crate::show::wishes::wishes as asked;

#[derive(Debug, Args)]
pub struct ShowArgs {
    /// The layer, by name or number in the stack
    #[arg(value_name = "LAYER")]
    pub layer: String,
}

/// Files that are listed before the rest is folded.
const MOST_FILES: usize = 30;

pub fn run(session: &mut Session, args: &ShowArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let layers = game.layers()?;
    let report = game.show(select(&layers, &args.layer)?.id)?;
    let most = if session.out.verbose { usize::MAX } else { MOST_FILES };
    let text = text(&report, most);
    session.out.result(Some(&game.about().name), &report, &text);
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
    if report.source.is_empty() {
        say("package", "none: these are your own edits (`oddstack tweak list`)");
    } else if report.made_by.is_some() {
        say("made by", &report.source);
    } else {
        say("package", &format!("{} {}", report.source_kind, report.source));
    }
    if let Some(made_by) = &report.made_by {
        let how = match &made_by.end {
            Some(end) => match end.exit_code {
                Some(code) => format!(", exit code {code}, {} s", end.seconds),
                None => format!(", ended by a signal, {} s", end.seconds),
            },
            None => String::new(),
        };
        say("made", &format!("on {}{how}", made_by.begun_at));
    }
    say("added", &layer.added_at);
    say("files", &format!("{}, {}", number(layer.files), size(layer.bytes)));
    for (index, place) in report.fit.place.iter().enumerate() {
        say(if index == 0 { "placed" } else { "" }, &place_words(&place.from, &place.to));
    }
    for choice in &report.fit.choice {
        let chosen = report.chosen.get(&choice.id);
        let others = choice.option.iter().map(|option| &option.name).filter(|name| Some(*name) != chosen);
        let others: Vec<&str> = others.map(String::as_str).collect();
        let chosen = chosen.map_or("nothing", String::as_str);
        say("chosen", &format!("{}={chosen}, not {}", choice.id, others.join(", not ")));
        let taken = choice.option.iter().filter(|option| option.name == chosen);
        for place in taken.flat_map(|option| &option.place) {
            say("", &place_words(&place.from, &place.to));
        }
    }
    for part in &report.fit.part {
        say("part", &format!("{} is {}", part.id, if part.on { "on" } else { "off" }));
        for place in part.place.iter().filter(|_| part.on) {
            say("", &place_words(&place.from, &place.to));
        }
    }
    if !report.only.is_empty() {
        say("only", &report.only.join(" "));
    }
    if !report.skip.is_empty() {
        say("skipped", &report.skip.join(" "));
    }
    if !report.passed_over.is_empty() {
        say("no place", &report.passed_over.join(", "));
    }
    for (what, wish) in wishes(report) {
        say(what, &wish);
    }
    for unmet in &report.unmet {
        say("not met", &unmet_line(unmet));
    }
    say("covers", &tally(report.entries.iter().filter_map(|entry| entry.covers.clone())));
    let above = report.entries.iter().filter_map(|entry| entry.covered_by.clone());
    say("covered", &tally(above.map(Owner::Layer)));
    let code = report.entries.iter().filter(|entry| entry.runs_code);
    let code = code.map(|entry| (entry.address.as_str(), entry.covers.is_some()));
    text.push_str(&runs_code(code, most == usize::MAX));
    text.push_str(&asked(&report.starts, &report.clears));
    let rows = report.entries.iter().take(most).map(|entry| {
        let beneath = match &entry.covers {
            Some(owner) => format!("over {}", own(owner)),
            None if entry.original_unknown => "the game's own is not known".to_owned(),
            None => String::new(),
        };
        let above = entry.covered_by.as_ref().map(|name| format!("under {name}")).unwrap_or_default();
        vec![
            cell(entry.address.clone(), Look::Plain),
            cell(size(entry.size_bytes), Look::Right),
            cell(
                match entry.hash.as_deref() {
                    None => "taken away",
                    Some(_) if entry.changes_keys => "keys",
                    Some(hash) => &hash[..8],
                },
                Look::Dim,
            ),
            cell(beneath, Look::Dim),
            cell(above, Look::Warn),
        ]
    });
    text.push_str(&table(&[], rows.collect()));
    if report.entries.len() > most {
        let more = files((report.entries.len() - most) as u64);
        text.push_str(&paint(DIM, &format!("  ... and {more} more (-v lists all)\n")));
    }
    text
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
