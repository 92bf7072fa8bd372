//! `oddstack completions`

use clap::{Args, CommandFactory};
use clap_complete::Shell;

use crate::Ended;
use crate::args::Cli;
use crate::desk::Desk;
use crate::errors::Failure;

#[derive(Debug, Args)]
pub struct CompletionsArgs {
    /// The shell
    #[arg(value_enum, value_name = "SHELL")]
    pub shell: Shell,
}

pub fn run(desk: &mut Desk, args: &CompletionsArgs) -> Result<Ended, Failure> {
    let mut script = Vec::new();
    clap_complete::generate(args.shell, &mut Cli::command(), "oddstack", &mut script);
    if desk.out.json {
        let data = serde_json::json!({ "shell": args.shell.to_string(), "script": String::from_utf8_lossy(&script) });
        desk.out.result(None, &data, "");
    } else {
        desk.out.raw(&script);
    }
    Ok(Ended::Well)
}
