//! `oddstack lineup ...`

use clap::{Args, Subcommand};
use odd_stack_core::OpenGame;
use odd_stack_core::jobs::{ChangeReport, LayersDifference, LineupDifference, LineupError, LineupRow};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::going_back::BackArgs;
use super::history::{files_difference, layers_difference, stacks_difference};
use super::lineup_build::{BuildArgs, build};
use super::standing::MOST_EFFECTS;
use super::upgrade::Whose;
use crate::Ended;
use crate::errors::Failure;
use crate::session::{Session, change_options};
use crate::shell::quoted;
use crate::show::change::{edits, effects, summary, verdict};
use crate::show::style::{BOLD, paint};
use crate::show::table::{Look, cell, table};
use crate::show::time::local;
use crate::show::units::{layers, number};

#[derive(Debug, Subcommand)]
pub enum LineupCommand {
    /// Save the stack as it is: which layers are laid, their order, who wins, your own edits
    Save(NameArgs),
    /// List the lineups
    List,
    /// Switch to a lineup; only what differs is changed
    Switch(SwitchArgs),
    /// Build a second, complete folder of the game as a lineup has it, or bring one up to date
    Build(BuildArgs),
    /// Show how a lineup differs from another one, or from the stack as it is
    Compare(CompareArgs),
    /// Give a lineup another name
    Rename(RenameArgs),
    /// Forget a lineup; the layers stay as they are
    Drop(NameArgs),
}

impl LineupCommand {
    pub fn name(&self) -> &'static str {
        match self {
            Self::Save(_) => "lineup save",
            Self::List => "lineup list",
            Self::Switch(_) => "lineup switch",
            Self::Build(_) => "lineup build",
            Self::Compare(_) => "lineup compare",
            Self::Rename(_) => "lineup rename",
            Self::Drop(_) => "lineup drop",
        }
    }
}

#[derive(Debug, Args)]
pub struct NameArgs {
    /// The lineup, such as winter
    #[arg(value_name = "NAME")]
    pub name: String,
}

#[derive(Debug, Args)]
pub struct SwitchArgs {
    /// The lineup
    #[arg(value_name = "NAME")]
    pub name: String,
    #[command(flatten)]
    pub back: BackArgs,
}

#[derive(Debug, Args)]
pub struct CompareArgs {
    /// The lineup
    #[arg(value_name = "NAME")]
    pub name: String,
    /// The one to compare it with; otherwise the stack as it is
    #[arg(value_name = "WITH")]
    pub with: Option<String>,
}

#[derive(Debug, Args)]
pub struct RenameArgs {
    /// The lineup
    #[arg(value_name = "NAME")]
    pub name: String,
    /// Its new name
    #[arg(value_name = "NEW")]
    pub new: String,
}

/// What JSON tells of `lineup list`, and of `save`, `rename` and `drop`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct LineupList {
    /// The lineups that there are then, by name.
    pub lineups: Vec<LineupRow>,
}

/// What JSON tells of `lineup switch`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct SwitchReport {
    /// The lineup.
    pub lineup: String,
    /// The lineup that the stack was before, if it was one.
    pub was: Option<String>,
    /// How the layers differ.
    pub layers: LayersDifference,
    /// What changes on disk.
    pub change: ChangeReport,
}

pub fn run(session: &mut Session, command: &LineupCommand) -> Result<Ended, Failure> {
    let game = session.open_or_second()?;
    let text = match command {
        LineupCommand::Switch(args) => {
            let report = switch(session, &game, &args.name, &args.back)?;
            let text = verdict(&report.change, &format!("The stack is as in `{}`.", report.lineup));
            session.out.result(Some(&game.about().name), &report, &text);
            return Ok(Ended::Well);
        }
        LineupCommand::Build(args) => return build(session, &game, args),
        LineupCommand::Compare(args) => {
            let (from, to) = match &args.with {
                Some(with) => (Some(args.name.as_str()), with.as_str()),
                None => (None, args.name.as_str()),
            };
            let difference = game.compare_lineups(from, to)?;
            let most = if session.out.verbose { usize::MAX } else { MOST_EFFECTS };
            session.out.result(Some(&game.about().name), &difference, &difference_text(&difference, most));
            if difference.from.is_none() {
                session.out.hint(&format!(
                    "`oddstack lineup switch {} -n` lists the files that would change.",
                    quoted(&difference.to)
                ));
            }
            return Ok(Ended::Well);
        }
        LineupCommand::List => list_text(&game.lineups()?),
        LineupCommand::Save(args) => {
            let was = game.save_lineup(&args.name)?;
            let verb = if was { "is saved anew" } else { "is saved" };
            session.out.hint(&format!("`oddstack lineup switch {}` comes back to it.", quoted(&args.name)));
            format!("The lineup `{}` {verb}: {}.\n", args.name, laid_words(&game)?)
        }
        LineupCommand::Rename(args) => {
            game.rename_lineup(&args.name, &args.new)?;
            format!("The lineup `{}` is called `{}` now.\n", args.name, args.new)
        }
        LineupCommand::Drop(args) => {
            let built = game.lineups()?.into_iter().find(|row| row.name.eq_ignore_ascii_case(&args.name));
            game.drop_lineup(&args.name)?;
            let built = built.and_then(|row| row.built).map_or(String::new(), |folder| {
                format!("Its second folder, {folder}, stays as well, and is a folder like any other now.\n")
            });
            format!("The lineup `{}` is forgotten; the layers stay as they are.\n{built}", args.name)
        }
    };
    session.out.result(Some(&game.about().name), &LineupList { lineups: game.lineups()? }, &text);
    Ok(Ended::Well)
}

fn laid_words(game: &OpenGame) -> Result<String, Failure> {
    let all = game.layers()?;
    let laid = all.iter().filter(|layer| layer.laid).count();
    let lifted = all.len() - laid;
    let lifted = if lifted > 0 { format!(", {} lifted", number(lifted as u64)) } else { String::new() };
    Ok(format!("{} laid{lifted}", layers(laid as u64)))
}

/// Switches, and says what changes.
fn switch(
    session: &mut Session,
    game: &OpenGame,
    name: &str,
    args: &BackArgs,
) -> Result<SwitchReport, Failure> {
    session.tell_version(game)?;
    let prefer = args.both_changed.map(Whose::prefer);
    let switching = game.switch_lineup(name, prefer, change_options(&args.change), args.change.dry_run)?;
    let (was, difference) = (switching.was, switching.difference);
    let most = if session.out.verbose || args.change.dry_run { usize::MAX } else { MOST_EFFECTS };
    let change = session.carry_out(game, switching.change, &args.change, |out, report| {
        out.text(&format!("lineup switch {name}: {}\n{}", summary(report), layers_difference(&difference)));
        out.text(&format!("{}{}", effects(report, most), edits(report, most)));
    })?;
    if was.is_none() && !args.change.dry_run {
        session.out.warn("the stack as it was is in no lineup; `oddstack undo` has it back".to_owned());
    }
    Ok(SwitchReport { lineup: name.to_owned(), was, layers: difference, change })
}

/// Switches for another command; nothing where the stack is so already.
pub fn switch_first(
    session: &mut Session,
    game: &OpenGame,
    name: &str,
    args: &BackArgs,
) -> Result<(), Failure> {
    if game.lineups()?.iter().any(|row| row.is_present && row.name.eq_ignore_ascii_case(name)) {
        return Ok(());
    }
    let report = switch(session, game, name, args)?;
    session.out.text(&verdict(&report.change, &format!("The stack is as in `{name}`.")));
    Ok(())
}

fn list_text(rows: &[LineupRow]) -> String {
    if rows.is_empty() {
        return "No lineups yet: `oddstack lineup save NAME` saves the stack as it is.\n".to_owned();
    }
    let cells = rows.iter().map(|row| {
        let state =
            if row.is_present { cell("the stack is so now", Look::Good) } else { cell("", Look::Plain) };
        let lifted = match row.lifted_layers {
            0 => String::new(),
            count => format!(", {} lifted", number(count)),
        };
        vec![
            cell(row.name.clone(), Look::Name),
            cell(format!("{} laid{lifted}", layers(row.laid_layers)), Look::Plain),
            cell(format!("saved {}", local(&row.saved_at)), Look::Dim),
            state,
            cell(
                row.built.as_ref().map_or(String::new(), |folder| format!("built in {folder}")),
                Look::Plain,
            ),
        ]
    });
    table(&[], cells.collect())
}

fn difference_text(difference: &LineupDifference, most: usize) -> String {
    let from = match &difference.from {
        Some(from) => format!("`{from}`"),
        None => "the stack as it is".to_owned(),
    };
    let head = paint(BOLD, &format!("From {from} to `{}`:", difference.to));
    let layers = stacks_difference(&difference.layers, difference.settled_files);
    format!("{head}\n{layers}{}", files_difference(difference.files.as_deref(), most))
}

impl From<LineupError> for Failure {
    fn from(error: LineupError) -> Self {
        let code = match error {
            LineupError::Change(error) => return error.into(),
            LineupError::NoSuchLineup { .. } => "no_such_lineup",
            LineupError::NameTaken { .. } => "name_taken",
            LineupError::NoName => "no_name",
            LineupError::IsSo { .. } => "is_so",
        };
        let mut failure = Self::new(crate::errors::Exit::Failed, code, error.to_string());
        if let LineupError::NoSuchLineup { there_are, .. } = &error {
            failure.message.push_str(&match there_are.as_slice() {
                [] => "; none was saved yet".to_owned(),
                names => format!(" (there are: {})", names.join(", ")),
            });
        }
        failure
    }
}
