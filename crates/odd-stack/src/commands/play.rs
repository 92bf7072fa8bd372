//! `oddstack play`

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use clap::Args;
use odd_stack_core::disk::check;
use odd_stack_core::jobs::{
    Launch, ProofRow, Written, glance, launch, note_cleared, prepare_clearing, proofs, running, written_since,
};
use odd_stack_core::ledger::Ledger;
use schemars::JsonSchema;
use serde::Serialize;

use super::standing::MOST_EFFECTS;
use crate::Ended;

use crate::desk::Desk;
use crate::errors::{Exit, Failure};
use crate::progress::while_a_program_runs;
use crate::show::style::{BOLD, DIM, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, files};

#[derive(Debug, Args)]
pub struct PlayArgs {
    /// A way to start it: the name of a layer that brings one, or the game's own name
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    /// Only say what would be cleared and started
    #[arg(short = 'n', long)]
    pub dry_run: bool,
}

/// What JSON tells of `play`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PlayReport {
    /// Nothing was started: it was only looked what would be.
    pub dry_run: bool,
    /// What was started, and how.
    pub launch: Launch,
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

/// How often it is looked whether the game still runs.
const LOOK_AGAIN_AFTER: Duration = Duration::from_millis(500);

pub fn run(desk: &mut Desk, args: &PlayArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    let launch = launch(&ledger, args.name.as_deref())?;
    let drifted_files = check(&ledger, false, &desk.progress)?.drifted.len() as u64;
    if drifted_files > 0 {
        let count = counted(drifted_files, "file is", "files are");
        desk.out.warn(format!("{count} not as the stack says; `oddstack check` lists them"));
    }
    let cleared = clear(desk, &ledger, args.dry_run)?;
    let mut report = PlayReport {
        dry_run: args.dry_run,
        launch,
        drifted_files,
        cleared,
        exit_code: None,
        seconds: 0,
        written: Written::default(),
        proofs: Vec::new(),
    };
    desk.out.text(&before(&report));
    if args.dry_run {
        let text = format!("{}\n", paint(BOLD, "Dry run: nothing was started."));
        desk.out.result(Some(&ledger.game().name), &report, &text);
        return Ok(Ended::Well);
    }
    let seen = glance(&ledger, &desk.progress)?;
    let mut command = Command::new(&report.launch.words[0]);
    command
        .args(&report.launch.words[1..])
        .envs(&report.launch.environment)
        .current_dir(&report.launch.folder);
    if desk.out.json {
        command.stdout(Stdio::from(std::io::stderr()));
    }
    let began = Instant::now();
    let (ended, _) = while_a_program_runs(|| {
        let ended = command.status();
        // A launcher may end at once; the game is what is waited for.
        while ended.is_ok() && !running(&ledger).is_empty() {
            std::thread::sleep(LOOK_AGAIN_AFTER);
        }
        ended
    });
    let status = ended.map_err(|error| {
        let message = format!("{} can't be run: {error}", report.launch.words[0]);
        Failure::new(Exit::Failed, "cannot_run", message)
    })?;
    report.exit_code = status.code();
    report.seconds = began.elapsed().as_secs();
    report.written = written_since(&ledger, seen, &desk.progress)?;
    report.proofs = proofs(&ledger)?;
    let most = if desk.out.verbose { usize::MAX } else { MOST_EFFECTS };
    let text = after(&report, most);
    desk.out.result(Some(&ledger.game().name), &report, &text);
    Ok(if report.proofs.iter().all(|proof| proof.holds) { Ended::Well } else { Ended::WantsAttention })
}

/// Clears what layers want cleared after a change.
fn clear(desk: &mut Desk, ledger: &Ledger, dry_run: bool) -> Result<Vec<String>, Failure> {
    let permit = desk.permit(ledger, dry_run)?;
    let now = desk.now();
    let clearing = prepare_clearing(ledger, permit, &now, &desk.progress)?;
    if !dry_run {
        if let Some(change) = clearing.change {
            change.apply(&desk.progress)?;
        }
        note_cleared(ledger)?;
    }
    Ok(clearing.cleared)
}

fn before(report: &PlayReport) -> String {
    let mut text = String::new();
    if !report.cleared.is_empty() {
        let verb = if report.dry_run { "would be cleared" } else { "cleared, and saved in the ledger" };
        text.push_str(&format!(
            "  {} {verb}, for the game to make anew\n",
            files(report.cleared.len() as u64)
        ));
    }
    let Launch { program, words, environment, layer, .. } = &report.launch;
    let whose = layer.as_ref().map(|layer| format!(", as {layer} wants it")).unwrap_or_default();
    text.push_str(&format!("{}{}\n", paint(BOLD, &format!("starting {program}")), paint(DIM, &whose)));
    let shown: Vec<String> = environment
        .iter()
        .map(|(name, value)| format!("{name}={value}"))
        .chain(words.iter().cloned())
        .collect();
    text.push_str(&paint(DIM, &format!("  {}\n", shown.join(" "))));
    text
}

fn after(report: &PlayReport, most: usize) -> String {
    let code = report.exit_code.map_or("ended by a signal".to_owned(), |code| format!("exit code {code}"));
    let mut text = format!("It ran for {} s, {code}.\n", report.seconds);
    let written = &report.written;
    let lists = [("added", &written.added), ("changed", &written.changed), ("gone", &written.gone)];
    let rows: Vec<_> = lists
        .into_iter()
        .flat_map(|(word, list)| {
            list.iter().map(move |address| vec![cell(word, Look::Warn), cell(address.clone(), Look::Plain)])
        })
        .collect();
    let all = rows.len();
    text.push_str(if all == 0 { "It wrote nothing in the game's folders.\n" } else { "It wrote:\n" });
    text.push_str(&table(&[], rows.into_iter().take(most).collect()));
    if all > most {
        text.push_str(&paint(DIM, &format!("  … and {} more (-v lists all)\n", all - most)));
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
