//! `oddstack mark`

use clap::Args;
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use crate::Ended;
use crate::errors::{Exit, Failure};
use crate::session::Session;
use crate::shell::quoted;
use crate::show::time;

#[derive(Debug, Args)]
pub struct MarkArgs {
    /// The name, such as before-the-update; one that stands for another state stands for this one then
    #[arg(value_name = "NAME")]
    pub name: String,
    /// Forget the name; the state stays in the history
    #[arg(long)]
    pub drop: bool,
}

/// What JSON tells.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct MarkReport {
    /// The name.
    pub name: String,
    /// The revision that it stands for; none when it was forgotten.
    pub revision: Option<i64>,
    /// It stood for another state before.
    pub moved: bool,
}

pub fn run(session: &mut Session, args: &MarkArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    if !args.drop && time::read(&args.name, &session.door.now().to_string()).is_some() {
        let message = format!(
            "`{}` can't be the name of a state: it is a time, which `rewind` goes to",
            args.name.trim()
        );
        return Err(Failure::new(Exit::Failed, "bad_name", message));
    }
    let was = game.name_state(&args.name, args.drop)?;
    let name = args.name.trim().to_owned();
    let revision = if args.drop { None } else { Some(game.history()?.present) };
    let text = match revision {
        None => format!("`{name}` stands for no state any more.\n"),
        Some(revision) if was => format!("`{name}` stands for revision {revision} now.\n"),
        Some(revision) => format!("Revision {revision} is called `{name}`.\n"),
    };
    let report = MarkReport { name: name.clone(), revision, moved: was && !args.drop };
    session.out.result(Some(&game.about().name), &report, &text);
    if !args.drop {
        session.out.hint(&format!("`oddstack rewind {}` comes back to it.", quoted(&name)));
    }
    Ok(Ended::Well)
}
