//! A plain list of what each covered file of the base is, beside these files: they are named by numbers, and without the
//! catalogue nobody would know where they belong.
//!
//! `originals.names` lies in the side of a root and holds one JSON object a line. A line `{"root", "folder"}` says where
//! a root lies; a line `{"number", "root", "path", ...}` what `originals/NUMBER` is. What comes later counts. Lines are
//! added before the mark of the change that moves the file there, so the list has every file that lies there, and may have
//! more. What can't be read of a line that was cut short is passed over.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::{fs, io};

use serde::{Deserialize, Serialize};

use super::{Ledger, LedgerError};
use crate::address::RelPath;
use crate::files::{ORIGINALS, Seam, quietly};
use crate::hash::ContentHash;
use crate::stack::{BaseFile, BaseKind, Column, PathId, Provider, RootId};

/// The list's file in a side.
pub(crate) const NAMES: &str = "originals.names";
/// Lists smaller than this are never written anew.
const SMALL_BYTES: u64 = 256 << 10;

/// One line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
enum Line {
    Original(Named),
    Root { root: String, folder: PathBuf },
}

/// What a covered file of the base is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Named {
    /// Its name in `originals`.
    pub number: i64,
    /// The name of its root.
    pub root: String,
    /// Where it belongs below the root.
    pub path: String,
    pub is_link: bool,
    pub size_bytes: u64,
    pub modified_ns: i64,
    pub mode: u32,
    pub hash: Option<ContentHash>,
}

impl Named {
    /// As the base knows it.
    pub(crate) fn base(&self) -> BaseFile {
        BaseFile {
            spelled: RelPath::from_disk(self.path.clone()),
            kind: if self.is_link { BaseKind::Link } else { BaseKind::File },
            size_bytes: self.size_bytes,
            modified_ns: self.modified_ns,
            mode: self.mode,
            hash: self.hash,
        }
    }
}

/// What a list says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Names {
    /// The folder of each root, by its name.
    pub roots: BTreeMap<String, PathBuf>,
    /// What each number is.
    pub originals: BTreeMap<i64, Named>,
}

/// Reads the list in a side; an empty one if there is none.
pub(crate) fn read_names(side: &Path) -> io::Result<Names> {
    let path = side.join(NAMES);
    let bytes = match quietly(&path, || fs::read(&path)) {
        Ok(bytes) => bytes,
        Err(error) if crate::files::is_nothing_there(&error) => return Ok(Names::default()),
        Err(error) => return Err(error),
    };
    let mut names = Names::default();
    for line in bytes.split(|byte| *byte == b'\n') {
        match serde_json::from_slice(line) {
            Ok(Line::Original(named)) => drop(names.originals.insert(named.number, named)),
            Ok(Line::Root { root, folder }) => drop(names.roots.insert(root, folder)),
            Err(_) => {}
        }
    }
    Ok(names)
}

/// The addresses of `columns` whose file of the base lies in the ledger.
pub(crate) fn covered<'c>(
    ledger: &Ledger,
    columns: &'c [Column],
) -> Result<Vec<(&'c Column, &'c BaseFile, PathBuf)>, LedgerError> {
    let order = ledger.present_order()?;
    let mut covered = Vec::new();
    for column in columns {
        let Some(base) = column.base.as_deref().filter(|base| base.kind != BaseKind::Folder) else {
            continue;
        };
        let root = ledger.site().root(column.root)?;
        let original = ledger.site().original(root, column.path);
        let is_covered = match column.provider(&order) {
            // Where keys or members change, that shows in the file that is made, which is not known here.
            Provider::Base(_) => column.laid(&order).iter().any(|it| !it.kind.is_file()) && original.exists(),
            _ => true,
        };
        if is_covered && !column.is_member {
            covered.push((column, base, original));
        }
    }
    Ok(covered)
}

/// A file of the base on its way to where covered ones lie.
pub(crate) type Covering = (PathId, RootId, BaseFile);

/// Adds to the lists what will be covered, each in the side of its root; gives the lists that were touched. Now and then a
/// list is written anew without what lies there no more.
pub(crate) fn note_names(ledger: &Ledger, covering: &[Covering]) -> Result<Vec<PathBuf>, LedgerError> {
    let mut by_side: BTreeMap<PathBuf, Vec<&Covering>> = BTreeMap::new();
    for one in covering {
        let root = ledger.site().root(one.1)?;
        by_side.entry(ledger.site().side(root)).or_default().push(one);
    }
    let mut touched = Vec::new();
    for (side, covering) in by_side {
        let path = side.join(NAMES);
        let text = lines(ledger, covering.into_iter())?;
        let before = fs::metadata(&path).map_or(0, |metadata| metadata.len());
        let after = before + text.len() as u64;
        let has_doubled = before > 0 && after > SMALL_BYTES && before.ilog2() != after.ilog2();
        match before == 0 || has_doubled {
            true => write_anew(ledger, &side, &text)?,
            false => {
                // A line that was cut short is ended.
                let text = format!("\n{text}");
                ledger.seam.append_file(&path, text.as_bytes()).map_err(LedgerError::io("write", &path))?;
            }
        }
        touched.push(path);
    }
    Ok(touched)
}

/// Writes the lists of sides that have originals and none.
pub(crate) fn ensure_names(ledger: &Ledger) -> Result<(), LedgerError> {
    for root in &ledger.game().roots {
        let side = ledger.site().side(root);
        let has_some =
            || fs::read_dir(side.join(ORIGINALS)).is_ok_and(|mut entries| entries.next().is_some());
        if !side.join(NAMES).exists() && has_some() {
            write_anew(ledger, &side, "")?;
        }
    }
    Ok(())
}

/// Writes the list of a side from what the catalogue knows, and `more` behind it.
fn write_anew(ledger: &Ledger, side: &Path, more: &str) -> Result<(), LedgerError> {
    let laid = ledger.catalogue.arrangement()?.laid();
    let columns = ledger.catalogue.columns_of(&laid, &[])?;
    let covered = covered(ledger, &columns)?;
    let mut here = Vec::new();
    for (column, base, _) in covered {
        if ledger.site().side(ledger.site().root(column.root)?) == *side {
            here.push((column.path, column.root, base.clone()));
        }
    }
    let text = lines(ledger, here.iter())? + more;
    let (path, new) = (side.join(NAMES), side.join("originals.names-new"));
    let seam: &dyn Seam = &*ledger.seam;
    let failed = |error| LedgerError::io("write", &path)(error);
    seam.write_file(&new, &mut text.as_bytes()).map_err(failed)?;
    seam.make_durable(side, &[new.as_path()]).map_err(failed)?;
    match seam.remove_file(&path) {
        Err(error) if !crate::files::is_nothing_there(&error) => return Err(failed(error)),
        _ => {}
    }
    seam.rename(&new, &path).map_err(failed)
}

fn lines<'c>(ledger: &Ledger, covering: impl Iterator<Item = &'c Covering>) -> Result<String, LedgerError> {
    let mut text = String::new();
    let mut add = |line: &Line| {
        // Numbers and texts can always be written.
        text.push_str(&serde_json::to_string(line).unwrap_or_default());
        text.push('\n');
    };
    for root in &ledger.game().roots {
        add(&Line::Root { root: root.name.to_string(), folder: root.folder.clone() });
    }
    for (path, root, base) in covering {
        add(&Line::Original(Named {
            number: path.0,
            root: ledger.site().root(*root)?.name.to_string(),
            path: base.spelled.as_str().to_owned(),
            is_link: base.kind != BaseKind::File,
            size_bytes: base.size_bytes,
            modified_ns: base.modified_ns,
            mode: base.mode,
            hash: base.hash,
        }));
    }
    Ok(text)
}
