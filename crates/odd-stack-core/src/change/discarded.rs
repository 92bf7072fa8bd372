//! A last look at what is thrown away.
//!
//! Between the look that decides a change and the rename that takes a file out, another program may
//! write to the file; a person may even be asked in between. So each file is looked at once more when
//! it lies in the trash, where nobody else writes, and is kept if it is not what was seen.

use std::path::Path;

use rayon::prelude::*;

use super::error::ChangeError;
use super::step::{Step, StepKind};
use super::steps::Steps;
use crate::files::{KEPT, Seam, look_at};
use crate::ledger::{LedgerError, Site, make_private_folder};
use crate::notice::Notice;
use crate::observer::Observer;
use crate::stack::RootId;

/// So many files are looked at before the next are: enough for all threads, and few to remember.
const LOOKED_AT_ONCE: usize = 4096;

/// Saves what changed since it was seen among the kept files of `revision`, and says so. When
/// something can't be saved it is said where it lies, and that the trash must not be emptied now.
pub(super) fn save_changed(
    steps: &Steps,
    revision: i64,
    site: Site<'_>,
    seam: &dyn Seam,
    observer: &dyn Observer,
) -> bool {
    let is_changed = |step: &Step| match step {
        Step::TakeOut { private, thrown: Some(thrown), .. } => match look_at(private) {
            Ok(None) => false,
            Ok(Some(now)) => now != thrown.seen,
            Err(_) => true,
        },
        _ => false,
    };
    let mut changed: Vec<Step> = Vec::new();
    let mut taken_out = steps.of(&[StepKind::TakeOut]);
    loop {
        let some: Vec<Step> = taken_out.by_ref().take(LOOKED_AT_ONCE).collect();
        if some.is_empty() {
            break;
        }
        changed.par_extend(some.into_par_iter().filter(is_changed));
    }
    let mut may_empty = true;
    for step in changed {
        let Step::TakeOut { public, private, thrown: Some(thrown) } = step else { continue };
        let path = public.clone();
        match save(thrown.root, &public, &private, revision, site, seam) {
            Ok(saved) => observer.notice(Notice::ChangedLate { path, saved }),
            Err(error) => {
                may_empty = false;
                let (reason, lies_at) = (error.to_string(), private);
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
