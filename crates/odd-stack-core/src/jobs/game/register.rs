//! Adding a game.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::{fs, io};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::forget::finish_leaving;
use super::roots::{
    Shares, add_spots, check_apart, existing, file_of_game, find_program, needs_side_folder, new_roots, real,
    version_given, version_in,
};
use crate::address::{AddressError, FoldedKey, Folding, MAIN_ROOT, RelPath};
use crate::files::{Seam, firmly, is_remote, synced_around};
use crate::game::proposed_name;
use crate::game::{BigFiles, Game, Root, Scan, ScanError, scan};
use crate::jobs::select::plain;
use crate::jobs::stack::{GameReport, game_rows};
use crate::ledger::{GameMark, Home, Ledger, LedgerError, OtherGames, Registered};
use crate::moment::Moment;
use crate::notice::Notice;
use crate::observer::{Observer, Work};
use crate::stack::{BaseFile, BaseKind, RootId};

/// Why a game can't be added, or its settings changed. Nothing was changed.
#[derive(Debug, Error)]
pub enum RegisterError {
    /// The ledger or the list of games failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// A root can't be scanned.
    #[error(transparent)]
    Scan(#[from] ScanError),
    /// Something given is no address, or no root's or spot's name.
    #[error(transparent)]
    Address(#[from] AddressError),
    /// There is no folder.
    #[error("{} is not a folder that can be opened; give the folder that the game is installed in", path.display())]
    NotAFolder {
        /// What was given.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// The top of a disk.
    #[error("{} is a whole disk; give the folder that the game is installed in", path.display())]
    WholeDisk {
        /// What was given.
        path: PathBuf,
    },
    /// A folder of the system, or with all that a person has.
    #[error("{} is no game's folder, but the system's or your own; give the folder that the game is installed in", path.display())]
    NoGames {
        /// What was given.
        path: PathBuf,
    },
    /// The ledger would lie on another computer.
    #[error(
        "{} lies on another computer's disk, where what Odd Stack keeps can't be kept whole",
        ledger.display()
    )]
    LedgerRemote {
        /// The ledger.
        ledger: PathBuf,
    },
    /// A name that says nothing or can't be shown.
    #[error(
        "`{name}` can't name a game: use a name of printable characters that is not only `-`, `_` and spaces"
    )]
    BadName {
        /// What was given.
        name: String,
    },
    /// Another game has the name.
    #[error("there is a game named `{name}` already; give this one another name")]
    NameTaken {
        /// The name.
        name: String,
    },
    /// Two roots of the game overlap.
    #[error("the folders {} and {} overlap; each root must be a folder of its own", one.display(), two.display())]
    Overlap {
        /// One root.
        one: PathBuf,
        /// The other.
        two: PathBuf,
    },
    /// The folder is already added.
    #[error("{} is already added, as `{game}`", folder.display())]
    AlreadyInCare {
        /// The folder.
        folder: PathBuf,
        /// The game's name.
        game: String,
    },
    /// The folder overlaps another game's.
    #[error(
        "{} overlaps {}, which belongs to the game `{game}`; two games can't share files",
        folder.display(), theirs.display()
    )]
    OverlapsGame {
        /// The folder.
        folder: PathBuf,
        /// The other game's folder.
        theirs: PathBuf,
        /// The other game's name.
        game: String,
    },
    /// A further root is another game's as well.
    #[error(
        "the folder {} of the root `{root}` is the root `{theirs}` of the game `{game}`, too; a decision is needed",
        folder.display()
    )]
    RootOfGame {
        /// The root's name.
        root: String,
        /// The folder.
        folder: PathBuf,
        /// The other game's name for it.
        theirs: String,
        /// The other game's name.
        game: String,
    },
    /// What is to be shared is no further root of the game.
    #[error("`{name}` is no further root of this game, so it can't be shared; give the name of one")]
    NoRootToShare {
        /// What was given.
        name: String,
    },
    /// Ledger and game would lie in each other.
    #[error(
        "{} and the game's folder {} lie in each other",
        ledger.display(), root.display()
    )]
    LedgerInRoot {
        /// The ledger or the data home.
        ledger: PathBuf,
        /// The root.
        root: PathBuf,
    },
    /// The folder for the ledger has something else in it.
    #[error("{} is not empty and no ledger of this game", path.display())]
    LedgerNotEmpty {
        /// The folder.
        path: PathBuf,
    },
    /// The game was added to another data home.
    #[error(
        "{} is already added, as `{game}`, from the data home {}; two homes can't look after one game",
        folder.display(), home.display()
    )]
    OtherHome {
        /// The folder.
        folder: PathBuf,
        /// The game's name there.
        game: String,
        /// The other home.
        home: PathBuf,
    },
    /// The game was added before, and its ledger is gone.
    #[error(
        "{} was added before, as `{game}`, and its ledger is not at {} any more: was it moved, or is its disk not plugged in? \
         What layers put there would count as the game's own",
        folder.display(), ledger.display()
    )]
    LedgerGone {
        /// The folder.
        folder: PathBuf,
        /// Where the ledger was.
        ledger: PathBuf,
        /// The game's name.
        game: String,
    },
    /// The game was moved.
    #[error("{} is already added, as `{game}`, and lay at {} then", folder.display(), theirs.display())]
    Moved {
        /// The folder.
        folder: PathBuf,
        /// The game's name.
        game: String,
        /// Where it lay.
        theirs: PathBuf,
    },
    /// A copy of a game that was added, with the layers' files in it.
    #[error(
        "{} is a copy of {}, which was added as `{game}` with {laid_layers} of its layers laid; taken as it is, their files \
         would count as the copy's own: lift them all and copy it again",
        folder.display(), theirs.display()
    )]
    CopyWithLayers {
        /// The copy.
        folder: PathBuf,
        /// The game.
        theirs: PathBuf,
        /// The game's name.
        game: String,
        /// How many layers are laid now.
        laid_layers: usize,
    },
    /// A folder's path can't be written down.
    #[error("{} has a name that is not text, and can't be looked after; rename it first", path.display())]
    NotText {
        /// The folder.
        path: PathBuf,
    },
    /// The ledger belongs to another folder.
    #[error("the ledger at {} belongs to the game in {}", ledger.display(), folder.display())]
    OtherLedger {
        /// The ledger.
        ledger: PathBuf,
        /// The folder of its game.
        folder: PathBuf,
    },
    /// Two roots of one name, or a spot named like a root.
    #[error("`{name}` is the name of a root already; choose another")]
    NameOfRoot {
        /// The name.
        name: String,
    },
    /// A file of the game is not there.
    #[error("the game has no file `{path}`; give a path below its main folder")]
    FileMissing {
        /// What was given.
        path: String,
    },
    /// The words of a runner can't be told apart.
    #[error("`{text}` can't be read as a program with arguments: a quote is open")]
    BadRunner {
        /// What was given.
        text: String,
    },
    /// The file tells no version.
    #[error("no version can be read from {path}")]
    NoVersion {
        /// The file.
        path: String,
    },
}

/// What is known of a game that is to be added.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RegisterRequest {
    /// The user's name for it; where it is empty the folder says it, or a program in it.
    pub name: String,
    /// The folder it is installed in.
    pub folder: PathBuf,
    /// Further roots by name.
    pub roots: Vec<(String, PathBuf)>,
    /// Short names for folders.
    pub spots: Vec<(String, String)>,
    /// The main program; found when not given.
    pub program: Option<String>,
    /// The version as the user states it.
    pub version: Option<String>,
    /// The file of the game to read the version from.
    pub version_from: Option<String>,
    /// What stands around the version there, `{}` in its place.
    pub version_pattern: Option<String>,
    /// What starts programs of another system, with its arguments; `none` or empty for nothing.
    pub runner: Option<String>,
    /// Where the ledger is to lie; on the game's own volume when not given.
    pub ledger: Option<PathBuf>,
    /// Further roots that may be other games', too.
    pub shares: Vec<String>,
    /// Spellings that differ in case are different addresses.
    pub exact_case: bool,
    /// What lies there is taken as the game's own, though the game was added before.
    pub afresh: bool,
}

/// What was seen of a game.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct RegisterReport {
    /// Nothing was changed: it was only looked what would be.
    pub dry_run: bool,
    /// The game as it is added.
    pub game: GameReport,
    /// Its ledger was there from before, with its layers, and was taken up again.
    pub taken_up_again: bool,
}

/// Scans the game's folders (names, sizes, times, modes; no contents), makes its ledger and lists it.
///
/// A ledger folder that already belongs to this very folder, left by forgetting the game without
/// lifting its layers, is taken up again as it is.
///
/// # Errors
/// [`RegisterError`]; nothing was changed.
pub fn register_game(
    home: &Home,
    request: &RegisterRequest,
    now: Moment,
    dry_run: bool,
    seam: Arc<dyn Seam>,
    observer: &dyn Observer,
) -> Result<RegisterReport, RegisterError> {
    if !dry_run {
        finish_leaving(home, &*seam)?;
    }
    let folder = existing(&request.folder)?;
    let named;
    let request = match request.name.trim() {
        "" => {
            let name = proposed_name(&folder).unwrap_or_default();
            named = RegisterRequest { name, ..request.clone() };
            &named
        }
        _ => request,
    };
    check_name(&request.name, &home.games()?)?;
    if !request.afresh
        && let Some(mark) = GameMark::read(&folder)
        && let Some(ledger) = judge_mark(home, request, &folder, &mark, &seam)?
    {
        return take_up_again(home, request, &folder, &ledger, dry_run, seam);
    }
    let ledger = match &request.ledger {
        Some(given) => {
            std::path::absolute(given).map_err(LedgerError::io("find", given))?.components().collect()
        }
        None => default_ledger_folder(home, &request.name, &folder),
    };
    if ledger.join(crate::ledger::CATALOGUE_FILE).is_file() {
        return take_up_again(home, request, &folder, &ledger, dry_run, seam);
    }
    if fs::read_dir(&ledger).is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(RegisterError::LedgerNotEmpty { path: ledger });
    }
    if is_remote(&ledger) {
        return Err(RegisterError::LedgerRemote { ledger });
    }
    let (game, scans) = look_at_game(request, folder, &ledger, now, observer)?;
    check_apart(&game.roots, &ledger, home, None, |root| root.share > 0)?;
    tell_synced(&game.roots, &ledger, observer);
    if !dry_run {
        make_ledger(home, &game, &ledger, &scans, seam, observer)?;
    }
    Ok(RegisterReport { dry_run, game: game_rows(&game, &ledger, 0, 0), taken_up_again: false })
}

/// Makes the ledger and lists the game, or leaves nothing of both.
fn make_ledger(
    home: &Home,
    game: &Game,
    ledger: &Path,
    scans: &[(RootId, Vec<(FoldedKey, BaseFile)>)],
    seam: Arc<dyn Seam>,
    observer: &dyn Observer,
) -> Result<(), RegisterError> {
    let before: Vec<&Path> = ledger.ancestors().take_while(|folder| !folder.exists()).collect();
    let listed = home.change(|list| {
        check_name(&game.name, list)?;
        let made = Ledger::create(ledger, game.clone(), seam, |catalogue| {
            for (root, found) in scans {
                for doubled in catalogue.insert_base(*root, found)? {
                    observer.notice(Notice::SameButForCase { spelled: doubled.spelled.to_string() });
                }
            }
            Ok(())
        });
        made?;
        let (name, ledger) = (game.name.clone(), ledger.to_path_buf());
        list.push(Registered { name, ledger, leaving: false });
        Ok::<_, RegisterError>(())
    });
    if let Err(error) = listed {
        leave_nothing(ledger, &before);
        return Err(error);
    }
    GameMark::write_all(game, ledger, home);
    Ok(())
}

/// Removes a ledger that was made just now, and the folders that were made for it, of which `made` are all that were not
/// there before, the innermost first.
fn leave_nothing(ledger: &Path, made: &[&Path]) {
    // What can't be removed is harmless: no game is listed with it.
    let entries = fs::read_dir(ledger).into_iter().flatten().flatten();
    for entry in entries {
        let path = entry.path();
        let _ =
            firmly(&path, || if path.is_dir() { fs::remove_dir_all(&path) } else { fs::remove_file(&path) });
    }
    for folder in made {
        let _ = fs::remove_dir(folder);
    }
}

/// Tells what a cloud client would send to other computers.
fn tell_synced(roots: &[Root], ledger: &Path, observer: &dyn Observer) {
    if let Some(synced) = synced_around(ledger) {
        observer.notice(Notice::LedgerSynced { ledger: ledger.to_path_buf(), synced });
    }
    for root in roots {
        if let Some(synced) = synced_around(&root.folder) {
            observer.notice(Notice::RootSynced { root: root.folder.clone(), synced });
        }
    }
}

/// What was found in a root, by key and in order of keys.
pub(in crate::jobs) type Found = (RootId, Vec<(FoldedKey, BaseFile)>);

fn look_at_game(
    request: &RegisterRequest,
    folder: PathBuf,
    ledger: &Path,
    now: Moment,
    observer: &dyn Observer,
) -> Result<(Game, Vec<Found>), RegisterError> {
    let mut given = vec![(MAIN_ROOT.to_owned(), folder)];
    given.extend(request.roots.iter().cloned());
    let shares = Shares::parse(&request.shares, given.iter().map(|(name, _)| name.as_str()))?;
    let mut game = Game {
        name: request.name.trim().to_owned(),
        folding: if request.exact_case { Folding::Exact } else { Folding::Folded },
        roots: new_roots(&given, 1, ledger, &shares)?,
        spots: std::collections::BTreeMap::new(),
        program: None,
        version: None,
        seen: (0, 0),
        added_at: now.to_string(),
        blend_rules: Vec::new(),
        volatile: Vec::new(),
        later_wins: Vec::new(),
        runner: request.runner.as_deref().map(runner_given).transpose()?.flatten(),
        big_files: BigFiles::default(),
    };
    for (index, root) in game.roots.iter().enumerate() {
        if game.roots[..index].iter().any(|other| other.name == root.name) {
            return Err(RegisterError::NameOfRoot { name: root.name.to_string() });
        }
    }
    add_spots(&mut game, &request.spots)?;
    let mut scans = Vec::new();
    let others = OtherGames::of(&game, ledger)?;
    for (index, root) in game.roots.iter().enumerate() {
        let found = scan_root(&root.folder, observer)?;
        if index == 0 && request.program.is_none() {
            game.program = find_program(root, &found, &request.name);
        }
        let found = others.own_of(root.id, sorted(found, game.folding));
        let (files, bytes) = count_files(&found);
        game.seen = (game.seen.0 + files, game.seen.1 + bytes);
        scans.push((root.id, found));
    }
    if let Some(program) = &request.program {
        game.program = Some(file_of_game(program, &game)?);
    }
    let pattern = request.version_pattern.as_deref();
    game.version =
        version_given(request.version.as_deref(), request.version_from.as_deref(), pattern, &game)?;
    if game.version.is_none() {
        game.version = game.program.as_ref().and_then(|program| version_in(&game, program, None));
    }
    Ok((game, scans))
}

/// A runner as a person writes it; none where they want none.
///
/// # Errors
/// [`RegisterError::BadRunner`].
pub(in crate::jobs) fn runner_given(text: &str) -> Result<Option<String>, RegisterError> {
    let words = shlex::split(text).ok_or_else(|| RegisterError::BadRunner { text: text.to_owned() })?;
    // Not every shell passes on an empty word.
    let is_none = words.is_empty() || words == ["none"];
    Ok((!is_none).then(|| text.trim().to_owned()))
}

/// Scans one root and tells what it can't take.
pub(in crate::jobs) fn scan_root(folder: &Path, observer: &dyn Observer) -> Result<Scan, RegisterError> {
    observer.begin(Work::Scanning, 0, 0);
    let found = scan(folder, observer);
    observer.end();
    let found = found?;
    if let Some(first) = found.unnamable.first() {
        observer.notice(Notice::Unnamable { first: first.clone(), count: found.unnamable.len() });
    }
    Ok(found)
}

/// What was found, by key and in order of keys.
pub(in crate::jobs) fn sorted(scan: Scan, folding: Folding) -> Vec<(FoldedKey, BaseFile)> {
    let mut found: Vec<_> =
        scan.found.into_iter().map(|file| (folding.key(file.spelled.as_str()), file)).collect();
    found.sort_by(|(one, a), (two, b)| one.cmp(two).then_with(|| a.spelled.cmp(&b.spelled)));
    found
}

/// Files among what was found, and their bytes.
pub(in crate::jobs) fn count_files(found: &[(FoldedKey, BaseFile)]) -> (u64, u64) {
    let files = found.iter().filter(|(_, file)| file.kind != BaseKind::Folder);
    files.fold((0, 0), |(count, bytes), (_, file)| (count + 1, bytes + file.size_bytes))
}

/// Refuses names that can't be one or that another game has.
pub(in crate::jobs) fn check_name(name: &str, list: &[Registered]) -> Result<(), RegisterError> {
    if plain(name).is_empty() || name.chars().any(char::is_control) {
        return Err(RegisterError::BadName { name: name.to_owned() });
    }
    match list.iter().find(|other| plain(&other.name) == plain(name)) {
        Some(other) => Err(RegisterError::NameTaken { name: other.name.clone() }),
        None => Ok(()),
    }
}

/// What the mark in a game's folder means for taking it into care: the ledger that is to be taken up again, or nothing
/// where the game may be taken as it is.
fn judge_mark(
    home: &Home,
    request: &RegisterRequest,
    folder: &Path,
    mark: &GameMark,
    seam: &Arc<dyn Seam>,
) -> Result<Option<PathBuf>, RegisterError> {
    let known = request.ledger.as_deref().unwrap_or(&mark.ledger);
    if !known.join(crate::ledger::CATALOGUE_FILE).is_file()
        && !known.join(crate::ledger::SECOND_NAME).is_file()
    {
        let (ledger, game) = (mark.ledger.clone(), mark.game.clone());
        return Err(RegisterError::LedgerGone { folder: folder.to_path_buf(), ledger, game });
    }
    let ledger = Ledger::open(known, Arc::clone(seam))?;
    let theirs = ledger.game().roots.iter().find(|root| root.name.as_str() == mark.root);
    let theirs = theirs.map_or(ledger.game().roots[0].folder.clone(), |root| root.folder.clone());
    if real(&theirs) != real(folder) || mark.root != MAIN_ROOT {
        let laid_layers = ledger.layers()?.iter().filter(|layer| layer.laid).count();
        let (folder, game) = (folder.to_path_buf(), mark.game.clone());
        return match (mark.root == MAIN_ROOT, theirs.is_dir()) {
            (true, false) => Err(RegisterError::Moved { folder, game, theirs }),
            // A copy is a game of its own, once its files are.
            (true, true) if laid_layers == 0 => Ok(None),
            (true, true) => Err(RegisterError::CopyWithLayers { folder, theirs, game, laid_layers }),
            (false, _) => Ok(None),
        };
    }
    let is_listed = |home: &Home| {
        home.games().is_ok_and(|games| games.iter().any(|game| real(&game.ledger) == real(known)))
    };
    if is_listed(home) {
        let game = mark.game.clone();
        return Err(RegisterError::AlreadyInCare { folder: folder.to_path_buf(), game });
    }
    if real(&mark.home) != real(home.folder()) && is_listed(&Home::new(mark.home.clone())) {
        let (folder, game) = (folder.to_path_buf(), mark.game.clone());
        return Err(RegisterError::OtherHome { folder, game, home: mark.home.clone() });
    }
    Ok(Some(known.to_path_buf()))
}

fn take_up_again(
    home: &Home,
    request: &RegisterRequest,
    folder: &Path,
    ledger: &Path,
    dry_run: bool,
    seam: Arc<dyn Seam>,
) -> Result<RegisterReport, RegisterError> {
    let opened = Ledger::open(ledger, seam)?;
    let theirs = &opened.game().roots[0].folder;
    if real(theirs) != real(folder) {
        return Err(RegisterError::OtherLedger { ledger: ledger.to_path_buf(), folder: theirs.clone() });
    }
    let names = opened.game().roots.iter().map(|root| root.name.as_str());
    let shares = Shares::parse(&request.shares, names)?;
    let is_shared = |root: &Root| root.share > 0 || shares.has(&root.name);
    check_apart(&opened.game().roots, ledger, home, None, is_shared)?;
    let mut game = opened.game().clone();
    game.name = request.name.trim().to_owned();
    if !dry_run {
        home.change(|list| {
            check_name(&game.name, list)?;
            opened.catalogue.write_game(&game)?;
            list.push(Registered { name: game.name.clone(), ledger: ledger.to_path_buf(), leaving: false });
            Ok::<_, RegisterError>(())
        })?;
        GameMark::write_all(&game, ledger, home);
    }
    let layers = opened.layers()?;
    let laid = layers.iter().filter(|layer| layer.laid).count() as u64;
    let game = game_rows(&game, ledger, laid, layers.len() as u64 - laid);
    Ok(RegisterReport { dry_run, game, taken_up_again: true })
}

/// Where a game's ledger lies when nothing is said: in the data home, or beside the game when the
/// home is on another volume, so that covered files are renamed and never copied.
pub fn default_ledger_folder(home: &Home, name: &str, game_folder: &Path) -> PathBuf {
    let tidy = |c: char| if c.is_alphanumeric() { c.to_ascii_lowercase() } else { '-' };
    let mut folder_name: String = name.trim().chars().map(tidy).collect();
    // `con` and `nul` are no folder's on Windows.
    if RelPath::parse(&folder_name).is_err() {
        folder_name.push_str("-game");
    }
    let in_home = home.ledgers();
    let beside = game_folder.parent().map(|parent| parent.join(crate::address::SIDE_FOLDER));
    let within = match beside {
        // A catalogue is kept on a disk of this computer.
        Some(beside)
            if !is_remote(&beside)
                && needs_side_folder(game_folder, &in_home)
                && !needs_side_folder(game_folder, &beside) =>
        {
            beside
        }
        _ => in_home,
    };
    let free = |path: &PathBuf| fs::symlink_metadata(path).is_err();
    let numbered = (2..1000).map(|number| within.join(format!("{folder_name}-{number}")));
    let first = within.join(&folder_name);
    std::iter::once(first.clone()).chain(numbered).find(free).unwrap_or(first)
}
