//! The main program of a game whose folder was empty when it was added: it comes with a layer.

use std::time::Duration;

use super::roots::version_in;
use crate::address::Address;
use crate::files::look_at;
use crate::game::{
    Game, GameVersion, Program, imports_of, is_named_like_program, main_program, may_be_program, plays,
    program_kind,
};
use crate::ledger::{Ledger, LedgerError, Lock, Transaction};
use crate::stack::Provider;

/// What was found out of a game.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Learnt {
    /// Its main program.
    pub program: Address,
    /// The version that it tells.
    pub version: Option<String>,
}

/// Looks for the main program among the files of laid layers, where none is known, and notes it with the version that
/// it tells. Where another process is at the game it is left for the next time.
///
/// # Errors
/// [`LedgerError`].
pub fn learn_program(ledger: &Ledger, command: &str) -> Result<Option<Learnt>, LedgerError> {
    const PATIENCE: Duration = Duration::from_millis(200);
    let game = ledger.game();
    if game.program.is_some() {
        return Ok(None);
    }
    let laid = ledger.catalogue.arrangement()?.laid();
    let order = ledger.present_order()?;
    let mut programs: Vec<(Address, Program)> = Vec::new();
    let named = ledger.catalogue.paths_named(&laid, is_named_like_program)?;
    let columns = if named.is_empty() { Vec::new() } else { ledger.catalogue.columns_of(&[], &named)? };
    for column in columns.iter().filter(|column| !column.is_member) {
        let (Provider::Layer(entry), Some(root)) = (column.provider(&order), game.root(column.root)) else {
            continue;
        };
        let path = entry.spelled.on(&root.folder);
        let is_exe = entry.spelled.name().to_lowercase().ends_with(".exe");
        // What can't be looked at is not the program.
        let mode = || look_at(&path).ok().flatten().map(|seen| seen.mode);
        if !is_exe && !mode().is_some_and(|mode| may_be_program(&entry.spelled, mode)) {
            continue;
        }
        if let Ok(Some(kind)) = program_kind(&path) {
            let plays = plays(&imports_of(&path).unwrap_or_default());
            let program = Program { path: entry.spelled.clone(), size_bytes: entry.size_bytes, kind, plays };
            programs.push((Address { root: root.name.clone(), path: entry.spelled.clone() }, program));
        }
    }
    let all: Vec<Program> = programs.iter().map(|(_, program)| program.clone()).collect();
    let folder = game.roots[0].folder.file_name().map(|name| name.to_string_lossy().into_owned());
    let names = [game.name.as_str(), folder.as_deref().unwrap_or_default()];
    let main = main_program(&all, &names);
    let Some((program, _)) = programs.iter().find(|(_, program)| Some(program) == main) else {
        return Ok(None);
    };
    let version = match &game.version {
        Some(known) => Some(known.clone()),
        None => version_in(game, program, None),
    };
    let told = version.as_ref().filter(|_| game.version.is_none());
    let learnt = Learnt {
        program: program.clone(),
        version: told.map(|version: &GameVersion| version.version.clone()),
    };
    let lock = match Lock::take(ledger.folder(), command, PATIENCE) {
        Err(LedgerError::Busy { .. }) => return Ok(None),
        lock => lock?,
    };
    let transaction = Transaction::begin(ledger)?;
    let game = Game { program: Some(program.clone()), version, ..game.clone() };
    transaction.write_game(game)?;
    transaction.commit()?;
    drop(lock);
    Ok(Some(learnt))
}
