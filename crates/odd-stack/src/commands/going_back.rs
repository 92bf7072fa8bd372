//! `oddstack undo`, `oddstack redo` and `oddstack rewind`

use clap::Args;
use odd_stack_core::Moment;
use odd_stack_core::jobs::{BackRequest, ChangeReport, GoTo, GoneReport};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::standing::MOST_EFFECTS;
use super::upgrade::Whose;
use crate::Ended;
use crate::args::{ChangeArgs, one_or_more};
use crate::errors::{Exit, Failure};
use crate::session::{Session, change_options};
use crate::show::change::{edits, effects, summary, verdict};
use crate::show::time;

/// Options of all of these.
#[derive(Debug, Args)]
pub struct BackArgs {
    /// Which value wins where you and a version that comes back changed the same setting
    #[arg(long, value_name = "WHOSE")]
    pub both_changed: Option<Whose>,
    #[command(flatten)]
    pub change: ChangeArgs,
}

#[derive(Debug, Args)]
pub struct UndoArgs {
    /// How many changes to take back
    #[arg(value_name = "N", default_value = "1", value_parser = one_or_more)]
    pub count: u64,
    #[command(flatten)]
    pub back: BackArgs,
}

#[derive(Debug, Args)]
pub struct RedoArgs {
    #[command(flatten)]
    pub back: BackArgs,
}

#[derive(Debug, Args)]
#[command(
    after_help = "oddstack rewind 12                   to the stack after revision 12 (`oddstack history` lists them)\n\
                        oddstack rewind before-the-update    to a state that `oddstack mark` gave this name\n\
                        oddstack rewind yesterday 18:00      to the stack at that time; a day alone means its end\n\
                        oddstack rewind 0                    to the beginning: no layers"
)]
pub struct RewindArgs {
    /// A revision's number, a name given by `oddstack mark`, or a time
    #[arg(value_name = "WHERE", required = true, num_args = 1..)]
    pub to: Vec<String>,
    #[command(flatten)]
    pub back: BackArgs,
}

/// What JSON tells of such a command.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct BackReport {
    /// Where it went.
    #[serde(flatten)]
    pub gone: GoneReport,
    /// What changes on disk.
    pub change: ChangeReport,
}

pub fn undo(session: &mut Session, args: &UndoArgs) -> Result<Ended, Failure> {
    let command = if args.count == 1 { "undo".to_owned() } else { format!("undo {}", args.count) };
    go(session, &GoTo::Before(args.count), &command, &args.back)
}

pub fn redo(session: &mut Session, args: &RedoArgs) -> Result<Ended, Failure> {
    go(session, &GoTo::Again, "redo", &args.back)
}

pub fn rewind(session: &mut Session, args: &RewindArgs) -> Result<Ended, Failure> {
    let text = args.to.join(" ");
    let to = meant(session, &text)?;
    go(session, &to, &format!("rewind {text}"), &args.back)
}

/// What is written stands for a revision, a state's name, or a time.
fn meant(session: &mut Session, text: &str) -> Result<GoTo, Failure> {
    if let Ok(revision) = text.parse() {
        return Ok(GoTo::Revision(revision));
    }
    let now = session.door.now().to_string();
    let time = time::read(text, &now).map(|time| Moment::parse(&time));
    match time {
        Some(Ok(time)) => Ok(GoTo::At(time)),
        Some(Err(error)) => Err(Failure::new(Exit::Usage, "bad_time", error.to_string())),
        None => Ok(GoTo::Named(text.to_owned())),
    }
}

fn go(session: &mut Session, to: &GoTo, command: &str, args: &BackArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    session.tell_version(&game)?;
    let prefer = args.both_changed.map(Whose::prefer);
    let options = change_options(&args.change);
    let request = BackRequest { to: to.clone(), prefer, command: command.to_owned() };
    let going = game.go_back(&request, options, args.change.dry_run)?;
    let gone = going.report;
    let most = if session.out.verbose || args.change.dry_run { usize::MAX } else { MOST_EFFECTS };
    let change = session.carry_out(&game, going.change, &args.change, |out, report| {
        out.text(&format!("{command}: {}\n{}", summary(report), layers_words(&gone)));
        out.text(&format!("{}{}", effects(report, most), edits(report, most)));
    })?;
    if gone.base_stays {
        session
            .out
            .warn("the game's own files were changed in between; they stay as they are now".to_owned());
    }
    if gone.settlements_stay {
        session.out.warn(
            "what was settled then is not known, since it was before this version of Odd Stack; what is settled now stays"
                .to_owned(),
        );
    }
    if gone.changes.iter().any(|command| command.starts_with("mend")) {
        let kept = game.ledger_folder().join("kept");
        let kept = kept.display();
        session
            .out
            .warn(format!("what lay on disk before `mend` is no part of the stack; it is saved in {kept}"));
    }
    let text = verdict(&change, &done(to, &gone));
    session.out.result(Some(&game.about().name), &BackReport { gone, change }, &text);
    Ok(Ended::Well)
}

fn layers_words(gone: &GoneReport) -> String {
    let mut text = String::new();
    for (what, layers) in [("back in the stack", &gone.comes), ("out of the stack", &gone.goes)] {
        if !layers.is_empty() {
            text.push_str(&format!("  {what}: {}\n", layers.join(", ")));
        }
    }
    text
}

fn done(to: &GoTo, gone: &GoneReport) -> String {
    let commands = gone.changes.iter().map(|command| format!("`{command}`")).collect::<Vec<_>>().join(", ");
    match to {
        GoTo::Before(_) => format!("Undone: {commands}."),
        GoTo::Again => format!("Done again: {commands}."),
        _ if gone.to == 0 => "The stack is as it was at the beginning.".to_owned(),
        _ => format!("The stack is as it was after revision {}.", gone.to),
    }
}
