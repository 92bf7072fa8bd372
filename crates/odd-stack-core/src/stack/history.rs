//! Where in its history a stack is, and where going back and forth leads.
//!
//! Every change is a revision, and taking one back, or doing it again, is one too, which `restores` an earlier one. So nothing is
//! ever forgotten, and what was taken back can be done again until another change is made.

/// One revision, as far as going back and forth needs it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Past {
    /// Its number; from 1 on, ascending.
    pub number: i64,
    /// The revision it was made on; none where that is the one before it.
    pub parent: Option<i64>,
    /// The revision whose stack it brought back; 0 is that before all changes.
    pub restores: Option<i64>,
}

/// All revisions, the first first.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct History(Vec<Past>);

impl History {
    /// Takes the revisions, ascending by number.
    pub fn new(revisions: Vec<Past>) -> Self {
        Self(revisions)
    }

    /// The revision whose stack there is now: the last one, or the one that it brought back; 0 before the first.
    pub fn position(&self) -> i64 {
        self.0.last().map_or(0, |last| last.restores.unwrap_or(last.number))
    }

    /// Whether there is, or was, such a state; 0 is that before all changes.
    pub fn has(&self, revision: i64) -> bool {
        revision == 0 || self.place_of(revision).is_some()
    }

    /// The change that gave the state of a revision: itself, or what it brought back.
    pub fn origin(&self, revision: i64) -> i64 {
        self.past(revision).and_then(|past| past.restores).unwrap_or(revision)
    }

    /// The state before so many of the changes that led to the present one; none when there were fewer.
    pub fn before(&self, changes: u64) -> Option<i64> {
        (0..changes).try_fold(self.position(), |at, _| self.parent(at))
    }

    /// How many changes led to the present state.
    pub fn depth(&self) -> u64 {
        std::iter::successors(self.parent(self.position()), |at| self.parent(*at)).count() as u64
    }

    /// The state after the next of the changes that were taken back; none when there are none.
    pub fn again(&self) -> Option<i64> {
        let position = self.position();
        let last = self.0.iter().rev().find(|past| past.restores.is_none())?.number;
        let mut at = last;
        while at != position {
            let parent = self.parent(at)?;
            if parent == position {
                return Some(at);
            }
            at = parent;
        }
        None
    }

    fn place_of(&self, revision: i64) -> Option<usize> {
        self.0.binary_search_by_key(&revision, |past| past.number).ok()
    }

    fn past(&self, revision: i64) -> Option<&Past> {
        self.place_of(revision).map(|place| &self.0[place])
    }

    /// The state that a change was made on; none of that before all changes.
    fn parent(&self, revision: i64) -> Option<i64> {
        let place = self.place_of(revision)?;
        let before = || place.checked_sub(1).map_or(0, |before| self.origin(self.0[before].number));
        // A parent that does not come before it could lead in a circle.
        Some(self.0[place].parent.filter(|parent| *parent < revision).unwrap_or_else(before))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[derive(Debug, Clone)]
    enum Step {
        Change,
        Undo(u64),
        Redo,
    }

    fn step() -> impl Strategy<Value = Step> {
        prop_oneof![
            3 => Just(Step::Change),
            2 => (1..4u64).prop_map(Step::Undo),
            2 => Just(Step::Redo),
        ]
    }

    impl History {
        fn push(&mut self, restores: Option<i64>) {
            let number = self.0.len() as i64 + 1;
            let parent = Some(self.position());
            self.0.push(Past { number, parent, restores });
        }
    }

    proptest! {
        /// Against two lists of states, what was done and what was undone, as editors have it.
        #[test]
        fn going_back_and_forth_is_that_of_two_lists(steps in prop::collection::vec(step(), 0..40)) {
            let mut history = History::default();
            let (mut done, mut undone): (Vec<i64>, Vec<i64>) = (vec![0], Vec::new());
            for step in steps {
                match step {
                    Step::Change => {
                        history.push(None);
                        done.push(history.0.len() as i64);
                        undone.clear();
                    }
                    Step::Undo(count) => {
                        let target = history.before(count);
                        prop_assert_eq!(target.is_some(), (count as usize) < done.len());
                        let Some(target) = target else { continue };
                        for _ in 0..count {
                            undone.extend(done.pop());
                        }
                        history.push(Some(target));
                    }
                    Step::Redo => {
                        let target = history.again();
                        prop_assert_eq!(target, undone.last().copied());
                        let Some(target) = target else { continue };
                        done.extend(undone.pop());
                        history.push(Some(target));
                    }
                }
                prop_assert_eq!(Some(&history.position()), done.last());
                prop_assert_eq!(history.depth() as usize, done.len() - 1);
            }
        }
    }

    #[test]
    fn revisions_of_before_are_a_line_and_branches_come_back() {
        let of_before = |number| Past { number, parent: None, restores: None };
        let mut history = History::new(vec![of_before(1), of_before(2), of_before(5)]);
        assert_eq!((history.position(), history.before(1), history.before(3)), (5, Some(2), Some(0)));
        assert_eq!((history.before(4), history.again(), history.has(3)), (None, None, false));
        // Back to 1, a change there, and to 5 again, which no change since leads to.
        history.0.push(Past { number: 6, parent: Some(5), restores: Some(1) });
        assert_eq!(history.again(), Some(2));
        history.0.push(Past { number: 7, parent: Some(1), restores: None });
        assert_eq!((history.again(), history.before(1)), (None, Some(1)));
        history.0.push(Past { number: 8, parent: Some(7), restores: Some(5) });
        assert_eq!((history.position(), history.before(1), history.again()), (5, Some(2), None));
        assert_eq!((history.origin(8), history.origin(7)), (5, 7));
    }
}
