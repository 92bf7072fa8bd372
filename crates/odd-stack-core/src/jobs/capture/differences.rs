//! How the game differs from what was seen before a capture.

use std::collections::HashMap;
use std::ffi::OsString;
use std::path::PathBuf;
use std::thread;

use rayon::prelude::*;

use super::CaptureError;
use super::guard::guard_path;
use super::seen::{Item, ItemBefore, read};
use crate::address::{FoldedKey, RelPath};
use crate::check::walk_root;
use crate::expected::Blender;
use crate::files::{Seen, Stamp, Walked, look_at};
use crate::game::Game;
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError, Site};
use crate::observer::Observer;
use crate::stack::{BaseKind, Column, Order, RootId};

/// What has become of one address.
#[derive(Debug, Clone)]
pub(super) struct Difference {
    pub root: RootId,
    pub key: FoldedKey,
    /// What lay there before.
    pub before: Option<ItemBefore>,
    /// What lies there now, and where.
    pub now: Option<(RelPath, Seen)>,
    /// Everything that the stack has there.
    pub column: Column,
    /// Where the file that lay there was protected, if it was and is still as it was.
    pub guard: Option<PathBuf>,
    /// The content before, where it is known.
    pub hash_before: Option<ContentHash>,
}

impl Difference {
    /// Where it lies, or lay before it went.
    pub(super) fn path(&self) -> RelPath {
        let now = self.now.as_ref().map(|(path, _)| path);
        now.or(self.before.as_ref().map(|before| &before.path)).cloned().unwrap_or_default()
    }
}

/// All that differs.
#[derive(Debug, Default)]
pub(super) struct Differences {
    pub files: Vec<Difference>,
    /// New folders, each after the one above it.
    pub folders_added: Vec<(RootId, RelPath)>,
    /// Folders of the game's own that went, each after the one above it.
    pub folders_gone: Vec<(RootId, RelPath)>,
    /// Files that changed where the game writes by itself.
    pub volatile_files: u64,
    /// Files that were written anew with the very content, with what to set back.
    pub alike: Vec<(PathBuf, Stamp)>,
}

/// Compares all roots with what was seen.
pub(super) fn differences(
    ledger: &Ledger,
    order: &Order,
    observer: &dyn Observer,
) -> Result<Differences, CaptureError> {
    let game = ledger.game();
    // What was seen is read while the disk is looked through.
    let (walked, before) = thread::scope(|scope| {
        let walking = scope.spawn(|| {
            game.roots.iter().map(|root| walk_root(&root.folder, observer)).collect::<Result<Vec<_>, _>>()
        });
        let before = read(ledger);
        (walking.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)), before)
    });
    let (walked, mut before) = (walked?, before?);
    let volatile = ledger.volatile()?;
    let mut found = Differences::default();
    let mut changed = Changed::new();
    for (root, folders) in game.roots.iter().zip(walked) {
        for folder in folders {
            let was = before.remove(&(root.id, folder.below.as_str().to_owned())).unwrap_or_default();
            compare_folder(game, root.id, folder, was, &mut changed, &mut found);
        }
    }
    for ((root, folder), items) in before {
        gone(game, root, &RelPath::from_disk(folder), items, &mut changed, &mut found);
    }
    found.folders_added.sort_by(|(_, one), (_, two)| one.cmp(two));
    found.folders_gone.sort_by(|(_, one), (_, two)| one.cmp(two));
    let mut files = Vec::new();
    for ((root, key), Pair { before, now }) in changed {
        if volatile.meet(root, key.as_str()) {
            found.volatile_files += 1;
            continue;
        }
        files.push(difference(ledger, order, root, key, before, now)?);
    }
    let site = ledger.site();
    let judged: Vec<(Difference, Option<(PathBuf, Stamp)>)> =
        files.into_par_iter().map(|file| judge(site, file)).collect::<Result<Vec<_>, LedgerError>>()?;
    for (file, alike) in judged {
        match alike {
            Some(alike) => found.alike.push(alike),
            None => found.files.push(file),
        }
    }
    found.files.sort_by(|one, two| (one.root, &one.key).cmp(&(two.root, &two.key)));
    Ok(found)
}

#[derive(Default)]
struct Pair {
    before: Option<ItemBefore>,
    now: Option<(RelPath, Seen)>,
}

type Changed = HashMap<(RootId, FoldedKey), Pair>;

/// Compares one folder with what was seen in it.
fn compare_folder(
    game: &Game,
    root: RootId,
    folder: Walked,
    was: Vec<Item>,
    changed: &mut Changed,
    found: &mut Differences,
) {
    // Mostly nothing has changed, and the system lists a folder in the same order again.
    let is_same =
        |(item, (name, seen)): (&Item, &(OsString, Seen))| *name == *item.0.as_str() && item.is_same(seen);
    if was.len() == folder.things.len() && was.iter().zip(&folder.things).all(is_same) {
        return;
    }
    let below = folder.below;
    let mut was: HashMap<String, Item> = was.into_iter().map(|item| (item.0.clone(), item)).collect();
    for (name, seen) in folder.things {
        let Ok(name) = name.into_string() else { continue };
        let was = was.remove(&name);
        if was.as_ref().is_some_and(|was| was.is_same(&seen)) {
            continue;
        }
        let path = below.join(&RelPath::from_disk(name));
        let key = game.folding.key(path.as_str());
        let (was_folder, was_file) = match was {
            Some(item) if item.1 == BaseKind::Folder => (true, None),
            was => (false, was.map(|item| item.at(&below))),
        };
        if seen.kind == BaseKind::Folder {
            // In a file's place, too: that went.
            found.folders_added.push((root, path));
            if let Some(was) = was_file {
                changed.entry((root, key)).or_default().before = Some(was);
            }
            continue;
        }
        if was_folder {
            found.folders_gone.push((root, path.clone()));
        }
        let pair = changed.entry((root, key)).or_default();
        pair.now = Some((path, seen));
        pair.before = was_file.or(pair.before.take());
    }
    gone(game, root, &below, was.into_values().collect(), changed, found);
}

/// Notes what was seen in a folder and lies there no more.
fn gone(
    game: &Game,
    root: RootId,
    below: &RelPath,
    items: Vec<Item>,
    changed: &mut Changed,
    found: &mut Differences,
) {
    for item in items {
        let before = item.at(below);
        if before.item.1 == BaseKind::Folder {
            found.folders_gone.push((root, before.path));
            continue;
        }
        let key = game.folding.key(before.path.as_str());
        changed.entry((root, key)).or_default().before.get_or_insert(before);
    }
}

fn difference(
    ledger: &Ledger,
    order: &Order,
    root: RootId,
    key: FoldedKey,
    before: Option<ItemBefore>,
    now: Option<(RelPath, Seen)>,
) -> Result<Difference, LedgerError> {
    let mut columns = [ledger.column(root, &key)?];
    Blender::new(ledger).learn(&mut columns, order)?;
    let [column] = columns;
    let guard = before.as_ref().and_then(|before| before.item.6);
    let guard = guard
        .map(|number| Ok::<_, LedgerError>(guard_path(ledger.site(), ledger.site().root(root)?, number)));
    let hash_before = column.provider(order).hash();
    Ok(Difference { root, key, before, now, column, guard: guard.transpose()?, hash_before })
}

/// Reads what was protected, and tells whether the content is just what it was. A second name under which other content
/// lies now protects nothing.
fn judge(
    site: Site<'_>,
    mut file: Difference,
) -> Result<(Difference, Option<(PathBuf, Stamp)>), LedgerError> {
    let Some(before) = file.before.clone() else { return Ok((file, None)) };
    if let Some(guard) = file.guard.take() {
        let seen = look_at(&guard).map_err(LedgerError::io("look at", &guard))?;
        if seen.is_some_and(|seen| (seen.size_bytes, seen.modified_ns) == (before.item.2, before.item.3)) {
            let hash = ContentHash::of_file(&guard).map_err(LedgerError::io("read", &guard))?;
            file.hash_before = Some(hash);
            file.guard = Some(guard);
        }
    }
    let Some((path, now)) = &file.now else { return Ok((file, None)) };
    if now.kind != BaseKind::File || before.item.1 != BaseKind::File || now.size_bytes != before.item.2 {
        return Ok((file, None));
    }
    let path = path.on(&site.root(file.root)?.folder);
    let is_alike = match file.hash_before {
        Some(hash) => ContentHash::of_file(&path).map_err(LedgerError::io("read", &path))? == hash,
        // Only the time of its last change differs, and nothing tells more.
        None => now.modified_ns == before.item.3,
    };
    let stamp = Stamp {
        modified: before.item.3.div_euclid(1_000_000_000),
        nanoseconds: u32::try_from(before.item.3.rem_euclid(1_000_000_000)).unwrap_or(0),
        mode: before.item.5,
    };
    Ok((file, is_alike.then_some((path, stamp))))
}
