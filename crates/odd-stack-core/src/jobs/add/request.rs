//! What is asked of a package that is to be added.

use std::collections::BTreeMap;
use std::path::PathBuf;

use super::error::AddError;
use super::placing_request::PlacingRequest;
use crate::blend::Prefer;
use crate::jobs::select::plain;
use crate::ledger::Layer;
use crate::package::Limits;
use crate::stack::{LayerId, Target};

/// A package and how it is to become a layer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AddRequest {
    /// A folder or an archive.
    pub package: PathBuf,
    /// The layer's name; read off the fit sheet or the file name when not given.
    pub name: Option<String>,
    /// Its version; read off the fit sheet or the file name when not given.
    pub version: Option<String>,
    /// Which of several variants it is; read as the version is.
    pub variant: Option<String>,
    /// What is said of where its files go.
    pub wanted: PlacingRequest,
    /// Where in the stack, and whether on the game.
    pub place: AddPlace,
    /// How big the package may be.
    pub limits: Limits,
    /// Whose word counts where a person and a new version changed the same in a file; none to be asked.
    pub prefer: Option<Prefer>,
    /// It holds only the changed files of a version; which one it goes onto, if the user says so.
    pub patch: Option<Patch>,
    /// It holds all of a new version, as the user says, however little that is.
    pub whole: bool,
}

impl AddRequest {
    /// A package as it comes: its name read off itself, its files where they are found to go, on top of the stack.
    pub fn of(package: impl Into<PathBuf>) -> Self {
        Self {
            package: package.into(),
            name: None,
            version: None,
            variant: None,
            wanted: PlacingRequest::default(),
            place: AddPlace::New { target: None, lifted: false },
            limits: Limits::default(),
            prefer: None,
            patch: None,
            whole: false,
        }
    }
}

/// Where a new layer goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AddPlace {
    /// Beside the others.
    New {
        /// Where in the stack; if nobody says, as high as rules of order let it.
        target: Option<Target>,
        /// Kept off the game.
        lifted: bool,
    },
    /// In the place of this layer, which goes; laid or lifted as that was.
    Exchange(LayerId),
    /// In the place of the layer that has the package's name.
    NewVersion,
}

/// The layer's name, when no other layer has it, nor one of those that come `beside` it.
pub(in crate::jobs) fn free_name(
    layers: &[Layer],
    beside: &[String],
    name: String,
    place: AddPlace,
) -> Result<String, AddError> {
    let name = name.trim().to_owned();
    if plain(&name).is_empty() || name.chars().any(char::is_control) {
        return Err(AddError::BadName { name });
    }
    let is_other = |layer: &&Layer| !matches!(place, AddPlace::Exchange(old) if old == layer.id);
    let others = layers.iter().filter(is_other);
    let others = others.map(|layer| (layer.about.name.as_str(), layer.about.version.as_deref()));
    let taken: BTreeMap<String, (&str, Option<&str>)> = others
        .chain(beside.iter().map(|name| (name.as_str(), None)))
        .map(|(name, version)| (plain(name), (name, version)))
        .collect();
    let Some((other, version)) = taken.get(&plain(&name)) else { return Ok(name) };
    let mut free = (2u64..).map(|number| format!("{other} {number}"));
    Err(AddError::NameTaken {
        name: (*other).to_owned(),
        version: version.map(str::to_owned),
        free: free.find(|free| !taken.contains_key(&plain(free))).unwrap_or_default(),
    })
}

/// How a package of only changed files goes onto a layer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Patch {
    /// The version that it goes onto, as the user says.
    pub onto: Option<String>,
    /// Although the layer is another version.
    pub despite: bool,
}
