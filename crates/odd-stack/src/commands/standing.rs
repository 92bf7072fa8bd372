//! What `lay`, `lift`, `remove` and `move` have in common.

use odd_stack_core::jobs::{ChangeReport, LayerRow, Reorder, prepare_reorder};
use odd_stack_core::ledger::{Layer, Ledger};
use schemars::JsonSchema;
use serde::Serialize;

use crate::Ended;
use crate::args::ChangeArgs;
use crate::desk::{Desk, change_options};
use crate::errors::Failure;
use crate::show::change::{edits, effects, summary, verdict};

/// Addresses that are shown before the rest is folded.
pub const MOST_EFFECTS: usize = 12;

/// What JSON tells of such a command.
#[derive(Debug, Serialize, JsonSchema)]
pub struct StandingReport {
    /// The layers concerned, as they were before.
    pub layers: Vec<LayerRow>,
    /// What changes on disk.
    pub change: ChangeReport,
}

/// Makes the change and says so. `done` is what to say when it is made, such as `Lifted fog.`.
pub fn carry_out(
    desk: &mut Desk,
    ledger: &Ledger,
    layers: &[&Layer],
    reorder: &Reorder,
    command: &str,
    args: &ChangeArgs,
    done: &str,
) -> Result<Ended, Failure> {
    let permit = desk.permit(ledger)?;
    let (options, now) = (change_options(args), desk.now());
    let prepared = prepare_reorder(ledger, permit, reorder, command, &now, options, &desk.progress)?;
    let most = if desk.out.verbose || args.dry_run { usize::MAX } else { MOST_EFFECTS };
    let change = match prepared {
        Some(change) => desk.carry_out(ledger, change, args, |out, report| {
            out.text(&format!("{command}: {}\n{}{}", summary(report), effects(report, most), edits(report)));
        })?,
        None => ChangeReport { dry_run: args.dry_run, ..ChangeReport::default() },
    };
    let text = verdict(&change, done);
    let report = StandingReport { layers: layers.iter().map(|layer| LayerRow::of(layer)).collect(), change };
    desk.out.result(Some(&ledger.game().name), &report, &text);
    Ok(Ended::Well)
}

/// `fog`, `fog and lamps`, `fog, gulls and lamps`.
pub fn names(layers: &[&Layer]) -> String {
    let names: Vec<&str> = layers.iter().map(|layer| layer.about.name.as_str()).collect();
    match names.as_slice() {
        [] => "no layers".to_owned(),
        [only] => (*only).to_owned(),
        [most @ .., last] => format!("{} and {last}", most.join(", ")),
    }
}
