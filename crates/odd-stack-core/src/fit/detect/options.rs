//! Folders of a package of which only one is meant to be taken, and those that may be left out.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::game_matches::{GameMatches, Mapping, below};
use super::outline::{Outline, folded, may_be_no_content};
use super::rows::{self, Row};
use super::words;

/// Folders that exclude each other.
#[derive(Debug)]
pub(super) struct Alternatives {
    pub id: String,
    /// Each option's name and folder.
    pub options: Vec<(String, usize)>,
}

/// A folder that may be left out.
#[derive(Debug)]
pub(super) struct Optional {
    pub id: String,
    pub node: usize,
}

/// Finds folders side by side that hold the same files, where the game has no folders of their names:
/// their files would go to the same addresses.
pub(super) fn alternatives(
    outline: &Outline<'_>,
    game_matches: &GameMatches,
) -> (Vec<Alternatives>, Vec<Optional>) {
    let mut found = Vec::new();
    let mut taken: Vec<usize> = Vec::new();
    for node in 0..outline.nodes.len() {
        if outline.nodes[node].group != 0 || taken.iter().any(|top| outline.is_below(node, *top)) {
            continue;
        }
        let Some(side_by_side) = SideBySide::new(outline, game_matches, node) else { continue };
        let (groups, lesser) = side_by_side.grouped();
        taken.extend(groups.iter().flatten());
        for lesser in lesser {
            if !taken.contains(&lesser) {
                taken.push(lesser);
                found.push(FoundOption::Lesser(lesser));
            }
        }
        found.extend(groups.into_iter().map(|group| FoundOption::Group(node, group)));
    }
    named(outline, found)
}

/// New folders side by side, which may exclude each other.
struct SideBySide<'a> {
    outline: &'a Outline<'a>,
    game_matches: &'a GameMatches,
    /// The folder around them.
    above: usize,
    units: Vec<usize>,
    /// The files below each of them.
    inside: Vec<HashSet<String>>,
    /// Whether the game has a folder of the name of that around them.
    in_known: bool,
    /// Whether they are more of what the game keeps beside each other.
    is_row: bool,
    /// Whether all have the same files, and no folder that the game has is built likewise.
    is_all_same: bool,
}

impl<'a> SideBySide<'a> {
    /// The folders in `above`, if any of them may exclude another.
    fn new(outline: &'a Outline<'a>, game_matches: &'a GameMatches, above: usize) -> Option<Self> {
        let units = outline.units(above);
        if units.len() < 2 {
            return None;
        }
        // What the game keeps beside each other is no choice; neither are new folders in a known one,
        // unless their files lie there without them.
        let (known, units): (Vec<usize>, Vec<usize>) =
            units.into_iter().partition(|unit| is_known(outline, game_matches, *unit));
        let units: Vec<usize> =
            units.into_iter().filter(|unit| !may_be_no_content(outline.name(*unit))).collect();
        if units.len() < 2 {
            return None;
        }
        let in_known = above != 0 && game_matches.has_folder_named(&folded(outline.name(above)));
        let rows = rows::rows(outline, game_matches, &units);
        if in_known && rows.iter().any(|row| is_row_of(row, outline.name(above))) {
            return None;
        }
        let is_row =
            rows.first().is_some_and(|row| row.alike >= CLEARLY_ALIKE && row.by_names && row.siblings > 2);
        let inside: Vec<HashSet<String>> = units.iter().map(|unit| files_below(outline, *unit)).collect();
        // Where folders that the game has are built likewise these are more of them.
        let is_like_known = |known: &usize| !files_below(outline, *known).is_disjoint(&inside[0]);
        let is_all_same = units.len() <= MOST_UNNAMED
            && !are_numbers(outline, &units)
            && inside.windows(2).all(|two| two[0] == two[1])
            && !known.iter().any(is_like_known);
        Some(Self { outline, game_matches, above, units, inside, in_known, is_row, is_all_same })
    }

    /// The groups that exclude each other, and folders that share most of their few files with a much larger one.
    fn grouped(&self) -> (Vec<Vec<usize>>, Vec<usize>) {
        let inside = &self.inside;
        let mut lesser = Vec::new();
        let mut group_of: Vec<usize> = (0..self.units.len()).collect();
        for ((one, two), common) in shared(inside) {
            let (small, large) = match inside[one].len() <= inside[two].len() {
                true => (one, two),
                false => (two, one),
            };
            if common * 2 < inside[small].len() || !self.may_exclude(self.units[one], self.units[two]) {
                continue;
            }
            if inside[small].len() * 3 < inside[large].len() {
                lesser.push(self.units[small]);
                continue;
            }
            let (from, to) = (group_of[two], group_of[one]);
            group_of.iter_mut().filter(|group| **group == from).for_each(|group| *group = to);
        }
        let group_of = &group_of;
        let of_group = |group| {
            let members = (0..self.units.len()).filter(move |unit| group_of[*unit] == group);
            members.map(|unit| self.units[unit]).collect::<Vec<_>>()
        };
        let groups = (0..self.units.len()).map(of_group).filter(|members| members.len() > 1).collect();
        (groups, lesser)
    }

    /// Whether two folders with common files may be makes of one thing: without the folder its files agree with the
    /// game; else its name must say what it is.
    fn may_exclude(&self, one: usize, two: usize) -> bool {
        let (outline, game_matches) = (self.outline, self.game_matches);
        if !self.in_known && are_makes(outline.name(one), outline.name(two)) {
            return true;
        }
        if self.is_row {
            // Two new ones of a row have the same files too.
            return lies_without(outline, game_matches, one) || lies_without(outline, game_matches, two);
        }
        let stripped = |unit: usize| match self.in_known {
            true => lies_without_in(outline, game_matches, unit, outline.name(self.above)),
            false => !game_matches.mappings(outline, unit).is_empty(),
        };
        (!self.in_known && self.is_all_same) || stripped(one) || stripped(two)
    }
}

/// Whether the game has the folder, or it is one of a root.
fn is_known(outline: &Outline<'_>, game_matches: &GameMatches, unit: usize) -> bool {
    let name = outline.name(unit);
    let names = &outline.nodes[unit].names;
    let is_there = match words_of(name).iter().any(|word| words::is_variant(word)) {
        // Such a name may lie anywhere.
        true => {
            game_matches.has_folder_like(names, at_top(outline, unit))
                || game_matches.has_folder_like(names, false)
        }
        false => game_matches.has_folder_named(&folded(name)),
    };
    is_there || words::other_root(name).is_some() || words::is_main_root(name)
}

/// Gives each an id that no other has.
fn named(outline: &Outline<'_>, found: Vec<FoundOption>) -> (Vec<Alternatives>, Vec<Optional>) {
    let (mut choices, mut parts) = (Vec::new(), Vec::new());
    let mut ids: HashSet<String> = HashSet::new();
    for found in found {
        match found {
            FoundOption::Lesser(node) => {
                parts.push(Optional { id: free(words::slug(outline.name(node)), &mut ids), node });
            }
            FoundOption::Group(above, folders) => {
                let names: Vec<Vec<String>> =
                    folders.iter().map(|folder| words_of(outline.name(*folder))).collect();
                let (id, options) = told_apart(&names);
                let is_wrapper = outline.chain(0).contains(&above);
                let id = match id {
                    Some(id) => id,
                    None if above != 0 && !is_wrapper => words::slug(outline.name(above)),
                    None if names.iter().flatten().any(|word| is_resolution(word)) => "resolution".to_owned(),
                    None => "variant".to_owned(),
                };
                let options = options.into_iter().zip(folders).collect();
                choices.push(Alternatives { id: free(id, &mut ids), options });
            }
        }
    }
    (choices, parts)
}

/// More folders with the same files are no makes of one thing, unless their names say so.
const MOST_UNNAMED: usize = 6;

fn are_numbers(outline: &Outline<'_>, units: &[usize]) -> bool {
    units.iter().all(|unit| outline.name(*unit).bytes().all(|byte| byte.is_ascii_digit()))
}

/// Folders that are no more alike are no row.
const CLEARLY_ALIKE: f64 = 0.6;

/// Whether the row lies in a folder of that name.
fn is_row_of(row: &Row, name: &str) -> bool {
    row.spot.1.rsplit('/').next() == Some(folded(name).as_str())
}

/// Whether the names tell makes of one thing apart.
fn are_makes(one: &str, two: &str) -> bool {
    let (common, options) = told_apart(&[words_of(one), words_of(two)]);
    let is_make =
        |words: &String| words.split('-').any(|word| words::is_variant(word) || is_resolution(word));
    common.as_ref().is_some_and(is_make) || options.iter().all(is_make)
}

/// Whether files of the folder lie in a folder of that name in the game without it.
fn lies_without_in(outline: &Outline<'_>, game_matches: &GameMatches, unit: usize, name: &str) -> bool {
    game_matches.places_of_folder(&folded(name)).iter().any(|spot| {
        let agreement = game_matches.agreement(outline, &Mapping { node: unit, to: spot.clone() });
        agreement.met + agreement.met_flat > 0
    })
}

/// Whether files of the folder lie in the game where they would be without it, from a root on.
fn lies_without(outline: &Outline<'_>, game_matches: &GameMatches, unit: usize) -> bool {
    let agreement = game_matches.agreement(outline, &Mapping { node: unit, to: (0, String::new()) });
    agreement.met > 0
}

enum FoundOption {
    Group(usize, Vec<usize>),
    Lesser(usize),
}

/// Folders that call themselves optional, or keep what was replaced, and that the game does not have.
pub(super) fn optional(outline: &Outline<'_>, game_matches: &GameMatches) -> Vec<Optional> {
    let mut found: Vec<Optional> = Vec::new();
    let mut ids: HashSet<String> = HashSet::new();
    let all: usize = outline.nodes.iter().map(|node| node.files.len()).sum();
    for node in 1..outline.nodes.len() {
        let name = outline.name(node);
        let is_inside = found.iter().any(|known| outline.is_below(node, known.node));
        if is_inside
            || outline.nodes[node].group != 0
            || !words::is_optional(name) && !words::is_backup_folder(name)
            || game_matches.has_folder_like(&outline.nodes[node].names, at_top(outline, node))
            || game_matches.has_folder_like(&outline.nodes[node].names, false)
            || lies_beside_others(outline, game_matches, node)
            || outline.content(node) == 0
            || outline.content(node) == all
        {
            continue;
        }
        let units = outline.units(node);
        // Either it is one thing itself, or each folder in it is one.
        let is_one = !outline.nodes[node].files.is_empty()
            || units.iter().any(|unit| game_matches.has_folder_named(&folded(outline.name(*unit))));
        if is_one || units.is_empty() {
            found.push(Optional { id: free(words::slug(name), &mut ids), node });
        } else {
            let each = units.into_iter();
            found.extend(
                each.map(|unit| Optional { id: free(words::slug(outline.name(unit)), &mut ids), node: unit }),
            );
        }
    }
    found
}

/// Whether the game has a folder of that name beside one that the package has beside this one.
fn lies_beside_others(outline: &Outline<'_>, game_matches: &GameMatches, node: usize) -> bool {
    let name = |node: usize| outline.nodes[node].names.last().map_or("", String::as_str);
    let Some(parent) = outline.nodes[node].parent else { return false };
    let others: Vec<usize> = outline.units(parent).into_iter().filter(|other| *other != node).collect();
    game_matches.places_of_folder(name(node)).iter().any(|(root, key)| {
        let above = key.rfind('/').map_or("", |cut| &key[..cut]);
        others.iter().any(|other| game_matches.has_folder(&(*root, below(above, name(*other)))))
    })
}

/// Whether the folder lies in one of those around everything.
fn at_top(outline: &Outline<'_>, node: usize) -> bool {
    let mut tops = outline.chain(0);
    // Where it lies beside what is always there, that chain ends at its parent or above.
    tops.push(0);
    outline.nodes[node].parent.is_some_and(|parent| tops.contains(&parent))
}

/// An id that no other has.
fn free(id: String, taken: &mut HashSet<String>) -> String {
    let id = if id.is_empty() { "part".to_owned() } else { id };
    let mut tried = id.clone();
    let mut number = 2;
    while !taken.insert(tried.clone()) {
        tried = format!("{id}-{number}");
        number += 1;
    }
    tried
}

/// How many files each two of the folders share.
fn shared(inside: &[HashSet<String>]) -> BTreeMap<(usize, usize), usize> {
    /// More folders with a file of that name than anybody chooses between.
    const MOST: usize = 64;
    let mut holders: HashMap<&str, Vec<usize>> = HashMap::new();
    for (unit, files) in inside.iter().enumerate() {
        for file in files {
            holders.entry(file).or_default().push(unit);
        }
    }
    let mut shared = BTreeMap::new();
    for units in holders.values().filter(|units| units.len() <= MOST) {
        for (index, one) in units.iter().enumerate() {
            for two in &units[index + 1..] {
                *shared.entry((*one, *two)).or_default() += 1;
            }
        }
    }
    shared
}

fn files_below(outline: &Outline<'_>, top: usize) -> HashSet<String> {
    let cut = outline.nodes[top].path.as_str().len() + 1;
    let files = outline.subtree(top).into_iter().flat_map(|node| outline.nodes[node].files.iter());
    files.map(|file| folded(&outline.members[*file].path.as_str()[cut..])).collect()
}

fn words_of(name: &str) -> Vec<String> {
    words::slug(name).split('-').map(str::to_owned).collect()
}

/// `2k`, `720p`, `1024` and the like.
fn is_resolution(word: &str) -> bool {
    let digits = word.trim_end_matches(['k', 'p']);
    let is_number =
        !digits.is_empty() && digits.len() <= 5 && digits.bytes().all(|byte| byte.is_ascii_digit());
    is_number && (digits != word || matches!(digits, "256" | "512" | "1024" | "2048" | "4096" | "8192"))
}

/// Cuts names at the words that all begin or end with; these are what the choice is of.
fn told_apart(names: &[Vec<String>]) -> (Option<String>, Vec<String>) {
    let first = &names[0];
    let alike = |at: &dyn Fn(&Vec<String>, usize) -> Option<String>| {
        (0..first.len())
            .take_while(|index| {
                let word = at(first, *index);
                names.iter().all(|name| name.len() > index + 1 && at(name, *index) == word)
            })
            .count()
    };
    let front = alike(&|name, index| name.get(index).cloned());
    let back = alike(&|name, index| name.len().checked_sub(index + 1).and_then(|at| name.get(at).cloned()));
    let back = if names.iter().all(|name| front + back < name.len()) { back } else { 0 };
    let mut common: Vec<String> = first[..front].to_vec();
    common.extend(first[first.len() - back..].iter().cloned());
    let options = names.iter().map(|name| name[front..name.len() - back].join("-"));
    // Numbers before the words only put them in order.
    let is_number = |word: &String| word.bytes().all(|byte| byte.is_ascii_digit());
    let options: Vec<String> = options.collect();
    let cut: Vec<String> = options
        .iter()
        .map(|option| {
            let words: Vec<String> = option.split('-').map(str::to_owned).collect();
            match words.as_slice() {
                [number, rest @ ..] if !rest.is_empty() && is_number(number) && number.len() <= 2 => {
                    rest.join("-")
                }
                _ => option.clone(),
            }
        })
        .collect();
    let apart: HashMap<&String, usize> = cut.iter().map(|option| (option, 1)).collect();
    let options = if apart.len() == cut.len() { cut } else { options };
    (Some(common.join("-")).filter(|id| !id.is_empty()), options)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_are_named_by_what_tells_them_apart() {
        let told = |names: &[&str]| told_apart(&names.iter().map(|name| words_of(name)).collect::<Vec<_>>());
        let is = |id: Option<&str>, options: &[&str]| {
            (id.map(str::to_owned), options.iter().map(|option| (*option).to_owned()).collect::<Vec<_>>())
        };
        assert_eq!(
            told(&["Finish - Polished", "Finish - Matte"]),
            is(Some("finish"), &["polished", "matte"])
        );
        assert_eq!(told(&["1k", "2k", "4k"]), is(None, &["1k", "2k", "4k"]));
        assert_eq!(told(&["01 Polished", "02 Matte"]), is(None, &["polished", "matte"]));
        assert_eq!(told(&["Red Lamps", "Green Lamps"]), is(Some("lamps"), &["red", "green"]));
    }
}
