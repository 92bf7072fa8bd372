//! `oddstack trace`

use clap::Args;
use odd_stack_core::jobs::{TraceReport, TraceRow, trace};

use crate::Ended;
use crate::desk::Desk;
use crate::errors::Failure;
use crate::show::style::{BOLD, DIM, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::size;

#[derive(Debug, Args)]
pub struct TraceArgs {
    /// Such as `data/lamps/brass.dds` or `docs:profiles/default.ini`
    #[arg(value_name = "ADDRESS")]
    pub address: String,
}

pub fn run(desk: &mut Desk, args: &TraceArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    let report = trace(&ledger, &args.address)?;
    let text = text(&report);
    desk.out.result(Some(&ledger.game().name), &report, &text);
    Ok(Ended::Well)
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

fn row(row: &TraceRow) -> Vec<comfy_table::Cell> {
    let (mark, look) = if row.wins { ("wins", Look::Good) } else { ("", Look::Plain) };
    let alike = match (row.wins, row.laid, row.same_as_winner) {
        (true, ..) => "",
        (_, false, true) => "lifted, same content",
        (_, false, false) => "lifted",
        (_, true, true) => "same content",
        (_, true, false) => "covered",
    };
    let nothing = if row.layer.is_some() { "taken away" } else { "gone" };
    vec![
        cell(mark, look),
        cell(row.number.map(|number| number.to_string()).unwrap_or_default(), Look::Right),
        cell(row.layer.clone().unwrap_or_else(|| "the game itself".to_owned()), Look::Name),
        cell(row.version.clone().unwrap_or_default(), Look::Plain),
        cell(size(row.size_bytes), Look::Right),
        cell(row.hash.as_deref().map_or(nothing, |hash| &hash[..8]), Look::Dim),
        cell(alike, Look::Dim),
        cell(row.member.clone().unwrap_or_default(), Look::Dim),
    ]
}
