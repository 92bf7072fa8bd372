//! `oddstack` by itself: where one is, and what comes next.

use odd_stack_core::jobs::GameLine;
use odd_stack_core::ledger::OngoingKind;
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::game::UnreadableGame;
use crate::Ended;
use crate::errors::Failure;
use crate::session::Session;
use crate::show::style::{BOLD, DIM, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, number};

/// What JSON tells of `oddstack` by itself.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct Overview {
    /// The the games.
    pub games: Vec<GameLine>,
    /// Games whose ledger can't be opened.
    pub unreadable: Vec<UnreadableGame>,
    /// Commands that make sense next, with what they do.
    pub next: Vec<NextCommand>,
}

/// A command that makes sense next.
#[derive(Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct NextCommand {
    /// The command.
    pub command: String,
    /// What it does.
    pub does: String,
}

fn next(command: &str, does: &str) -> NextCommand {
    NextCommand { command: command.to_owned(), does: does.to_owned() }
}

pub fn run(session: &mut Session) -> Result<Ended, Failure> {
    let (mut games, mut unreadable) = (Vec::new(), Vec::new());
    for listed in session.door.home().games()? {
        match session.open_game(&listed).and_then(|game| Ok(game.line()?)) {
            Ok(line) => games.push(line),
            Err(failure) => unreadable.push(UnreadableGame {
                name: listed.name,
                ledger: listed.ledger.display().to_string(),
                problem: failure.message,
            }),
        }
    }
    let next = what_next(&games, unreadable.is_empty());
    let report = Overview { games, unreadable, next };
    session.out.result(None, &report, &text(&report));
    Ok(Ended::Well)
}

/// The commands that make sense next, the most urgent first.
fn what_next(games: &[GameLine], all_opened: bool) -> Vec<NextCommand> {
    const MOST: usize = 2;
    let has = |test: &dyn Fn(&GameLine) -> bool| games.iter().any(test);
    let is_under_way = |kind: OngoingKind| move |game: &GameLine| game.under_way == Some(kind);
    let mut all = Vec::new();
    if !all_opened {
        all.push(next("oddstack rescue", "see what of a damaged ledger can be repaired"));
    }
    if has(&is_under_way(OngoingKind::Capture)) {
        all.push(next("oddstack capture --end", "make a layer of what was changed"));
        all.push(next("oddstack capture --cancel", "take back all that was changed"));
    }
    if has(&is_under_way(OngoingKind::Culprit)) {
        all.push(next("oddstack culprit", "go on with the search for the layer that breaks the game"));
    }
    if has(&|game| game.updated_from.is_some()) || has(&is_under_way(OngoingKind::PatchDay)) {
        all.push(next("oddstack patchday finish", "take the update in, and lay what still fits"));
    }
    if has(&|game| game.drifted_files.is_some_and(|files| files > 0) && game.updated_from.is_none()) {
        all.push(next("oddstack check", "list the files that are not as the stack says"));
    }
    if has(&|game| game.open_files > 0) {
        all.push(next("oddstack conflicts", "see where layers disagree, and who wins"));
    }
    match games.is_empty() {
        true if all_opened => {
            all.push(next("oddstack game add FOLDER", "add a game"));
            all.push(next("oddstack demo", "watch the main job on an invented game"));
        }
        _ => {
            all.push(next("oddstack add PACKAGE", "add a folder or an archive as a layer"));
            all.push(next("oddstack stack", "see the layers"));
        }
    }
    all.truncate(MOST);
    all
}

fn text(report: &Overview) -> String {
    let mut text = String::new();
    if report.games.is_empty() && report.unreadable.is_empty() {
        text.push_str("No game has been added yet.\n");
    }
    let rows = report.games.iter().map(|game| {
        let lifted = match game.lifted_layers {
            0 => String::new(),
            lifted => format!(", {} lifted", number(lifted)),
        };
        let layers = format!("{} laid{lifted}", counted(game.laid_layers, "layer", "layers"));
        let wants = wants(game);
        let look = if wants.is_empty() { Look::Good } else { Look::Warn };
        let wants = if wants.is_empty() { "all is well".to_owned() } else { wants.join(", ") };
        vec![
            cell(game.name.clone(), Look::Name),
            cell(game.version.clone().unwrap_or_default(), Look::Plain),
            cell(layers, Look::Plain),
            cell(wants, look),
        ]
    });
    let unreadable = report.unreadable.iter().map(|game| {
        let problem = cell(format!("can't be opened: {}", game.problem), Look::Warn);
        vec![cell(game.name.clone(), Look::Name), cell("", Look::Plain), cell("", Look::Plain), problem]
    });
    text.push_str(&table(&[], rows.chain(unreadable).collect()));
    text.push_str(&format!("{}\n", paint(BOLD, "Next:")));
    let rows = report.next.iter();
    let rows =
        rows.map(|next| vec![cell(next.command.clone(), Look::Name), cell(next.does.clone(), Look::Plain)]);
    text.push_str(&table(&[], rows.collect()));
    text.push_str(&paint(DIM, "`oddstack --help` lists all commands.\n"));
    text
}

/// What of a game wants attention.
fn wants(game: &GameLine) -> Vec<String> {
    let mut wants = Vec::new();
    if game.folder_missing {
        wants.push("a folder of it is not there".to_owned());
    }
    if let Some(kind) = &game.under_way {
        wants.push(format!("a {kind} is under way"));
    }
    if let Some(before) = &game.updated_from {
        wants.push(format!("updated since {before}"));
    }
    if let Some(files) = game.drifted_files.filter(|files| *files > 0) {
        wants.push(counted(files, "file drifted", "files drifted"));
    }
    if game.unmet_needs > 0 {
        wants.push(counted(game.unmet_needs, "requirement is not met", "requirements are not met"));
    }
    if game.open_files > 0 {
        wants.push("unresolved conflicts".to_owned());
    }
    wants
}
