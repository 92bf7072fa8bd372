//! Dropping what only old changes need: whatever is still promised comes back, and nothing else is lost.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;

use proptest::prelude::*;

use crate::failing::fail_and_count;
use crate::faulty::Fault;
use crate::world::{Tree, World, add, exchange, go_to, id, permit, reorder};
use odd_stack_core::change::ChangeOptions;
use odd_stack_core::jobs::steps::{history, name_state, tidy, verify_stored};
use odd_stack_core::jobs::{GoTo, HistoryError, Reorder, TidyReport, TidyRequest};
use odd_stack_core::ledger::Ledger;
use odd_stack_core::observer::Silent;
use odd_stack_core::stack::Target;

fn keeping(ledger: &Ledger, keep: Option<u64>, dry_run: bool) -> TidyReport {
    let request = TidyRequest { keep, dry_run, ..TidyRequest::default() };
    tidy(ledger, &permit(ledger).unwrap(), &request, &Silent).unwrap()
}

fn stored(ledger: &Ledger) -> BTreeSet<String> {
    crate::stored::stored(ledger.folder()).into_iter().map(|content| content.hash).collect()
}

#[derive(Debug, Clone)]
enum Deed {
    /// The package of that number in a version: added, or put into its layer's place.
    Put(usize, u8),
    Remove(usize),
    Undo(u64),
    Mark,
    Unmark,
    Tidy(u64),
}

fn deed() -> impl Strategy<Value = Deed> {
    prop_oneof![
        4 => (0..3usize, 0..4u8).prop_map(|(package, version)| Deed::Put(package, version)),
        2 => (0..3usize).prop_map(Deed::Remove),
        2 => (1..4u64).prop_map(Deed::Undo),
        1 => Just(Deed::Mark),
        1 => Just(Deed::Unmark),
        2 => (0..5u64).prop_map(Deed::Tidy),
    ]
}

/// What a person has done, and how the game was after each change.
struct Life {
    world: World,
    trees: BTreeMap<i64, Tree>,
    marked: Option<i64>,
    /// All from here on was promised.
    oldest: i64,
}

impl Life {
    fn new() -> Self {
        let world = World::with_game(&[("game/quillhaven.exe", "program"), ("game/data/shared.txt", "base")]);
        let trees = BTreeMap::from([(0, world.tree())]);
        Self { world, trees, marked: None, oldest: 0 }
    }

    fn put(&self, package: usize, version: u8) -> bool {
        let ledger = self.world.ledger();
        let (name, own) = (format!("p{package}"), format!("data/own{package}.txt"));
        // Versions of two packages share contents.
        let (shared, version) = (format!("shared {version}"), version.to_string());
        let folder = self.world.path("packages").join(&name);
        let _ = fs::remove_dir_all(&folder);
        let files = [("data/shared.txt", shared.as_str()), (own.as_str(), version.as_str())];
        let folder = self.world.package(&name, &files);
        let layer = ledger.layers().unwrap().into_iter().find(|layer| layer.about.name == name);
        match layer {
            Some(layer) => {
                exchange(&ledger, layer.id, &folder, &[".=game:"], ChangeOptions::default()).is_ok()
            }
            None => add(&ledger, &folder, &[".=game:"], Target::Top, ChangeOptions::default()).is_ok(),
        }
    }

    fn live(&mut self, deed: &Deed) {
        let ledger = self.world.ledger();
        let is_in_stack = |package: &usize| {
            ledger.layers().unwrap().iter().any(|layer| layer.about.name == format!("p{package}"))
        };
        let before = self.world.tree();
        match deed {
            Deed::Put(package, version) => {
                self.put(*package, *version);
            }
            Deed::Remove(package) if is_in_stack(package) => {
                let gone = Reorder::Remove(vec![id(&ledger, &format!("p{package}"))]);
                reorder(&ledger, &gone, ChangeOptions::default()).unwrap();
            }
            Deed::Remove(_) => {}
            Deed::Undo(count) => {
                let can = history(&ledger).unwrap().can_undo;
                let gone = go_to(&ledger, &GoTo::Before(*count));
                // Further back a state may need nothing of what was dropped.
                assert!(gone.is_ok() || *count > can, "{count} of {can}: {gone:?}");
            }
            Deed::Mark | Deed::Unmark => {
                let permit = permit(&ledger).unwrap();
                let is_mark = matches!(deed, Deed::Mark);
                if name_state(&ledger, &permit, "held", !is_mark).is_ok() {
                    self.marked = is_mark.then(|| history(&ledger).unwrap().present);
                }
            }
            Deed::Tidy(keep) => self.tidy(&ledger, *keep),
        }
        let now = self.world.tree();
        let last = history(&ledger).unwrap().revisions.first().map_or(0, |last| last.number);
        if self.trees.contains_key(&last) {
            assert_eq!(before, now, "without a change nothing changes");
        }
        self.trees.insert(last, now);
    }

    fn tidy(&mut self, ledger: &Ledger, keep: u64) {
        let before = stored(ledger);
        let would = keeping(ledger, Some(keep), true);
        assert_eq!(stored(ledger), before, "only looked at");
        let did = keeping(ledger, Some(keep), false);
        assert_eq!(TidyReport { dry_run: true, ..did.clone() }, would, "it does what it would");
        let after = stored(ledger);
        assert_eq!((before.len() - after.len()) as u64, did.goes.files);
        assert_eq!(after.len() as u64, did.stack.files + did.history.files - did.goes.files);
        let last = *self.trees.last_key_value().unwrap().0;
        self.oldest = self.oldest.max(last - i64::try_from(keep).unwrap());
        let again = keeping(ledger, Some(keep), false);
        assert_eq!((again.goes.files, again.forgotten.len()), (0, 0), "twice is once");
    }

    /// Goes to every revision there was.
    fn look_back(&self) {
        let ledger = self.world.ledger();
        let verified = verify_stored(&ledger, &Silent).unwrap();
        assert!(verified.stored.damaged.is_empty() && verified.history_damaged.is_empty());
        let rows = history(&ledger).unwrap().revisions;
        for (revision, tree) in &self.trees {
            let is_promised = *revision == 0 || *revision >= self.oldest || self.marked == Some(*revision);
            let is_tidied = rows.iter().any(|row| row.number == *revision && row.is_tidied);
            assert!(!(is_promised && is_tidied), "revision {revision} was promised");
            match go_to(&ledger, &GoTo::Revision(*revision)) {
                Ok(_) | Err(HistoryError::IsSo { .. }) => {
                    assert_eq!(&self.world.tree(), tree, "as it was after revision {revision}");
                }
                Err(HistoryError::Tidied { oldest, .. }) => {
                    assert!(is_tidied && rows.iter().all(|row| row.number < oldest || !row.is_tidied));
                }
                Err(other) => panic!("revision {revision}: {other}"),
            }
        }
        assert!(self.world.check(true).drifted.is_empty());
    }
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: if cfg!(windows) { 3 } else { 24 },
        failure_persistence: None,
        ..ProptestConfig::default()
    })]

    #[test]
    fn what_is_kept_comes_back_whatever_was_done(deeds in prop::collection::vec(deed(), 1..16)) {
        let mut life = Life::new();
        for deed in &deeds {
            life.live(deed);
        }
        life.look_back();
    }
}

#[test]
fn a_stop_while_tidying_loses_nothing_that_is_kept() {
    let mut life = Life::new();
    for deed in [Deed::Put(0, 1), Deed::Put(1, 1), Deed::Put(0, 2), Deed::Put(0, 3), Deed::Remove(1)] {
        life.live(&deed);
    }
    fn act(_: &World, ledger: &Ledger) -> bool {
        let Ok(permit) = permit(ledger) else { return false };
        let request = TidyRequest { keep: Some(1), ..TidyRequest::default() };
        tidy(ledger, &permit, &request, &Silent).is_ok()
    }
    let faults = [Fault::Stop, Fault::Refuse, Fault::LoseAll, Fault::LoseSome(104_729)];
    for fault in faults.into_iter().take(if cfg!(windows) { 1 } else { 4 }) {
        life.oldest = 4;
        let saved = life.world.path("saved");
        let _ = fs::remove_dir_all(&saved);
        crate::failing::copy_all(&life.world.path("home"), &saved);
        fail_and_count(&life.world, act, fault, |_| 0);
        fs::remove_dir_all(life.world.path("home")).unwrap();
        crate::failing::copy_all(&saved, &life.world.path("home"));
    }
    act(&life.world, &life.world.ledger());
    life.look_back();
}
