//! `oddstack capture`

use std::io;
use std::path::PathBuf;
use std::process::{Command, ExitStatus, Stdio};
use std::time::Instant;

use clap::Args;
use odd_stack_core::OpenGame;
use odd_stack_core::change::ChangeOptions;
use odd_stack_core::front::Refused;
use odd_stack_core::jobs::GuardMeans;
use odd_stack_core::jobs::{
    AddError, CaptureEnd, CaptureError, CaptureRequest, Capturing, ChangeReport, GuardReport, ProgramEnd,
};
use odd_stack_core::ledger::Layer;
use odd_stack_core::stack::plain_name;
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::program::{found, ran, refusal, run_to_the_end, with_its_runner};
use super::standing::MOST_EFFECTS;
use super::upgrade::UpgradeArgs;
use crate::Ended;
use crate::errors::{Exit, Failure};
use crate::session::{Session, change_options};
use crate::shell::quoted;
use crate::show::about::title;
use crate::show::change::{edits, verdict};
use crate::show::style::{BOLD, DIM, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, files, size};

/// How a program is run for a capture.
#[derive(Debug, Clone, Default, Args)]
pub struct RunArgs {
    /// The folder that the program runs in, as an address; the game's main folder otherwise
    #[arg(long = "in", value_name = "SPOT", help_heading = "The program")]
    pub folder: Option<String>,
    /// A variable in the program's environment
    #[arg(long, value_name = "K=V", help_heading = "The program")]
    pub env: Vec<String>,
    /// What the program may write: only originals that match the pattern are copied first
    #[arg(long, value_name = "GLOB", help_heading = "The program")]
    pub watch: Vec<String>,
    /// Give originals a second name instead of copying them: fast, but what the program writes into a file in place
    /// is then lost
    #[arg(long, help_heading = "The program")]
    pub link_originals: bool,
}

#[derive(Debug, Args)]
#[command(
    after_help = "oddstack capture NAME -- COMMAND...   run a program; what it changes becomes a layer\n\
                        oddstack capture NAME --begin         change things by hand, then\n\
                        oddstack capture --end                make a layer of what you changed, or\n\
                        oddstack capture --cancel             take back all that was changed"
)]
pub struct CaptureArgs {
    /// The layer's name
    #[arg(value_name = "NAME", required_unless_present_any = ["end", "cancel"])]
    pub name: Option<String>,
    /// The layer's version
    #[arg(long, value_name = "V")]
    pub version: Option<String>,
    #[command(flatten)]
    pub run: RunArgs,
    /// Leave out what matches the pattern, such as an uninstaller: it is removed from the game again
    #[arg(long, value_name = "GLOB")]
    pub skip: Vec<String>,
    /// Begin, and let me work by hand
    #[arg(long, conflicts_with_all = ["end", "cancel", "command"])]
    pub begin: bool,
    /// End what was begun: make a layer of what was changed
    #[arg(long, conflicts_with_all = ["cancel", "command", "name"])]
    pub end: bool,
    /// Take back all that was changed since it began
    #[arg(long, conflicts_with_all = ["command", "name"])]
    pub cancel: bool,
    /// With --end or --cancel: only say what would be done
    #[arg(short = 'n', long)]
    pub dry_run: bool,
    /// The program with its arguments
    #[arg(last = true, value_name = "COMMAND")]
    pub command: Vec<String>,
}

/// What JSON tells of `capture --begin`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct CaptureBegun {
    /// The layer's name.
    pub name: String,
    /// What was protected.
    pub guarded: GuardReport,
}

/// What JSON tells of `capture --cancel`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct CaptureCancelled {
    /// Files of the game's own that can't be recovered.
    pub originals_lost: Vec<String>,
    /// What changes on disk.
    pub change: ChangeReport,
}

pub fn run(session: &mut Session, args: &CaptureArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    if args.end {
        return end(session, &game, None, &args.skip, args.dry_run);
    }
    if args.cancel {
        return cancel(session, &game, None, args.dry_run);
    }
    let usage = |message: &str| Failure::new(Exit::Usage, "usage", message);
    if args.dry_run {
        return Err(usage("what a program will do can't be told before it has run; leave --dry-run out"));
    }
    if !args.begin && args.command.is_empty() {
        return Err(usage("say what to run, as in `oddstack capture NAME -- COMMAND...`, or --begin"));
    }
    let request = CaptureRequest {
        name: args.name.clone().unwrap_or_default(),
        version: args.version.clone(),
        exchange: None,
        command: (!args.begin).then(|| args.command.clone()),
        watch: args.run.watch.clone(),
        links: args.run.link_originals,
    };
    carry_out(session, &game, &request, &args.run, &args.skip, ChangeOptions::default())
}

/// Lifts a captured layer, runs the program of its new version on what lies beneath or lets a person work, and
/// exchanges.
pub fn upgrade(
    session: &mut Session,
    game: &OpenGame,
    old: &Layer,
    args: &UpgradeArgs,
) -> Result<Ended, Failure> {
    let named = &args.package.named;
    let request = CaptureRequest {
        name: old.about.name.clone(),
        version: named.version.clone().or_else(|| old.about.version.clone()),
        exchange: Some(old.id),
        command: (!args.begin).then(|| args.command.clone()),
        watch: args.run.watch.clone(),
        links: args.run.link_originals,
    };
    let options = change_options(&args.change);
    carry_out(session, game, &request, &args.run, &args.package.place.skip, options)
}

/// Ends the exchange of a layer by hand.
pub fn end_upgrade(
    session: &mut Session,
    game: &OpenGame,
    old: &Layer,
    args: &UpgradeArgs,
) -> Result<Ended, Failure> {
    let dry_run = args.change.dry_run;
    let exchanged = game.capture_exchanges()?;
    if exchanged != Some(old.id) {
        let message = format!("what is under way is no new version of {}", old.about.name);
        return Err(Failure::new(Exit::Undecided, "other_capture", message)
            .choice("make a layer of what was changed", "oddstack capture --end")
            .choice("take back all that was changed", "oddstack capture --cancel"));
    }
    end(session, game, None, &args.package.place.skip, dry_run)
}

fn carry_out(
    session: &mut Session,
    game: &OpenGame,
    request: &CaptureRequest,
    run: &RunArgs,
    skip: &[String],
    options: ChangeOptions,
) -> Result<Ended, Failure> {
    // What can't be run is told before anything is begun.
    let command = request.command.as_deref().map(|words| prepared(game, words, run)).transpose()?;
    let capturing = game.begin_capture(request, options).map_err(|error| {
        let taken = match &error {
            Refused::Job(CaptureError::Name(name)) => match &**name {
                AddError::NameTaken { name, free, .. } => Some((name.clone(), free.clone())),
                _ => None,
            },
            _ => None,
        };
        said_again(error.into(), taken)
    })?;
    tell_guarded(session, &capturing.guarded);
    let Some((mut command, program)) = command else {
        let begun = CaptureBegun { name: request.name.clone(), guarded: capturing.guarded.clone() };
        let text = format!(
            "{}\n  `oddstack capture --end` makes a layer of it, `oddstack capture --cancel` takes it all back.\n",
            paint(BOLD, &format!("Now change what is to become {}.", request.name))
        );
        session.out.result(Some(&game.about().name), &begun, &text);
        return Ok(Ended::Well);
    };
    if session.out.json {
        command.stdout(Stdio::from(std::io::stderr()));
    }
    let began = Instant::now();
    let (ended, interrupted) = run_to_the_end(&mut command, Vec::new);
    let exit_code = match &ended {
        Ok(status) => status.code(),
        Err(_) => None,
    };
    let end_of_it = ProgramEnd { exit_code, seconds: began.elapsed().as_secs() };
    game.note_program_end(&capturing, &end_of_it)?;
    let held = Some(capturing);
    let Some(trouble) = trouble(&program, &ended, interrupted).or_else(|| still_running(game)) else {
        return end(session, game, held, skip, false).map_err(has_changed_things);
    };
    let choices = ["make a layer of what it changed".to_owned(), "take back all that it did".to_owned()];
    match session.ask(&trouble, &choices)? {
        Some(0) => end(session, game, held, skip, false).map_err(has_changed_things),
        Some(_) => cancel(session, game, held, false),
        None if ended.is_err() => {
            // Nothing has run, so nothing is to be decided.
            cancel(session, game, held, false)?;
            Err(Failure::new(Exit::Failed, "cannot_run", trouble))
        }
        None => Err(Failure::new(
            Exit::WantsAttention,
            "program_failed",
            format!("{trouble}; what it changed is there"),
        )
        .choice("make a layer of what it changed", "oddstack capture --end")
        .choice("take back all that it did", "oddstack capture --cancel")),
    }
}

/// Why it is not plain that what the program changed is as it should be.
fn trouble(program: &str, ended: &io::Result<ExitStatus>, interrupted: bool) -> Option<String> {
    match (ended, interrupted) {
        (Err(error), _) => Some(refusal(program, error)),
        (Ok(_), true) => Some(format!("{program} was interrupted")),
        (Ok(status), false) if !status.success() => Some(match status.code() {
            Some(code) => format!("{program} ended with exit code {code}"),
            None => format!("{program} was ended by a signal"),
        }),
        _ => None,
    }
}

/// The same command for another name, and for another version of the layer that has it.
fn said_again(failure: Failure, taken: Option<(String, String)>) -> Failure {
    let Some((name, free)) = taken else { return failure };
    let words: Vec<String> =
        std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
    let own = &words[..words.iter().position(|word| word == "--").unwrap_or(words.len())];
    let command = own.iter().position(|word| word == "capture");
    let named = own.iter().rposition(|word| plain_name(word) == plain_name(&name));
    let (Some(command), Some(named)) = (command, named) else { return failure };
    let with = |at: usize, word: &str| {
        let said = words.iter().enumerate();
        let said = said.map(|(index, other)| quoted(if index == at { word } else { other.as_str() }));
        format!("oddstack {}", said.collect::<Vec<_>>().join(" "))
    };
    failure
        .choice("another name", with(named, &free))
        .choice("another version, in its place", with(command, "upgrade"))
}

/// A failure after the program has run: there is something to decide, and what the program changed is there.
fn has_changed_things(mut failure: Failure) -> Failure {
    if failure.exit == Exit::Undecided {
        failure.exit = Exit::WantsAttention;
    }
    failure
}

/// A program of the game that goes on running.
fn still_running(game: &OpenGame) -> Option<String> {
    let running = game.running();
    let first = running.first()?;
    Some(format!("{} (process {}) is still running", first.program.display(), first.process))
}

fn tell_guarded(session: &mut Session, guarded: &GuardReport) {
    let what = format!("{}, {}", files(guarded.files), size(guarded.bytes));
    let line = match guarded.means {
        GuardMeans::Copied => format!("copied first, since the program may write over them: {what}"),
        GuardMeans::Linked => {
            format!("given a second name first: {what}; what is written in place can't be recovered")
        }
        GuardMeans::Shared => format!("protected first, sharing their room on the disk: {what}"),
        GuardMeans::Nothing => return,
    };
    session.out.hint(&line);
    if guarded.unprotected_files > 0 {
        let rest = files(guarded.unprotected_files);
        session.out.hint(&format!("{rest} of the game's own do not meet --watch and are not protected"));
    }
    if guarded.drifted_files > 0 {
        let count = counted(guarded.drifted_files, "file is", "files are");
        session.out.warn(format!("{count} not as the stack says to begin with; `oddstack check` lists them"));
    }
}

/// The program with all it gets, ready to run, and what a person calls it.
fn prepared(game: &OpenGame, words: &[String], run: &RunArgs) -> Result<(Command, String), Failure> {
    let folder = match &run.folder {
        None => game.about().roots[0].folder.clone(),
        Some(text) => {
            let bad = |error: &dyn std::fmt::Display| {
                Failure::new(Exit::Usage, "bad_address", format!("--in {text}: {error}"))
            };
            let address = game.about().meant(text).map_err(|error| bad(&error))?;
            let root = game.about().root_named(&address.root).ok_or_else(|| bad(&"no such folder"))?;
            let folder: PathBuf = address.path.on(&root.folder);
            if !folder.is_dir() {
                return Err(bad(&format!("{} is no folder", folder.display())));
            }
            folder
        }
    };
    let mut words = words.to_vec();
    let Some(named) = words.first_mut() else {
        return Err(Failure::new(Exit::Usage, "usage", "say what to run"));
    };
    *named = found(named, &folder)?.display().to_string();
    let command = words;
    let words = with_its_runner(game, &command, &folder)?;
    let told = ran(&words, &command);
    let Some((program, arguments)) = words.split_first() else {
        return Err(Failure::new(Exit::Usage, "usage", "say what to run"));
    };
    let mut command = Command::new(program);
    command.args(arguments).current_dir(folder);
    for pair in &run.env {
        let Some((name, value)) = pair.split_once('=').filter(|(name, _)| !name.is_empty()) else {
            return Err(Failure::new(Exit::Usage, "bad_pair", format!("`{pair}` is not K=V")));
        };
        command.env(name, value);
    }
    Ok((command, told))
}

fn end(
    session: &mut Session,
    game: &OpenGame,
    held: Option<Capturing>,
    skip: &[String],
    dry_run: bool,
) -> Result<Ended, Failure> {
    let exchanged = game.capture_exchanges()?;
    let old = game.layers()?.into_iter().find(|layer| Some(layer.id) == exchanged);
    let ending = game.end_capture(held, skip, dry_run)?;
    let mut report = ending.report.clone();
    let most = if session.out.verbose || dry_run { usize::MAX } else { MOST_EFFECTS };
    report.change = match ending.change {
        Some(prepared) => session.make(game, prepared, dry_run, false, |out, change| {
            out.text(&format!("{}{}", captured(&report, most), edits(change, most)));
        })?,
        None => ChangeReport { dry_run, ..ChangeReport::default() },
    };
    let text = match &report.layer {
        Some(layer) => {
            let lies = place(game, layer)?;
            verdict(
                &report.change,
                &match old.map(|old| title(&old.about.name, old.about.version.as_deref(), None)) {
                    Some(old) => format!("{layer} took the place of {old}, {lies}."),
                    None => format!("{layer} is a layer now, {lies}."),
                },
            )
        }
        None if report.change.revision.is_some() => {
            verdict(&report.change, "Nothing is left to make a layer of.")
        }
        None => format!("{}\n", paint(BOLD, "Nothing was changed, so there is no layer.")),
    };
    session.out.result(Some(&game.about().name), &report, &text);
    Ok(Ended::Well)
}

fn place(game: &OpenGame, name: &str) -> Result<String, Failure> {
    let layers = game.layers()?;
    let at = layers.iter().position(|layer| layer.about.name == name);
    let lies = match at.and_then(|at| layers.get(at + 1)) {
        Some(above) if !above.about.source.is_empty() => format!("below {}", quoted(&above.about.name)),
        _ => "on top".to_owned(),
    };
    let is_lifted = at.is_some_and(|at| !layers[at].laid);
    Ok(if is_lifted { format!("{lies}, and is lifted") } else { lies })
}

/// What was captured.
fn captured(report: &CaptureEnd, most: usize) -> String {
    let mut text = String::new();
    if let Some(made_by) = &report.made_by {
        let what = match made_by.command.as_slice() {
            [] => "changed by hand".to_owned(),
            words => words.join(" "),
        };
        let how = match &made_by.end {
            Some(end) => format!(
                ", exit code {}, {} s",
                end.exit_code.map_or("none".to_owned(), |code| code.to_string()),
                end.seconds
            ),
            None => String::new(),
        };
        text.push_str(&format!("{}{}\n", paint(BOLD, &what), paint(DIM, &how)));
    }
    let mut rows = Vec::new();
    let lists = [
        ("added", Look::Good, &report.added),
        ("changed", Look::Warn, &report.changed),
        ("taken away", Look::Warn, &report.taken_away),
        ("left out", Look::Dim, &report.left_out),
        ("original lost", Look::Warn, &report.originals_lost),
    ];
    for (word, look, list) in lists {
        rows.extend(list.iter().map(|address| vec![cell(word, look), cell(address.clone(), Look::Plain)]));
    }
    rows.extend(report.settings.iter().map(|row| {
        let keys = cell(row.keys.join(", "), Look::Dim);
        vec![cell("settings", Look::Good), cell(row.address.clone(), Look::Plain), keys]
    }));
    let all = rows.len();
    text.push_str(&table(&[], rows.into_iter().take(most).collect()));
    if all > most {
        text.push_str(&paint(DIM, &format!("  ... and {} more (-v lists all)\n", all - most)));
    }
    if report.alike_files > 0 {
        let line = format!("  {} written anew just as they were: no part of it\n", files(report.alike_files));
        text.push_str(&paint(DIM, &line));
    }
    if report.volatile_files > 0 {
        let line =
            format!("  {} where the game writes by itself: no part of it\n", files(report.volatile_files));
        text.push_str(&paint(DIM, &line));
    }
    if !report.originals_lost.is_empty() {
        let count = counted(report.originals_lost.len() as u64, "original", "originals");
        let line = format!(
            "  {count} can't be recovered: let the game's client repair its files once the layer is lifted,\n  \
             then `oddstack mend --accept`\n"
        );
        text.push_str(&paint(WARN, &line));
    }
    text
}

fn cancel(
    session: &mut Session,
    game: &OpenGame,
    held: Option<Capturing>,
    dry_run: bool,
) -> Result<Ended, Failure> {
    let cancelling = game.cancel_capture(held, dry_run)?;
    let originals_lost = cancelling.originals_lost;
    let most = if session.out.verbose || dry_run { usize::MAX } else { MOST_EFFECTS };
    let change = match cancelling.change {
        Some(prepared) => session.make(game, prepared, dry_run, false, |out, report| {
            out.text(&crate::show::change::effects(report, most));
        })?,
        None => ChangeReport { dry_run, ..ChangeReport::default() },
    };
    let saved = change.kept.len() as u64;
    if !dry_run && let Some(prepared) = game.close_cancelled_capture()? {
        session.apply(game, prepared)?;
    }
    let mut text = if dry_run {
        format!("{}\n", paint(BOLD, "Dry run: nothing was changed."))
    } else {
        format!("{}\n", paint(BOLD, "All is as it was before the capture."))
    };
    if saved > 0 && !dry_run {
        text.push_str(&paint(DIM, &format!("  what it had made is saved in the ledger: {}\n", files(saved))));
    }
    if !originals_lost.is_empty() {
        let count = counted(originals_lost.len() as u64, "file", "files");
        let line = format!(
            "  but for {count} of the game's own, which were not protected; let its client repair them:\n"
        );
        text.push_str(&paint(WARN, &line));
        text.extend(originals_lost.iter().map(|address| format!("    {address}\n")));
    }
    let is_whole = originals_lost.is_empty();
    session.out.result(Some(&game.about().name), &CaptureCancelled { originals_lost, change }, &text);
    Ok(if is_whole { Ended::Well } else { Ended::WantsAttention })
}
