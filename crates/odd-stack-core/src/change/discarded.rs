//! A last look at what is thrown away.
//!
//! Between the look that decides a change and the rename that takes a file out, another program may
//! write to the file; a person may even be asked in between, or the change may have been cut short and be finished by a
//! later command. So each file is looked at once more when it lies in the trash, where nobody else writes, and is kept if
//! it is not what was seen. In the same way what a change had put into the game may have been written to, and into, before
//! the change is taken back.

use std::path::PathBuf;

use rayon::prelude::*;

use super::keeping::Keeping;
use super::step::{Step, StepKind, is_staged};
use super::steps::Steps;
use crate::files::{Seen, WalkError, look_at, walk};
use crate::ledger::Ledger;
use crate::notice::Notice;
use crate::observer::{Observer, Silent};
use crate::stack::BaseKind;

/// So many files are looked at before the next are: enough for all threads, and few to remember.
const LOOKED_AT_ONCE: usize = 4096;

/// A file that somebody wrote, and that is about to be lost.
struct Written {
    /// Where it lay in the game.
    public: PathBuf,
    /// Where it lies for now.
    private: PathBuf,
    /// Why that can't be told.
    problem: Option<String>,
}

/// Saves what changed since it was seen among the kept files of `revision`, and says so. When
/// something can't be saved it is said where it lies, and that the trash must not be emptied now.
pub(super) fn save_changed(ledger: &Ledger, steps: &Steps, revision: i64, observer: &dyn Observer) -> bool {
    let changed = |step: Step| {
        let Step::TakeOut { public, private, thrown: Some(seen) } = step else { return Vec::new() };
        match look_at(&private) {
            Ok(None) => Vec::new(),
            Ok(Some(now)) if now == seen => Vec::new(),
            _ => vec![Written { public, private, problem: None }],
        }
    };
    save_all(ledger, found(steps, StepKind::TakeOut, changed), revision, observer)
}

/// Saves what was written, since a change was begun, to files that it had put into the game and that are taken out again,
/// and into folders that came with it; as [`save_changed`].
///
/// What a change puts there has a time of whole seconds, and what anybody else writes has not, but on disks that keep no
/// better time.
pub(super) fn save_written(ledger: &Ledger, steps: &Steps, revision: i64, observer: &dyn Observer) -> bool {
    let is_written =
        |seen: &Seen| seen.kind != BaseKind::File || seen.modified_ns.rem_euclid(1_000_000_000) != 0;
    let written = |step: Step| {
        let Step::PutIn { public, private } = step else { return Vec::new() };
        match look_at(&private) {
            Ok(Some(seen)) if is_staged(&private) && seen.kind == BaseKind::Folder => {
                written_within(public, private, &is_written)
            }
            Ok(Some(seen)) if is_staged(&private) && is_written(&seen) => {
                vec![Written { public, private, problem: None }]
            }
            _ => Vec::new(),
        }
    };
    save_all(ledger, found(steps, StepKind::PutIn, written), revision, observer)
}

/// What somebody wrote within a folder.
fn written_within(
    public: PathBuf,
    private: PathBuf,
    is_written: &(dyn Fn(&Seen) -> bool + Sync),
) -> Vec<Written> {
    let walked = match walk(&private, &Silent) {
        Ok(walked) => walked,
        Err(WalkError::Unreadable { source, .. }) => {
            return vec![Written { public, private, problem: Some(source.to_string()) }];
        }
        Err(WalkError::Cancelled) => return Vec::new(),
    };
    let mut written = Vec::new();
    for folder in walked {
        let is_one = |seen: &Seen| seen.kind != BaseKind::Folder && is_written(seen);
        for (name, _) in folder.things.into_iter().filter(|(_, seen)| is_one(seen)) {
            let (public, private) =
                (folder.below.on(&public).join(&name), folder.below.on(&private).join(&name));
            written.push(Written { public, private, problem: None });
        }
    }
    written
}

/// What `look` finds at the steps of that kind, some of them at once.
fn found(steps: &Steps, kind: StepKind, look: impl Fn(Step) -> Vec<Written> + Sync) -> Vec<Written> {
    let mut all = Vec::new();
    let mut steps = steps.of(std::slice::from_ref(&kind));
    loop {
        let some: Vec<Step> = steps.by_ref().take(LOOKED_AT_ONCE).collect();
        if some.is_empty() {
            return all;
        }
        all.par_extend(some.into_par_iter().flat_map_iter(&look));
    }
}

fn save_all(ledger: &Ledger, written: Vec<Written>, revision: i64, observer: &dyn Observer) -> bool {
    let keeping = Keeping::new(ledger, revision);
    let mut may_empty = true;
    for Written { public: path, private: lies_at, problem } in written {
        let saved = match problem {
            None => keeping.keep(&path, &lies_at).map_err(|error| error.to_string()),
            Some(problem) => Err(problem),
        };
        match saved {
            Ok(saved) => observer.notice(Notice::ChangedLate { path, saved }),
            Err(reason) => {
                may_empty = false;
                observer.notice(Notice::ChangedLateAndUnsaved { path, reason, lies_at });
            }
        }
    }
    may_empty
}
