//! A way out when a ledger's catalogue is damaged or gone, or the list of games is: what is whole is said, what can be
//! rebuilt is, and in the last resort the game's own files come back by the plain list of their names.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::address::{RelPath, plain_path};
use crate::check::{CheckError, Soundness, look_for_damage, soundness_of_original};
use crate::files::{KEPT, ORIGINALS, Seam, Stamp, look_at};
use crate::jobs::DamageRow;
use crate::jobs::StoredState;
use crate::jobs::select::plain;
use crate::ledger::{
    CATALOGUE_FILE, GameMark, Home, Ledger, LedgerError, Lock, NAMES, Named, Registered, SECOND_NAME,
    ensure_names, is_second_whole, make_private_folder, read_names, restore_second, side_folders_of,
};
use crate::observer::{Observer, Work};
use crate::stack::BaseKind;

/// Why a rescue went no further. What was put back until then stays, and running again goes on.
#[derive(Debug, Error)]
pub enum RescueError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// What is stored can't be looked at.
    #[error(transparent)]
    Check(#[from] CheckError),
    /// What may be whole can't be read.
    #[error("it can't be told what is whole")]
    NotNow(#[source] LedgerError),
    /// Neither a game nor a ledger.
    #[error(
        "`{given}` is neither a game that was added nor the folder of a ledger or of a game that was added once"
    )]
    NoLedger {
        /// What was given.
        given: String,
    },
    /// Neither catalogue nor second copy nor list of names.
    #[error(
        "nothing at {} tells where the game's own files belong: neither the catalogue nor its second copy is whole, and there \
         is no list of names",
        folder.display()
    )]
    Nothing {
        /// The ledger.
        folder: PathBuf,
    },
    /// The person did not agree.
    #[error("not done, as you said; nothing was changed")]
    Declined,
    /// The folder for the originals has something in it.
    #[error("{} is not empty", folder.display())]
    NotEmpty {
        /// The folder.
        folder: PathBuf,
    },
}

/// How a file of the ledger is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum Condition {
    /// As it was written.
    Whole,
    /// Something else.
    Damaged,
    /// It is gone.
    Missing,
    /// Made by a later version of this program.
    TooNew,
}

/// What is done in the end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum RescueDone {
    /// The catalogue is whole, and nothing had to be done to it.
    Nothing,
    /// The second copy took the catalogue's place.
    Rebuilt,
    /// Originals were put back into the game, which is no longer in the list.
    PutBack,
    /// Originals were copied into a folder.
    Copied,
}

/// One of the game's own files that lies in the ledger.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct OriginalFate {
    /// Where it belongs.
    pub address: String,
    /// How it is.
    pub state: StoredState,
    /// Where it is put; none if it is not whole.
    pub put_to: Option<String>,
}

/// What was found and done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct RescueReport {
    /// Nothing was changed: it was only looked what would be.
    pub dry_run: bool,
    /// The ledger.
    pub ledger: String,
    /// The game's name, as far as it is known.
    pub game: Option<String>,
    /// How the catalogue was.
    pub catalogue: Condition,
    /// How its second copy was.
    pub second: Condition,
    /// How many originals the list of names knows.
    pub names: u64,
    /// What is done.
    pub done: RescueDone,
    /// Where the damaged catalogue is kept, if it was exchanged.
    pub set_aside: Option<String>,
    /// The game came into the list of games again.
    pub listed_again: bool,
    /// Contents of layers and originals that were read, if the catalogue is whole now.
    pub stored: Option<(u64, u64)>,
    /// What of these is lost.
    pub damaged: Vec<DamageRow>,
    /// The originals that were put somewhere, or could not be.
    pub originals: Vec<OriginalFate>,
}

/// What is asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RescueRequest {
    /// A game's name or a ledger's folder.
    pub target: String,
    /// Copy the originals here, by their names, and do nothing else.
    pub to: Option<PathBuf>,
    /// Put the originals back into the game, even if the catalogue could be rebuilt.
    pub put_back: bool,
    /// Only look.
    pub dry_run: bool,
}

/// The ledger that a text means: a game of the list, a folder, or the folder of a game that has a mark.
///
/// # Errors
/// [`RescueError::NoLedger`].
pub fn ledger_meant(home: &Home, text: &str) -> Result<PathBuf, RescueError> {
    let games = home.games().unwrap_or_default();
    if let Some(game) = games.iter().find(|game| plain(&game.name) == plain(text)) {
        return Ok(game.ledger.clone());
    }
    let folder = Path::new(text);
    if looks_like_a_ledger(folder) {
        let absolute = std::path::absolute(folder).unwrap_or_else(|_| folder.to_path_buf());
        return Ok(plain_path(&absolute));
    }
    if let Some(mark) = GameMark::read(folder) {
        return Ok(mark.ledger);
    }
    let in_home = home.ledgers().join(text.to_lowercase());
    match looks_like_a_ledger(&in_home) {
        true => Ok(in_home),
        false => Err(RescueError::NoLedger { given: text.to_owned() }),
    }
}

fn looks_like_a_ledger(folder: &Path) -> bool {
    let has = |name: &str| folder.join(name).symlink_metadata().is_ok();
    has(CATALOGUE_FILE) || has(SECOND_NAME) || has(NAMES) || has("blobs") && has(ORIGINALS)
}

/// The ledgers in the data home that its list does not have, or all of them where it can't be read. The list is then set
/// aside and made anew of those whose catalogue is whole.
///
/// # Errors
/// [`LedgerError`].
pub fn list_again(home: &Home, seam: &Arc<dyn Seam>, dry_run: bool) -> Result<Vec<String>, LedgerError> {
    let known: BTreeSet<PathBuf> = match home.games() {
        Ok(games) => games.into_iter().map(|game| game.ledger).collect(),
        Err(LedgerError::Registry { path, .. }) => {
            if !dry_run {
                let places = (1..1000).map(|number| home.folder().join(format!("games.damaged-{number}")));
                let place = places.into_iter().find(|place| !place.exists());
                let place = place.unwrap_or_else(|| home.folder().join("games.damaged"));
                seam.rename(&path, &place).map_err(LedgerError::io("set aside", &path))?;
            }
            BTreeSet::new()
        }
        Err(error) => return Err(error),
    };
    let mut found = Vec::new();
    for entry in fs::read_dir(home.ledgers()).into_iter().flatten().filter_map(Result::ok) {
        let folder = entry.path();
        if known.contains(&folder) || !looks_like_a_ledger(&folder) {
            continue;
        }
        let Ok(ledger) = Ledger::open(&folder, Arc::clone(seam)) else { continue };
        found.push(ledger.game().name.clone());
        if !dry_run {
            list(home, &ledger)?;
        }
    }
    Ok(found)
}

/// Puts a game into the list, or its ledger where it lies now; says whether that was new.
fn list(home: &Home, ledger: &Ledger) -> Result<bool, LedgerError> {
    let (name, folder) = (ledger.game().name.clone(), ledger.folder().to_path_buf());
    let mut is_new = true;
    home.change(|list| {
        let own = list.iter_mut().find(|game| game.ledger == folder || plain(&game.name) == plain(&name));
        match own {
            Some(game) => {
                is_new = game.ledger != folder;
                game.ledger.clone_from(&folder);
            }
            None => list.push(Registered { name: name.clone(), ledger: folder.clone(), leaving: false }),
        }
        Ok::<_, LedgerError>(())
    })?;
    GameMark::write_all(ledger.game(), ledger.folder(), home);
    Ok(is_new)
}

/// Looks at the ledger that `request` means and does what helps: nothing where all is whole, the second copy in the
/// catalogue's place, or the originals back where they belong. Before these are put back unasked, it is asked whether a
/// person `agrees` to what the report says would be.
///
/// # Errors
/// [`RescueError`].
pub fn rescue(
    home: &Home,
    request: &RescueRequest,
    seam: &Arc<dyn Seam>,
    agrees: &mut dyn FnMut(&RescueReport) -> bool,
    observer: &dyn Observer,
) -> Result<RescueReport, RescueError> {
    let folder = ledger_meant(home, &request.target)?;
    if !folder.is_dir() {
        return Err(LedgerError::Missing { folder }.into());
    }
    let lock = Lock::take(&folder, "rescue", Duration::from_secs(10))?;
    let by_names = request.to.is_some() || request.put_back;
    let (catalogue, second) = conditions(&folder, by_names, seam)?;
    let mut report = RescueReport {
        dry_run: request.dry_run,
        ledger: folder.display().to_string(),
        game: None,
        catalogue,
        second,
        names: 0,
        done: RescueDone::Nothing,
        set_aside: None,
        listed_again: false,
        stored: None,
        damaged: Vec::new(),
        originals: Vec::new(),
    };
    if catalogue == Condition::TooNew && request.to.is_none() && !request.put_back {
        drop(Ledger::open(&folder, Arc::clone(seam))?);
    }
    if catalogue == Condition::Whole {
        ensure_names(&Ledger::open(&folder, Arc::clone(seam))?)
            .map_err(|_| RescueError::Nothing { folder: folder.clone() })?;
    }
    let places = Places::find(&folder, home, &request.target);
    report.names = places.originals.len() as u64;
    report.game.clone_from(&places.game);
    if catalogue == Condition::Whole && !by_names {
        drop(lock);
        let ledger = Ledger::open(&folder, Arc::clone(seam))?;
        if second != Condition::Whole && !request.dry_run {
            ledger.seal_anew();
        }
        return look_after(home, &ledger, report, observer);
    }
    if second == Condition::Whole && catalogue != Condition::TooNew && !by_names {
        report.done = RescueDone::Rebuilt;
        if request.dry_run {
            return Ok(report);
        }
        report.set_aside = restore_second(&folder, &lock)?.map(|path| path.display().to_string());
        drop(lock);
        let ledger = Ledger::open(&folder, Arc::clone(seam))?;
        // The second copy may not know of all that was laid as links since.
        ledger.catalogue.doubt_all()?;
        // Nor where all lies since.
        ledger.find_contents_again()?;
        ledger.seal_anew();
        return look_after(home, &ledger, report, observer);
    }
    bring_originals(home, &folder, (&places, report), request, seam, agrees, observer)
}

/// The originals by their names: copied to a folder, or put back, which ends that the game is known.
fn bring_originals(
    home: &Home,
    folder: &Path,
    (places, mut report): (&Places, RescueReport),
    request: &RescueRequest,
    seam: &Arc<dyn Seam>,
    agrees: &mut dyn FnMut(&RescueReport) -> bool,
    observer: &dyn Observer,
) -> Result<RescueReport, RescueError> {
    if places.originals.is_empty() {
        return Err(RescueError::Nothing { folder: folder.to_path_buf() });
    }
    let to = request.to.as_deref();
    report.done = if to.is_some() { RescueDone::Copied } else { RescueDone::PutBack };
    if let Some(to) = to
        && fs::read_dir(to).is_ok_and(|mut entries| entries.next().is_some())
    {
        return Err(RescueError::NotEmpty { folder: to.to_path_buf() });
    }
    if report.done == RescueDone::PutBack && !request.dry_run {
        let would_be = places.bring(None, true, &**seam, observer)?;
        let would = RescueReport { dry_run: true, originals: would_be, ..report.clone() };
        if !agrees(&would) {
            return Err(RescueError::Declined);
        }
    }
    report.originals = places.bring(to, request.dry_run, &**seam, observer)?;
    if report.done == RescueDone::PutBack && !request.dry_run {
        let _ = home.change(|list| {
            list.retain(|game| game.ledger != folder);
            Ok::<_, LedgerError>(())
        });
        for root in places.roots.values() {
            let _ = GameMark::remove_from(root, folder);
        }
    }
    Ok(report)
}

/// How the catalogue is, and its second copy.
fn conditions(
    folder: &Path,
    by_names: bool,
    seam: &Arc<dyn Seam>,
) -> Result<(Condition, Condition), RescueError> {
    let catalogue = match condition(folder, seam) {
        Err(_) if by_names => Condition::Damaged,
        other => other?,
    };
    let second = match (is_second_whole(folder), folder.join(SECOND_NAME).exists()) {
        (Ok(true), _) => Condition::Whole,
        // What can't be read just now may be whole: nothing is given up for that unasked.
        (Err(error), _) if !by_names => return Err(RescueError::NotNow(error)),
        (_, true) => Condition::Damaged,
        (_, false) => Condition::Missing,
    };
    Ok((catalogue, second))
}

fn condition(folder: &Path, seam: &Arc<dyn Seam>) -> Result<Condition, RescueError> {
    if look_at(&folder.join(CATALOGUE_FILE)).map_err(LedgerError::io("look at", folder))?.is_none() {
        return Ok(Condition::Missing);
    }
    Ok(match Ledger::open_locked(folder, Arc::clone(seam)) {
        Ok(()) => Condition::Whole,
        Err(LedgerError::TooNew { .. }) => Condition::TooNew,
        Err(LedgerError::Damaged { .. } | LedgerError::Missing { .. }) => Condition::Damaged,
        Err(error) => return Err(RescueError::NotNow(error)),
    })
}

/// Reads all that is stored, and puts the game into the list.
fn look_after(
    home: &Home,
    ledger: &Ledger,
    mut report: RescueReport,
    observer: &dyn Observer,
) -> Result<RescueReport, RescueError> {
    report.game = Some(ledger.game().name.clone());
    if !report.dry_run {
        report.listed_again = list(home, ledger)?;
    }
    let (found, _) = look_for_damage(ledger, observer)?;
    report.stored = Some((found.contents, found.originals));
    report.damaged = found.damaged.iter().map(DamageRow::of).collect();
    Ok(report)
}

/// Originals by the lists of their names, wherever these lie.
#[derive(Default)]
struct Places {
    game: Option<String>,
    roots: std::collections::BTreeMap<String, PathBuf>,
    /// Each with the side that it lies in.
    originals: Vec<(PathBuf, Named)>,
}

impl Places {
    /// Reads the lists in the ledger, and in the sides of roots that it or a mark names.
    fn find(folder: &Path, home: &Home, target: &str) -> Self {
        let mut places = Self::default();
        let mut sides = vec![folder.to_path_buf()];
        let listed = home.games().unwrap_or_default().into_iter().find(|game| game.ledger == folder);
        places.game = listed.map(|game| game.name);
        if let Some(mark) = GameMark::read(Path::new(target)) {
            places.game = Some(mark.game);
            sides.extend(side_folders_of(Path::new(target), folder));
        }
        let mut done = BTreeSet::new();
        while let Some(side) = sides.pop() {
            if !done.insert(side.clone()) {
                continue;
            }
            let names = read_names(&side).unwrap_or_default();
            for (root, at) in names.roots {
                sides.extend(side_folders_of(&at, folder));
                places.roots.insert(root, at);
            }
            let there = names.originals.into_values().filter(|named| {
                // What went back into the game lies here no more.
                side.join(ORIGINALS).join(named.number.to_string()).symlink_metadata().is_ok()
            });
            places.originals.extend(there.map(|named| (side.clone(), named)));
        }
        places
    }

    /// Puts each original that is whole into `to`, or back into the game, where what lies there is saved.
    fn bring(
        &self,
        to: Option<&Path>,
        dry_run: bool,
        seam: &dyn Seam,
        observer: &dyn Observer,
    ) -> Result<Vec<OriginalFate>, RescueError> {
        let mut fates = Vec::new();
        observer.begin(Work::Placing, self.originals.len() as u64, 0);
        for (side, named) in &self.originals {
            if observer.is_cancelled() {
                return Err(CheckError::Cancelled.into());
            }
            let base = named.base();
            let from = side.join(ORIGINALS).join(named.number.to_string());
            let soundness = soundness_of_original(&from, &base, true);
            // A list may be damaged as well, and lead anywhere.
            let path = RelPath::parse(&named.path).ok();
            let folder = match to {
                Some(to) => Some(to.join(&named.root)),
                None => self.roots.get(&named.root).cloned(),
            };
            let place = path.as_ref().zip(folder).map(|(path, folder)| path.on(&folder));
            let state = match soundness {
                Soundness::Whole | Soundness::OtherTime => StoredState::Whole,
                Soundness::Damaged => StoredState::Damaged,
                Soundness::Missing => StoredState::Missing,
            };
            let put_to = place.as_ref().filter(|_| !soundness.is_lost());
            fates.push(OriginalFate {
                address: format!("{}:{}", named.root, named.path),
                state,
                put_to: put_to.map(|place| place.display().to_string()),
            });
            if let (Some(place), false) = (put_to, dry_run) {
                let stamp = Stamp::of_base(&base);
                match to {
                    Some(to) => copy_out(&from, to, place, base.size_bytes, stamp, seam)?,
                    None => {
                        let kept = side.join(KEPT).join("rescued").join(&named.root);
                        put_back(&from, &kept, path.as_ref(), place, side, seam)?;
                        if soundness == Soundness::OtherTime {
                            seam.stamp(place, stamp).map_err(LedgerError::io("write", place))?;
                        }
                    }
                }
            }
            observer.advance(1, 0);
        }
        observer.end();
        fates.sort_by(|one, two| one.address.cmp(&two.address));
        Ok(fates)
    }
}

/// Makes the folders above `path` that are missing, down from `top`.
fn make_folders(path: &Path, top: &Path, seam: &dyn Seam) -> Result<(), LedgerError> {
    let mut missing: Vec<&Path> =
        path.ancestors().skip(1).take_while(|folder| folder.starts_with(top)).collect();
    missing.reverse();
    missing.into_iter().try_for_each(|folder| make_private_folder(folder, seam))
}

fn copy_out(
    from: &Path,
    to: &Path,
    place: &Path,
    size_bytes: u64,
    stamp: Stamp,
    seam: &dyn Seam,
) -> Result<(), LedgerError> {
    fs::create_dir_all(to).map_err(LedgerError::io("create", to))?;
    make_folders(place, to, seam)?;
    if look_at(from)
        .map_err(LedgerError::io("look at", from))?
        .is_some_and(|seen| seen.kind == BaseKind::File)
    {
        seam.copy_file(from, place, size_bytes, stamp).map_err(LedgerError::io("write", place))?;
    }
    Ok(())
}

/// Puts an original in its place; what lies there is moved into `kept` first.
fn put_back(
    from: &Path,
    kept: &Path,
    path: Option<&RelPath>,
    place: &Path,
    side: &Path,
    seam: &dyn Seam,
) -> Result<(), LedgerError> {
    let Some(path) = path else { return Ok(()) };
    let root_folder = place.ancestors().nth(path.parts().count()).unwrap_or(place);
    let mut above = place.ancestors().skip(1).take_while(|folder| folder.starts_with(root_folder));
    if let Some(link) = above.find(|folder| folder.is_symlink() && *folder != root_folder) {
        let error = std::io::Error::other("a link lies in its way, and is not followed");
        return Err(LedgerError::io("put back what belongs to", link)(error));
    }
    make_folders(place, root_folder, seam)?;
    if look_at(place).map_err(LedgerError::io("look at", place))?.is_some() {
        let mut saved = path.on(kept);
        let mut number = 1;
        while saved.symlink_metadata().is_ok() {
            saved = path.on(&kept.with_extension(number.to_string()));
            number += 1;
        }
        make_folders(&saved, side, seam)?;
        seam.rename(place, &saved).map_err(LedgerError::io("save", place))?;
    }
    seam.rename(from, place).map_err(LedgerError::io("put back", place))
}
