//! Rows: folders of the game side by side that are built alike, into which a new folder built like them belongs.

use std::collections::hash_map::Entry;

use rustc_hash::FxHashMap;

use super::game_matches::{GameMatches, Spot, below};
use super::names::{own_names, patterns_of};
use super::outline::{Outline, folded};
use super::words;

/// A folder of the game whose folders are built like those of the package.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Row {
    pub spot: Spot,
    /// How much of what is directly in the package's folder the row's folders have too: 0 to 1.
    pub alike: f64,
    /// How much of it some of the row's folders have, however few.
    pub nearest: f64,
    /// How many of its folders have the commonest of that.
    pub siblings: usize,
    /// Whether names speak for it.
    pub by_names: bool,
    /// Whether endings do that not everything has.
    pub by_kinds: bool,
    /// Some folders of the row, as they are spelled.
    pub others: Vec<String>,
}

/// What is seen directly in a folder.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Feature {
    /// A file or a folder of that name.
    Name(String),
    /// A file that ends so.
    Ending(String),
    /// A file whose name is written so, such as `lamp#.xml` or `@.png`.
    Pattern(String),
}

/// Fewer folders are no row.
const FEWEST_SIBLINGS: usize = 2;
/// A name in a folder tells more than what a file's name ends with.
const NAME_WEIGHT: f64 = 3.0;
/// So does how its files' names are written.
const PATTERN_WEIGHT: f64 = 2.0;
/// Of many folders so many tell enough.
const MOST_NODES: usize = 24;
/// More in one folder is not looked at.
const MOST_FEATURES: usize = 32;

/// The rows that folders of the package would fit into, the likest first. Each of `nodes` is a folder that would be one
/// more of the row.
pub(super) fn rows(outline: &Outline<'_>, game_matches: &GameMatches, nodes: &[usize]) -> Vec<Row> {
    let mut sums: FxHashMap<Spot, Row> = FxHashMap::default();
    let nodes = &nodes[..nodes.len().min(MOST_NODES)];
    for node in nodes {
        for row in rows_of(outline, game_matches, *node) {
            match sums.entry(row.spot.clone()) {
                Entry::Vacant(new) => drop(new.insert(row)),
                Entry::Occupied(mut known) => {
                    let known = known.get_mut();
                    known.alike += row.alike;
                    known.nearest += row.nearest;
                    known.siblings = known.siblings.min(row.siblings);
                    known.by_names &= row.by_names;
                    known.by_kinds &= row.by_kinds;
                }
            }
        }
    }
    let count = nodes.len().max(1) as f64;
    let share = |row: Row| Row { alike: row.alike / count, nearest: row.nearest / count, ..row };
    let mut rows: Vec<Row> = sums.into_values().map(share).collect();
    rows.sort_by(|one, two| {
        let order = two.alike.total_cmp(&one.alike).then(two.siblings.cmp(&one.siblings));
        order.then_with(|| one.spot.cmp(&two.spot))
    });
    rows
}

fn rows_of(outline: &Outline<'_>, game_matches: &GameMatches, node: usize) -> Vec<Row> {
    let features = features(outline, game_matches, node);
    const MOST_OTHERS: usize = 8;
    // How many folders of each row have which feature.
    let mut counts: FxHashMap<Spot, FxHashMap<&Feature, usize>> = FxHashMap::default();
    let mut others: FxHashMap<Spot, Vec<Spot>> = FxHashMap::default();
    for (feature, _) in &features {
        let mut seen: Vec<Spot> = match feature {
            Feature::Name(name) => game_matches.folders_holding(name),
            Feature::Ending(ending) => {
                game_matches.homes_of_ending(ending).into_iter().map(|(home, _)| home).collect()
            }
            Feature::Pattern(pattern) => {
                game_matches.homes_of_pattern(pattern).into_iter().map(|(home, _)| home).collect()
            }
        };
        seen.sort_unstable();
        seen.dedup();
        for (root, sibling) in seen.into_iter().filter(|(_, key)| !key.is_empty()) {
            let row = (root, sibling.rfind('/').map_or("", |cut| &sibling[..cut]).to_owned());
            let known = others.entry((root, row.1.clone())).or_default();
            if known.len() < MOST_OTHERS && !known.iter().any(|(_, known)| *known == sibling) {
                known.push((root, sibling));
            }
            *counts.entry(row).or_default().entry(feature).or_default() += 1;
        }
    }
    let all: f64 = features.iter().map(|(_, weight)| weight).sum();
    let rows = counts.into_iter().filter_map(|(spot, counts)| {
        let siblings = counts.values().copied().max().unwrap_or(0);
        // One that lies there already is no new one.
        let own = (spot.0, below(&spot.1, &folded(outline.name(node))));
        if siblings < FEWEST_SIBLINGS || game_matches.has_folder(&own) {
            return None;
        }
        let is_usual = |feature: &Feature| {
            counts.get(feature).is_some_and(|count| *count >= FEWEST_SIBLINGS && count * 3 >= siblings)
        };
        let met: Vec<&(Feature, f64)> = features.iter().filter(|(feature, _)| is_usual(feature)).collect();
        let alike = met.iter().map(|(_, weight)| weight).sum::<f64>() / all;
        let is_some = |feature: &Feature| counts.get(feature).is_some_and(|count| *count >= FEWEST_SIBLINGS);
        let some = features.iter().filter(|(feature, _)| is_some(feature)).map(|(_, weight)| weight);
        let nearest = some.sum::<f64>() / all;
        let by_names =
            met.iter().any(|(feature, _)| matches!(feature, Feature::Name(_) | Feature::Pattern(_)));
        let by_kinds = met.iter().any(|(feature, _)| match feature {
            Feature::Name(_) | Feature::Pattern(_) => false,
            Feature::Ending(ending) => !words::is_general_ending(ending),
        });
        let others = others.get(&spot).into_iter().flatten();
        let others = others.map(|spot| game_matches.spelled_home(spot).path.name().to_owned()).collect();
        Some(Row { spot, alike, nearest, siblings, by_names, by_kinds, others })
    });
    rows.collect()
}

/// What is directly in a folder, each with how much it tells.
fn features(outline: &Outline<'_>, game_matches: &GameMatches, node: usize) -> Vec<(Feature, f64)> {
    let mut features: Vec<(Feature, f64)> = Vec::new();
    let mut note = |feature: Feature, weight: f64| {
        if features.len() < MOST_FEATURES && !features.iter().any(|(known, _)| *known == feature) {
            features.push((feature, weight));
        }
    };
    for unit in outline.units(node) {
        note(Feature::Name(folded(outline.name(unit))), NAME_WEIGHT);
    }
    let is_known = |name: &str| game_matches.has_file_named(name);
    let own = folded(outline.name(node));
    let own_names = own_names(outline, &outline.nodes[node]);
    for file in &outline.nodes[node].files {
        let name = folded(outline.file_name(*file));
        note(Feature::Ending(words::ending(&name)), 1.0);
        // A file that is named after its folder has another name in each.
        let is_own = !own.is_empty() && name.contains(&own);
        let patterns = patterns_of(&name, &own_names);
        if !is_own && is_known(&name) {
            note(Feature::Name(name), NAME_WEIGHT / 3.0);
        } else if let Some(pattern) = patterns.into_iter().next() {
            note(Feature::Pattern(pattern), PATTERN_WEIGHT);
        }
    }
    features
}
