//! `oddstack lay`

use clap::Args;
use odd_stack_core::jobs::{Reorder, select_all};
use odd_stack_core::ledger::Layer;

use super::standing::{carry_out, names};
use crate::Ended;
use crate::args::ChangeArgs;
use crate::desk::Desk;
use crate::errors::Failure;

#[derive(Debug, Args)]
pub struct LayArgs {
    /// Layers, by name or number in the stack
    #[arg(required_unless_present = "all", value_name = "LAYER")]
    pub layers: Vec<String>,
    /// All layers of the stack
    #[arg(long, conflicts_with = "layers")]
    pub all: bool,
    #[command(flatten)]
    pub change: ChangeArgs,
}

pub fn run(desk: &mut Desk, args: &LayArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    let all = ledger.layers()?;
    let (chosen, command, done) = if args.all {
        let chosen: Vec<&Layer> = all.iter().filter(|layer| !layer.laid).collect();
        (chosen, "lay --all".to_owned(), "All layers are laid.".to_owned())
    } else {
        let chosen = select_all(&all, &args.layers)?;
        let names = names(&chosen);
        (chosen, format!("lay {names}"), format!("Laid {names}."))
    };
    let lay = Reorder::Lay(chosen.iter().map(|layer| layer.id).collect());
    carry_out(desk, &ledger, &chosen, &lay, &command, &args.change, &done)
}
