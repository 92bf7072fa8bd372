//! Changing what is known of a game that was added.

use std::path::{Path, PathBuf};

use thiserror::Error;

use super::register::{Found, RegisterError, check_name, count_files, runner_given, scan_root, sorted};
use super::roots::{
    Shares, add_spots, check_apart, existing, file_of_game, needs_side_folder, version_given, version_in,
};
use crate::address::{AddressError, MAIN_ROOT, PrefixName};
use crate::files::{is_one_folder, look_at};
use crate::game::{AddressPatterns, Game, PatternError, Root};
use crate::jobs::Permit;
use crate::jobs::stack::{GameReport, game_report};
use crate::ledger::Registered;
use crate::ledger::{GameMark, Home, Ledger, LedgerError, OtherGames, Transaction, free_share};
use crate::observer::Observer;
use crate::stack::{BaseKind, RootId};

/// Why settings can't be changed. Nothing was changed.
#[derive(Debug, Error)]
pub enum SetError {
    /// What is given does not fit, as when a game is added.
    #[error(transparent)]
    Care(#[from] RegisterError),
    /// No such root or spot.
    #[error("the game has no {what} `{name}`")]
    Unknown {
        /// `root` or `spot`.
        what: &'static str,
        /// What was given.
        name: String,
    },
    /// A pattern can't be read.
    #[error(transparent)]
    Pattern(#[from] PatternError),
    /// Layers have files in the root.
    #[error("layers have files in the root `{root}`; remove them first: {}", layers.join(", "))]
    RootInUse {
        /// The root.
        root: String,
        /// The layers.
        layers: Vec<String>,
    },
    /// A known root can't lie there.
    #[error("{} does not look like the root `{root}`: of {looked} files that it should have {there} are there", folder.display())]
    NotIt {
        /// The root.
        root: String,
        /// Where it was said to lie.
        folder: PathBuf,
        /// How many files were looked for.
        looked: usize,
        /// How many of them are there.
        there: usize,
    },
    /// Covered files would be on another volume than the game.
    #[error(
        "{} is on another disk than before, or shared from now on, and layers are laid",
        folder.display()
    )]
    OtherVolume {
        /// The folder.
        folder: PathBuf,
    },
}

impl From<LedgerError> for SetError {
    fn from(error: LedgerError) -> Self {
        Self::Care(error.into())
    }
}

impl From<AddressError> for SetError {
    fn from(error: AddressError) -> Self {
        Self::Care(error.into())
    }
}

/// What is to be changed; what is empty stays.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SetRequest {
    /// Another name.
    pub name: Option<String>,
    /// Roots that are new, or lie elsewhere now.
    pub roots: Vec<(String, PathBuf)>,
    /// Further roots that may be other games', too.
    pub shares: Vec<String>,
    /// Roots to give up.
    pub drop_roots: Vec<String>,
    /// Spots that are new, or stand for something else now.
    pub spots: Vec<(String, String)>,
    /// Spots to give up.
    pub drop_spots: Vec<String>,
    /// Another main program.
    pub program: Option<String>,
    /// The version as the user states it.
    pub version: Option<String>,
    /// The file of the game to read the version from.
    pub version_from: Option<String>,
    /// What stands around the version there, `{}` in its place.
    pub version_pattern: Option<String>,
    /// Further addresses, folders and patterns at which the game writes by itself.
    pub volatile: Vec<String>,
    /// Those to give up.
    pub not_volatile: Vec<String>,
    /// Patterns of containers that the game loads by name.
    pub containers: Vec<String>,
    /// Of one member the last of these containers counts; otherwise each counts by itself, as before.
    pub later_wins: bool,
    /// What starts programs of another system; empty for nothing.
    pub runner: Option<String>,
    /// Whether big files of layers are laid as links to the ledger's contents.
    pub big_files_by_link: Option<bool>,
    /// From how many bytes on a file is big.
    pub big_files_from: Option<u64>,
}

/// Changes the settings of the game that the list calls `listed_name`.
///
/// # Errors
/// [`SetError`]; nothing was changed.
pub fn change_settings(
    home: &Home,
    ledger: &Ledger,
    _permit: Permit,
    listed_name: &str,
    request: &SetRequest,
    dry_run: bool,
    observer: &dyn Observer,
) -> Result<GameReport, SetError> {
    let mut game = ledger.game().clone();
    let dropped = drop_roots(ledger, &mut game, &request.drop_roots)?;
    let known = game.roots.iter().map(|root| root.name.as_str());
    let given = request.roots.iter().map(|(name, _)| name.as_str());
    let shares = Shares::parse(&request.shares, known.chain(given).collect::<Vec<_>>().into_iter())?;
    let new_roots = put_roots(ledger, &mut game, &request.roots, &shares)?;
    let scans = scan_new(ledger, &mut game, &new_roots, observer)?;
    for name in &request.drop_spots {
        let name = PrefixName::parse(name)?;
        if game.spots.remove(&name).is_none() {
            return Err(SetError::Unknown { what: "spot", name: name.to_string() });
        }
    }
    add_spots(&mut game, &request.spots)?;
    set_volatile(&mut game, request)?;
    set_load_order(&mut game, request)?;
    game.big_files.by_link = request.big_files_by_link.unwrap_or(game.big_files.by_link);
    game.big_files.from_bytes = request.big_files_from.unwrap_or(game.big_files.from_bytes);
    if let Some(runner) = &request.runner {
        game.runner = runner_given(runner)?;
    }
    set_program_and_version(&mut game, request)?;
    if let Some(name) = &request.name {
        game.name = name.trim().to_owned();
    }
    let is_shared = |root: &Root| {
        let is_as_before = |known: &Root| known.id == root.id && known.folder == root.folder;
        root.share > 0 || shares.has(&root.name) || ledger.game().roots.iter().any(is_as_before)
    };
    check_apart(&game.roots, ledger.folder(), home, Some(listed_name), is_shared)?;
    let transaction = Transaction::begin(ledger)?;
    let catalogue = &ledger.catalogue;
    dropped.iter().try_for_each(|root| catalogue.forget_root(*root))?;
    transaction.write_game(game)?;
    for (root, found) in &scans {
        catalogue.insert_base(*root, found)?;
    }
    let report = game_report(ledger)?;
    let name = &ledger.game().name;
    if dry_run {
        check_name(name, &others(&home.games()?, listed_name))?;
        return Ok(report);
    }
    let rename = |from: &str, to: &str| {
        home.change(|list| {
            check_name(to, &others(list, from))?;
            let own = list.iter_mut().filter(|listed| listed.name == from);
            own.for_each(|listed| to.clone_into(&mut listed.name));
            Ok::<_, SetError>(())
        })
    };
    // The list comes before the catalogue, which can take back what it was told.
    rename(listed_name, name)?;
    transaction.commit().inspect_err(|_| drop(rename(name, listed_name)))?;
    GameMark::write_all(ledger.game(), ledger.folder(), home);
    Ok(report)
}

/// The games of the list but the one of that name.
fn others(list: &[Registered], name: &str) -> Vec<Registered> {
    list.iter().filter(|other| other.name != name).cloned().collect()
}

/// Gives up roots that no layer has files in.
fn drop_roots(ledger: &Ledger, game: &mut Game, names: &[String]) -> Result<Vec<RootId>, SetError> {
    let mut dropped = Vec::new();
    for name in names {
        let name = PrefixName::parse(name)?;
        let at = game.roots.iter().position(|root| root.name == name && name.as_str() != MAIN_ROOT);
        let at = at.ok_or_else(|| SetError::Unknown { what: "root", name: name.to_string() })?;
        let layers = ledger.catalogue.layers_in_root(game.roots[at].id)?;
        if !layers.is_empty() {
            return Err(SetError::RootInUse { root: name.to_string(), layers });
        }
        dropped.push(game.roots.remove(at).id);
        game.spots.retain(|_, to| to.root != name);
    }
    Ok(dropped)
}

/// Adds roots, or says where known ones lie now; gives the numbers of new ones.
fn put_roots(
    ledger: &Ledger,
    game: &mut Game,
    given: &[(String, PathBuf)],
    shares: &Shares,
) -> Result<Vec<RootId>, SetError> {
    let mut new_roots = Vec::new();
    for (name, folder) in given {
        let (name, folder) = (PrefixName::parse(name)?, existing(folder)?);
        let has_side_folder = needs_side_folder(&folder, ledger.folder());
        if let Some(root) = game.roots.iter_mut().find(|root| root.name == name) {
            // Documents may begin anew elsewhere; a game does not.
            if name.as_str() == MAIN_ROOT {
                check_is_it(ledger, root, &folder)?;
            }
            let is_shared_anew = shares.has(&root.name) && !is_one_folder(&root.folder, &folder);
            let share = if is_shared_anew { free_share(&folder) } else { root.share };
            let moves_originals =
                root.has_side_folder != has_side_folder || (has_side_folder && root.share != share);
            if moves_originals && ledger.layers()?.iter().any(|layer| layer.laid) {
                return Err(SetError::OtherVolume { folder });
            }
            root.folder = folder;
            root.share = share;
            root.has_side_folder = has_side_folder;
        } else {
            let id = RootId(
                ledger.catalogue.highest_root()?.max(game.roots.iter().map(|r| r.id.0).max().unwrap_or(0))
                    + 1,
            );
            let share = if shares.has(&name) { free_share(&folder) } else { 0 };
            new_roots.push(id);
            game.roots.push(Root { id, name, folder, has_side_folder, share });
        }
    }
    let is_given = |root: &Root| given.iter().any(|(name, _)| name == root.name.as_str());
    for root in game.roots.iter_mut().filter(|root| root.share == 0 && shares.has(&root.name)) {
        if is_given(root) {
            continue;
        }
        if root.has_side_folder && ledger.layers()?.iter().any(|layer| layer.laid) {
            return Err(SetError::OtherVolume { folder: root.folder.clone() });
        }
        root.share = free_share(&root.folder);
    }
    Ok(new_roots)
}

/// Holds a folder that a known root is said to lie in now to some of the files that it had.
fn check_is_it(ledger: &Ledger, root: &Root, folder: &Path) -> Result<(), SetError> {
    const MOST_LOOKED_FOR: usize = 200;
    let known = ledger.catalogue.base_of(root.id)?;
    let files: Vec<_> = known.iter().filter(|(_, file)| file.kind == BaseKind::File).collect();
    let sample = files.iter().step_by(files.len().div_ceil(MOST_LOOKED_FOR).max(1));
    let is_there: Vec<bool> =
        sample.map(|(_, file)| look_at(&file.spelled.on(folder)).is_ok_and(|seen| seen.is_some())).collect();
    let (looked, there) = (is_there.len(), is_there.iter().filter(|is_there| **is_there).count());
    // Some are left out of a copy, or were taken away by layers and programs.
    if looked > 0 && there * 2 < looked && !is_one_folder(&root.folder, folder) {
        let (root, folder) = (root.name.to_string(), folder.to_path_buf());
        return Err(SetError::NotIt { root, folder, looked, there });
    }
    Ok(())
}

/// Looks through new roots.
fn scan_new(
    ledger: &Ledger,
    game: &mut Game,
    new_roots: &[RootId],
    observer: &dyn Observer,
) -> Result<Vec<Found>, SetError> {
    let mut scans = Vec::new();
    let others = OtherGames::of(game, ledger.folder())?;
    for root in game.roots.iter().filter(|root| new_roots.contains(&root.id)) {
        let found = scan_root(&root.folder, observer)?;
        let found = others.own_of(root.id, sorted(found, game.folding));
        let (files, bytes) = count_files(&found);
        game.seen = (game.seen.0 + files, game.seen.1 + bytes);
        scans.push((root.id, found));
    }
    Ok(scans)
}

fn set_volatile(game: &mut Game, request: &SetRequest) -> Result<(), SetError> {
    AddressPatterns::parse(game, &request.volatile)?;
    for text in request.volatile.iter().filter(|text| !text.is_empty()) {
        if !game.volatile.contains(text) {
            game.volatile.push(text.clone());
        }
    }
    for text in &request.not_volatile {
        let at = game.volatile.iter().position(|known| known == text);
        let at = at.ok_or_else(|| SetError::Unknown { what: "volatile place", name: text.clone() })?;
        game.volatile.remove(at);
    }
    Ok(())
}

fn set_load_order(game: &mut Game, request: &SetRequest) -> Result<(), SetError> {
    AddressPatterns::parse(game, &request.containers)?;
    for text in &request.containers {
        let at = game.later_wins.iter().position(|known| known == text);
        match (at, request.later_wins) {
            (None, true) => game.later_wins.push(text.clone()),
            (None, false) => {
                return Err(SetError::Unknown { what: "order of containers", name: text.clone() });
            }
            (Some(_), true) => {}
            (Some(at), false) => drop(game.later_wins.remove(at)),
        }
    }
    Ok(())
}

/// The main program tells the version, unless another file does or a person said it.
fn set_program_and_version(game: &mut Game, request: &SetRequest) -> Result<(), SetError> {
    let reads_program = match (&game.version, &game.program) {
        (None, _) => true,
        (Some(version), Some(program)) => version.read_from.as_deref() == Some(program.to_string().as_str()),
        (Some(_), None) => false,
    };
    if let Some(program) = &request.program {
        game.program = Some(file_of_game(program, game)?);
    }
    let pattern = request.version_pattern.as_deref();
    // A pattern alone is for the file that the version is read from already.
    let known = game.version.as_ref().and_then(|version| version.read_from.clone());
    let from = request.version_from.clone().or(known.filter(|_| pattern.is_some()));
    let version = version_given(request.version.as_deref(), from.as_deref(), pattern, game)?;
    let of_program = || {
        let program = game.program.as_ref().filter(|_| request.program.is_some() && reads_program);
        program.and_then(|program| version_in(game, program, None))
    };
    if let Some(version) = version.or_else(of_program) {
        game.version = Some(version);
    }
    Ok(())
}
