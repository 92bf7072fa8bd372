//! `oddstack mend`

use clap::Args;
use odd_stack_core::jobs::{AcceptReport, ChangeReport, MendRow, Mending, accept, prepare_mend};
use schemars::JsonSchema;
use serde::Serialize;

use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::args::ChangeArgs;
use crate::desk::Desk;
use crate::errors::Failure;
use crate::show::change::{edits, verdict};
use crate::show::style::{BOLD, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, files as files_of};

#[derive(Debug, Args)]
#[command(group = clap::ArgGroup::new("what").required(true))]
pub struct MendArgs {
    /// Files: addresses, folders or patterns of addresses (with --accept addresses); otherwise all that drifted
    #[arg(value_name = "ADDRESS-OR-GLOB")]
    pub addresses: Vec<String>,
    /// Put layers' files again as the stack has them; what lies there now is saved in the ledger
    #[arg(long, group = "what")]
    pub restore: bool,
    /// Keep the settings that you changed in layers' files, as edits of your own on top of all layers
    #[arg(long, group = "what")]
    pub keep: bool,
    /// Take what lies there now as the game's own, as after a repair by the game's client
    #[arg(long, group = "what")]
    pub accept: bool,
    /// Only say what would be done
    #[arg(short = 'n', long)]
    pub dry_run: bool,
}

/// What JSON tells of `mend --restore` and `mend --keep`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct MendReport {
    /// Every drifted file of a layer, with what becomes of it.
    pub files: Vec<MendRow>,
    /// What changes on disk.
    pub change: ChangeReport,
}

pub fn run(desk: &mut Desk, args: &MendArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    let permit = desk.permit(&ledger)?;
    if args.accept {
        let report = accept(&ledger, permit, &args.addresses, args.dry_run)?;
        let text = text(&report);
        desk.out.result(Some(&ledger.game().name), &report, &text);
        return Ok(Ended::Well);
    }
    let (mending, word) =
        if args.restore { (Mending::Restore, "--restore") } else { (Mending::Keep, "--keep") };
    let command = format!("mend {word} {}", args.addresses.join(" ")).trim_end().to_owned();
    let now = desk.now();
    let plan = prepare_mend(&ledger, permit, &args.addresses, mending, &command, &now, &desk.progress)?;
    let files = plan.rows;
    let change =
        ChangeArgs { dry_run: args.dry_run, keep_edits: false, discard_edits: false, despite: false };
    let change = match plan.change {
        Some(prepared) => desk.carry_out(&ledger, prepared, &change, |out, report| {
            out.text(&format!("{}{}", rows(&files), edits(report)));
        })?,
        None => {
            desk.out.text(&rows(&files));
            ChangeReport { dry_run: args.dry_run, ..ChangeReport::default() }
        }
    };
    let done = files.iter().filter(|file| file.done != "left").count() as u64;
    let text = match mending {
        _ if done == 0 => "Nothing to mend.\n".to_owned(),
        Mending::Restore => {
            let them = counted(done, "file is as the stack has it.", "files are as the stack has them.");
            verdict(&change, &them)
        }
        Mending::Keep => {
            verdict(&change, &format!("Your settings in {} are kept, on top of all layers.", files_of(done)))
        }
    };
    desk.out.result(Some(&ledger.game().name), &MendReport { files, change }, &text);
    Ok(Ended::Well)
}

fn rows(files: &[MendRow]) -> String {
    let rows = files.iter().map(|file| {
        let look = if file.done == "left" { Look::Warn } else { Look::Good };
        vec![
            cell(file.done.clone(), look),
            cell(file.address.clone(), Look::Plain),
            cell(file.details.join(", "), Look::Dim),
        ]
    });
    table(&[], rows.collect())
}

fn text(report: &AcceptReport) -> String {
    let list = |rows: &[String]| {
        let mut text: String = rows.iter().take(MOST_EFFECTS).map(|row| format!("  {row}\n")).collect();
        if rows.len() > MOST_EFFECTS {
            text.push_str(&format!("  … and {} more\n", rows.len() - MOST_EFFECTS));
        }
        text
    };
    let count = report.accepted.len() as u64;
    let mut text = match (count, report.dry_run) {
        (0, _) => "Nothing to accept.\n".to_owned(),
        (_, true) => format!("{} would count as the game's own from now on:\n", files_of(count)),
        (_, false) => format!("{} from now on:\n", paint(BOLD, &counts(count))),
    };
    text.push_str(&list(&report.accepted));
    if !report.still_unknown.is_empty() {
        let line = format!(
            "{} still not known: nothing lies there yet, or a layer's file does\n",
            counts_as_unknown(report.still_unknown.len() as u64)
        );
        text.push_str(&paint(WARN, &line));
        text.push_str(&list(&report.still_unknown));
    }
    text
}

fn counts(count: u64) -> String {
    format!("{} {} as the game's own", files_of(count), if count == 1 { "counts" } else { "count" })
}

fn counts_as_unknown(count: u64) -> String {
    if count == 1 { "1 original is".to_owned() } else { format!("{count} originals are") }
}
