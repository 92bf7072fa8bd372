//! `oddstack demo`

use std::path::PathBuf;

use clap::Args;

use crate::Ended;
use crate::errors::Failure;
use crate::session::Session;

#[derive(Debug, Args)]
pub struct DemoArgs {
    /// Where to build it; a new temporary folder otherwise
    #[arg(value_name = "DIR")]
    pub folder: Option<PathBuf>,
}

pub fn run(session: &mut Session, args: &DemoArgs) -> Result<Ended, Failure> {
    crate::demo::run(session, args.folder.as_deref())
}
