//! `oddstack upgrade`

use std::path::PathBuf;

use clap::Args;
use odd_stack_core::jobs::{AddPlace, select};

use super::add::{NameArgs, Undone, carry_out, exchanged, in_place_of, request};
use crate::Ended;
use crate::args::{ChangeArgs, PlaceArgs};
use crate::desk::Desk;
use crate::errors::Failure;

#[derive(Debug, Args)]
pub struct UpgradeArgs {
    /// The layer, by name or number in the stack
    #[arg(value_name = "LAYER")]
    pub layer: String,
    /// The package that takes its place: a folder or an archive
    #[arg(value_name = "PACKAGE")]
    pub package: PathBuf,
    #[command(flatten)]
    pub named: NameArgs,
    #[command(flatten)]
    pub place: PlaceArgs,
    #[command(flatten)]
    pub change: ChangeArgs,
}

pub fn run(desk: &mut Desk, args: &UpgradeArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    let permit = desk.permit(&ledger)?;
    let layers = ledger.layers()?;
    let old = select(&layers, &args.layer)?;
    let request = request(&args.package, &args.named, &args.place, AddPlace::Exchange(old.id))?;
    let request = in_place_of(&ledger, old, request)?;
    let done = exchanged(old, args.change.dry_run);
    carry_out(desk, &ledger, permit, &request, &args.change, &done).map_err(Undone::into_failure)?;
    Ok(Ended::Well)
}
