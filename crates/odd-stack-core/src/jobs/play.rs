//! Starting the game the way its stack needs it, and what it writes meanwhile.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::Permit;
use super::capture::with_runner;
use super::select::plain;
use super::show::remembered_rules;
use crate::address::{AddressError, RelPath};
use crate::disk::{
    ChangeError, ChangeOptions, ChangeRequest, CheckError, Direct, Edits, Prepared, Seen, look_through,
    prepare,
};
use crate::fit::Start;
use crate::game::{AddressPatterns, PatternError};
use crate::ledger::{Layer, Ledger, LedgerError};
use crate::observer::Observer;
use crate::stack::{BaseKind, LayerId, RootId};

/// Why the game can't be started. Nothing was changed.
#[derive(Debug, Error)]
pub enum PlayError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// What a layer says is no address of this game.
    #[error("{layer} says what to start, and that can't be found: {source}")]
    Address {
        /// The layer.
        layer: String,
        /// Why not.
        source: AddressError,
    },
    /// A pattern of a layer can't be read.
    #[error("{layer} says what to clear, and that can't be read: {source}")]
    Pattern {
        /// The layer.
        layer: String,
        /// Why not.
        source: PatternError,
    },
    /// Nobody says what starts the game.
    #[error("it is not known which program starts the game; name it with `oddstack game set --exe PATH`")]
    NoProgram,
    /// No way to start it has that name.
    #[error("nothing that starts the game is called `{name}`; there are: {}", there_are.join(", "))]
    NoSuchStart {
        /// What was given.
        name: String,
        /// What there is.
        there_are: Vec<String>,
    },
    /// The program is gone.
    #[error("there is no program at {}", path.display())]
    ProgramMissing {
        /// Where it should be.
        path: PathBuf,
    },
    /// The disk can't be looked at.
    #[error(transparent)]
    Check(#[from] CheckError),
    /// What is to be cleared can't be.
    #[error(transparent)]
    Change(#[from] ChangeError),
}

/// How the game is started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Launch {
    /// The program's address.
    pub program: String,
    /// All words of the command, the runner's first where there is one.
    pub words: Vec<String>,
    /// Variables in its environment.
    pub environment: BTreeMap<String, String>,
    /// The folder that it runs in: its own.
    pub folder: String,
    /// The layer that wants it so; none for the game's main program.
    pub layer: Option<String>,
}

/// How the stack wants the game to be started: as the topmost laid layer that says so, else by its main program. With a
/// name, the layer's or the start's of that name.
///
/// # Errors
/// [`PlayError`].
pub fn launch(ledger: &Ledger, named: Option<&str>) -> Result<Launch, PlayError> {
    let mut starts: Vec<(Layer, Start)> = Vec::new();
    for layer in ledger.layers()?.into_iter().rev().filter(|layer| layer.laid) {
        for start in remembered_rules(ledger, &layer)?.wishes.starts {
            starts.push((layer.clone(), start));
        }
    }
    let name_of =
        |layer: &Layer, start: &Start| start.name.clone().unwrap_or_else(|| layer.about.name.clone());
    let game = ledger.game();
    let chosen = match named {
        None => starts.first(),
        Some(name) if plain(name) == plain(&game.name) => None,
        Some(name) => {
            let is_it = |(layer, start): &&(Layer, Start)| {
                plain(&name_of(layer, start)) == plain(name) || plain(&layer.about.name) == plain(name)
            };
            let found = starts.iter().find(is_it);
            if found.is_none() {
                let mut there_are: Vec<String> =
                    starts.iter().map(|(layer, start)| name_of(layer, start)).collect();
                there_are.push(game.name.clone());
                return Err(PlayError::NoSuchStart { name: name.to_owned(), there_are });
            }
            found
        }
    };
    let (address, start, layer) = match chosen {
        Some((layer, start)) => {
            let failed = |source| PlayError::Address { layer: layer.about.name.clone(), source };
            let address = game.address_book().resolve(&start.program).map_err(failed)?;
            (address, start.clone(), Some(layer.about.name.clone()))
        }
        None => {
            let address = game.program.clone().ok_or(PlayError::NoProgram)?;
            let (name, program) = (None, address.to_string());
            let (arguments, environment) = (Vec::new(), BTreeMap::new());
            (address, Start { name, program, arguments, environment }, None)
        }
    };
    let root = game.root_named(&address.root).ok_or(PlayError::NoProgram)?;
    let path = address.path.on(&root.folder);
    if !path.is_file() {
        return Err(PlayError::ProgramMissing { path });
    }
    let folder = path.parent().map(|folder| folder.display().to_string()).unwrap_or_default();
    let command: Vec<String> = std::iter::once(path.display().to_string()).chain(start.arguments).collect();
    Ok(Launch {
        program: address.to_string(),
        words: with_runner(ledger, &command),
        environment: start.environment,
        folder,
        layer,
    })
}

/// What is cleared before the game starts.
#[derive(Debug)]
pub struct Clearing<'l> {
    /// Addresses of what goes; it is saved in the ledger.
    pub cleared: Vec<String>,
    /// The change; none when there is nothing to clear.
    pub change: Option<Prepared<'l>>,
}

/// Prepares to clear what the layers say the game must make anew, if the stack has changed since that was done last.
/// Files of the game itself and of layers are never cleared. When that is done, or nothing is to be done,
/// [`note_cleared`] is to be called.
///
/// # Errors
/// [`PlayError`]; nothing was changed.
pub fn prepare_clearing<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    now: &str,
    observer: &dyn Observer,
) -> Result<Clearing<'l>, PlayError> {
    let nothing = Clearing { cleared: Vec::new(), change: None };
    let catalogue = &ledger.catalogue;
    if catalogue.cleared_revision()? == catalogue.last_revision()? {
        return Ok(nothing);
    }
    let mut patterns = Vec::new();
    // Of layers that went meanwhile, too: what the game made of them is still there.
    for (name, fit) in catalogue.fits_of_all_layers()? {
        let rules: crate::fit::Rules =
            serde_json::from_str(&fit).map_err(|error| catalogue.damaged_by(&error))?;
        let parsed = AddressPatterns::parse(ledger.game(), &rules.wishes.clears);
        patterns.push(parsed.map_err(|source| PlayError::Pattern { layer: name, source })?);
    }
    patterns.retain(|patterns| !patterns.is_empty());
    if patterns.is_empty() {
        return Ok(nothing);
    }
    let known = known_files(ledger)?;
    let (mut direct, mut cleared) = (Vec::new(), Vec::new());
    for (root, path, seen) in look_over(ledger, observer)? {
        let key = ledger.game().folding.key(path.as_str());
        let is_meant = patterns.iter().any(|patterns| patterns.meet(root, key.as_str()));
        if !is_meant || seen.kind == BaseKind::Folder || known.contains(&(root, key.as_str().to_owned())) {
            continue;
        }
        cleared.extend(ledger.game().address(root, path.clone()).map(|address| address.to_string()));
        direct.push(Direct { root, path, instead: None });
    }
    if direct.is_empty() {
        return Ok(nothing);
    }
    cleared.sort();
    let request = ChangeRequest { direct, ..ChangeRequest::new("play", now, catalogue.arrangement()?) };
    catalogue.begin()?;
    let options = ChangeOptions { edits: Edits::Keep, despite: true, ..ChangeOptions::default() };
    Ok(Clearing { cleared, change: Some(prepare(ledger, permit.lock, request, options, observer)?) })
}

/// Notes that what layers want cleared is cleared, for the stack as it is now.
///
/// # Errors
/// [`LedgerError`]; it will be cleared once more.
pub fn note_cleared(ledger: &Ledger) -> Result<(), LedgerError> {
    ledger.catalogue.set_cleared_revision(ledger.catalogue.last_revision()?)
}

/// All addresses of the base and of layers in the stack.
fn known_files(ledger: &Ledger) -> Result<HashSet<(RootId, String)>, LedgerError> {
    let mut known = HashSet::new();
    for root in &ledger.game().roots {
        let base = ledger.catalogue.base_of(root.id)?;
        known.extend(base.into_iter().map(|(key, _)| (root.id, key.as_str().to_owned())));
    }
    let layers: Vec<LayerId> = ledger.layers()?.iter().map(|layer| layer.id).collect();
    let columns = ledger.catalogue.columns_of_all(&layers)?;
    known.extend(columns.into_iter().map(|column| (column.root, column.key.as_str().to_owned())));
    Ok(known)
}

fn look_over(ledger: &Ledger, observer: &dyn Observer) -> Result<Vec<(RootId, RelPath, Seen)>, CheckError> {
    let mut all = Vec::new();
    for root in &ledger.game().roots {
        let found = look_through(&root.folder, observer)?.into_iter();
        all.extend(found.map(|(path, seen)| (root.id, path, seen)));
    }
    Ok(all)
}

/// What lay in the game at one moment.
#[derive(Debug)]
pub struct Glance(HashMap<(RootId, RelPath), Seen>);

/// What was written in the game between two moments.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Written {
    /// Files that came.
    pub added: Vec<String>,
    /// Files that changed.
    pub changed: Vec<String>,
    /// Files that went.
    pub gone: Vec<String>,
}

impl Written {
    /// Whether nothing was.
    pub fn is_empty(&self) -> bool {
        self.added.is_empty() && self.changed.is_empty() && self.gone.is_empty()
    }
}

/// Looks over the game.
///
/// # Errors
/// [`CheckError`].
pub fn glance(ledger: &Ledger, observer: &dyn Observer) -> Result<Glance, CheckError> {
    let all = look_over(ledger, observer)?.into_iter();
    Ok(Glance(
        all.filter(|(.., seen)| seen.kind != BaseKind::Folder)
            .map(|(root, path, seen)| ((root, path), seen))
            .collect(),
    ))
}

/// What was written since `before`.
///
/// # Errors
/// [`CheckError`].
pub fn written_since(
    ledger: &Ledger,
    before: Glance,
    observer: &dyn Observer,
) -> Result<Written, CheckError> {
    let mut written = Written::default();
    let mut before = before.0;
    let name = |root: RootId, path: RelPath| {
        ledger.game().address(root, path).map(|address| address.to_string()).unwrap_or_default()
    };
    for ((root, path), now) in glance(ledger, observer)?.0 {
        match before.remove(&(root, path.clone())) {
            None => written.added.push(name(root, path)),
            Some(was) if was != now => written.changed.push(name(root, path)),
            Some(_) => {}
        }
    }
    written.gone.extend(before.into_keys().map(|(root, path)| name(root, path)));
    written.added.sort();
    written.changed.sort();
    written.gone.sort();
    Ok(written)
}
