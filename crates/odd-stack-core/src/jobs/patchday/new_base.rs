//! The base anew, while no layer is laid.

use std::collections::HashMap;

use rayon::prelude::*;

use super::touched::Touched;
use crate::address::FoldedKey;
use crate::check::CheckError;
use crate::expected::may_be_as_it_was;
use crate::game::{AddressPatterns, Root, ScanError, scan};
use crate::hash::ContentHash;
use crate::jobs::PatchDayError;
use crate::jobs::game::register::count_files;
use crate::ledger::{Ledger, LedgerError};
use crate::observer::{Observer, Work};
use crate::stack::{BaseFile, BaseKind, RootId};

/// How the base differs from what it was, by address; what differs where the game writes by itself is not named.
#[derive(Debug, Default)]
pub(in crate::jobs) struct BaseChanges {
    pub changed: Vec<String>,
    /// Another time at the same size, and nobody knows what was in it.
    pub only_times: Vec<String>,
    pub added: Vec<String>,
    pub gone: Vec<String>,
    /// Those of all these that layers touch.
    pub touched: Touched,
    /// Files of the base as it is now, and their bytes.
    pub seen: (u64, u64),
    /// All rows of the base that changed, as they were.
    pub before: Vec<(RootId, FoldedKey, Option<BaseFile>)>,
}

/// Looks through all roots and makes what lies there the base, inside the catalogue's open transaction. Originals of
/// before are no longer in doubt.
pub(in crate::jobs) fn new_base(
    ledger: &Ledger,
    observer: &dyn Observer,
) -> Result<BaseChanges, PatchDayError> {
    let game = ledger.game();
    let volatile = ledger.volatile()?;
    let others = ledger.other_games()?;
    let mut changes = BaseChanges::default();
    for root in &game.roots {
        observer.begin(Work::Scanning, 0, 0);
        let found = scan(&root.folder, observer);
        observer.end();
        let found = found.map_err(|error| match error {
            ScanError::Unreadable { path, source } => CheckError::Look { path, source },
            ScanError::Cancelled => CheckError::Cancelled,
        })?;
        let keyed = |file: BaseFile| (game.folding.key(file.spelled.as_str()), file);
        let found = others.own_of(root.id, found.found.into_iter().map(keyed).collect());
        let (files, bytes) = count_files(&found);
        changes.seen = (changes.seen.0 + files, changes.seen.1 + bytes);
        let now: HashMap<FoldedKey, BaseFile> = found.into_iter().collect();
        compare(ledger, root, now, &volatile, &mut changes)?;
    }
    changes.touched.add_members(ledger)?;
    ledger.catalogue.forget_unknown_originals()?;
    changes.changed.sort();
    changes.only_times.sort();
    changes.added.sort();
    changes.gone.sort();
    Ok(changes)
}

fn compare(
    ledger: &Ledger,
    root: &Root,
    mut now: HashMap<FoldedKey, BaseFile>,
    volatile: &AddressPatterns,
    changes: &mut BaseChanges,
) -> Result<(), LedgerError> {
    let catalogue = &ledger.catalogue;
    let known = catalogue.base_of(root.id)?;
    let (mut differ, mut gone) = (Vec::new(), Vec::new());
    for (key, was) in known {
        match now.remove(&key) {
            None => gone.push((key, was)),
            Some(is) if is_same(&was, &is) => {}
            Some(is) => differ.push((key, was, is)),
        }
    }
    let hashed = hashes_of_touched(root, &differ)?;
    let name = |file: &BaseFile| {
        ledger.game().address(root.id, file.spelled.clone()).map(|address| address.to_string())
    };
    let mut before = Vec::new();
    let mut note = |list: fn(&mut BaseChanges) -> &mut Vec<String>, key: &FoldedKey, file: &BaseFile| {
        if file.kind == BaseKind::Folder {
            return Ok::<_, LedgerError>(false);
        }
        if !volatile.meet(root.id, key.as_str()) {
            list(changes).extend(name(file));
        }
        let path = catalogue.known_path(root.id, key)?;
        changes.touched.paths.extend(path);
        Ok(path.is_some())
    };
    for ((key, was, mut is), hash) in differ.into_iter().zip(hashed) {
        let looks_alike =
            (was.kind, was.size_bytes, was.modified_ns) == (is.kind, is.size_bytes, is.modified_ns);
        let is_alike = looks_alike || (hash.is_some() && hash == was.hash);
        is.hash = hash.or(was.hash.filter(|_| looks_alike));
        let list: fn(&mut BaseChanges) -> &mut Vec<String> =
            match may_be_as_it_was(&was, is.kind, is.size_bytes) {
                true => |changes| &mut changes.only_times,
                false => |changes| &mut changes.changed,
            };
        if !is_alike && note(list, &key, &is)? {
            learn_hash(root, &mut is)?;
        }
        catalogue.replace_base(root.id, &key, &is)?;
        before.push((root.id, key, Some(was)));
    }
    for (key, was) in gone {
        note(|changes| &mut changes.gone, &key, &was)?;
        catalogue.forget_base(root.id, &key)?;
        before.push((root.id, key, Some(was)));
    }
    let mut added: Vec<(FoldedKey, BaseFile)> = now.into_iter().collect();
    added.sort_by(|(one, _), (two, _)| one.cmp(two));
    for (key, file) in &mut added {
        if note(|changes| &mut changes.added, key, file)? {
            learn_hash(root, file)?;
        }
    }
    catalogue.insert_base(root.id, &added)?;
    before.extend(added.into_iter().map(|(key, _)| (root.id, key, None)));
    changes.before.extend(before);
    Ok(())
}

/// The contents of files that may be touched and not changed, where what it was is known.
fn hashes_of_touched(
    root: &Root,
    differ: &[(FoldedKey, BaseFile, BaseFile)],
) -> Result<Vec<Option<ContentHash>>, LedgerError> {
    let hash_of = |(_, was, is): &(FoldedKey, BaseFile, BaseFile)| {
        let may_be_alike = was.hash.is_some()
            && (was.kind, is.kind, was.size_bytes) == (BaseKind::File, BaseKind::File, is.size_bytes);
        let path = is.spelled.on(&root.folder);
        let hash = may_be_alike.then(|| ContentHash::of_file(&path));
        hash.transpose().map_err(LedgerError::io("read", &path))
    };
    differ.par_iter().map(hash_of).collect()
}

/// Reads a file that layers touch: they are judged by its content.
fn learn_hash(root: &Root, file: &mut BaseFile) -> Result<(), LedgerError> {
    if file.kind == BaseKind::File && file.hash.is_none() {
        let path = file.spelled.on(&root.folder);
        file.hash = Some(ContentHash::of_file(&path).map_err(LedgerError::io("read", &path))?);
    }
    Ok(())
}

/// Whether a look shows the very same thing.
fn is_same(was: &BaseFile, is: &BaseFile) -> bool {
    was.kind == is.kind
        && was.spelled == is.spelled
        && (was.kind == BaseKind::Folder
            || (was.size_bytes, was.modified_ns, was.mode) == (is.size_bytes, is.modified_ns, is.mode))
}
