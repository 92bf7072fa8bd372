//! `oddstack play`

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Instant, SystemTime};

use clap::Args;
use odd_stack_core::OpenGame;
use odd_stack_core::jobs::{Launch, LayerClears, PlayError, ProofRow, Written};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::going_back::BackArgs;
use super::lineup::switch_first;
use super::program::{ran, refusal, run_to_the_end, with_its_runner};
use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::args::ChangeArgs;
use crate::errors::{Exit, Failure};
use crate::questions::confirm;
use crate::session::Session;
use crate::shell::quoted;
use crate::show::needs::unmet_words;
use crate::show::style::{BOLD, DIM, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, files};
use crate::show::wishes::{clear_words, environment_words, loads_words};

#[derive(Debug, Args)]
pub struct PlayArgs {
    /// A way to start it: the name of a layer that brings one, the game's own name, or a lineup with a second folder
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    /// Switch to this lineup first
    #[arg(long, value_name = "NAME")]
    pub lineup: Option<String>,
    /// Agree to what layers want started and cleared, until that changes
    #[arg(long)]
    pub trust: bool,
    /// Clear nothing that layers want cleared
    #[arg(long)]
    pub no_clearing: bool,
    /// Only say what would be cleared and started
    #[arg(short = 'n', long)]
    pub dry_run: bool,
}

/// What JSON tells of `play`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct PlayReport {
    /// Nothing was started: it was only looked what would be.
    pub dry_run: bool,
    /// What was started, and how.
    pub launch: Launch,
    /// A person has agreed to all that layers want; without that nothing is started.
    pub agreed: bool,
    /// Files that were not as the stack says before.
    pub drifted_files: u64,
    /// What was cleared before, and is saved in the ledger.
    pub cleared: Vec<String>,
    /// The program's exit code.
    pub exit_code: Option<i32>,
    /// How long it ran, in seconds.
    pub seconds: u64,
    /// What was written in the game meanwhile.
    pub written: Written,
    /// Whether one sees that the layers work.
    pub proofs: Vec<ProofRow>,
}

/// Says what of the game may not work, and gives how many files are not as the stack says.
fn tell_state(session: &mut Session, game: &OpenGame) -> Result<u64, Failure> {
    session.tell_version(game)?;
    session.tell_doubts(game)?;
    for unmet in game.stack()?.unmet.iter().filter(|unmet| !unmet.despite) {
        session.out.warn(format!("{}: {}", unmet_words(unmet), unmet.found));
    }
    let drifted_files = game.check(false)?.drifted.len() as u64;
    if drifted_files > 0 {
        let count = counted(drifted_files, "file is", "files are");
        session.out.warn(format!("{count} not as the stack says; `oddstack check` lists them"));
    }
    Ok(drifted_files)
}

/// As [`tell_state`], of the second folder of a lineup.
fn tell_second(session: &mut Session, game: &OpenGame, lineup: &str) -> Result<u64, Failure> {
    let found = game.check_built(lineup, false)?;
    if found.behind_files > 0 {
        let count = counted(found.behind_files, "file", "files");
        session.out.warn(format!(
            "the lineup has {count} otherwise by now; `oddstack lineup build {}` brings the second folder up to date",
            quoted(lineup)
        ));
    }
    Ok(found.drifted.len() as u64)
}

/// What is started: in a second folder, where one stands in it or names its lineup and nothing else has that name.
fn launch_of(session: &Session, game: &OpenGame, args: &PlayArgs) -> Result<Launch, Failure> {
    let built = |lineup: &str| Ok::<_, Failure>(game.launch_built(lineup)?);
    let Some(name) = &args.name else {
        let here = if args.lineup.is_none() { session.built_here(game)? } else { None };
        return match here {
            Some(lineup) => Ok(built(&lineup)?.map_or_else(|| game.launch(None), Ok)?),
            None => Ok(game.launch(None)?),
        };
    };
    match game.launch(Some(name)) {
        Err(error @ PlayError::NoSuchStart { .. }) => match built(name)? {
            Some(launch) => Ok(launch),
            None => Err(error.into()),
        },
        found => Ok(found?),
    }
}

pub fn run(session: &mut Session, args: &PlayArgs) -> Result<Ended, Failure> {
    let game = session.open_or_second()?;
    if let Some(lineup) = &args.lineup {
        let back = BackArgs { both_changed: None, change: ChangeArgs::plain(args.dry_run) };
        switch_first(session, &game, lineup, &back)?;
    }
    let launch = launch_of(session, &game, args)?;
    let is_second = launch.lineup.is_some();
    let own = &launch.words[launch.words.len() - launch.own_words..];
    let words = with_its_runner(&game, own, Path::new(&launch.folder))?;
    let what_ran = ran(&words, own);
    let drifted_files = match &launch.lineup {
        Some(lineup) => tell_second(session, &game, lineup)?,
        None => tell_state(session, &game)?,
    };
    let wanted = if args.no_clearing || is_second { Vec::new() } else { game.wanted_clearing()? };
    let is_agreed = agreed(session, &game, args, &launch, &wanted)?;
    let cleared = clear(session, &game, &wanted, args)?;
    let mut report = PlayReport {
        dry_run: args.dry_run,
        launch,
        agreed: is_agreed,
        drifted_files,
        cleared,
        exit_code: None,
        seconds: 0,
        written: Written::default(),
        proofs: Vec::new(),
    };
    session.out.text(&before(&report));
    if args.dry_run {
        session.out.result(Some(&game.about().name), &report, &dry_run_text(is_agreed));
        return Ok(Ended::Well);
    }
    let seen = game.glance()?;
    let mut command = Command::new(&report.launch.words[0]);
    command
        .args(&report.launch.words[1..])
        .envs(&report.launch.environment)
        .current_dir(&report.launch.folder);
    if session.out.json {
        command.stdout(Stdio::from(std::io::stderr()));
    }
    let (began, started) = (Instant::now(), SystemTime::now());
    // A launcher may end at once; the game is what is waited for.
    let lineup = report.launch.lineup.clone();
    let (ended, _) = run_to_the_end(&mut command, || match &lineup {
        Some(lineup) => game.running_in_built(lineup),
        None => game.running(),
    });
    let status =
        ended.map_err(|error| Failure::new(Exit::Failed, "cannot_run", refusal(&what_ran, &error)))?;
    report.exit_code = status.code();
    report.seconds = began.elapsed().as_secs();
    report.written = game.written_since(seen)?;
    // The game by its own name is started without what layers want, so it proves nothing of them.
    let is_plain = report.launch.layer.is_none() && args.name.is_some();
    report.proofs = if is_plain || is_second { Vec::new() } else { game.proofs(Some(started))? };
    let most = if session.out.verbose { usize::MAX } else { MOST_EFFECTS };
    let text = after(&report, &what_ran, most);
    session.out.result(Some(&game.about().name), &report, &text);
    Ok(if report.proofs.iter().all(|proof| proof.holds) { Ended::Well } else { Ended::WantsAttention })
}

fn dry_run_text(is_agreed: bool) -> String {
    let mut text = format!("{}\n", paint(BOLD, "Dry run: nothing was started."));
    if !is_agreed {
        text.push_str(&paint(WARN, "The real run asks first whether you agree to this.\n"));
    }
    text
}

/// Whether a person has agreed to all that layers want; else they are asked, or told that nobody can be.
fn agreed(
    session: &mut Session,
    game: &OpenGame,
    args: &PlayArgs,
    launch: &Launch,
    wanted: &[LayerClears],
) -> Result<bool, Failure> {
    let start = game.is_start_unagreed(launch)?;
    let clears = game.unagreed_clearing(wanted)?;
    if !start && clears.is_empty() {
        return Ok(true);
    }
    let mut asked = Vec::new();
    if let (true, Some(layer)) = (start, &launch.layer) {
        asked.push(format!("{layer} wants this started: {}", launch_words(launch)));
    }
    let of_clears = clears.iter();
    asked.extend(of_clears.map(|it| format!("{} wants this cleared: {}", it.layer, clear_words(&it.clears))));
    if args.dry_run {
        return Ok(false);
    }
    if !args.trust {
        let agrees = session.can_ask() && {
            session.out.text(&format!("{}\n", asked.join("\n")));
            confirm("Nobody has agreed to this yet. Do you?", false)?
        };
        if !agrees {
            return Err(not_agreed(asked, game, start, !clears.is_empty()));
        }
    }
    game.agree(launch, wanted)?;
    Ok(true)
}

fn not_agreed(asked: Vec<String>, game: &OpenGame, start: bool, clears: bool) -> Failure {
    let message = "a layer wants what you have not agreed to yet; nothing was started or cleared:";
    let mut failure = Failure::new(Exit::Undecided, "not_agreed", message)
        .about(asked)
        .choice("agree to just this, now and until it changes", "--trust");
    let no_clearing = if clears { " --no-clearing" } else { "" };
    if start && game.about().program.is_some() {
        let game = format!("oddstack play {}{no_clearing}", quoted(&game.about().name));
        failure = failure.choice("start the game by its own main program instead, as it is", game);
    }
    if !start {
        failure = failure.choice("clear nothing", "--no-clearing");
    }
    failure
}

/// Clears what layers want cleared after a change.
fn clear(
    session: &mut Session,
    game: &OpenGame,
    wanted: &[LayerClears],
    args: &PlayArgs,
) -> Result<Vec<String>, Failure> {
    let mut cleared: Vec<String> = wanted.iter().flat_map(|it| it.clears.addresses.iter().cloned()).collect();
    cleared.sort();
    cleared.dedup();
    if !args.dry_run
        && !args.no_clearing
        && let Some(change) = game.clear(wanted)?
    {
        session.apply(game, change)?;
    }
    Ok(cleared)
}

/// All that is started, in full.
fn launch_words(launch: &Launch) -> String {
    let words: Vec<&str> = launch.words.iter().map(String::as_str).collect();
    let mut text = words.join(" ");
    if !launch.environment.is_empty() {
        text.push_str(&format!(" with {}", environment_words(launch.environment.iter())));
    }
    text.push_str(&loads_words(&launch.loads_code));
    text
}

fn before(report: &PlayReport) -> String {
    let mut text = String::new();
    if !report.cleared.is_empty() {
        let verb = match report.dry_run {
            true => "would be cleared, for the game to make anew",
            false => {
                "cleared, for the game to make anew (`oddstack mend --cleared` puts back what was cleared)"
            }
        };
        text.push_str(&format!("  {} {verb}\n", files(report.cleared.len() as u64)));
    }
    let Launch { program, layer, lineup, .. } = &report.launch;
    let mut whose = layer.as_ref().map(|layer| format!(", as {layer} wants it")).unwrap_or_default();
    if let Some(lineup) = lineup {
        whose.push_str(&format!(", in the second folder of the lineup {lineup}"));
    }
    text.push_str(&format!("{}{}\n", paint(BOLD, &format!("starting {program}")), paint(DIM, &whose)));
    text.push_str(&paint(DIM, &format!("  {}\n", launch_words(&report.launch))));
    text
}

fn after(report: &PlayReport, what_ran: &str, most: usize) -> String {
    let code = report.exit_code.map_or("ended by a signal".to_owned(), |code| format!("exit code {code}"));
    // A runner's end is not the program's.
    let who =
        if what_ran.starts_with("the runner ") { format!("{what_ran} ran") } else { "It ran".to_owned() };
    let mut text = format!("{who} for {} s, {code}.\n", report.seconds);
    let written = &report.written;
    let lists = [("added", &written.added), ("changed", &written.changed), ("gone", &written.gone)];
    let rows: Vec<_> = lists
        .into_iter()
        .flat_map(|(word, list)| {
            list.iter().map(move |address| vec![cell(word, Look::Warn), cell(address.clone(), Look::Plain)])
        })
        .collect();
    let all = rows.len();
    if report.launch.lineup.is_some() {
        return text;
    }
    text.push_str(if all == 0 { "It wrote nothing in the game's folders.\n" } else { "It wrote:\n" });
    text.push_str(&table(&[], rows.into_iter().take(most).collect()));
    if all > most {
        text.push_str(&paint(DIM, &format!("  ... and {} more (-v lists all)\n", all - most)));
    }
    text.push_str(&proof_rows(&report.proofs));
    text
}

/// Whether one sees that layers work.
pub fn proof_rows(proofs: &[ProofRow]) -> String {
    if proofs.is_empty() {
        return String::new();
    }
    let missing = proofs.iter().filter(|proof| !proof.holds).count();
    let head = match missing {
        0 => "What shows that layers work is there:\n".to_owned(),
        _ => paint(WARN, "Not all that shows that layers work is there:\n"),
    };
    let rows = proofs.iter().map(|proof| {
        let (word, look) = if proof.holds { ("works", Look::Good) } else { ("not seen", Look::Warn) };
        vec![
            cell(word, look),
            cell(proof.layer.clone(), Look::Name),
            cell(proof.says.clone(), Look::Plain),
            cell(proof.found.clone(), Look::Dim),
        ]
    });
    format!("{head}{}", table(&[], rows.collect()))
}
