//! Finding which of many layers break a game, by laying some of them and asking whether it works.
//!
//! What is searched for is the smallest set that breaks it, where more layers never mend it. It is found one by one: with those
//! found so far laid, the shortest beginning of the rest that breaks it ends with another one (U. Junker, QuickXplain, AAAI
//! 2004, of which this is the case without divisions, by binary search). One of n is found in at most ceil(log2 n) + 1 tries, each
//! further one in as many again.

use std::collections::{BTreeSet, HashMap};

/// What comes next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Hunt {
    /// Lay just these, by their numbers from 0, and see whether it works.
    Try(BTreeSet<usize>),
    /// These together break it; without any one of them it works.
    Found(Vec<usize>),
    /// It is broken without any of them.
    NoneOfThem,
}

/// What comes next in the search among `count` of them, all of which laid together were seen to break it. `answers` tell of each
/// try so far whether it was broken then, in the order in which they were asked for.
pub fn hunt(count: usize, answers: &[bool]) -> Hunt {
    let mut search = Search { known: HashMap::new(), answers: answers.iter().copied() };
    search.known.insert((0..count).collect(), true);
    match search.run(count) {
        Ok(end) => end,
        Err(wanted) => Hunt::Try(wanted),
    }
}

struct Search<A> {
    known: HashMap<BTreeSet<usize>, bool>,
    answers: A,
}

impl<A: Iterator<Item = bool>> Search<A> {
    /// Whether it is broken with these; the set itself when nobody has said so yet.
    fn is_broken(&mut self, set: BTreeSet<usize>) -> Result<bool, BTreeSet<usize>> {
        if let Some(known) = self.known.get(&set) {
            return Ok(*known);
        }
        let Some(answer) = self.answers.next() else { return Err(set) };
        self.known.insert(set, answer);
        Ok(answer)
    }

    fn run(&mut self, count: usize) -> Result<Hunt, BTreeSet<usize>> {
        let mut found: Vec<usize> = Vec::new();
        // All found and the first so many of them together break it.
        let mut candidates = count;
        loop {
            let with = |more: usize| found.iter().copied().chain(0..more).collect::<BTreeSet<usize>>();
            if !found.is_empty() && self.is_broken(with(0))? {
                found.sort_unstable();
                return Ok(Hunt::Found(found));
            }
            // With candidates left all of them and those found are known to break it.
            if candidates == 0 {
                return Ok(Hunt::NoneOfThem);
            }
            let (mut works, mut broken) = (0, candidates);
            while broken - works > 1 {
                let middle = works + (broken - works) / 2;
                if self.is_broken(with(middle))? { broken = middle } else { works = middle }
            }
            // Nobody has seen it work yet.
            if works == 0 && found.is_empty() && self.is_broken(BTreeSet::new())? {
                return Ok(Hunt::NoneOfThem);
            }
            candidates = broken - 1;
            found.push(broken - 1);
        }
    }
}

/// The most tries that one of `count` takes.
pub fn most_tries(count: usize) -> u32 {
    count.next_power_of_two().trailing_zeros() + 1
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Hunts with somebody who sees truly; gives what is found and the number of tries.
    fn hunted(count: usize, breaks: &BTreeSet<usize>) -> (Hunt, usize) {
        let mut answers = Vec::new();
        loop {
            match hunt(count, &answers) {
                Hunt::Try(set) => answers.push(breaks.is_subset(&set)),
                end => return (end, answers.len()),
            }
            assert!(answers.len() < 200, "it never ends");
        }
    }

    #[test]
    fn each_one_of_any_number_is_found_within_the_tries() {
        for count in (1..=130).step_by(if cfg!(windows) { 13 } else { 1 }) {
            for culprit in 0..count {
                let (end, tries) = hunted(count, &BTreeSet::from([culprit]));
                assert_eq!(end, Hunt::Found(vec![culprit]), "{culprit} of {count}");
                assert!(tries <= most_tries(count) as usize, "{tries} tries for {culprit} of {count}");
            }
        }
    }

    #[test]
    fn a_game_that_is_broken_by_itself_is_told() {
        for count in 0..40 {
            let (end, tries) = hunted(count, &BTreeSet::new());
            assert_eq!(end, Hunt::NoneOfThem, "{count}");
            assert!(tries <= most_tries(count.max(1)) as usize, "{tries} for {count}");
        }
    }

    #[test]
    fn where_every_part_works_it_is_all_of_them_together() {
        let (mut answers, count) = (Vec::new(), 9);
        let found = loop {
            match hunt(count, &answers) {
                Hunt::Try(_) => answers.push(false),
                end => break end,
            }
        };
        assert_eq!(found, Hunt::Found((0..count).collect()));
    }

    proptest! {
        #[test]
        fn pairs_and_more_are_found(
            count in 2..60usize,
            some in prop::collection::btree_set(0..60usize, 1..4),
        ) {
            let breaks: BTreeSet<usize> = some.into_iter().map(|at| at % count).collect();
            let (end, tries) = hunted(count, &breaks);
            prop_assert_eq!(end, Hunt::Found(breaks.iter().copied().collect()));
            prop_assert!(tries <= breaks.len() * most_tries(count) as usize);
        }
    }
}
