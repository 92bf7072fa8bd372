//! Folders that would be more of a row, and loose files that lie in several folders: what they are placed and asked by.

use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::path::Path;

use super::decider::{Decider, FoundFolder, Weighed};
use super::game_matches::{Mapping, Spot, below};
use super::offers::Offers;
use super::outline::folded;
use super::rows::{self, Row};
use super::words;
use crate::fit::{Candidate, Place, Unclear};
use crate::version::parts_of_file_name;

/// Folders of the package that would be more of a row: `of`, which lie in `node`.
#[derive(Debug, Clone)]
pub(super) struct InRow {
    pub node: usize,
    pub of: Vec<usize>,
    pub row: Row,
}

impl Decider<'_> {
    /// When loose files lie each in one place of the game, but in several folders.
    pub(super) fn scattered(&self, bottom: usize) -> Option<Unclear> {
        const MOST_FILES: usize = 48;
        let files = &self.outline.nodes[bottom].files;
        if files.len() < 2 || files.len() > MOST_FILES || !self.outline.units(bottom).is_empty() {
            return None;
        }
        let mut homes: BTreeMap<Spot, Vec<usize>> = BTreeMap::new();
        for file in files {
            let [(root, key)] = self.game_matches.places_of_file(self.outline.file_name(*file)) else {
                return None;
            };
            let home = (*root, key.rfind('/').map_or("", |cut| &key[..cut]).to_owned());
            homes.entry(home).or_default().push(*file);
        }
        let main =
            homes.iter().max_by_key(|(spot, files)| (files.len(), Reverse((*spot).clone())))?.0.clone();
        if homes.len() < 2 {
            return None;
        }
        let together = self.candidate(
            &[(bottom, self.game_matches.address(&main))],
            format!("all together, where {} of {} files exist in the game", homes[&main].len(), files.len()),
        );
        let mut apart = together.clone();
        for (home, files) in homes.iter().filter(|(home, _)| **home != main) {
            let to = self.game_matches.address(home);
            let separator = if to.path.is_root() { "" } else { "/" };
            for file in files {
                let name = self.outline.file_name(*file);
                let from = below(&self.place_text_inside(bottom), name);
                apart.places.push(Place::new(from, format!("{to}{separator}{name}")));
            }
        }
        apart.evidence = format!("each where the game has it, in {} folders", homes.len());
        let root = self.candidate(
            &[(bottom, self.game_matches.address(&(0, String::new())))],
            "into the game's own folder".to_owned(),
        );
        let question = "its files lie in several folders of the game".to_owned();
        Some(Unclear { question, candidates: vec![apart, together, root], ..Unclear::default() })
    }

    /// The rows that the package's folders would fit into, the likest first.
    pub(super) fn rows(&self, top: usize, bottom: usize) -> Vec<InRow> {
        let mut found: Vec<InRow> = Vec::new();
        for node in self.outline.chain(top) {
            let parent = self.outline.nodes[node].parent.filter(|_| node != top).unwrap_or(node);
            let rows = rows::rows(&self.outline, self.game_matches, &[node]);
            found.extend(rows.into_iter().map(|row| InRow { node: parent, of: vec![node], row }));
        }
        let units = self.outline.units(bottom);
        if !units.is_empty() {
            let rows = rows::rows(&self.outline, self.game_matches, &units);
            found.extend(rows.into_iter().map(|row| InRow { node: bottom, of: units.clone(), row }));
        }
        found.sort_by(|one, two| {
            let order = self.likeness(two).total_cmp(&self.likeness(one));
            order.then(two.row.siblings.cmp(&one.row.siblings)).then(one.of.len().cmp(&two.of.len()))
        });
        found
    }

    /// How many folders from the one around it upwards are named as the row's are.
    fn names_alike(&self, it: &InRow) -> usize {
        let names = self.outline.nodes[it.node].names.iter().rev();
        names.zip(it.row.spot.1.rsplit('/')).take_while(|(one, two)| one.as_str() == *two).count()
    }

    /// Whether a folder around, or the folder itself, is called like one of the game that is not on the way to the spot.
    pub(super) fn knows_other(&self, node: usize, (_, key): &Spot) -> bool {
        let is_other = |name: &String| {
            !self.game_matches.places_of_folder(name).is_empty() && !key.split('/').any(|part| part == name)
        };
        self.outline.nodes[node].names.iter().any(is_other)
    }

    /// How alike the row is, with regard to the name of the folder around: one that the game has is meant by it.
    fn likeness(&self, it: &InRow) -> f64 {
        if self.knows_other(it.node, &it.row.spot) {
            return it.row.alike * 0.5;
        }
        // So is a new one that is called like what lies elsewhere.
        let is_called_so = it.of.len() == 1 && it.of[0] != it.node && {
            let name = &self.outline.nodes[it.of[0]].names;
            name.last().is_some_and(|name| !self.game_matches.places_of_folder(name).is_empty())
        };
        let factor = if is_called_so { 0.65 } else { 1.0 };
        it.row.alike * factor * (1.0 + 0.1 * self.names_alike(it).min(4) as f64)
    }

    /// The row that alone is clearly meant.
    pub(super) fn clear_row<'r>(&self, rows: &'r [InRow]) -> Option<&'r InRow> {
        const CLEARLY_ALIKE: f64 = 0.75;
        const ENOUGH_SIBLINGS: usize = 3;
        let best = rows.first()?;
        let is_rival = |other: &InRow| {
            other.row.alike.max(other.row.nearest) * 2.0 > best.row.alike
                && self.names_alike(other) >= self.names_alike(best)
                && (other.node, &other.row.spot) != (best.node, &best.row.spot)
        };
        // Loose files of a kind in a folder around everything may be meant for a folder of that kind itself.
        let is_outermost = best.of.len() == 1 && self.outline.nodes[best.of[0]].parent == Some(0);
        let is_clear = best.row.alike >= CLEARLY_ALIKE
            && best.row.siblings >= ENOUGH_SIBLINGS
            && (best.row.by_names || best.row.by_kinds && !is_outermost)
            && self.has_own_names(best)
            && !rows[1..].iter().any(is_rival);
        is_clear.then_some(best)
    }

    /// Whether the folders have names of their own: what is called as the package is, or has a version, may be a folder
    /// around it.
    pub(super) fn has_own_names(&self, it: &InRow) -> bool {
        !it.of.contains(&it.node)
            && it.of.iter().all(|node| {
                let parts = parts_of_file_name(Path::new(self.outline.name(*node)), false);
                let letters = |name: &str| words::plain(name).replace(' ', "");
                let (name, package) = (letters(&parts.name), letters(self.package_name));
                let is_called_so =
                    !package.is_empty() && (name.contains(&package) || package.contains(&name));
                // What its own files are named after is its name, a number in it too.
                let own = folded(self.outline.name(*node));
                let mut files = self.outline.nodes[*node].files.iter();
                let is_in_files = files.any(|file| folded(self.outline.file_name(*file)).contains(&own));
                let is_plain = parts.version.is_none() && !self.outline.name(*node).contains(['(', '[']);
                is_in_files || is_plain && !is_called_so && !words::is_export(&words::plain(&parts.name))
            })
    }

    pub(super) fn found_in_row(&self, it: &InRow) -> FoundFolder {
        FoundFolder {
            node: it.node,
            to: self.game_matches.address(&it.row.spot),
            evidence: self.row_words(it),
        }
    }

    pub(super) fn row_words(&self, it: &InRow) -> String {
        let name = self.outline.name(it.of[0]);
        let what = if it.of.len() == 1 { format!("`{name}` is") } else { format!("`{name}` and others are") };
        format!("{what} built like {} folders there", it.row.siblings)
    }

    /// Whether a mapping puts the folders of the row where the row is.
    pub(super) fn is_in_row(&self, it: &Weighed, row: &InRow) -> bool {
        self.outline.is_below(row.node, it.mapping.node)
            && self.spot_of(&it.mapping, row.node) == row.row.spot
    }

    /// Whether a mapping lays what would be one more of the row onto one that the row has.
    pub(super) fn is_beside(&self, it: &Weighed, row: &InRow) -> bool {
        let Mapping { node, to: (root, key) } = &it.mapping;
        let above = key.rfind('/').map_or("", |cut| &key[..cut]);
        row.of.contains(node) && (*root, above) == (row.row.spot.0, row.row.spot.1.as_str())
    }

    /// Offers the rows; what may have no name of its own also under names that it may be meant to have.
    pub(super) fn put_rows(&self, top: usize, rows: &[InRow], offers: &mut Offers) {
        const FEWEST_ALIKE: f64 = 0.25;
        const MOST: usize = 5;
        let mut own = Offers::default();
        for it in rows.iter().filter(|it| it.row.alike >= FEWEST_ALIKE) {
            let alike = self.likeness(it);
            let to = self.game_matches.address(&it.row.spot);
            let sure = if it.row.siblings > 2 { 0.95 } else { 0.8 };
            if it.of.as_slice() != [top] {
                let weight = sure * alike * if self.has_own_names(it) { 1.0 } else { 0.85 };
                own.put(weight, self.candidate(&[(it.node, to.clone())], self.row_words(it)));
            }
            let [node] = it.of.as_slice() else { continue };
            if *node == top || !self.has_own_names(it) {
                for (nth, candidate) in
                    self.own_folders(top, *node, &to, &it.row.others).into_iter().enumerate()
                {
                    let evidence =
                        format!("{}; {} folders there are built so", candidate.evidence, it.row.siblings);
                    own.put(sure * alike * 0.9 - 0.01 * nth as f64, Candidate { evidence, ..candidate });
                }
            }
        }
        offers.put_best(own, MOST);
    }
}
