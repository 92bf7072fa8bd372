//! Looking at the files that a change concerns, before it is decided. Many looks run at once.

use std::path::Path;

use super::decider::Move;
use super::error::ChangeError;
use super::looking::look;
use super::options::Edits;
use crate::address::RelPath;
use crate::expected::{DriftKind, Finding, compare, is_entry_as_laid};
use crate::files::Seen;
use crate::hash::ContentHash;
use crate::ledger::Site;
use crate::stack::{BaseFile, BaseKind, Column, Order, Provider};

/// What a look at an uncovered base file says.
pub(super) enum BaseLook {
    Hashed(ContentHash),
    /// What the base is now; with a drift unless only its times are new.
    Now {
        base: Option<BaseFile>,
        drift: Option<DriftKind>,
    },
    Stop(DriftKind),
}

pub(super) fn look_at_base(
    site: Site<'_>,
    column: &Column,
    before: &Order,
    after: &Order,
    edits: Edits,
) -> Result<Option<BaseLook>, ChangeError> {
    let Some(base) = &column.base else { return Ok(None) };
    let root = site.root(column.root)?;
    if base.kind == BaseKind::Folder || column.is_member {
        return Ok(None);
    }
    let path = base.spelled.on(&root.folder);
    let look_failed = |source| ChangeError::Look { path: path.clone(), source };
    let is_uncovered = matches!(column.provider(before), Provider::Base(_));
    // What blends is not made yet; it most likely covers.
    let stays = matches!(column.provider(after), Provider::Base(_)) && !column.is_made(after);
    if is_uncovered && !stays {
        match compare(&path, Provider::Base(base), true).map_err(look_failed)? {
            Finding::Drifted(kind, _) if edits == Edits::Stop && kind != DriftKind::BaseGone => {
                return Ok(Some(BaseLook::Stop(kind)));
            }
            Finding::Drifted(kind, None) => {
                return Ok(Some(BaseLook::Now { base: None, drift: Some(kind) }));
            }
            Finding::Drifted(kind, Some(now)) => {
                let base = base_as_now(&base.spelled, now, &path).map_err(look_failed)?;
                return Ok(Some(BaseLook::Now { base: Some(base), drift: Some(kind) }));
            }
            Finding::Fits { now: Some(now) } if now.modified_ns != base.modified_ns => {
                let base = base_as_now(&base.spelled, now, &path).map_err(look_failed)?;
                return Ok(Some(BaseLook::Now { base: Some(base), drift: None }));
            }
            Finding::Fits { .. } | Finding::LiesAlready => {}
            Finding::FolderInTheWay if edits == Edits::Stop => {
                return Ok(Some(BaseLook::Stop(DriftKind::BaseChanged)));
            }
            // The file is gone; what lies there is met where the layer's file comes.
            Finding::FolderInTheWay => {
                return Ok(Some(BaseLook::Now { base: None, drift: Some(DriftKind::BaseGone) }));
            }
        }
    }
    // Known from the first time a layer covers it, so that `check --deep` can prove its return.
    if base.kind != BaseKind::File || base.hash.is_some() || column.laid(after).is_empty() {
        return Ok(None);
    }
    let path = if is_uncovered { path.clone() } else { site.original(root, column.path) };
    match ContentHash::of_file(&path) {
        Ok(hash) => Ok(Some(BaseLook::Hashed(hash))),
        Err(error) if crate::files::is_nothing_there(&error) => Ok(None),
        Err(source) => Err(ChangeError::Look { path, source }),
    }
}

/// The base file `spelled` so, as `now` was seen of it at `path`.
pub(super) fn base_as_now(spelled: &RelPath, now: Seen, path: &Path) -> std::io::Result<BaseFile> {
    let hash = if now.kind == BaseKind::File { Some(ContentHash::of_file(path)?) } else { None };
    Ok(base_as_seen(spelled, now, hash))
}

/// The thing of the base `spelled` so, as `now` was seen of it.
pub(crate) fn base_as_seen(spelled: &RelPath, now: Seen, hash: Option<ContentHash>) -> BaseFile {
    BaseFile {
        spelled: spelled.clone(),
        kind: now.kind,
        size_bytes: now.size_bytes,
        modified_ns: now.modified_ns,
        mode: now.mode,
        hash,
    }
}

/// Looks at what lies where a file moves. Base files were looked at before.
pub(super) fn look_at_file(site: Site<'_>, at: &Move<'_>) -> Result<Finding, ChangeError> {
    if at.new_folder.is_some() {
        return Ok(Finding::Fits { now: None });
    }
    let path = at.present_or_future().on(&site.root(at.column.root)?.folder);
    if matches!(at.from, Provider::Base(_)) {
        return Ok(Finding::Fits { now: look(&path)? });
    }
    let look_failed = |source| ChangeError::Look { path: path.clone(), source };
    let finding = compare(&path, at.from, true).map_err(look_failed)?;
    if let (Finding::Drifted(DriftKind::Stray | DriftKind::Edited, Some(now)), Some(hash)) =
        (finding, at.to.hash())
    {
        // The very content that is to lie there, put by hand or by the game's client: nothing is lost with it.
        let is_alike = now.kind == BaseKind::File
            && now.size_bytes == at.to.size_bytes()
            && ContentHash::of_file(&path).map_err(look_failed)? == hash;
        if is_alike && at.to.entry().is_some_and(|entry| is_entry_as_laid(entry, &now)) {
            return Ok(Finding::LiesAlready);
        }
        if is_alike {
            return Ok(Finding::Fits { now: Some(now) });
        }
    }
    Ok(finding)
}
