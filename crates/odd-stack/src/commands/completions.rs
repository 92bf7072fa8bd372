//! `oddstack completions`

use clap::{Args, CommandFactory};
use clap_complete::Shell;

use crate::Ended;
use crate::args::Cli;
use crate::errors::Failure;
use crate::session::Session;

#[derive(Debug, Args)]
pub struct CompletionsArgs {
    /// The shell
    #[arg(value_enum, value_name = "SHELL")]
    pub shell: Shell,
}

pub fn run(session: &mut Session, args: &CompletionsArgs) -> Result<Ended, Failure> {
    let mut script = Vec::new();
    clap_complete::generate(args.shell, &mut Cli::command(), "oddstack", &mut script);
    if session.out.json {
        let data = serde_json::json!({ "shell": args.shell.to_string(), "script": String::from_utf8_lossy(&script) });
        session.out.result(None, &data, "");
    } else {
        session.out.raw(&script);
    }
    Ok(Ended::Well)
}
