//! Packages whose files are members of the game's containers.

use std::collections::{HashMap, HashSet};

use super::{Candidate, Place, Rank};
use crate::address::{Address, Folding, RelPath};
use crate::members::Member;

/// A container of the game and the paths of its members.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ContainerSeen {
    /// Where it is.
    pub address: Address,
    /// Paths within it.
    pub members: Vec<RelPath>,
}

/// A folder of a package whose files a container has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IntoContainer {
    /// Where it would go.
    pub place: Place,
    /// How many of its files the container has.
    pub over: usize,
    /// How many files it has that are not only to be read.
    pub files: usize,
    /// No other container has nearly as many.
    pub is_alone: bool,
}

impl IntoContainer {
    /// Whether it may be gone by unasked, where nothing speaks for another place.
    pub fn is_clear(&self) -> bool {
        const FEWEST: usize = 2;
        self.is_alone && self.over * 2 >= self.files && (self.over >= FEWEST || self.over == self.files)
    }

    /// It as an answer to the question where files go.
    pub fn candidate(&self) -> Candidate {
        let evidence = format!("{} of its {} files are members there", self.over, self.files);
        Candidate { places: vec![self.place.clone()], evidence, ..Candidate::default() }
    }
}

/// The folder of the package and that of a container which have most files in common. Each file speaks for the two folders at
/// which both paths cease to agree. What is only to be read need not be there.
pub fn into_container(
    members: &[Member],
    is_document: impl Fn(&Member) -> bool,
    containers: &[ContainerSeen],
) -> Option<IntoContainer> {
    let fold = |text: &str| Folding::Folded.key(text).as_str().to_owned();
    let wanted: Vec<&Member> = members.iter().filter(|member| member.inner.is_none()).collect();
    let names: HashSet<String> = wanted.iter().map(|member| fold(member.path.name())).collect();
    let mut named: HashMap<String, Vec<(usize, &RelPath)>> = HashMap::new();
    for (at, container) in containers.iter().enumerate() {
        for path in &container.members {
            let name = fold(path.name());
            if names.contains(&name) {
                named.entry(name).or_default().push((at, path));
            }
        }
    }
    // By folder of the package, container, and folder in it: the members that speak for it, and in how many parts of their
    // paths they agree.
    let mut votes: HashMap<(String, usize, String), (HashSet<usize>, usize)> = HashMap::new();
    for (number, member) in wanted.iter().enumerate() {
        for (at, path) in named.get(&fold(member.path.name())).into_iter().flatten() {
            let (own, theirs, parts) = apart(&member.path, path);
            let (numbers, agreed) = votes.entry((own, *at, theirs)).or_default();
            *agreed += if numbers.insert(number) { parts } else { 0 };
        }
    }
    let mut ranked: Vec<(usize, &(String, usize, String))> =
        votes.iter().map(|(place, (_, agreed))| (*agreed, place)).collect();
    ranked.sort_by(|(one, place), (two, other)| {
        two.cmp(one).then_with(|| place.0.len().cmp(&other.0.len())).then_with(|| place.cmp(other))
    });
    let (agreed, (folder, at, within)) = ranked.first()?;
    let other = ranked.iter().find(|(_, (_, other, _))| other != at).map_or(0, |(agreed, _)| *agreed);
    let best = &votes[&(folder.clone(), *at, within.clone())].0;
    let below = wanted.iter().enumerate().filter(|(number, member)| {
        let is_below = folder.is_empty() || member.path.as_str().starts_with(&format!("{folder}/"));
        is_below && (best.contains(number) || !is_document(member))
    });
    let slash = if within.is_empty() { "" } else { "/" };
    let place = Place {
        from: if folder.is_empty() { ".".to_owned() } else { folder.clone() },
        to: format!("{}!/{within}{slash}", containers[*at].address),
        rank: Rank::Package,
    };
    Some(IntoContainer { place, over: best.len(), files: below.count(), is_alone: other * 2 <= *agreed })
}

/// What is left of two paths when their common end is taken off, and how many parts that has.
fn apart(one: &RelPath, two: &RelPath) -> (String, String, usize) {
    let is_alike = |one: &str, two: &str| Folding::Folded.key(one) == Folding::Folded.key(two);
    let (mut one, mut two, mut parts) = (one.clone(), two.clone(), 0);
    while !one.is_root() && !two.is_root() && is_alike(one.name(), two.name()) {
        (one, two, parts) = (one.parent(), two.parent(), parts + 1);
    }
    (one.as_str().to_owned(), two.as_str().to_owned(), parts)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::address::PrefixName;

    fn found(members: &[&str], containers: &[(&str, &[&str])]) -> Option<(String, String, bool)> {
        let members: Vec<Member> = members
            .iter()
            .enumerate()
            .map(|(content, path)| Member {
                path: RelPath::parse(path).unwrap(),
                size_bytes: 1,
                modified: 0,
                executable: None,
                copy_of: None,
                inner: None,
                content,
            })
            .collect();
        let seen = |(name, paths): &(&str, &[&str])| ContainerSeen {
            address: Address {
                root: PrefixName::parse("game").unwrap(),
                path: RelPath::parse(name).unwrap(),
            },
            members: paths.iter().map(|path| RelPath::parse(path).unwrap()).collect(),
        };
        let containers: Vec<ContainerSeen> = containers.iter().map(seen).collect();
        let found = into_container(&members, |_| false, &containers)?;
        Some((found.place.from.clone(), found.place.to.clone(), found.is_clear()))
    }

    #[test]
    fn a_package_goes_into_the_container_that_has_its_files() {
        let core: (&str, &[&str]) =
            ("data/core.qpk", &["menu/title.txt", "menu/help.txt", "tex/lamps/a.dds"]);
        let other: (&str, &[&str]) = ("data/quays.qpk", &["quay/a.dds", "menu/title.txt"]);
        let told = |from: &str, to: &str, clear| Some((from.to_owned(), to.to_owned(), clear));
        for (members, expected) in [
            (&["menu/Title.txt", "menu/help.txt"][..], told(".", "game:data/core.qpk!/", true)),
            (&["w/menu/title.txt", "w/menu/help.txt", "w/new.txt"], told("w", "game:data/core.qpk!/", true)),
            (&["lamps/a.dds"], told(".", "game:data/core.qpk!/tex/", true)),
            (&["menu/title.txt", "x", "y", "z"], told(".", "game:data/core.qpk!/", false)),
            (&["nothing.txt"], None),
        ] {
            assert_eq!(found(members, &[core, other]), expected, "{members:?}");
        }
        // Two have it.
        assert!(!found(&["menu/title.txt"], &[core, other]).unwrap().2);
    }
}
