//! Deciding where one group of a package's folders goes.

use std::cmp::Reverse;

use rustc_hash::FxHashMap;

use super::decider::{Decider, FoundFolder, Weighed};
use super::game_matches::{Agreement, GameMatches, Mapping, Spot, below};
use super::in_rows::InRow;
use super::outline::{Outline, folded};
use super::{ToldName, words};
use crate::address::{Address, RelPath};
use crate::fit::{Candidate, GameTree, RootSeen, Unclear};

/// Places of first folders that are looked at closely.
const MOST_OF_FIRSTS: usize = 24;

enum Pick {
    Clear(Weighed),
    Unclear(Vec<Weighed>),
    Nothing,
}

impl<'a> Decider<'a> {
    pub(super) fn new(
        outline: Outline<'a>,
        game_matches: &'a GameMatches,
        tree: &dyn GameTree,
        package_name: &'a str,
        told_names: &'a [ToldName],
    ) -> Self {
        let (roots, program) = (tree.roots(), tree.program());
        Self { outline, game_matches, roots, program, package_name, told_names, next_group: 1 }
    }

    /// Makes the folder and all below it a group of its own.
    pub(super) fn set_apart(&mut self, node: usize) {
        self.outline.set_group(node, self.next_group);
        self.next_group += 1;
    }

    /// Places the group that `top` belongs to, from there down.
    pub(super) fn place(&mut self, top: usize) -> Result<Vec<FoundFolder>, Unclear> {
        let mut found = self.named_roots(top)?;
        if self.outline.content(top) == 0 {
            return Ok(found);
        }
        found.extend(self.place_rest(top)?);
        Ok(found)
    }

    /// Folders that stand for a root by their name.
    fn named_roots(&mut self, top: usize) -> Result<Vec<FoundFolder>, Unclear> {
        let chain = self.outline.chain(top);
        let bottom = *chain.last().unwrap_or(&top);
        let mut nodes: Vec<usize> = chain.into_iter().filter(|node| *node != top).collect();
        nodes.extend(self.outline.units(bottom));
        let mut found: Vec<FoundFolder> = Vec::new();
        let mut mains = Vec::new();
        for node in nodes {
            let name = self.outline.name(node).to_owned();
            if found.iter().any(|known| self.outline.is_below(node, known.node)) {
                continue;
            }
            if words::is_main_root(&name) && !self.game_matches.has_folder_named(&folded(&name)) {
                mains.push(node);
                continue;
            }
            if let Some(placed) = self.other_root(node, &name)? {
                self.set_apart(node);
                found.push(placed);
            }
        }
        for node in mains {
            let own = self.weigh(node);
            if !found.is_empty() && matches!(self.pick(&own), Pick::Nothing) {
                let evidence = format!("`{}` stands for the game's own folder", self.outline.name(node));
                let place = self.named_like(node, &self.roots[0]).unwrap_or(node);
                self.set_apart(node);
                found.push(FoundFolder {
                    node: place,
                    to: self.game_matches.address(&(0, String::new())),
                    evidence,
                });
            }
        }
        Ok(found)
    }

    fn other_root(&self, node: usize, name: &str) -> Result<Option<FoundFolder>, Unclear> {
        let plain = words::plain(name);
        let (usual, words) = match words::other_root(name) {
            Some((usual, words)) => (usual, words),
            None => ("", [].as_slice()),
        };
        let is_meant = |root: &&RootSeen| {
            let own = root.name.as_str();
            let lies_in = root.folder.iter().any(|part| words.contains(&words::plain(part).as_str()));
            own == plain
                || words::plain(own) == plain
                || !usual.is_empty() && (own == usual || words.contains(&own) || lies_in)
        };
        let in_game: Spot = (0, folded(name));
        let Some(root) = self.roots.iter().skip(1).find(is_meant) else {
            if usual.is_empty()
                || self.game_matches.has_folder_named(&folded(name))
                || self.has_own_place(node)
            {
                return Ok(None);
            }
            return Err(self.root_missing(node, usual));
        };
        let Some(number) = self.game_matches.root_number(&root.name) else { return Ok(None) };
        let place = self.named_like(node, root).unwrap_or(node);
        let to: Spot = (number, String::new());
        let there = self.game_matches.agreement(&self.outline, &Mapping { node: place, to: to.clone() });
        if self.game_matches.has_folder(&in_game) {
            let here = self.game_matches.agreement(&self.outline, &Mapping { node, to: in_game.clone() });
            if here.score() + here.met_flat > there.score() + there.met_flat {
                return Ok(None);
            }
            if here.score() == there.score() {
                let candidates = vec![
                    self.candidate(&[(place, self.game_matches.address(&to))], self.words(&there)),
                    self.candidate(&[(node, self.game_matches.address(&in_game))], self.words(&here)),
                ];
                let question = format!(
                    "`{name}` may be meant for the root `{}` or for the game's own folder of that name",
                    root.name
                );
                return Err(Unclear { question, candidates, ..Unclear::default() });
            }
        }
        let evidence = match there.met + there.met_flat + there.begun {
            0 => format!("`{name}` stands for the root `{}`", root.name),
            _ => self.words(&there),
        };
        Ok(Some(FoundFolder { node: place, to: self.game_matches.address(&to), evidence }))
    }

    /// The folder below `node`, with nothing beside it on the way, that is named like the root's own.
    fn named_like(&self, node: usize, root: &RootSeen) -> Option<usize> {
        let own = root.folder.last().map(|name| folded(name))?;
        let chain = self.outline.chain(node);
        chain.into_iter().rev().find(|node| folded(self.outline.name(*node)) == own)
    }

    fn has_own_place(&self, node: usize) -> bool {
        matches!(self.pick(&self.weigh(node)), Pick::Clear(_))
    }

    /// The roots that are registered under other names, those first in which something of the folder lies.
    fn other_roots(&self, node: usize) -> Vec<Candidate> {
        const MOST: usize = 4;
        let mut roots: Vec<(Agreement, Candidate)> = Vec::new();
        for root in self.roots.iter().skip(1) {
            let Some(number) = self.game_matches.root_number(&root.name) else { continue };
            let place = self.named_like(node, root).unwrap_or(node);
            let to: Spot = (number, String::new());
            let there = self.game_matches.agreement(&self.outline, &Mapping { node: place, to: to.clone() });
            let evidence = format!("into the root `{}`: {}", root.name, self.words(&there));
            roots.push((there, self.candidate(&[(place, self.game_matches.address(&to))], evidence)));
        }
        roots.sort_by_key(|(there, _)| Reverse(there.score() + there.met_flat));
        roots.into_iter().take(MOST).map(|(_, candidate)| candidate).collect()
    }

    fn root_missing(&self, node: usize, usual: &str) -> Unclear {
        let name = self.outline.name(node);
        let path = self.outline.nodes[node].path.as_str();
        let question = format!(
            "`{name}` seems to be meant for a folder outside the game's own, and no such root is registered; register \
             it as `{usual}` and do this again"
        );
        let mut leave = Candidate { skip: vec![path.to_owned()], ..Candidate::default() };
        leave.evidence = format!("leave out `{name}`");
        let into = self.candidate(
            &[(
                node,
                Address { path: RelPath::from_disk(name), ..self.game_matches.address(&(0, String::new())) },
            )],
            "put it into the game's own folder all the same".to_owned(),
        );
        let mut candidates = self.other_roots(node);
        candidates.extend([leave, into]);
        Unclear { question, candidates, root_missing: Some(usual.into()), ..Unclear::default() }
    }

    fn weigh(&self, top: usize) -> Vec<Weighed> {
        let mut mappings = self.game_matches.mappings(&self.outline, top);
        // As it is written, whatever speaks for it: with all folders around it, or without some.
        for node in self.outline.chain(top) {
            let written = Mapping { node, to: (0, String::new()) };
            if !mappings.contains(&written) {
                mappings.push(written);
            }
        }
        for mapping in self.mappings_of_firsts(top) {
            if !mappings.contains(&mapping) {
                mappings.push(mapping);
            }
        }
        let weighed = mappings.into_iter().map(|mapping| {
            let agreement = self.game_matches.agreement(&self.outline, &mapping);
            Weighed { mapping, agreement }
        });
        let mut weighed: Vec<Weighed> = weighed.collect();
        weighed.sort_by_key(|it| {
            let Mapping { node, to } = &it.mapping;
            (Reverse(it.agreement.score()), to.0, to.1.clone(), *node)
        });
        weighed
    }

    /// Each first folder laid where the game has one of its name, however many other names lie elsewhere.
    fn mappings_of_firsts(&self, top: usize) -> Vec<Mapping> {
        let nodes = &self.outline.nodes;
        let chain = self.outline.chain(top);
        let units = self.outline.units(chain.last().copied().unwrap_or(top));
        let mut counts: FxHashMap<(usize, Spot), usize> = FxHashMap::default();
        for first in chain.into_iter().skip(1).chain(units) {
            let name = |node: usize| nodes[node].names.last().map_or("", String::as_str);
            for (root, key) in self.game_matches.places_of_folder(name(first)) {
                let (mut node, mut to) = (first, key.as_str());
                // Up to where the names cease to be the same.
                while node != top
                    && name(node) == to.rsplit('/').next().unwrap_or_default()
                    && let Some(parent) = nodes[node].parent
                {
                    (node, to) = (parent, to.rfind('/').map_or("", |cut| &to[..cut]));
                }
                *counts.entry((node, (*root, to.to_owned()))).or_default() += 1;
            }
        }
        let mut counts: Vec<((usize, Spot), usize)> = counts.into_iter().collect();
        counts.sort_by(|one, two| two.1.cmp(&one.1).then_with(|| one.0.cmp(&two.0)));
        counts.into_iter().take(MOST_OF_FIRSTS).map(|((node, to), _)| Mapping { node, to }).collect()
    }

    /// Whether the game speaks for a mapping at all.
    fn is_strong(&self, it: &Weighed) -> bool {
        let a = &it.agreement;
        let at_root = it.mapping.to.1.is_empty();
        let flat = self.outline.nodes[it.mapping.node].files.len();
        let by_folders =
            a.met > 0 || a.housed + a.begun > 0 && (at_root || a.kind > 0 || a.branches.len() > 1);
        let is_enough = (a.begun + a.met_flat) * 2 >= a.files
            || a.met * 4 >= a.files
            || a.first_folders > 0 && a.branches.len() * 2 >= a.first_folders && flat * 2 <= a.files;
        // Names that begin where the package does are meant from the root on.
        let is_bare = it.mapping.node == 0 && at_root;
        let is_anchored = at_root && a.met > 0 || is_bare && a.begun + a.met_flat > 0;
        let by_files = a.met_flat > 0 && a.met_flat * 2 >= flat && flat * 2 >= a.files;
        by_folders && is_enough || by_files || is_anchored
    }

    /// Whether a mapping lays a folder onto one of another name, though the names on the way to it lie in the game as they are
    /// written: what is called so there, or is new beside others there, is no folder of another name.
    pub(super) fn is_named_elsewhere(&self, it: &Weighed, weighed: &[Weighed]) -> bool {
        let Mapping { node, to } = &it.mapping;
        let nodes = &self.outline.nodes;
        let (Some(name), Some(parent)) = (nodes[*node].names.last(), nodes[*node].parent) else {
            return false;
        };
        if to.1.rsplit('/').next() == Some(name.as_str()) {
            return false;
        }
        weighed.iter().any(|other| {
            let (mapping, a) = (&other.mapping, &other.agreement);
            if mapping.node == *node {
                // One that has its name has as much of it.
                return mapping.to.1.rsplit('/').next() == Some(name.as_str())
                    && a.met > 0
                    && a.met >= it.agreement.met;
            }
            if !self.outline.is_below(*node, mapping.node) {
                return false;
            }
            let lies_there = self.game_matches.has_folder(&self.spot_of(mapping, *node));
            if to.1.is_empty() {
                // Folders around everything may be called like something.
                let is_written_out = mapping.to.1.is_empty() && a.housed == a.files && a.kind * 2 >= a.files;
                return lies_there && (is_written_out || a.score() >= it.agreement.score());
            }
            // One beside that which has its name.
            let is_beside = to.0 == mapping.to.0
                && parent == mapping.node
                && to.1.rfind('/').map_or("", |cut| &to.1[..cut]) == mapping.to.1;
            let is_by_folders = it.agreement.met + it.agreement.met_flat == 0;
            lies_there && (a.housed > 0 || is_beside || is_by_folders)
                || parent != mapping.node && self.game_matches.has_folder(&self.spot_of(mapping, parent))
        })
    }

    fn pick(&self, weighed: &[Weighed]) -> Pick {
        let strong: Vec<&Weighed> =
            weighed.iter().filter(|it| self.is_strong(it) && !self.is_named_elsewhere(it, weighed)).collect();
        let Some(best) = strong.first() else { return Pick::Nothing };
        let score = best.agreement.score();
        let at_root = best.mapping.to == (0, String::new());
        // New files alone may be meant for where more of their folders lie.
        let is_deeper = |other: &&Weighed| {
            let (a, b) = (&best.agreement, &other.agreement);
            at_root
                && a.met + a.met_flat == 0
                && (b.begun, b.housed, b.kind) >= (a.begun, a.housed, a.kind)
                && (b.folders > a.folders || b.folders == a.folders && a.kind > 0)
                && !self.is_named_elsewhere(other, weighed)
                && !self.is_same_placing(best, other)
        };
        // As it is written it fits as well, though not all of its files lie elsewhere.
        let is_written = |other: &&Weighed| {
            let (a, b) = (&best.agreement, &other.agreement);
            !at_root
                && other.mapping.to == (0, String::new())
                && a.met + a.met_flat < a.files
                && b.kind == b.files
                && b.files >= a.files
                && !self.is_same_placing(best, other)
        };
        let is_other = |other: &&Weighed| is_deeper(other) || is_written(other);
        let deeper: Vec<Weighed> = weighed.iter().filter(is_other).cloned().collect();
        if !deeper.is_empty() {
            return Pick::Unclear([(*best).clone()].into_iter().chain(deeper).collect());
        }
        let is_rival = |other: &&&Weighed| {
            let others = other.agreement.score();
            let (a, b) = (&best.agreement, &other.agreement);
            if at_root && others <= score && b.met <= a.met && b.kind <= a.kind {
                return false;
            }
            others * 2 > score && !self.is_same_placing(best, other)
        };
        let rivals: Vec<Weighed> = strong.iter().skip(1).filter(is_rival).map(|it| (*it).clone()).collect();
        // That some loose files have namesakes where nothing is of the others' kind may be chance.
        let a = &best.agreement;
        let is_chance =
            !at_root && a.met == 0 && a.met_flat > 0 && a.met_flat < a.files && a.strange * 4 > a.files;
        if rivals.is_empty() && !is_chance {
            return Pick::Clear((*best).clone());
        }
        Pick::Unclear([(*best).clone()].into_iter().chain(rivals).collect())
    }

    /// Whether both put what they share at the same addresses.
    fn is_same_placing(&self, one: &Weighed, two: &Weighed) -> bool {
        let (one, two) = (&one.mapping, &two.mapping);
        let leads = |upper: &Mapping, lower: &Mapping| {
            self.outline.is_below(lower.node, upper.node)
                && (upper.to.0, self.spot_of(upper, lower.node).1) == (lower.to.0, lower.to.1.clone())
        };
        leads(one, two) || leads(two, one)
    }

    /// Where a folder below the mapped one goes.
    pub(super) fn spot_of(&self, mapping: &Mapping, node: usize) -> Spot {
        let names = &self.outline.nodes[node].names[self.outline.nodes[mapping.node].names.len()..];
        (mapping.to.0, names.iter().fold(mapping.to.1.clone(), |path, name| below(&path, name)))
    }

    fn place_rest(&mut self, top: usize) -> Result<Vec<FoundFolder>, Unclear> {
        let chain = self.outline.chain(top);
        let bottom = *chain.last().unwrap_or(&top);
        let all = self.weigh(top);
        let mut whole: Vec<Weighed> =
            all.iter().filter(|it| chain.contains(&it.mapping.node)).cloned().collect();
        let gatherings = self.gatherings(bottom);
        // That another add-on has files of these names does not make this one that.
        whole.retain(|it| {
            let (root, key) = &it.mapping.to;
            let cut = key.rfind('/').unwrap_or(0);
            it.mapping.node != bottom || !gatherings.contains_key(&(*root, key[..cut].to_owned()))
        });
        let picked = self.pick(&whole);
        // Unless their folder, as it is named, lies there.
        let is_named =
            matches!(&picked, Pick::Clear(it) if it.mapping.node != bottom && it.agreement.housed > 0);
        if !is_named && let Some(unclear) = self.scattered(bottom) {
            return Err(unclear);
        }
        let rows = self.rows(top, bottom);
        if let Some(row) = self.row_before(&rows, &picked) {
            let is_elsewhere = |it: &Weighed| it.agreement.kind > 0 && !self.is_in_row(it, row);
            return match &picked {
                Pick::Clear(it) if is_elsewhere(it) => Err(self.ask(top, bottom, &all, &rows)),
                _ => Ok(vec![self.found_in_row(row)]),
            };
        }
        let is_met_there = |it: &Weighed| {
            it.mapping.node == bottom && it.agreement.met_flat * 2 >= self.outline.nodes[bottom].files.len()
        };
        if matches!(&picked, Pick::Clear(it) if self.is_like_others(bottom, it, &rows)) {
            return Err(self.ask(top, bottom, &all, &rows));
        }
        let is_plain = matches!(&picked, Pick::Clear(it) if is_met_there(it));
        if !is_plain && let Some(unclear) = self.own_folder(top, bottom, &whole, &all, &rows, gatherings) {
            return Err(unclear);
        }
        match picked {
            Pick::Clear(best) => self.place_as(best, top, bottom, &rows),
            Pick::Unclear(mut candidates) => {
                candidates.extend(all.iter().filter(|it| self.is_written_out(top, it)).cloned());
                let apart = self.units_apart(bottom);
                if apart.iter().all(Option::is_some) && self.outline.nodes[bottom].files.is_empty() {
                    return Ok(apart.iter().flatten().map(|it| self.found(it)).collect());
                }
                Err(self.ask(top, bottom, &candidates, &rows))
            }
            Pick::Nothing => self.place_units(top, bottom, &all, &rows),
        }
    }

    /// The row that it is clearly one more of, unless its own files lie elsewhere.
    fn row_before<'r>(&self, rows: &'r [InRow], picked: &Pick) -> Option<&'r InRow> {
        let is_met = |row: &InRow| match picked {
            // That others of the row have files of these names does not make this one of them.
            Pick::Clear(it) => it.agreement.met + it.agreement.met_flat > 0 && !self.is_beside(it, row),
            _ => false,
        };
        self.clear_row(rows).filter(|row| !is_met(row))
    }

    /// Whether it may be one more of folders that have files of the same names.
    fn is_like_others(&self, bottom: usize, it: &Weighed, rows: &[InRow]) -> bool {
        let files = self.outline.nodes[bottom].files.len();
        let is_other = |row: &InRow| row.row.alike >= 0.6 && row.row.siblings > 2 && !self.is_in_row(it, row);
        it.mapping.node == bottom && (1..files).contains(&it.agreement.met_flat) && rows.iter().any(is_other)
    }

    /// Places all by one mapping, but folders that the game has elsewhere.
    fn place_as(
        &self,
        best: Weighed,
        top: usize,
        bottom: usize,
        rows: &[InRow],
    ) -> Result<Vec<FoundFolder>, Unclear> {
        if let Some(unclear) = self.libraries_elsewhere(bottom, &best) {
            return Err(unclear);
        }
        // Where add-ons have folders of their own, loose files that nobody knows may be one, whatever
        // the folders beside them are called.
        let has_loose = best.mapping.node == bottom && !self.outline.nodes[bottom].files.is_empty();
        if has_loose
            && best.agreement.met + best.agreement.met_flat == 0
            && !self.game_matches.addons().is_empty()
        {
            return Err(self.ask(top, bottom, &[best], rows));
        }
        let mut found = vec![self.found(&best)];
        if !self.game_matches.has_folder(&self.spot_of(&best.mapping, bottom)) {
            // What lies in a new folder is its own, whatever others are called.
            return Ok(found);
        }
        for unit in self.outline.units(bottom) {
            if self.game_matches.has_folder(&self.spot_of(&best.mapping, unit)) {
                continue;
            }
            // Never into one of another name: beside the others it is a new one.
            let is_by_name = |own: &Weighed| {
                let Mapping { node, to } = &own.mapping;
                let last = self.outline.nodes[*node].names.last().map(String::as_str);
                *node != unit || to.1.rsplit('/').next() == last
            };
            if let Pick::Clear(own) = self.pick(&self.weigh(unit))
                && is_by_name(&own)
            {
                found.push(self.found(&own));
            }
        }
        Ok(found)
    }

    /// Each folder with its own place, where its files lie in the game.
    fn units_apart(&self, bottom: usize) -> Vec<Option<Weighed>> {
        let own = self.outline.units(bottom).into_iter().map(|unit| match self.pick(&self.weigh(unit)) {
            Pick::Clear(it) if it.agreement.met + it.agreement.met_flat > 0 => Some(it),
            _ => None,
        });
        own.collect()
    }

    /// Nothing speaks for the whole: each folder by itself, or what the kinds of files say.
    fn place_units(
        &mut self,
        top: usize,
        bottom: usize,
        all: &[Weighed],
        rows: &[InRow],
    ) -> Result<Vec<FoundFolder>, Unclear> {
        let units = self.outline.units(bottom);
        let own: Vec<Pick> = units.iter().map(|unit| self.pick(&self.weigh(*unit))).collect();
        let clear: Vec<FoundFolder> = own
            .iter()
            .filter_map(|pick| if let Pick::Clear(it) = pick { Some(self.found(it)) } else { None })
            .collect();
        let has_loose = !self.outline.nodes[bottom].files.is_empty();
        if !has_loose && !units.is_empty() && clear.len() == units.len() {
            return Ok(clear);
        }
        if clear.is_empty() {
            if let Some(found) = self.beside_program(bottom) {
                return Ok(vec![found]);
            }
            if units.is_empty()
                && let Some(found) = self.by_kind(bottom)
            {
                return Ok(vec![found]);
            }
        }
        Err(self.ask(top, bottom, all, rows))
    }

    fn found(&self, it: &Weighed) -> FoundFolder {
        FoundFolder {
            node: it.mapping.node,
            to: self.game_matches.address(&it.mapping.to),
            evidence: self.words(&it.agreement),
        }
    }

    pub(super) fn place_text_inside(&self, node: usize) -> String {
        match self.outline.place_text(node).as_str() {
            "." => String::new(),
            text => text.to_owned(),
        }
    }

    /// Loose files of a kind that the game keeps in one folder alone.
    fn by_kind(&self, bottom: usize) -> Option<FoundFolder> {
        const ALMOST_ALL: f64 = 0.9;
        const FEWEST: u64 = 3;
        let homes = self.loose_homes(bottom);
        let best = homes.first()?;
        let is_alone = homes.get(1).is_none_or(|next| next.share < 0.15 * best.share);
        let files = &self.outline.nodes[bottom].files;
        let is_known =
            files.iter().any(|file| self.game_matches.has_file_named(&folded(self.outline.file_name(*file))));
        let is_sure =
            is_alone && best.share >= ALMOST_ALL && best.count >= FEWEST && best.is_telling && !is_known;
        is_sure.then(|| FoundFolder {
            node: bottom,
            to: self.game_matches.spelled_home(&best.spot),
            evidence: best.evidence.clone(),
        })
    }

    pub(super) fn words(&self, a: &Agreement) -> String {
        let met = a.met + a.met_flat;
        if met > 0 {
            let files = if a.files == 1 {
                "its one file exists".to_owned()
            } else {
                format!("{met} of {} files exist", a.files)
            };
            return format!("{files} there in the game");
        }
        let mut names: Vec<String> = a.branches.iter().take(3).map(|name| format!("`{name}`")).collect();
        names.sort();
        match names.as_slice() {
            [] => "nothing of it is known there".to_owned(),
            [one] => format!("the folder {one} lies there in the game"),
            several => format!("the folders {} lie there in the game", several.join(", ")),
        }
    }
}
