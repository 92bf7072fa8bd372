//! Looking for contents that are known by size and hash.

use std::collections::BTreeMap;
use std::io::Read;
use std::path::Path;

use super::{Inner, Limits, OpenOptions, Package, PackageError};
use crate::files::open_regular;
use crate::observer::{Observer, Work};

/// Gives `take` each content of a wanted size that lies at `path`: in a package, in archives inside it as well, or as the very
/// file. Several threads may give some at once.
///
/// # Errors
/// [`PackageError`], or what `take` gives.
pub(crate) fn search<E: From<PackageError> + Send>(
    path: &Path,
    has_size: &(dyn Fn(u64) -> bool + Sync),
    take: &(dyn Fn(u64, &mut dyn Read) -> Result<(), E> + Sync),
    observer: &dyn Observer,
) -> Result<(), E> {
    let take_file = || {
        let Ok(mut file) = open_regular(path) else { return Ok(()) };
        match file.metadata().map(|metadata| metadata.len()) {
            Ok(size_bytes) if has_size(size_bytes) => take(size_bytes, &mut file),
            _ => Ok(()),
        }
    };
    let inner = Inner { unasked: true, ..Inner::default() };
    let options = OpenOptions { limits: Limits::default(), inner, names: None };
    let package = match Package::open(path, &options, observer) {
        Err(PackageError::UnknownKind { .. }) => return take_file(),
        other => other?,
    };
    if path.is_file() {
        take_file()?;
    }
    let members = package.members().iter().filter(|member| has_size(member.size_bytes));
    let members: BTreeMap<usize, u64> = members.map(|member| (member.content, member.size_bytes)).collect();
    let wanted: Vec<usize> = members.keys().copied().collect();
    observer.begin(Work::Reading, wanted.len() as u64, members.values().sum());
    let read = package.read(
        &wanted,
        &|_: usize, size_bytes: u64, content: &mut dyn Read| take(size_bytes, content),
        observer,
    );
    observer.end();
    read
}
