//! `oddstack mend`

use clap::Args;
use odd_stack_core::jobs::{AcceptReport, accept};

use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::desk::Desk;
use crate::errors::Failure;
use crate::show::style::{BOLD, WARN, paint};
use crate::show::units::files;

#[derive(Debug, Args)]
pub struct MendArgs {
    /// Files, by address; otherwise all whose original was not known
    #[arg(value_name = "ADDRESS")]
    pub addresses: Vec<String>,
    /// Take what lies there now as the game's own, as after a repair by the game's client
    #[arg(long, required = true)]
    pub accept: bool,
    /// Only say what would be accepted
    #[arg(short = 'n', long)]
    pub dry_run: bool,
}

pub fn run(desk: &mut Desk, args: &MendArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    let permit = desk.permit(&ledger)?;
    let report = accept(&ledger, permit, &args.addresses, args.dry_run)?;
    let text = text(&report);
    desk.out.result(Some(&ledger.game().name), &report, &text);
    Ok(Ended::Well)
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
        (_, true) => format!("{} would count as the game's own from now on:\n", files(count)),
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
    format!("{} {} as the game's own", files(count), if count == 1 { "counts" } else { "count" })
}

fn counts_as_unknown(count: u64) -> String {
    if count == 1 { "1 original is".to_owned() } else { format!("{count} originals are") }
}
