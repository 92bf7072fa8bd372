//! `oddstack upgrade`

use clap::Args;
use odd_stack_core::jobs::{AddPlace, select};

use super::add::{PackageArgs, carry_out, exchanged};
use crate::Ended;
use crate::args::ChangeArgs;
use crate::desk::Desk;
use crate::errors::Failure;

#[derive(Debug, Args)]
pub struct UpgradeArgs {
    /// The layer, by name or number in the stack
    #[arg(value_name = "LAYER")]
    pub layer: String,
    #[command(flatten)]
    pub package: PackageArgs,
    #[command(flatten)]
    pub change: ChangeArgs,
}

pub fn run(desk: &mut Desk, args: &UpgradeArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    let permit = desk.permit(&ledger)?;
    let layers = ledger.layers()?;
    let old = select(&layers, &args.layer)?;
    let request = args.package.request(AddPlace::Exchange(old.id))?;
    let done = exchanged(old, args.change.dry_run);
    carry_out(desk, &ledger, permit, request, &args.change, &done)?;
    Ok(Ended::Well)
}
