//! Rules for the folders of a game: real, apart from each other, from other games and from ledgers.

use std::fs;
use std::path::{Path, PathBuf};

use rayon::prelude::*;

use super::register::RegisterError;
use crate::address::{Address, MAIN_ROOT, PrefixName, plain_path};
use crate::files::{RealDisk, is_no_games, is_one_volume};
use crate::game::{
    Game, GameVersion, Program, Root, Scan, imports_of, main_program, may_be_program, plays, program_kind,
    version_of_file,
};
use crate::ledger::{Home, Ledger, free_share};
use crate::stack::{BaseKind, RootId};

/// A folder as the system knows it, whatever links lead to it; for comparing only.
pub(in crate::jobs) fn real(folder: &Path) -> PathBuf {
    fs::canonicalize(folder).unwrap_or_else(|_| folder.to_path_buf())
}

/// The absolute path of an existing folder.
pub(in crate::jobs) fn existing(folder: &Path) -> Result<PathBuf, RegisterError> {
    let missing = |source| RegisterError::NotAFolder { path: folder.to_path_buf(), source };
    let absolute = plain_path(&std::path::absolute(folder).map_err(missing)?);
    if !fs::metadata(&absolute).map_err(missing)?.is_dir() {
        return Err(missing(std::io::Error::from(std::io::ErrorKind::NotADirectory)));
    }
    if real(&absolute).parent().is_none() {
        return Err(RegisterError::WholeDisk { path: absolute });
    }
    if is_no_games(&absolute) {
        return Err(RegisterError::NoGames { path: absolute });
    }
    if absolute.to_str().is_none() {
        return Err(RegisterError::NotText { path: absolute });
    }
    // `absolute` leaves a separator at the end.
    Ok(absolute.components().collect())
}

fn overlap(one: &Path, two: &Path) -> bool {
    one.starts_with(two) || two.starts_with(one)
}

/// Refuses roots that overlap each other, another game's, or a ledger. A root that is just another game's, too, may be:
/// where it `is_shared`.
pub(in crate::jobs) fn check_apart(
    roots: &[Root],
    ledger: &Path,
    home: &Home,
    own_name: Option<&str>,
    is_shared: impl Fn(&Root) -> bool,
) -> Result<(), RegisterError> {
    let reals: Vec<PathBuf> = roots.iter().map(|root| real(&root.folder)).collect();
    for (index, one) in reals.iter().enumerate() {
        for (other, two) in reals.iter().enumerate().skip(index + 1) {
            if overlap(one, two) {
                return Err(RegisterError::Overlap {
                    one: roots[index].folder.clone(),
                    two: roots[other].folder.clone(),
                });
            }
        }
        let in_root = |kept: &Path| real_of_future(kept).starts_with(one);
        let around_root = |kept: &Path| one.starts_with(real_of_future(kept));
        // A game may lie somewhere below the data home, but not among the ledgers there.
        let ledgers = home.ledgers();
        let kept = if in_root(ledger) || around_root(ledger) {
            Some(ledger)
        } else if in_root(home.folder()) {
            Some(home.folder())
        } else {
            around_root(&ledgers).then_some(ledgers.as_path())
        };
        if let Some(kept) = kept {
            return Err(RegisterError::LedgerInRoot {
                ledger: kept.into(),
                root: roots[index].folder.clone(),
            });
        }
    }
    for other in home.games()? {
        if own_name == Some(other.name.as_str()) {
            continue;
        }
        // A ledger on a disk that is not plugged in can't be asked.
        let Ok(known) = Ledger::open(&other.ledger, std::sync::Arc::new(RealDisk::default())) else {
            continue;
        };
        for theirs in &known.game().roots {
            for (root, one) in roots.iter().zip(&reals) {
                check_apart_from((root, one), (theirs, &other.name), &is_shared)?;
            }
        }
    }
    Ok(())
}

fn check_apart_from(
    (root, real_root): (&Root, &Path),
    (theirs, game): (&Root, &str),
    is_shared: &impl Fn(&Root) -> bool,
) -> Result<(), RegisterError> {
    let (their_real, game) = (real(&theirs.folder), game.to_owned());
    let is_main = |root: &Root| root.name.as_str() == MAIN_ROOT;
    if real_root == their_real && is_main(root) && is_main(theirs) {
        return Err(RegisterError::AlreadyInCare { folder: root.folder.clone(), game });
    }
    if real_root == their_real && !is_main(root) && !is_main(theirs) {
        if is_shared(root) {
            return Ok(());
        }
        return Err(RegisterError::RootOfGame {
            root: root.name.to_string(),
            folder: root.folder.clone(),
            theirs: theirs.name.to_string(),
            game,
        });
    }
    if overlap(real_root, &their_real) {
        let (folder, theirs) = (root.folder.clone(), theirs.folder.clone());
        return Err(RegisterError::OverlapsGame { folder, theirs, game });
    }
    Ok(())
}

/// The real path of something that may not exist yet.
pub(in crate::jobs) fn real_of_future(path: &Path) -> PathBuf {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    let there = absolute.ancestors().find(|folder| folder.exists());
    match there.and_then(|there| absolute.strip_prefix(there).ok().map(|rest| real(there).join(rest))) {
        Some(path) => path.components().collect(),
        None => absolute,
    }
}

/// The part of `path` that exists.
pub(in crate::jobs) fn existing_part(path: &Path) -> PathBuf {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    absolute.ancestors().find(|folder| folder.is_dir()).map_or(absolute.clone(), Path::to_path_buf)
}

/// The roots that a person says may be other games' as well.
pub(in crate::jobs) struct Shares(Vec<PrefixName>);

impl Shares {
    /// Reads the names given, each of a root in `roots`.
    pub(in crate::jobs) fn parse<'r>(
        given: &[String],
        roots: impl Iterator<Item = &'r str> + Clone,
    ) -> Result<Self, RegisterError> {
        let parse = |text: &String| {
            let name = PrefixName::parse(text)?;
            match name.as_str() != MAIN_ROOT && roots.clone().any(|root| root == name.as_str()) {
                true => Ok(name),
                false => Err(RegisterError::NoRootToShare { name: name.to_string() }),
            }
        };
        given.iter().map(parse).collect::<Result<_, _>>().map(Self)
    }

    pub(in crate::jobs) fn has(&self, root: &PrefixName) -> bool {
        self.0.contains(root)
    }
}

/// Whether files of `folder` can't be moved into `ledger` by rename.
pub(in crate::jobs) fn needs_side_folder(folder: &Path, ledger: &Path) -> bool {
    !is_one_volume(folder, &existing_part(ledger)).unwrap_or(true)
}

/// Makes roots of names and folders; the first number that is free is `next`. Those in `shares` may be other games', too.
pub(in crate::jobs) fn new_roots(
    given: &[(String, PathBuf)],
    next: i64,
    ledger: &Path,
    shares: &Shares,
) -> Result<Vec<Root>, RegisterError> {
    let make = |(id, (name, folder)): (i64, &(String, PathBuf))| {
        let folder = existing(folder)?;
        let has_side_folder = needs_side_folder(&folder, ledger);
        let name = PrefixName::parse(name)?;
        let share = if shares.has(&name) { free_share(&folder) } else { 0 };
        Ok(Root { id: RootId(id), name, folder, has_side_folder, share })
    };
    (next..).zip(given).map(make).collect()
}

/// Resolves spots; each must be a name that no root has.
pub(in crate::jobs) fn add_spots(game: &mut Game, spots: &[(String, String)]) -> Result<(), RegisterError> {
    for (name, to) in spots {
        let name = PrefixName::parse(name)?;
        if game.root_named(&name).is_some() {
            return Err(RegisterError::NameOfRoot { name: name.to_string() });
        }
        let to = game.meant(to)?;
        game.spots.insert(name, to);
    }
    Ok(())
}

/// The address of a file of the game, given as an address or as a path on disk.
pub(in crate::jobs) fn file_of_game(text: &str, game: &Game) -> Result<Address, RegisterError> {
    let address = game.meant(text)?;
    let root = game.root_named(&address.root);
    match root.map(|root| address.path.on(&root.folder)) {
        Some(path) if path.is_file() => Ok(address),
        _ => Err(RegisterError::FileMissing { path: text.to_owned() }),
    }
}

/// The version that the file `from` of the game tells, or that the user states.
pub(in crate::jobs) fn version_given(
    stated: Option<&str>,
    from: Option<&str>,
    pattern: Option<&str>,
    game: &Game,
) -> Result<Option<GameVersion>, RegisterError> {
    if let Some(version) = stated {
        return Ok(Some(GameVersion { version: version.to_owned(), read_from: None, pattern: None }));
    }
    let Some(text) = from else { return Ok(None) };
    let address = file_of_game(text, game)?;
    version_in(game, &address, pattern)
        .map(Some)
        .ok_or(RegisterError::NoVersion { path: address.to_string() })
}

/// The version that a file of the game tells, if it does.
pub(in crate::jobs) fn version_in(
    game: &Game,
    address: &Address,
    pattern: Option<&str>,
) -> Option<GameVersion> {
    let root = game.root_named(&address.root)?;
    let version = version_of_file(&root.folder, &address.path.on(&root.folder), pattern).ok()??;
    let pattern = pattern.map(str::to_owned);
    Some(GameVersion { version, read_from: Some(address.to_string()), pattern })
}

/// Looks at everything below `root` that may be a program and picks the game's.
pub(in crate::jobs) fn find_program(root: &Root, scan: &Scan, game_name: &str) -> Option<Address> {
    let programs: Vec<Program> = scan
        .found
        .par_iter()
        .filter(|found| found.kind == BaseKind::File && may_be_program(&found.spelled, found.mode))
        .filter_map(|found| {
            // What can't be read is not the program.
            let path = found.spelled.on(&root.folder);
            let kind = program_kind(&path).ok()??;
            let plays = plays(&imports_of(&path).unwrap_or_default());
            Some(Program { path: found.spelled.clone(), size_bytes: found.size_bytes, kind, plays })
        })
        .collect();
    let folder = root.folder.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let program = main_program(&programs, &[game_name, &folder])?;
    Some(Address { root: root.name.clone(), path: program.path.clone() })
}
