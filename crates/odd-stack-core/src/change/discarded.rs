//! A last look at what is thrown away.
//!
//! Between the look that decides a change and the rename that takes a file out, another program may
//! write to the file; a person may even be asked in between. So each file is looked at once more when
//! it lies in the trash, where nobody else writes, and is kept if it is not what was seen.

use std::path::Path;

use rayon::prelude::*;

use super::decision::Thrown;
use super::error::ChangeError;
use super::step::Step;
use crate::files::{KEPT, Seam, look_at};
use crate::ledger::{LedgerError, Site, make_private_folder};
use crate::notice::Notice;
use crate::observer::Observer;
use crate::stack::RootId;

/// Saves what changed since it was seen among the kept files of `revision`, and says so. When
/// something can't be saved it is said where it lies, and that the trash must not be emptied now.
pub(super) fn save_changed(
    thrown: &[Thrown],
    steps: &[Step],
    revision: i64,
    site: Site<'_>,
    seam: &dyn Seam,
    observer: &dyn Observer,
) -> bool {
    let ends = |thrown: &Thrown| match steps.get(thrown.step) {
        Some(Step::TakeOut { public, private }) => Some((public.as_path(), private.as_path())),
        _ => None,
    };
    let changed: Vec<(RootId, &Path, &Path)> = thrown
        .par_iter()
        .filter_map(|thrown| {
            let (public, private) = ends(thrown)?;
            let now = look_at(private);
            let is_changed = !matches!(now, Ok(None)) && !matches!(now, Ok(Some(now)) if now == thrown.seen);
            is_changed.then_some((thrown.root, public, private))
        })
        .collect();
    let mut may_empty = true;
    for (root, public, private) in changed {
        let path = public.to_path_buf();
        match save(root, public, private, revision, site, seam) {
            Ok(saved) => observer.notice(Notice::ChangedLate { path, saved }),
            Err(error) => {
                may_empty = false;
                let (reason, lies_at) = (error.to_string(), private.to_path_buf());
                observer.notice(Notice::ChangedLateAndUnsaved { path, reason, lies_at });
            }
        }
    }
    may_empty
}

fn save(
    root: RootId,
    public: &Path,
    private: &Path,
    revision: i64,
    site: Site<'_>,
    seam: &dyn Seam,
) -> Result<std::path::PathBuf, ChangeError> {
    let root = site.root(root)?;
    let side = site.side(root);
    let below = public.strip_prefix(&root.folder).unwrap_or(public);
    let kept = side.join(KEPT).join(revision.to_string()).join(root.name.as_str()).join(below);
    let mut missing: Vec<&Path> = kept.ancestors().skip(1).take_while(|folder| *folder != side).collect();
    missing.reverse();
    missing.into_iter().try_for_each(|folder| make_private_folder(folder, seam))?;
    seam.rename(private, &kept).map_err(LedgerError::io("save", &kept))?;
    Ok(kept)
}
