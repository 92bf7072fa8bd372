//! What `lay`, `lift`, `remove` and `move` have in common.

use clap::Args;
use odd_stack_core::OpenGame;
use odd_stack_core::jobs::{ChangeReport, LayerRow, Reorder, select_all};
use odd_stack_core::ledger::Layer;
use odd_stack_core::stack::LayerId;
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use crate::Ended;
use crate::args::ChangeArgs;
use crate::errors::Failure;
use crate::session::{Session, change_options};
use crate::show::change::{edits, effects, summary, verdict};
use crate::show::style::{GOOD, paint};
use crate::show::units::counted;

/// Addresses that are shown before the rest is folded.
pub const MOST_EFFECTS: usize = 12;

/// Which layers `lay` and `lift` are to change.
#[derive(Debug, Args)]
pub struct LayersArgs {
    /// Layers, by name or number in the stack
    #[arg(required_unless_present = "all", value_name = "LAYER")]
    pub layers: Vec<String>,
    /// All layers of the stack
    #[arg(long, conflicts_with = "layers")]
    pub all: bool,
    #[command(flatten)]
    pub change: ChangeArgs,
}

/// Lays or lifts the layers that `args` name, or all that are not so yet. The words are the command,
/// and what to say when it is done for some layers and for all.
pub fn set_laid(
    session: &mut Session,
    args: &LayersArgs,
    reorder: fn(Vec<LayerId>) -> Reorder,
    (verb, done, all_done): (&str, &str, &str),
) -> Result<Ended, Failure> {
    let game = session.open()?;
    let layers = game.layers()?;
    let wants_laid = matches!(reorder(Vec::new()), Reorder::Lay(_));
    let (chosen, command, done) = if args.all {
        let chosen: Vec<&Layer> = layers.iter().filter(|layer| layer.laid != wants_laid).collect();
        (chosen, format!("{verb} --all"), all_done.to_owned())
    } else {
        let chosen = select_all(&layers, &args.layers)?;
        let names = names(&chosen);
        (chosen, format!("{verb} {names}"), format!("{done} {names}."))
    };
    let reorder = reorder(chosen.iter().map(|layer| layer.id).collect());
    carry_out(session, &game, &chosen, &reorder, &command, &args.change, &done)
}

/// What JSON tells of such a command.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct StandingReport {
    /// The layers concerned, as they were before.
    pub layers: Vec<LayerRow>,
    /// What changes on disk.
    pub change: ChangeReport,
}

/// What a move decides.
fn settled(report: &ChangeReport) -> String {
    if report.settled == 0 {
        return String::new();
    }
    let contests = counted(report.settled, "open contest", "open contests");
    let line = format!("  {contests} between just these two settled so (--leave-open leaves them open)\n");
    paint(GOOD, &line)
}

/// Makes the change and says so. `done` is what to say when it is made, such as `Lifted fog.`.
pub fn carry_out(
    session: &mut Session,
    game: &OpenGame,
    layers: &[&Layer],
    reorder: &Reorder,
    command: &str,
    args: &ChangeArgs,
    done: &str,
) -> Result<Ended, Failure> {
    session.tell_version(game)?;
    let rows = game.layer_rows(layers)?;
    let prepared = game.reorder(reorder, command, change_options(args), args.dry_run)?;
    let most = match session.out.verbose || args.dry_run {
        // Its rows are in the report.
        _ if session.out.json => 0,
        true => usize::MAX,
        false => MOST_EFFECTS,
    };
    let change = match prepared {
        Some(change) => session.carry_out(game, change, args, |out, report| {
            out.text(&format!(
                "{command}: {}\n{}{}{}",
                summary(report),
                settled(report),
                effects(report, most),
                edits(report, most)
            ));
        })?,
        None => ChangeReport { dry_run: args.dry_run, ..ChangeReport::default() },
    };
    if change.revision.is_some() {
        session.learn_program(game)?;
    }
    let text = verdict(&change, done);
    let report = StandingReport { layers: rows, change };
    session.out.result(Some(&game.about().name), &report, &text);
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
