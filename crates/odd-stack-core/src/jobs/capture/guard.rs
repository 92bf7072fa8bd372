//! Protecting what could not be had again, before a program may write over it.
//!
//! Contents of layers are stored, and originals of covered files lie aside; so what needs protection is the base's own
//! files that no layer covers, and files of layers that were edited. They are copied into a folder on the root's own
//! volume, sharing blocks where the disk can; else they are copied as long as that is little, or as far as somebody said
//! what the program may write; or, if so wanted, they are only given a second name there.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

use rayon::prelude::*;

use super::GuardMeans;
use super::{CaptureError, GuardReport};
use crate::address::{FoldedKey, RelPath};
use crate::change::{ChangeError, empty_folder};
use crate::check::{Drifted, LookedAt};
use crate::expected::{Blender, DriftKind, path_on_disk};
use crate::files::{Seam, Stamp, look_at, shares_blocks};
use crate::game::{AddressPatterns, Root};
use crate::ledger::{Ledger, LedgerError, Site, check_room, make_private_folder};
use crate::observer::{Observer, Work};
use crate::stack::{BaseKind, Column, Provider, RootId};

const FOLDER: &str = "guard";
/// As much is copied without anybody's saying what the program may write.
const MOST_COPIED_BYTES: u64 = 2 << 30;
/// How many share a folder.
const FILES_A_FOLDER: u64 = 512;

/// What was protected.
#[derive(Debug, Default)]
pub(super) struct Guarded {
    pub report: GuardReport,
    /// The number of each protected file in its root's guard folder.
    pub numbers: HashMap<(RootId, String), u64>,
}

/// Where the file with that number is protected.
pub(super) fn guard_path(site: Site<'_>, root: &Root, number: u64) -> PathBuf {
    let folder = site.side(root).join(FOLDER);
    folder.join((number / FILES_A_FOLDER).to_string()).join(number.to_string())
}

struct ToProtect<'a> {
    root: &'a Root,
    path: RelPath,
    size_bytes: u64,
    is_edit: bool,
}

/// Protects the files that need it: where something is said in `watch`, only those of the base that meet it.
pub(super) fn protect(
    ledger: &Ledger,
    drifted: &[Drifted],
    looked: &[LookedAt],
    watch: &AddressPatterns,
    links: bool,
    observer: &dyn Observer,
) -> Result<Guarded, CaptureError> {
    let mut report = GuardReport { drifted_files: drifted.len() as u64, ..GuardReport::default() };
    let mut wanted = Vec::new();
    let columns = ledger.catalogue.columns_of_all(&ledger.catalogue.arrangement()?.laid())?;
    for looked in looked {
        uncovered(ledger, looked, &columns, watch, &mut wanted, &mut report)?;
    }
    for drifted in drifted {
        let address = &drifted.drift.address;
        let is_ours =
            matches!(drifted.drift.kind, DriftKind::Edited | DriftKind::PutBack | DriftKind::Updated);
        let Some(root) = ledger.game().root_named(&address.root).filter(|_| is_ours) else { continue };
        wanted.push(ToProtect { root, path: address.path.clone(), size_bytes: 0, is_edit: true });
    }
    part_from_ledger(ledger, &columns, watch, observer)?;
    report.files = wanted.len() as u64;
    report.bytes = wanted.iter().map(|wanted| wanted.size_bytes).sum();
    let numbers: HashMap<(RootId, String), u64> = (0..)
        .zip(&wanted)
        .map(|(number, wanted)| ((wanted.root.id, wanted.path.as_str().to_owned()), number))
        .collect();
    if wanted.is_empty() {
        return Ok(Guarded { report, numbers });
    }
    let (site, seam) = (ledger.site(), &*ledger.seam);
    let (made, is_shared) = make_guard_folders(ledger, &wanted)?;
    let means = match (is_shared, links) {
        (true, _) => GuardMeans::Shared,
        (false, true) => GuardMeans::Linked,
        (false, false) => GuardMeans::Copied,
    };
    report.means = means;
    if means == GuardMeans::Copied {
        if watch.is_empty() && report.bytes > MOST_COPIED_BYTES {
            remove(ledger)?;
            return Err(CaptureError::TooMuchToCopy { files: report.files, bytes: report.bytes });
        }
        check_room(ledger.folder(), report.bytes)?;
    }
    observer.begin(Work::Guarding, report.files, report.bytes);
    let numbered: Vec<(u64, &ToProtect<'_>)> = (0..).zip(&wanted).collect();
    let done = numbered.par_iter().try_for_each(|(number, wanted)| {
        if observer.is_cancelled() {
            return Err(ChangeError::Cancelled.into());
        }
        let from = wanted.path.on(&wanted.root.folder);
        let to = guard_path(site, wanted.root, *number);
        // A second name for a file that a person edited would protect nothing from an edit.
        let linked = means == GuardMeans::Linked && !wanted.is_edit;
        protect_one(seam, &from, &to, linked)?;
        observer.advance(1, wanted.size_bytes);
        Ok(())
    });
    observer.end();
    if let Err(error) = done {
        remove(ledger)?;
        return Err(error);
    }
    make_guard_durable(ledger, &numbered, &made)?;
    Ok(Guarded { report, numbers })
}

/// Gives contents of layers that lie in the game as links files of their own in the ledger, where the program may write to
/// them.
fn part_from_ledger(
    ledger: &Ledger,
    columns: &[Column],
    watch: &AddressPatterns,
    observer: &dyn Observer,
) -> Result<(), CaptureError> {
    if !ledger.catalogue.has_linked()? {
        return Ok(());
    }
    let order = ledger.present_order()?;
    let mut names = Vec::new();
    for column in columns.iter().filter(|column| !column.is_member) {
        let Some(entry) = column.provider(&order).entry() else { continue };
        let is_watched = watch.is_empty() || watch.meet(column.root, column.key.as_str());
        if is_watched && ledger.catalogue.linked(entry.hash)?.is_some() {
            let path = path_on_disk(&ledger.catalogue, column, &order)?;
            let path = path.on(&ledger.site().root(column.root)?.folder);
            names.push((entry.hash, path, entry.size_bytes));
        }
    }
    let bytes: u64 = names.iter().map(|(.., size_bytes)| size_bytes).sum();
    if watch.is_empty() && bytes > MOST_COPIED_BYTES && !shares_blocks(ledger.folder()) {
        return Err(CaptureError::TooMuchToCopy { files: names.len() as u64, bytes });
    }
    check_room(ledger.folder(), bytes)?;
    Ok(ledger.part_from(&names, observer)?)
}

fn make_guard_durable(
    ledger: &Ledger,
    numbered: &[(u64, &ToProtect<'_>)],
    made: &HashSet<PathBuf>,
) -> Result<(), LedgerError> {
    for root in &ledger.game().roots {
        let folder = ledger.site().side(root).join(FOLDER);
        if folder.is_dir() {
            let mut touched: Vec<PathBuf> = made.iter().cloned().collect();
            touched.extend(
                numbered.iter().map(|(number, wanted)| guard_path(ledger.site(), wanted.root, *number)),
            );
            let touched: Vec<&Path> = touched.iter().map(PathBuf::as_path).collect();
            ledger.seam.make_durable(&folder, &touched).map_err(LedgerError::io("write to", &folder))?;
        }
    }
    Ok(())
}

/// Makes the folders for that many files; says which, and whether a copy there shares blocks with the file.
fn make_guard_folders(
    ledger: &Ledger,
    wanted: &[ToProtect<'_>],
) -> Result<(HashSet<PathBuf>, bool), CaptureError> {
    let mut is_shared = true;
    let mut made: HashSet<PathBuf> = HashSet::new();
    for (number, wanted) in (0..).zip(wanted) {
        let path = guard_path(ledger.site(), wanted.root, number);
        let Some(folder) = path.parent().filter(|folder| !made.contains(*folder)) else { continue };
        let side = ledger.site().side(wanted.root);
        let above = side.join(FOLDER);
        for folder in [side.as_path(), above.as_path(), folder] {
            make_private_folder(folder, &*ledger.seam)?;
        }
        if made.is_empty() || !made.iter().any(|known| known.starts_with(&side)) {
            is_shared &= shares_blocks(&above);
        }
        made.insert(folder.to_path_buf());
    }
    Ok((made, is_shared))
}

/// The base's own files that no layer covers, of a root; `columns` are those of all laid layers.
fn uncovered<'a>(
    ledger: &'a Ledger,
    looked: &LookedAt,
    columns: &[Column],
    watch: &AddressPatterns,
    wanted: &mut Vec<ToProtect<'a>>,
    report: &mut GuardReport,
) -> Result<(), LedgerError> {
    let root = ledger.site().root(looked.root)?;
    let base = &looked.base;
    let order = ledger.present_order()?;
    let mut touching: Vec<Column> = Vec::new();
    for column in columns.iter().filter(|column| column.root == root.id) {
        if let Ok(at) = base.binary_search_by(|(key, _)| key.cmp(&column.key)) {
            touching.push(Column { base: Some(Box::new(base[at].1.clone())), ..column.clone() });
        }
    }
    Blender::new(ledger).learn(&mut touching, &order)?;
    let covered: HashSet<FoldedKey> = touching
        .into_iter()
        .filter(|column| !matches!(column.provider(&order), Provider::Base(_)))
        .map(|column| column.key)
        .collect();
    for (key, base) in base {
        if base.kind == BaseKind::Folder || covered.contains(key) {
            continue;
        }
        if !watch.is_empty() && !watch.meet(root.id, key.as_str()) {
            report.unprotected_files += 1;
            continue;
        }
        let (path, size_bytes) = (base.spelled.clone(), base.size_bytes);
        wanted.push(ToProtect { root, path, size_bytes, is_edit: false });
    }
    Ok(())
}

fn protect_one(seam: &dyn Seam, from: &Path, to: &Path, linked: bool) -> Result<(), CaptureError> {
    let look = |source| ChangeError::Look { path: from.to_path_buf(), source };
    let Some(seen) = look_at(from).map_err(look)?.filter(|seen| seen.kind == BaseKind::File) else {
        return Ok(());
    };
    if linked {
        return Ok(seam.link_file(from, to).map_err(LedgerError::io("protect", from))?);
    }
    let stamp = Stamp {
        modified: seen.modified_ns.div_euclid(1_000_000_000),
        nanoseconds: u32::try_from(seen.modified_ns.rem_euclid(1_000_000_000)).unwrap_or(0),
        mode: seen.mode,
    };
    seam.copy_original(from, to, seen.size_bytes, stamp).map_err(LedgerError::io("protect", from))?;
    Ok(())
}

/// Removes all that was protected.
pub(super) fn remove(ledger: &Ledger) -> Result<(), LedgerError> {
    for root in &ledger.game().roots {
        let side = ledger.site().side(root);
        let folder = side.join(FOLDER);
        if !folder.is_dir() {
            continue;
        }
        let removed = empty_folder(&folder, &*ledger.seam).and_then(|()| ledger.seam.remove_folder(&folder));
        removed.map_err(LedgerError::io("empty", &folder))?;
        if side != ledger.folder() {
            // The side folder goes with the last thing in it.
            let _ = ledger.seam.remove_folder(&side);
        }
    }
    Ok(())
}
