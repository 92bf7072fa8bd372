//! `oddstack man`

use std::fs;
use std::path::PathBuf;

use clap::{Args, CommandFactory};

use crate::Ended;
use crate::args::Cli;
use crate::errors::{Exit, Failure};
use crate::session::{Session, absolute};

#[derive(Debug, Args)]
pub struct ManArgs {
    /// The folder to write into; made if missing
    #[arg(value_name = "DIR")]
    pub folder: PathBuf,
}

pub fn run(session: &mut Session, args: &ManArgs) -> Result<Ended, Failure> {
    let folder = absolute(&args.folder)?;
    let failed = |error: std::io::Error| {
        let message = format!("can't write manual pages into {}: {error}", folder.display());
        Failure::new(Exit::Failed, "man_failed", message)
    };
    fs::create_dir_all(&folder).map_err(failed)?;
    clap_mangen::generate_to(Cli::command(), &folder).map_err(failed)?;
    let mut pages: Vec<String> = fs::read_dir(&folder)
        .map_err(failed)?
        .filter_map(|entry| Some(entry.ok()?.file_name().to_string_lossy().into_owned()))
        .filter(|name| name.starts_with("oddstack") && name.ends_with(".1"))
        .collect();
    pages.sort();
    let text =
        format!("{} manual pages are in {}; read one with `man -l FILE`.\n", pages.len(), folder.display());
    session.out.result(None, &serde_json::json!({ "folder": folder, "pages": pages }), &text);
    Ok(Ended::Well)
}
