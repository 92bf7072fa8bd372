//! Which element of a list in one file is which in another: by what they are called, else by what they say, never by
//! where they stand.
//!
//! Where neither tells, or the order itself was changed, the list is one value: then two who change it contest it.

use std::cell::LazyCell;
use std::collections::{HashMap, HashSet};

/// Names of what tells elements apart, the first that serves.
const TELLING: [&str; 7] = ["id", "name", "key", "uid", "guid", "uuid", "identifier"];

/// More elements that differ are not held against each other.
const MOST_APART: usize = 1000;

/// Whether a part of that name may tell elements apart.
pub(super) fn is_telling(name: &str) -> bool {
    TELLING.iter().any(|own| name.eq_ignore_ascii_case(own))
}

/// What an element says in full, and its parts by name, what each says; a bare value has none.
type Said = (String, Vec<(String, String)>);

/// An element of a list.
pub(super) struct Element<'e> {
    /// What it is called, by the names of parts that hold short values.
    called: Vec<(String, String)>,
    /// Most are told by what they are called.
    said: LazyCell<Said, Box<dyn FnOnce() -> Said + 'e>>,
}

impl<'e> Element<'e> {
    /// `said` is asked for if what it is called does not tell it: equal ones are alike.
    pub(super) fn new(called: Vec<(String, String)>, said: impl FnOnce() -> Said + 'e) -> Self {
        Self { called, said: LazyCell::new(Box::new(said)) }
    }

    /// One without parts.
    pub(super) fn bare(meaning: &'e str) -> Self {
        Self::new(Vec::new(), || (meaning.to_owned(), Vec::new()))
    }

    fn meaning(&self) -> &str {
        &self.said.0
    }

    fn parts(&self) -> &[(String, String)] {
        &self.said.1
    }

    /// The name of a part, as it is spelled, and its value.
    fn told(&self, by: &str) -> Option<&(String, String)> {
        self.called.iter().find(|(name, _)| name.trim_start_matches('@').eq_ignore_ascii_case(by))
    }

    fn common(&self, other: &Self) -> usize {
        self.parts().iter().filter(|part| other.parts().contains(part)).count()
    }

    /// Whether it can be the other, changed: the same parts are there, or most of them say the same.
    fn is_like(&self, other: &Self) -> bool {
        let names =
            |element: &Self| element.parts().iter().map(|(name, _)| name.clone()).collect::<HashSet<_>>();
        let most = self.parts().len().max(other.parts().len());
        names(self) == names(other) || self.common(other) * 2 > most
    }
}

/// How an element is told.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) enum Step {
    /// By what it is called: the name of the part, and its value.
    Called { by: String, value: String },
    /// It is the element at that place, from 0, of the first list.
    At(usize),
    /// Nobody else has it: the number of alike ones before it.
    New { meaning: String, before: usize },
}

/// Tells the elements of lists that belong together; the first is what the others change, unless it is not there.
/// Nothing when the lists are one value.
pub(super) fn align(lists: &[Option<Vec<Element<'_>>>]) -> Option<Vec<Vec<Step>>> {
    let (first, others) = lists.split_first()?;
    if let Some(called) = by_name(lists) {
        let is_sure = keeps_order(&called) && !is_renamed_by_several(lists, &called);
        return is_sure.then_some(called);
    }
    let Some(first) = first else {
        let mut there = others.iter().flatten();
        let one = there.next()?;
        let is_alike = |other: &Vec<Element<'_>>| {
            other.len() == one.len() && other.iter().zip(one).all(|(one, two)| one.meaning() == two.meaning())
        };
        return there.all(is_alike).then(|| {
            let places = |list: &Option<Vec<Element<'_>>>| {
                (0..list.as_ref().map_or(0, Vec::len)).map(Step::At).collect()
            };
            lists.iter().map(places).collect()
        });
    };
    let mut steps = vec![(0..first.len()).map(Step::At).collect()];
    for other in others {
        steps.push(other.as_ref().map_or_else(|| Some(Vec::new()), |other| by_content(first, other))?);
    }
    Some(steps)
}

/// By a part that all have, and in which they differ.
fn by_name(lists: &[Option<Vec<Element<'_>>>]) -> Option<Vec<Vec<Step>>> {
    let serves = |by: &str| {
        let mut there = lists.iter().flatten().filter(|list| !list.is_empty()).peekable();
        there.peek().is_some()
            && there.all(|list| {
                let mut seen = HashSet::new();
                list.iter().all(|element| element.told(by).is_some_and(|(_, value)| seen.insert(value)))
            })
    };
    let by = TELLING.into_iter().find(|by| serves(by))?;
    let step = |element: &Element<'_>| {
        let (by, value) = element.told(by)?;
        Some(Step::Called { by: by.clone(), value: value.clone() })
    };
    lists.iter().map(|list| list.iter().flatten().map(step).collect()).collect()
}

/// Whether several give an element of the first list other names: then these are one element, which they contest.
fn is_renamed_by_several(lists: &[Option<Vec<Element<'_>>>], called: &[Vec<Step>]) -> bool {
    let known = |at: usize| called[at].iter().collect::<HashSet<&Step>>();
    let own = known(0);
    let mut renamed: HashMap<usize, HashSet<&Step>> = HashMap::new();
    let Some(first) = &lists[0] else { return false };
    for (at, list) in lists.iter().enumerate().skip(1) {
        let (Some(list), there) = (list, known(at)) else { continue };
        let gone: Vec<usize> = (0..first.len()).filter(|one| !there.contains(&called[0][*one])).collect();
        let new: Vec<usize> = (0..list.len()).filter(|two| !own.contains(&called[at][*two])).collect();
        if gone.len() * new.len() > MOST_APART * MOST_APART {
            return true;
        }
        for one in gone {
            let is_it = |two: &&usize| {
                let most = first[one].parts().len().max(list[**two].parts().len());
                // The name is not among what both say.
                first[one].common(&list[**two]) * 2 >= most.max(2)
            };
            renamed.entry(one).or_default().extend(new.iter().filter(is_it).map(|two| &called[at][*two]));
        }
    }
    renamed.values().any(|names| names.len() > 1)
}

/// Whether what two lists have in common stands in the same order in both.
fn keeps_order(lists: &[Vec<Step>]) -> bool {
    let Some(first) = lists.iter().find(|list| !list.is_empty()) else { return true };
    let places: HashMap<&Step, usize> = first.iter().enumerate().map(|(at, step)| (step, at)).collect();
    lists.iter().all(|list| {
        let common: Vec<usize> = list.iter().filter_map(|step| places.get(step).copied()).collect();
        common.is_sorted()
    })
}

/// By what elements say: those that say the same are one; what lies between two of these is the same, changed, if it
/// can be paired without doubt.
fn by_content<'e>(first: &[Element<'e>], other: &[Element<'e>]) -> Option<Vec<Step>> {
    let pairs = common_subsequence(first, other)?;
    let (mut is_kept, mut steps) = (vec![false; first.len()], vec![None; other.len()]);
    for (one, two) in &pairs {
        is_kept[*one] = true;
        steps[*two] = Some(Step::At(*one));
    }
    // What stands elsewhere now was moved: the order is what was changed.
    let changed: HashSet<&str> = first
        .iter()
        .zip(&is_kept)
        .filter(|(_, kept)| !**kept)
        .map(|(element, _)| element.meaning())
        .collect();
    let came = || other.iter().zip(&steps).filter(|(_, step)| step.is_none()).map(|(element, _)| element);
    if changed.len() > MOST_APART || came().any(|element| changed.contains(element.meaning())) {
        return None;
    }
    let mut from = (0, 0);
    let mut runs = Vec::new();
    for (one, two) in pairs.into_iter().chain([(first.len(), other.len())]) {
        runs.push((from.0..one, from.1..two));
        from = (one + 1, two + 1);
    }
    let mut alike: HashMap<&str, usize> = HashMap::new();
    for (ones, twos) in runs {
        let is_bare =
            first[ones.clone()].iter().chain(&other[twos.clone()]).all(|element| element.parts().is_empty());
        if !is_bare && !ones.is_empty() && !twos.is_empty() {
            let is_sure = ones.len() == twos.len()
                && ones
                    .clone()
                    .zip(twos.clone())
                    .all(|(one, two)| is_surely(first, &is_kept, one, &other[two]));
            if !is_sure {
                return None;
            }
        }
        let mut free = ones;
        for two in twos {
            steps[two] = Some(match free.next() {
                Some(one) => {
                    is_kept[one] = true;
                    Step::At(one)
                }
                None => {
                    let meaning = other[two].meaning();
                    let count = alike.entry(meaning).or_default();
                    *count += 1;
                    Step::New { meaning: meaning.to_owned(), before: *count - 1 }
                }
            });
        }
    }
    // One that is gone may be one that came elsewhere, changed.
    let new = || other.iter().zip(&steps).filter(|(_, step)| matches!(step, Some(Step::New { .. })));
    let mut gone = first.iter().zip(&is_kept).filter(|(_, kept)| !**kept).map(|(element, _)| element);
    let is_moved = gone.any(|gone| {
        new().any(|(new, _)| gone.common(new) * 2 >= gone.parts().len().min(new.parts().len()).max(1))
    });
    if is_moved { None } else { steps.into_iter().collect() }
}

/// Whether `new` is the element at `one`, changed, and is no more like any other that is gone.
fn is_surely<'e>(first: &[Element<'e>], is_kept: &[bool], one: usize, new: &Element<'e>) -> bool {
    let own = first[one].common(new);
    let others = first.iter().zip(is_kept).enumerate().filter(|(at, (_, kept))| *at != one && !**kept);
    first[one].is_like(new) && others.map(|(_, (element, _))| element.common(new)).all(|common| common <= own)
}

/// The places of a longest common subsequence, by the textbook's table (Hirschberg 1975) between what both begin and end
/// with; nothing if that would be too big.
fn common_subsequence(one: &[Element<'_>], two: &[Element<'_>]) -> Option<Vec<(usize, usize)>> {
    const MOST_CELLS: usize = 4_000_000;
    let is_alike = |(one, two): &(&Element<'_>, &Element<'_>)| one.meaning() == two.meaning();
    let head = one.iter().zip(two).take_while(is_alike).count();
    let tail = one[head..].iter().rev().zip(two[head..].iter().rev()).take_while(is_alike).count();
    let (ones, twos) = (&one[head..one.len() - tail], &two[head..two.len() - tail]);
    let width = twos.len() + 1;
    if (ones.len() + 1).checked_mul(width).is_none_or(|cells| cells > MOST_CELLS) {
        return None;
    }
    let mut longest = vec![0u32; (ones.len() + 1) * width];
    for at in (0..ones.len()).rev() {
        for to in (0..twos.len()).rev() {
            longest[at * width + to] = match ones[at].meaning() == twos[to].meaning() {
                true => longest[(at + 1) * width + to + 1] + 1,
                false => longest[(at + 1) * width + to].max(longest[at * width + to + 1]),
            };
        }
    }
    let mut pairs: Vec<(usize, usize)> = (0..head).map(|at| (at, at)).collect();
    let (mut at, mut to) = (0, 0);
    while at < ones.len() && to < twos.len() {
        if ones[at].meaning() == twos[to].meaning() {
            pairs.push((head + at, head + to));
            (at, to) = (at + 1, to + 1);
        } else if longest[(at + 1) * width + to] >= longest[at * width + to + 1] {
            at += 1;
        } else {
            to += 1;
        }
    }
    pairs.extend((0..tail).map(|at| (one.len() - tail + at, two.len() - tail + at)));
    Some(pairs)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bare(words: &str) -> Option<Vec<Element<'_>>> {
        Some(words.split_whitespace().map(Element::bare).collect())
    }

    /// Each word is an element: its letters are parts, a capital one is its name.
    fn of_parts(words: &str) -> Option<Vec<Element<'_>>> {
        let element = |word: &str| {
            let parts: Vec<(String, String)> =
                word.chars().enumerate().map(|(at, c)| (format!("p{at}"), c.to_string())).collect();
            let called = word.chars().filter(char::is_ascii_uppercase);
            let called = called.map(|c| ("Id".to_owned(), c.to_string())).collect();
            let word = word.to_owned();
            Element::new(called, || (word, parts))
        };
        Some(words.split_whitespace().map(element).collect())
    }

    fn told(lists: &[Option<Vec<Element<'_>>>]) -> String {
        let Some(steps) = align(lists) else { return "one value".to_owned() };
        let word = |step: &Step| match step {
            Step::Called { value, .. } => value.clone(),
            Step::At(at) => at.to_string(),
            Step::New { meaning, before } => format!("+{meaning}{before}"),
        };
        steps
            .iter()
            .map(|list| list.iter().map(word).collect::<Vec<_>>().join(" "))
            .collect::<Vec<_>>()
            .join(" | ")
    }

    #[test]
    fn elements_are_told_by_name_or_content_and_never_by_place() {
        assert_eq!(told(&[bare("a b c"), bare("a c"), bare("a b d c d")]), "0 1 2 | 0 2 | 0 1 +d0 2 +d1");
        assert_eq!(told(&[bare("a b c"), bare("a x c")]), "0 1 2 | 0 1 2");
        assert_eq!(told(&[bare("a b"), bare("b a")]), "one value");
        assert_eq!(told(&[bare("a b c d"), bare("d b c a")]), "one value");
        assert_eq!(told(&[None, bare("a"), bare("b")]), "one value");
        assert_eq!(told(&[None, bare("a b"), bare("a b")]), " | 0 1 | 0 1");
        assert_eq!(
            told(&[of_parts("A1 B2 C3"), of_parts("A1 C4"), of_parts("A1 B2 D5 C3")]),
            "A B C | A C | A B D C"
        );
        assert_eq!(told(&[of_parts("A1 B2"), of_parts("B2 A1")]), "one value");
        assert_eq!(
            told(&[of_parts("A1 B2"), of_parts("A1 A2")]),
            "0 1 | 0 1",
            "names that stand twice tell nothing"
        );
        // The first of three goes, and of another file the second is changed.
        assert_eq!(
            told(&[of_parts("abc def ghi"), of_parts("def ghi"), of_parts("abc dex ghi")]),
            "0 1 2 | 1 2 | 0 1 2"
        );
        // The first is gone and the second changed, or the other way round.
        assert_eq!(told(&[of_parts("abc def"), of_parts("dex")]), "one value");
        assert_eq!(
            told(&[of_parts("abc xyz def"), of_parts("dex xyz")]),
            "one value",
            "it is more like the third"
        );
    }
}
