//! `oddstack upgrade`

use clap::{Args, ValueEnum};
use odd_stack_core::blend::Prefer;
use odd_stack_core::jobs::{AddPlace, AddRequest, Patch, select};

use super::add::{PackageArgs, carry_out, exchanged};
use super::capture::{self, RunArgs};
use crate::Ended;
use crate::args::ChangeArgs;
use crate::desk::Desk;
use crate::errors::{Exit, Failure};

#[derive(Debug, Args)]
pub struct UpgradeArgs {
    /// The layer, by name or number in the stack
    #[arg(index = 1, value_name = "LAYER")]
    pub layer: String,
    #[command(flatten)]
    pub package: PackageArgs,
    /// The package holds only the changed files of the new version: put them onto what the layer has
    #[arg(long)]
    pub patch: bool,
    /// The version that a patch goes onto, when the package does not say it
    #[arg(long, value_name = "V", requires = "patch")]
    pub onto: Option<String>,
    /// What counts where you and the new version changed the same setting
    #[arg(long, value_name = "WHOSE")]
    pub both_changed: Option<Whose>,
    #[command(flatten)]
    pub run: RunArgs,
    #[command(flatten)]
    pub change: ChangeArgs,
    /// Instead of a package: the installer of the new version, of a layer that was captured
    #[arg(last = true, index = 3, value_name = "COMMAND")]
    pub command: Vec<String>,
}

/// Whose value counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Whose {
    /// Yours
    Mine,
    /// The new version's
    New,
}

pub fn run(desk: &mut Desk, args: &UpgradeArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    if !args.command.is_empty() {
        if args.package.package.is_some() || args.change.dry_run {
            let message = "give a package or a command, not both; what a command does can't be told before";
            return Err(Failure::new(Exit::Usage, "usage", message));
        }
        let layers = ledger.layers()?;
        let old = select(&layers, &args.layer)?;
        let version = args.package.named.version.as_deref();
        let skip = &args.package.place.skip;
        return capture::upgrade(desk, &ledger, old, version, &args.run, skip, &args.command);
    }
    if args.package.package.is_none() {
        let message = "give the new version's package, or its installer as `-- COMMAND…`";
        return Err(Failure::new(Exit::Usage, "usage", message));
    }
    let permit = desk.permit(&ledger, args.change.dry_run)?;
    let layers = ledger.layers()?;
    let old = select(&layers, &args.layer)?;
    if old.about.source.is_empty() {
        let message = format!("{} are changed with `oddstack tweak`, not with a package", old.about.name);
        return Err(Failure::new(Exit::Usage, "own_edits", message));
    }
    let request = AddRequest {
        prefer: args.both_changed.map(|whose| match whose {
            Whose::Mine => Prefer::Mine,
            Whose::New => Prefer::New,
        }),
        patch: args.patch.then(|| Patch { onto: args.onto.clone(), despite: args.change.despite }),
        ..args.package.request(AddPlace::Exchange(old.id))?
    };
    let done = exchanged(old, args.change.dry_run);
    let report = carry_out(desk, &ledger, permit, request, &args.change, &done)?;
    let gone = report.change.difference.as_ref().map_or(0, |difference| difference.gone.len() as u64);
    if !args.patch && gone > report.layer.files {
        desk.out.hint(
            "Most of the old version's files are gone. If this package holds only the changed ones, go back to the \
             old version and take it with --patch.",
        );
    }
    Ok(Ended::Well)
}
