//! `oddstack remove`

use clap::Args;
use odd_stack_core::jobs::{Reorder, select_all};

use super::standing::{carry_out, names};
use crate::Ended;
use crate::args::ChangeArgs;
use crate::errors::Failure;
use crate::session::Session;

#[derive(Debug, Args)]
pub struct RemoveArgs {
    /// Layers, by name or number in the stack
    #[arg(required = true, value_name = "LAYER")]
    pub layers: Vec<String>,
    #[command(flatten)]
    pub change: ChangeArgs,
}

pub fn run(session: &mut Session, args: &RemoveArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let all = game.layers()?;
    let chosen = select_all(&all, &args.layers)?;
    let remove = Reorder::Remove(chosen.iter().map(|layer| layer.id).collect());
    let (command, done) = (format!("remove {}", names(&chosen)), format!("Removed {}.", names(&chosen)));
    carry_out(session, &game, &chosen, &remove, &command, &args.change, &done)
}
