//! Keeping what is in the way of a change, or would be lost with it, and that nobody knew of when it was decided.

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock, PoisonError};

use super::step::{Step, StepKind};
use super::steps::Steps;
use crate::address::RelPath;
use crate::files::{KEPT, Seam, look_at};
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError, Site, make_private_folder};
use crate::notice::Notice;
use crate::observer::Observer;
use crate::stack::BaseKind;

/// Moves files to the kept ones of a revision.
pub(super) struct Keeping<'l> {
    site: Site<'l>,
    seam: &'l dyn Seam,
    revision: i64,
}

impl<'l> Keeping<'l> {
    pub(super) fn new(ledger: &'l Ledger, revision: i64) -> Self {
        Self { site: ledger.site(), seam: &*ledger.seam, revision }
    }

    /// Moves what lies at `from`, and lay or lies at `public` in the game, to the kept files, under a name that nothing has.
    pub(super) fn keep(&self, public: &Path, from: &Path) -> Result<PathBuf, LedgerError> {
        let outside = || io::Error::other("it lies in none of the game's folders");
        let around = self.site.root_around(public).ok_or_else(outside);
        let (root, below) = around.map_err(LedgerError::io("save", public))?;
        let below = RelPath::from_disk(below.to_string_lossy().replace(std::path::MAIN_SEPARATOR, "/"));
        let side = self.site.side(root);
        let kept = below.on(&side.join(KEPT).join(self.revision.to_string()).join(root.name.as_str()));
        let mut missing: Vec<&Path> = kept.ancestors().skip(1).take_while(|folder| *folder != side).collect();
        missing.reverse();
        missing.into_iter().try_for_each(|folder| make_private_folder(folder, self.seam))?;
        let name = kept.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let mut others = (2u64..).map(|number| kept.with_file_name(format!("{name} ({number})")));
        let place = match is_free(&kept) {
            true => kept.clone(),
            false => others.find(|place| is_free(place)).unwrap_or_else(|| kept.clone()),
        };
        self.seam.rename(from, &place).map_err(LedgerError::io("save", &place))?;
        Ok(place)
    }
}

fn is_free(path: &Path) -> bool {
    matches!(look_at(path), Ok(None))
}

/// Makes way for the steps of a change that was cut short: what has come meanwhile to where something is to lie goes to the
/// kept files. The game's client may have brought files again that had been taken out, or a person.
pub(super) struct Way<'l> {
    keeping: Keeping<'l>,
    steps: &'l Steps,
    /// Where what lay at a place in the game lies since it was taken out.
    taken_out: OnceLock<HashMap<PathBuf, PathBuf>>,
    kept: Mutex<Vec<(PathBuf, PathBuf)>>,
}

impl<'l> Way<'l> {
    /// Keeps what it finds among the files of `revision`.
    pub(super) fn new(ledger: &'l Ledger, steps: &'l Steps, revision: i64) -> Self {
        let (taken_out, kept) = (OnceLock::new(), Mutex::default());
        Self { keeping: Keeping::new(ledger, revision), steps, taken_out, kept }
    }

    /// Makes way to `public` within the game's folder, for `private` where that is to lie there, if anything is in it.
    pub(super) fn make(&self, public: &Path, private: Option<&Path>) -> io::Result<()> {
        // Several may find the same in their way.
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let mut found = None;
        // The game's folder itself stays, and so do links to folders: these are put right by hand.
        let top = self.keeping.site.root_around(public).map(|(root, _)| root.folder.as_path());
        for path in public.ancestors().take_while(|path| Some(*path) != top) {
            match look_at(path)? {
                None => {}
                Some(seen) if path == public || seen.kind == BaseKind::File => {
                    found = Some((path, seen.kind));
                    break;
                }
                Some(_) => break,
            }
        }
        let Some((path, kind)) = found else { return Ok(()) };
        if path == public && kind == BaseKind::File && self.is_there_twice(public, private)? {
            self.keeping.seam.remove_file(public)?;
        } else {
            let saved = self.keeping.keep(path, path).map_err(io::Error::other)?;
            kept.push((path.to_path_buf(), saved));
        }
        Ok(())
    }

    /// Whether the file has what is to lie there, or what lay there before.
    fn is_there_twice(&self, public: &Path, private: Option<&Path>) -> io::Result<bool> {
        let taken_out = self.taken_out.get_or_init(|| {
            let steps = self.steps.of(&[StepKind::TakeOut]);
            let ends = |step| match step {
                Step::TakeOut { public, private, .. } => Some((public, private)),
                _ => None,
            };
            steps.filter_map(ends).collect()
        });
        let others = private.into_iter().chain(taken_out.get(public).map(PathBuf::as_path));
        let size = public.symlink_metadata()?.len();
        for other in others {
            let is_alike = other.symlink_metadata().is_ok_and(|other| other.is_file() && other.len() == size);
            if is_alike && ContentHash::of_file(other)? == ContentHash::of_file(public)? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Tells what was kept.
    pub(super) fn tell(self, observer: &dyn Observer) {
        let mut kept = self.kept.into_inner().unwrap_or_else(PoisonError::into_inner);
        kept.sort();
        if !kept.is_empty() {
            observer.notice(Notice::MadeWay { kept });
        }
    }
}
