//! Starting the game the way its stack needs it, and what it writes meanwhile.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::address::{AddressError, RelPath};
use crate::change::ChangeError;
use crate::check::{CheckError, look_through};
use crate::files::Seen;
use crate::fit::Start;
use crate::hash::ContentHash;
use crate::jobs::add::remembered::remembered_rules;
use crate::jobs::add::start_wishes::{StartRow, agreement_to_start};
use crate::jobs::capture::with_runner;
use crate::jobs::select::plain;
use crate::ledger::{Layer, Ledger, LedgerError};
use crate::observer::Observer;
use crate::stack::{BaseKind, RootId};

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
    /// Nobody says what starts the game.
    #[error("it is not known which program starts the game")]
    NoProgram,
    /// No way to start it has that name.
    #[error("nothing that starts the game is called `{name}`; there are: {}", there_are.join(", "))]
    NoSuchStart {
        /// What was given.
        name: String,
        /// What there is.
        there_are: Vec<String>,
    },
    /// A second folder was not built to its end.
    #[error("the second folder of the lineup `{lineup}` is not finished")]
    NotBuilt {
        /// The lineup.
        lineup: String,
    },
    /// The program is gone.
    #[error("there is no program at {}", path.display())]
    ProgramMissing {
        /// Where it should be.
        path: PathBuf,
    },
    /// What a layer wants started lies outside of the game.
    #[error("{layer} wants {} started, and that leads out of the game's folders; it is not started", path.display())]
    ProgramOutside {
        /// The layer.
        layer: String,
        /// The program.
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Launch {
    /// The program's address.
    pub program: String,
    /// All words of the command, the runner's first where there is one.
    pub words: Vec<String>,
    /// How many of these are the program's own, with its arguments.
    #[serde(skip)]
    #[cfg_attr(feature = "schema", schemars(skip))]
    pub own_words: usize,
    /// Variables in its environment.
    pub environment: BTreeMap<String, String>,
    /// The folder that it runs in: its own.
    pub folder: String,
    /// The lineup in whose second folder it is started; none for the game itself.
    pub lineup: Option<String>,
    /// The layer that wants it so; none for the game's main program.
    pub layer: Option<String>,
    /// Those of the variables that make it, or what it starts, load other code.
    pub loads_code: Vec<String>,
    /// What agreement to it is known by, where a layer wants it.
    #[serde(skip)]
    #[cfg_attr(feature = "schema", schemars(skip))]
    pub(in crate::jobs) agreement: Option<ContentHash>,
}

/// Where the game lies that is started, and the layers that it has.
pub(in crate::jobs) struct Where {
    /// Laid ones, from the bottom to the top.
    pub layers: Vec<Layer>,
    /// The folders of its roots.
    pub folders: HashMap<RootId, PathBuf>,
    /// The lineup whose second folder it is.
    pub lineup: Option<String>,
}

/// How the stack wants the game to be started: as the topmost laid layer that says so, else by its main program. With a
/// name, the layer's or the start's of that name.
///
/// # Errors
/// [`PlayError`].
pub fn launch(ledger: &Ledger, named: Option<&str>) -> Result<Launch, PlayError> {
    let layers = ledger.layers()?.into_iter().filter(|layer| layer.laid).collect();
    let folders = ledger.game().roots.iter().map(|root| (root.id, root.folder.clone())).collect();
    launch_in(ledger, &Where { layers, folders, lineup: None }, named)
}

/// As [`launch`], at some place.
pub(in crate::jobs) fn launch_in(
    ledger: &Ledger,
    place: &Where,
    named: Option<&str>,
) -> Result<Launch, PlayError> {
    let mut starts: Vec<(Layer, Start)> = Vec::new();
    for layer in place.layers.iter().rev() {
        for start in remembered_rules(ledger, layer)?.starts() {
            starts.push((layer.clone(), start));
        }
    }
    let game = ledger.game();
    let chosen = match named {
        None => starts.first(),
        Some(name) if plain(name) == plain(&game.name) => None,
        Some(name) => {
            let built = ledger.catalogue.built_folders()?.into_iter().map(|built| built.lineup);
            let others: Vec<String> = std::iter::once(game.name.clone()).chain(built).collect();
            Some(start_named(name, &starts, others)?)
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
    let path = address.path.on(place.folders.get(&root.id).unwrap_or(&root.folder));
    if !path.is_file() {
        return Err(PlayError::ProgramMissing { path });
    }
    if let Some(layer) = &layer
        && !lies_in(place.folders.values(), &path)
    {
        return Err(PlayError::ProgramOutside { layer: layer.clone(), path });
    }
    let agreement = layer.as_ref().map(|layer| agreement_to_start(layer, &start));
    let loads_code = StartRow::of(&start).loads_code;
    let folder = path.parent().map(|folder| folder.display().to_string()).unwrap_or_default();
    let command: Vec<String> = std::iter::once(path.display().to_string()).chain(start.arguments).collect();
    Ok(Launch {
        program: address.to_string(),
        words: with_runner(ledger, &command),
        own_words: command.len(),
        environment: start.environment,
        folder,
        lineup: place.lineup.clone(),
        layer,
        loads_code,
        agreement,
    })
}

/// The first start of that name, or of the layer of that name; `others` is what else could be named.
fn start_named<'s>(
    name: &str,
    starts: &'s [(Layer, Start)],
    others: Vec<String>,
) -> Result<&'s (Layer, Start), PlayError> {
    let name_of =
        |(layer, start): &(Layer, Start)| start.name.clone().unwrap_or_else(|| layer.about.name.clone());
    let is_it =
        |at: &&(Layer, Start)| plain(&name_of(at)) == plain(name) || plain(&at.0.about.name) == plain(name);
    starts.iter().find(is_it).ok_or_else(|| {
        let there_are = starts.iter().map(name_of).chain(others).collect();
        PlayError::NoSuchStart { name: name.to_owned(), there_are }
    })
}

/// Whether what lies at the path once links are followed is in one of these folders.
fn lies_in<'f>(folders: impl Iterator<Item = &'f PathBuf>, path: &Path) -> bool {
    let roots = folders.filter_map(|folder| std::fs::canonicalize(folder).ok());
    std::fs::canonicalize(path).is_ok_and(|real| roots.into_iter().any(|root| real.starts_with(root)))
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
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
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
