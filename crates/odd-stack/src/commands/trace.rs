//! `oddstack trace`

use clap::Args;
use odd_stack_core::jobs::{AddressHistory, KeyTraceRow, LoadedRow, TraceReport, TraceRow};

use crate::Ended;
use crate::errors::Failure;
use crate::session::Session;
use crate::show::style::{BOLD, DIM, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::time::local;
use crate::show::units::{short, size};

#[derive(Debug, Args)]
pub struct TraceArgs {
    /// Such as `data/lamps/brass.dds` or `docs:profiles/default.ini`
    #[arg(value_name = "ADDRESS")]
    pub address: String,
    /// Show each key of a configuration file: who set it, over whom
    #[arg(long)]
    pub keys: bool,
    /// Show when it changed which layers have something there
    #[arg(long, conflicts_with = "keys")]
    pub history: bool,
}

pub fn run(session: &mut Session, args: &TraceArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    if args.history {
        let history = game.address_history(&args.address)?;
        session.out.result(Some(&game.about().name), &history, &history_text(&history));
        return Ok(Ended::Well);
    }
    if let Some(loaded) = game.trace_loaded(&args.address)? {
        session.out.result(Some(&game.about().name), &loaded, &loaded_text(&loaded));
        return Ok(Ended::Well);
    }
    let report = game.trace(&args.address, args.keys)?;
    let text = text(&report);
    session.out.result(Some(&game.about().name), &report, &text);
    Ok(Ended::Well)
}

/// A member in each container that has it, as the game loads them.
fn loaded_text(loaded: &[LoadedRow]) -> String {
    if loaded.is_empty() {
        return "No container that matches has such a member.\n".to_owned();
    }
    let rows = loaded.iter().map(|row| {
        let (mark, look) = if row.counts { ("wins", Look::Good) } else { ("", Look::Plain) };
        let layer = row.layer.clone().unwrap_or_else(|| "the game itself".to_owned());
        let cells = [cell(row.address.clone(), Look::Plain), cell(layer, Look::Name)];
        let [address, layer] = cells;
        vec![cell(mark, look), address, layer, cell(size(row.size_bytes), Look::Right)]
    });
    let header =
        [("", Look::Plain), ("container", Look::Plain), ("from", Look::Plain), ("size", Look::Right)];
    table(&header, rows.collect())
}

fn text(report: &TraceReport) -> String {
    let header = [
        ("", Look::Plain),
        ("#", Look::Right),
        ("layer", Look::Plain),
        ("version", Look::Plain),
        ("size", Look::Right),
        ("hash", Look::Plain),
        ("", Look::Plain),
        ("from", Look::Plain),
    ];
    let mut text = format!(
        "{}\n{}",
        paint(BOLD, &report.address),
        table(&header, report.rows.iter().map(row).collect())
    );
    if let Some(layer) = &report.settled_with {
        text.push_str(&format!("  settled: {layer} wins here\n"));
    }
    if report.blended {
        let how = match (report.by_lines, report.keys.is_some()) {
            (true, _) => "by lines",
            (false, true) => "key by key",
            (false, false) => "key by key (--keys shows them)",
        };
        text.push_str(&format!("  the file on disk is merged from these, {how}\n"));
    }
    if let Some(reason) = &report.not_blended {
        text.push_str(&paint(WARN, &format!("  not merged: {reason}\n")));
    }
    if let Some(keys) = &report.keys {
        text.push_str(&keys_text(keys));
    }
    if report.original_unknown {
        text.push_str(&paint(WARN, "  whether the game had a file of its own here is not known\n"));
    }
    let disk = &report.on_disk;
    let line = match (disk.as_laid, disk.size_bytes) {
        (true, Some(_)) => paint(DIM, "on disk: as it should be"),
        (true, None) => paint(DIM, "on disk: nothing, as it should be"),
        (false, None) => paint(WARN, "on disk: missing"),
        (false, Some(bytes)) => {
            let hash = disk.hash.as_deref().map_or("no file", |hash| &hash[..8]);
            paint(WARN, &format!("on disk: something else ({}, {hash})", size(bytes)))
        }
    };
    text.push_str(&format!("  {line}  {}\n", paint(DIM, &disk.path)));
    text
}

/// From the last change to the first, which layers had something there.
fn history_text(history: &AddressHistory) -> String {
    let header = [
        ("#", Look::Right),
        ("when", Look::Plain),
        ("what", Look::Plain),
        ("from", Look::Plain),
        ("size", Look::Right),
        ("hash", Look::Plain),
    ];
    let mut rows = Vec::new();
    for change in &history.changes {
        let told = [
            cell(change.revision.to_string(), Look::Right),
            cell(local(&change.made_at), Look::Dim),
            cell(change.command.clone(), Look::Plain),
        ];
        if change.suppliers.is_empty() {
            rows.push([&told[..], &[cell("no layer: the game's own, if it has one", Look::Dim)]].concat());
        }
        for (at, supplier) in change.suppliers.iter().enumerate() {
            let told = if at == 0 { told.clone() } else { [0; 3].map(|_| cell("", Look::Plain)) };
            let title = match &supplier.version {
                Some(version) => format!("{} {version}", supplier.layer),
                None => supplier.layer.clone(),
            };
            let hash = match &supplier.hash {
                Some(_) if supplier.changes_keys => "changes keys".to_owned(),
                Some(hash) => hash[..8].to_owned(),
                None => "takes the file away".to_owned(),
            };
            let look = if at == 0 { Look::Name } else { Look::Dim };
            let it = [cell(title, look), cell(size(supplier.size_bytes), Look::Right), cell(hash, Look::Dim)];
            rows.push([&told[..], &it].concat());
        }
    }
    format!("{}\n{}", paint(BOLD, &history.address), table(&header, rows))
}

/// Each key with who set it, the one who counts first, and what the game itself has.
fn keys_text(keys: &[KeyTraceRow]) -> String {
    if keys.is_empty() {
        return "  no layer changes a key of it\n".to_owned();
    }
    let header =
        [("key", Look::Plain), ("value", Look::Plain), ("set by", Look::Plain), ("over", Look::Plain)];
    let value = |value: &Option<String>| value.as_deref().map_or("(taken out)".to_owned(), short);
    let rows = keys.iter().map(|key| {
        let mut over: Vec<String> = key
            .set_by
            .iter()
            .skip(1)
            .map(|setter| format!("{} {}", setter.layer, value(&setter.value)))
            .collect();
        over.push(match key.base.as_deref() {
            Some(base) => format!("the game itself {}", short(base)),
            None => "not set before".to_owned(),
        });
        let is_contested = key.set_by.iter().any(|setter| setter.value != key.value);
        vec![
            cell(key.key.clone(), Look::Plain),
            cell(value(&key.value), if is_contested { Look::Warn } else { Look::Good }),
            cell(key.set_by.first().map(|setter| setter.layer.clone()).unwrap_or_default(), Look::Name),
            cell(over.join(", "), Look::Dim),
        ]
    });
    table(&header, rows.collect())
}

fn row(row: &TraceRow) -> Vec<comfy_table::Cell> {
    let (mark, look) = match (row.blended, row.wins) {
        (true, _) => ("merged", Look::Good),
        (_, true) => ("wins", Look::Good),
        _ => ("", Look::Plain),
    };
    let alike = match (row.wins || row.blended, row.laid, row.same_as_winner) {
        (true, ..) if row.changes_keys => "changes keys",
        (true, ..) => "",
        (_, false, true) => "lifted, same content",
        (_, false, false) => "lifted",
        (_, true, true) => "same content",
        (_, true, false) => "covered",
    };
    let content = match row.hash.as_deref() {
        Some(_) if row.changes_members => "changes members",
        Some(hash) => &hash[..8],
        None if row.layer.is_some() => "taken away",
        None => "gone",
    };
    let alike = if row.changes_members && row.laid { "" } else { alike };
    let mark = if row.changes_members && row.laid { "in it" } else { mark };
    let size_told = if row.changes_members { String::new() } else { size(row.size_bytes) };
    vec![
        cell(mark, look),
        cell(row.number.map(|number| number.to_string()).unwrap_or_default(), Look::Right),
        cell(row.layer.clone().unwrap_or_else(|| "the game itself".to_owned()), Look::Name),
        cell(row.version.clone().unwrap_or_default(), Look::Plain),
        cell(size_told, Look::Right),
        cell(content, Look::Dim),
        cell(alike, Look::Dim),
        cell(row.member.clone().unwrap_or_default(), Look::Dim),
    ]
}
