//! `oddstack lift`

use clap::Args;
use odd_stack_core::jobs::{Reorder, select_all};
use odd_stack_core::ledger::Layer;

use super::standing::{carry_out, names};
use crate::Ended;
use crate::args::ChangeArgs;
use crate::desk::Desk;
use crate::errors::Failure;

#[derive(Debug, Args)]
pub struct LiftArgs {
    /// Layers, by name or number in the stack
    #[arg(required_unless_present = "all", value_name = "LAYER")]
    pub layers: Vec<String>,
    /// All layers of the stack: the game is as it was before any of them
    #[arg(long, conflicts_with = "layers")]
    pub all: bool,
    #[command(flatten)]
    pub change: ChangeArgs,
}

pub fn run(desk: &mut Desk, args: &LiftArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    let all = ledger.layers()?;
    let chosen: Vec<&Layer> = if args.all { all.iter().collect() } else { select_all(&all, &args.layers)? };
    let lift = Reorder::Lift(chosen.iter().map(|layer| layer.id).collect());
    let done = if args.all {
        "All layers are lifted: the game is itself again.".to_owned()
    } else {
        format!("Lifted {}.", names(&chosen))
    };
    carry_out(desk, &ledger, &chosen, &lift, &format!("lift {}", names(&chosen)), &args.change, &done)
}
