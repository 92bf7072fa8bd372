//! What should lie at an address, and how it is spelled there: made of the catalogue and the order of layers, blended where
//! several layers set keys, rebuilt where layers change members of a container; and how a file on disk compares with it.

mod blending;
mod building;
mod containers;
mod drift;
mod game_version;
mod layout;
mod spelling;
mod unstored;

pub use drift::{Drift, DriftKind};
pub use game_version::{GameVersionNow, game_version_now};

pub(crate) use blending::Blender;
pub(crate) use building::{BuildError, Building, Built};
pub(crate) use containers::{Containers, Opened};
pub(crate) use drift::{Finding, compare, is_base_as_seen, is_entry_as_laid, is_put_back, may_be_as_it_was};
pub(crate) use game_version::{game_version_under, tells_version};
pub(crate) use layout::{Expected, Place, places};
pub(crate) use spelling::{Folders, file_name, folders_on_disk, path_on_disk, paths_on_disk};
pub(crate) use unstored::Unstored;
