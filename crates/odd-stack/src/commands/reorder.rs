//! `oddstack move`

use clap::Args;
use odd_stack_core::jobs::{Reorder, select};
use odd_stack_core::ledger::Layer;
use odd_stack_core::stack::Target;

use super::standing::carry_out;
use crate::Ended;
use crate::args::ChangeArgs;
use crate::errors::{Exit, Failure};
use crate::session::Session;

#[derive(Debug, Args)]
pub struct MoveArgs {
    /// The layer, by name or number in the stack
    #[arg(value_name = "LAYER")]
    pub layer: String,
    #[command(flatten)]
    pub target: TargetArgs,
    /// With --above or --below: leave open what the two layers contest, instead of settling it as they lie then
    #[arg(long)]
    pub leave_open: bool,
    #[command(flatten)]
    pub change: ChangeArgs,
}

/// Where a layer goes.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub struct TargetArgs {
    /// Directly above this layer
    #[arg(long, value_name = "LAYER")]
    pub above: Option<String>,
    /// Directly below this layer
    #[arg(long, value_name = "LAYER")]
    pub below: Option<String>,
    /// Above all others
    #[arg(long)]
    pub top: bool,
    /// Directly on the game itself
    #[arg(long)]
    pub bottom: bool,
}

pub fn run(session: &mut Session, args: &MoveArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let all = game.layers()?;
    let layer = select(&all, &args.layer)?;
    let (target, place) =
        target(&all, args.target.above.as_deref(), args.target.below.as_deref(), args.target.bottom)?;
    if matches!(target, Target::Above(other) | Target::Below(other) if other == layer.id) {
        return Err(Failure::new(Exit::Usage, "same_layer", "a layer can't lie above or below itself"));
    }
    let name = &layer.about.name;
    let (command, done) = (format!("move {name} {place}"), format!("Moved {name} {place}."));
    let reorder = match args.leave_open {
        true => Reorder::Move(layer.id, target),
        false => Reorder::Decide(layer.id, target),
    };
    carry_out(session, &game, &[layer], &reorder, &command, &args.change, &done)
}

/// The place that the options name, and words for it.
pub fn target(
    all: &[Layer],
    above: Option<&str>,
    below: Option<&str>,
    bottom: bool,
) -> Result<(Target, String), Failure> {
    if let Some(wanted) = above {
        let other = select(all, wanted)?;
        return Ok((Target::Above(other.id), format!("above {}", other.about.name)));
    }
    if let Some(wanted) = below {
        let other = select(all, wanted)?;
        return Ok((Target::Below(other.id), format!("below {}", other.about.name)));
    }
    Ok(if bottom {
        (Target::Bottom, "to the bottom".to_owned())
    } else {
        (Target::Top, "to the top".to_owned())
    })
}
