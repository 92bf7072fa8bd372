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
    let (chosen, command, done) = if args.all {
        let chosen: Vec<&Layer> = all.iter().filter(|layer| layer.laid).collect();
        (chosen, "lift --all".to_owned(), "All layers are lifted: the game is itself again.".to_owned())
    } else {
        let chosen = select_all(&all, &args.layers)?;
        let names = names(&chosen);
        (chosen, format!("lift {names}"), format!("Lifted {names}."))
    };
    let lift = Reorder::Lift(chosen.iter().map(|layer| layer.id).collect());
    carry_out(desk, &ledger, &chosen, &lift, &command, &args.change, &done)
}
