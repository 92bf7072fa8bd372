//! What lay in the game before a capture, written down as one JSON array a line.

use std::collections::HashMap;
use std::fs;
use std::io::{BufRead, BufReader};
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::guard::Guarded;
use super::{CaptureError, capture_folder};
use crate::disk::{Seen, look_through};
use crate::ledger::{Ledger, LedgerError};
use crate::observer::Observer;
use crate::stack::{BaseKind, RootId};

/// One thing that was seen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Line(
    pub RootId,
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

/// Everything that was seen, by root and path.
pub(super) type SeenBefore = HashMap<(RootId, String), Line>;

fn file(ledger: &Ledger) -> PathBuf {
    capture_folder(ledger).join("seen.jsonl")
}

/// Looks through all roots and writes down what lies there.
pub(super) fn write(ledger: &Ledger, guarded: &Guarded, observer: &dyn Observer) -> Result<(), CaptureError> {
    let mut text = Vec::new();
    for root in &ledger.game().roots {
        for (path, seen) in look_through(&root.folder, observer)? {
            let path = String::from(path);
            let guard = guarded.numbers.get(&(root.id, path.clone())).copied();
            let line = line(root.id, path, &seen, guard);
            serde_json::to_writer(&mut text, &line).map_err(|error| ledger.catalogue.damaged_by(&error))?;
            text.push(b'\n');
        }
    }
    let (folder, path) = (capture_folder(ledger), file(ledger));
    if !folder.is_dir() {
        ledger.seam.create_folder(&folder).map_err(LedgerError::io("create", &folder))?;
    }
    ledger.seam.write_file(&path, &mut text.as_slice()).map_err(LedgerError::io("write", &path))?;
    let touched = [path.clone(), folder.clone()];
    ledger.seam.make_durable(&folder, &touched).map_err(LedgerError::io("write", &path))?;
    Ok(())
}

/// Reads what was written down.
pub(super) fn read(ledger: &Ledger) -> Result<SeenBefore, CaptureError> {
    let path = file(ledger);
    let opened = fs::File::open(&path).map_err(LedgerError::io("read", &path))?;
    let mut seen = SeenBefore::new();
    for text in BufReader::new(opened).lines() {
        let text = text.map_err(LedgerError::io("read", &path))?;
        let line: Line = serde_json::from_str(&text).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        seen.insert((line.0, line.1.clone()), line);
    }
    Ok(seen)
}

pub(super) fn line(root: RootId, path: String, seen: &Seen, guard: Option<u64>) -> Line {
    let Seen { kind, size_bytes, modified_ns, changed_ns, mode } = *seen;
    Line(root, path, kind, size_bytes, modified_ns, changed_ns, mode, guard)
}
