//! `oddstack demo`

use std::path::PathBuf;

use clap::Args;

use crate::Ended;
use crate::desk::Desk;
use crate::errors::Failure;

#[derive(Debug, Args)]
pub struct DemoArgs {
    /// Where to build it; a new temporary folder otherwise
    #[arg(value_name = "DIR")]
    pub folder: Option<PathBuf>,
}

pub fn run(desk: &mut Desk, args: &DemoArgs) -> Result<Ended, Failure> {
    crate::demo::run(desk, args.folder.as_deref())
}
