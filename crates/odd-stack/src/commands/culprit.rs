//! `oddstack culprit`

use std::path::PathBuf;
use std::process::{Command, Stdio};

use clap::Args;
use odd_stack_core::OpenGame;
use odd_stack_core::jobs::{ChangeReport, CulpritError, CulpritReport, CulpritStep};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::program::{found, refusal, run_to_the_end};
use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::args::ChangeArgs;
use crate::errors::{Exit, Failure};
use crate::session::{Session, change_options};
use crate::shell::quoted;
use crate::show::change::{edits, effects, summary};
use crate::show::style::{BOLD, DIM, NAME, paint};
use crate::show::units::{counted, number};

#[derive(Debug, Args)]
#[command(
    after_help = "oddstack culprit                  lay half of the layers, and ask whether the game works\n\
                        oddstack culprit --works          it does, with what is laid now\n\
                        oddstack culprit --broken         it does not\n\
                        oddstack culprit -- COMMAND...    let a program say it: exit code 0 means that it works\n\
                        oddstack culprit --cancel         give up: all layers as they were"
)]
pub struct CulpritArgs {
    /// The game works with what is laid now
    #[arg(long, group = "step")]
    pub works: bool,
    /// The game does not work with what is laid now
    #[arg(long, group = "step")]
    pub broken: bool,
    /// Give up: lay all layers again as they were
    #[arg(long, group = "step")]
    pub cancel: bool,
    /// A program that says whether it works, in the game's main folder
    #[arg(last = true, value_name = "COMMAND", conflicts_with = "step")]
    pub command: Vec<String>,
    #[command(flatten)]
    pub change: ChangeArgs,
}

/// What JSON tells.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct CulpritAnswer {
    /// How the search stands.
    #[serde(flatten)]
    pub search: CulpritReport,
    /// What changed on disk last; none where it was only looked.
    pub change: Option<ChangeReport>,
}

pub fn run(session: &mut Session, args: &CulpritArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    // What can't be run is told before anything is begun.
    let judge = judge(&game, &args.command)?;
    let step = match args {
        CulpritArgs { works: true, .. } => Some(CulpritStep::Works),
        CulpritArgs { broken: true, .. } => Some(CulpritStep::Broken),
        CulpritArgs { cancel: true, .. } => Some(CulpritStep::Cancel),
        _ if game.culprit_status()?.is_none() => Some(CulpritStep::Begin),
        _ => None,
    };
    let mut answer = match step {
        Some(step) => take(session, &game, step, &args.change)?,
        None => {
            let search = game.culprit_status()?.ok_or_else(|| Failure::from(CulpritError::NoneUnderWay))?;
            session.out.text(&try_words(&search));
            CulpritAnswer { search, change: None }
        }
    };
    while !answer.search.is_over && !args.change.dry_run {
        let Some(step) = said(session, &game, args, judge.as_ref())? else { break };
        answer = take(session, &game, step, &args.change)?;
    }
    let text = match (answer.search.is_over, step) {
        _ if args.change.dry_run => format!("{}\n", paint(BOLD, "Dry run: nothing was changed.")),
        (true, _) => end_words(&answer.search),
        (false, _) => String::new(),
    };
    if !answer.search.is_over && !args.change.dry_run {
        session.out.hint(
            "Start the game (`oddstack play`), then say `oddstack culprit --works` or `oddstack culprit --broken`; \
             `oddstack culprit --cancel` gives up and puts all layers back.",
        );
    }
    session.out.result(Some(&game.about().name), &answer, &text);
    Ok(Ended::Well)
}

/// Makes one step, and says what is laid for the next try.
fn take(
    session: &mut Session,
    game: &OpenGame,
    step: CulpritStep,
    args: &ChangeArgs,
) -> Result<CulpritAnswer, Failure> {
    let searching = game.search_culprit(step, change_options(args))?;
    let search = searching.report;
    let most = if session.out.verbose || args.dry_run { usize::MAX } else { 0 };
    let asks = step == CulpritStep::Begin;
    let change = session.make(game, searching.change, args.dry_run, asks, |out, report| {
        if !search.is_over {
            out.text(&try_words(&search));
        }
        out.text(&paint(DIM, &format!("  {}\n", summary(report))));
        out.text(&format!("{}{}", effects(report, most), edits(report, MOST_EFFECTS)));
    })?;
    Ok(CulpritAnswer { search, change: Some(change) })
}

/// What the program or the person says of the present try; nothing when nobody says anything now.
fn said(
    session: &mut Session,
    game: &OpenGame,
    args: &CulpritArgs,
    judge: Option<&Judge>,
) -> Result<Option<CulpritStep>, Failure> {
    if let Some(judge) = judge {
        return judged(session, game, judge).map(Some);
    }
    if args.works || args.broken || args.cancel {
        return Ok(None);
    }
    let choices = ["it works", "it does not work", "leave it for now", "give up: all layers as they were"];
    let picked = session.ask_from("Try the game. How is it now?", &choices.map(str::to_owned), false)?;
    Ok(match picked {
        Some(0) => Some(CulpritStep::Works),
        Some(1) => Some(CulpritStep::Broken),
        Some(3) => Some(CulpritStep::Cancel),
        _ => None,
    })
}

/// A program that says whether it works.
struct Judge {
    words: Vec<String>,
    program: PathBuf,
    folder: PathBuf,
}

fn judge(game: &OpenGame, words: &[String]) -> Result<Option<Judge>, Failure> {
    let Some(named) = words.first() else { return Ok(None) };
    let folder = game.about().roots.first().map(|root| root.folder.clone()).unwrap_or_default();
    let program = found(named, &folder)?;
    Ok(Some(Judge { words: words.to_vec(), program, folder }))
}

/// Lets a program say it.
fn judged(
    session: &mut Session,
    game: &OpenGame,
    Judge { words, program, folder }: &Judge,
) -> Result<CulpritStep, Failure> {
    let mut command = Command::new(program);
    command.args(&words[1..]).current_dir(folder);
    if session.out.json {
        command.stdout(Stdio::from(std::io::stderr()));
    }
    let (ended, interrupted) = run_to_the_end(&mut command, || game.running());
    let status =
        ended.map_err(|error| Failure::new(Exit::Failed, "cannot_run", refusal(&words.join(" "), &error)))?;
    if interrupted {
        let message = "the program was interrupted, so it says nothing of this try";
        return Err(Failure::new(Exit::Undecided, "interrupted", message)
            .choice(
                "go on",
                format!(
                    "oddstack culprit -- {}",
                    words.iter().map(|word| quoted(word)).collect::<Vec<_>>().join(" ")
                ),
            )
            .choice("give up: all layers as they were", "oddstack culprit --cancel"));
    }
    let works = status.success();
    session.out.text(&format!("  {}\n", if works { "it works" } else { "it does not work" }));
    Ok(if works { CulpritStep::Works } else { CulpritStep::Broken })
}

fn try_words(search: &CulpritReport) -> String {
    let of = match search.tries <= search.most_tries {
        true => format!(" of at most {}", number(search.most_tries)),
        false => ", for it takes more than one layer".to_owned(),
    };
    let head = format!(
        "Try {}{of}: {} laid, {} off",
        number(search.tries),
        counted(search.laid.len() as u64, "layer", "layers"),
        number(search.lifted.len() as u64)
    );
    let laid = if search.laid.is_empty() { "none".to_owned() } else { search.laid.join(", ") };
    format!("{}\n  laid: {}\n", paint(BOLD, &head), paint(NAME, &laid))
}

fn end_words(search: &CulpritReport) -> String {
    let back = "All layers are as they were.";
    if search.none_of_them {
        return format!(
            "{}\n  {back} `oddstack check --deep` compares the game's own files; its client can repair them.\n",
            paint(BOLD, "It is broken without any of the layers, so none of them is to blame.")
        );
    }
    // Layers that need each other count as one.
    let units: Vec<String> = search.found.iter().map(|unit| unit.join(" with ")).collect();
    let verdict = match units.as_slice() {
        [] => return format!("{}\n", paint(BOLD, back)),
        [only] => format!("{only} breaks the game."),
        [most @ .., last] => {
            format!(
                "{} and {last} break the game together: without any one of them it works.",
                most.join(", ")
            )
        }
    };
    let first = search.found.last().and_then(|unit| unit.last()).cloned().unwrap_or_default();
    format!(
        "{}\n  {back} `oddstack lift {}` takes it off; `oddstack show {}` tells what it does.\n",
        paint(BOLD, &verdict),
        quoted(&first),
        quoted(&first)
    )
}

impl From<CulpritError> for Failure {
    fn from(error: CulpritError) -> Self {
        match error {
            CulpritError::Change(error) => error.into(),
            CulpritError::NoneUnderWay => Self::new(Exit::Failed, "none_under_way", error.to_string())
                .choice("begin one", "oddstack culprit"),
            CulpritError::NothingLaid => Self::new(Exit::Failed, "nothing_laid", error.to_string()),
        }
    }
}
