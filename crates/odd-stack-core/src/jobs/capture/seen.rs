//! What lay in the game before a capture, written down as one JSON array a folder, one a line.

use std::collections::HashMap;
use std::fs;
use std::path::PathBuf;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::GuardMeans;
use super::guard::Guarded;
use super::{CaptureError, capture_folder};
use crate::address::RelPath;
use crate::check::LookedAt;
use crate::files::{Seen, look_at};
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{BaseKind, RootId};

/// One thing that was seen, by its name in its folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Item(
    pub String,
    pub BaseKind,
    /// Size in bytes.
    pub u64,
    /// Modification time in nanoseconds since 1970.
    pub i64,
    /// Change time likewise, where the system has one; else 0.
    pub i64,
    /// Permission bits.
    pub u32,
    /// Where it was protected, below the root's guard folder.
    pub Option<u64>,
);

impl Item {
    fn of(name: String, seen: &Seen, guard: Option<u64>) -> Self {
        let Seen { kind, size_bytes, modified_ns, changed_ns, mode } = *seen;
        Self(name, kind, size_bytes, modified_ns, changed_ns, mode, guard)
    }

    /// Whether a look shows the very same thing.
    pub(super) fn is_same(&self, now: &Seen) -> bool {
        self.1 == now.kind
            && (now.kind == BaseKind::Folder
                || (self.2, self.3, self.4) == (now.size_bytes, now.modified_ns, now.changed_ns))
    }

    /// The same with its path below the root.
    pub(super) fn at(self, below: &RelPath) -> ItemBefore {
        let path = below.join(&RelPath::from_disk(self.0.clone()));
        ItemBefore { path, item: self }
    }
}

/// One thing that was seen, by its path below its root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct ItemBefore {
    pub path: RelPath,
    pub item: Item,
}

/// Everything that was seen, by root and folder.
pub(super) type SeenBefore = HashMap<(RootId, String), Vec<Item>>;

fn file(ledger: &Ledger) -> PathBuf {
    capture_folder(ledger).join("seen.jsonl")
}

/// Writes down what was looked through. Names that are not text are passed over.
pub(super) fn write(ledger: &Ledger, guarded: &Guarded, looked: Vec<LookedAt>) -> Result<(), CaptureError> {
    // Another name changes what is known of a file, though not the file.
    let looks_again = guarded.report.means == GuardMeans::Linked;
    let mut by_folder: HashMap<(RootId, &str), HashMap<&str, u64>> = HashMap::new();
    for ((root, path), number) in &guarded.numbers {
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        by_folder.entry((*root, folder)).or_default().insert(name, *number);
    }
    let mut text = Vec::new();
    for LookedAt { root, things, .. } in looked {
        let top = ledger.site().root(root)?.folder.clone();
        for (folder, things) in things {
            let below = RelPath::from_disk(folder.clone());
            let guards = by_folder.get(&(root, folder.as_str()));
            let mut items = Vec::with_capacity(things.len());
            for (name, mut seen) in things {
                let Ok(name) = name.into_string() else { continue };
                let guard = guards.and_then(|guards| guards.get(name.as_str())).copied();
                if guard.is_some() && looks_again {
                    let path = below.on(&top).join(&name);
                    seen = look_at(&path).map_err(LedgerError::io("look at", &path))?.unwrap_or(seen);
                }
                items.push(Item::of(name, &seen, guard));
            }
            serde_json::to_writer(&mut text, &(root, &folder, items))
                .map_err(|error| ledger.catalogue.damaged_by(&error))?;
            text.push(b'\n');
        }
    }
    let (folder, path) = (capture_folder(ledger), file(ledger));
    if !folder.is_dir() {
        ledger.seam.create_folder(&folder).map_err(LedgerError::io("create", &folder))?;
    }
    ledger.seam.write_file(&path, &mut text.as_slice()).map_err(LedgerError::io("write", &path))?;
    let touched = [path.as_path(), folder.as_path()];
    ledger.seam.make_durable(&folder, &touched).map_err(LedgerError::io("write", &path))?;
    Ok(())
}

/// Reads what was written down.
pub(super) fn read(ledger: &Ledger) -> Result<SeenBefore, CaptureError> {
    let path = file(ledger);
    let text = fs::read(&path).map_err(LedgerError::io("read", &path))?;
    let lines: Vec<&[u8]> = text.split(|byte| *byte == b'\n').filter(|line| !line.is_empty()).collect();
    let folders: Result<Vec<(RootId, String, Vec<Item>)>, serde_json::Error> =
        lines.par_iter().map(|line| serde_json::from_slice(line)).collect();
    let folders = folders.map_err(|error| ledger.catalogue.damaged_by(&error))?;
    Ok(folders.into_iter().map(|(root, folder, items)| ((root, folder), items)).collect())
}
