//! Putting what a change brings beside its place.

use std::io;
use std::path::Path;

use super::decision::Staged;
use super::error::ChangeError;
use super::linking::Linking;
use crate::expected::{BuildError, Building, Built};
use crate::files::{Seam, shares_blocks};
use crate::hash::ContentHash;
use crate::ledger::Stored;

/// Writes a content to where it is staged.
pub(super) fn write_new(file: &Staged, content: &[u8], seam: &dyn Seam) -> Result<(), ChangeError> {
    let path = &file.path;
    let written = seam.write_new(path, content, file.stamp);
    written.map_err(|source| ChangeError::Stage { path: path.clone(), source })
}

/// Makes a container where it is staged; or tells which contents that it is made of are not what they were.
pub(super) fn build(
    file: &Staged,
    building: &Building,
    seam: &dyn Seam,
) -> Result<Result<Built, Vec<ContentHash>>, ChangeError> {
    let path = &file.path;
    let failed = |source| ChangeError::Stage { path: path.clone(), source };
    let shares_blocks = building.knows_beneath() && path.parent().is_some_and(shares_blocks);
    match building.make(shares_blocks, |blocks| seam.write_blocks(path, building.made_from(), blocks)) {
        Ok(built) => seam.stamp(path, file.stamp).map(|()| Ok(built)).map_err(failed),
        Err(BuildError::Lost(lost)) => Ok(Err(lost)),
        Err(BuildError::Io(source)) => Err(failed(source)),
        Err(BuildError::NotContainer(reason)) => Err(failed(io::Error::other(reason))),
    }
}

/// Puts a stored content where it is staged, as a link where it may be one; says whether it is still what it was.
pub(super) fn lay_stored(
    (file, stored): (&Staged, &Stored),
    is_doubted: bool,
    linking: &Linking,
    seam: &dyn Seam,
) -> Result<bool, ChangeError> {
    match stored.own_file() {
        Some(_) if is_doubted && !stored.is_whole() => Ok(false),
        // What hinders a link hinders no copy, or is told by it.
        Some(own) => match linking.link(file, &own, seam) {
            Ok(true) => Ok(true),
            _ => copy_stored(file, &own, seam),
        },
        None => write_stored(file, stored, seam),
    }
}

/// Writes a content that lies in a pack.
fn write_stored(file: &Staged, stored: &Stored, seam: &dyn Seam) -> Result<bool, ChangeError> {
    let written = stored.with_packed(|content| match ContentHash::of(content) == file.hash {
        true => write_new(file, content, seam).map(|()| true),
        false => Ok(false),
    });
    // What can't be read is lost, whatever the reason.
    written.ok().flatten().unwrap_or(Ok(false))
}

/// Copies a content with a file of its own. A copy that shares its blocks is not read.
fn copy_stored(file: &Staged, own: &Path, seam: &dyn Seam) -> Result<bool, ChangeError> {
    match seam.copy_file(own, &file.path, file.size_bytes, file.stamp) {
        Ok(copied) => {
            let is_it = copied.hash.is_none_or(|hash| hash == file.hash);
            Ok(copied.size_bytes == file.size_bytes && is_it)
        }
        // What can't be read is lost, whatever the reason.
        Err(_) if ContentHash::of_file(own).map_or(true, |hash| hash != file.hash) => Ok(false),
        Err(source) => Err(ChangeError::Stage { path: file.path.clone(), source }),
    }
}
