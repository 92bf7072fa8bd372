//! What a person is offered when nothing is clear: all places that anything speaks for, the likeliest first.

use rustc_hash::{FxHashMap, FxHashSet};

use super::decider::{Decider, Gatherings, Weighed};
use super::game_matches::Spot;
use super::in_rows::InRow;
use super::names::patterns_of;
use super::outline::folded;
use super::words;
use crate::address::Address;
use crate::fit::{Candidate, Place, Unclear};

/// How many answers are offered.
pub(super) const MOST_CANDIDATES: usize = 7;

/// Possible answers, each with how much speaks for it: about 1 where all does, 0 where nothing does.
#[derive(Default)]
pub(super) struct Offers(Vec<(f64, Candidate)>);

impl Offers {
    /// Adds an answer; of two that place alike the likelier stays.
    pub(super) fn put(&mut self, weight: f64, candidate: Candidate) {
        match self.0.iter_mut().find(|(_, known)| known.places == candidate.places) {
            Some(known) if known.0 >= weight => {}
            Some(known) => *known = (weight, candidate),
            None => self.0.push((weight, candidate)),
        }
    }

    /// Adds the likeliest of others.
    pub(super) fn put_best(&mut self, mut others: Self, most: usize) {
        others.0.sort_by(|one, two| two.0.total_cmp(&one.0));
        others.0.into_iter().take(most).for_each(|(weight, candidate)| self.put(weight, candidate));
    }

    /// The likeliest; one of those that `must_be` is always among them.
    fn best(mut self, must_be: impl Fn(&Candidate) -> bool) -> (Vec<Candidate>, bool) {
        const FAR_AHEAD: f64 = 1.5;
        const ENOUGH: f64 = 0.6;
        self.0.sort_by(|one, two| two.0.total_cmp(&one.0));
        let is_far_ahead = match self.0.as_slice() {
            [(first, _), (second, _), ..] => *first >= ENOUGH && *first >= FAR_AHEAD * second,
            rest => !rest.is_empty(),
        };
        let must = self.0.iter().position(|(_, candidate)| must_be(candidate));
        if let Some(at) = must.filter(|at| *at >= MOST_CANDIDATES) {
            self.0.swap(at, MOST_CANDIDATES - 1);
        }
        let best = self.0.into_iter().take(MOST_CANDIDATES).map(|(_, candidate)| candidate);
        (best.collect(), is_far_ahead)
    }
}

/// A folder of the game that holds what loose files of the package look like.
pub(super) struct LooseHome {
    pub spot: Spot,
    /// 1 where all files of these endings lie there, up to 3 where their names are written so too.
    pub share: f64,
    /// How many files there end like them.
    pub count: u64,
    /// Whether that tells more than what many games have in many folders.
    pub is_telling: bool,
    pub evidence: String,
}

/// What a mapping lays, and the folder of the game in which it lays it onto one.
fn side_by_side(it: &Weighed) -> (usize, Spot) {
    let (root, key) = &it.mapping.to;
    (it.mapping.node, (*root, key.rfind('/').map_or("", |cut| &key[..cut]).to_owned()))
}

impl Decider<'_> {
    /// What can be said when nothing is clear.
    pub(super) fn ask(&self, top: usize, bottom: usize, weighed: &[Weighed], rows: &[InRow]) -> Unclear {
        let may_tell = self.told_names.is_empty() && !self.game_matches.addons().is_empty();
        let question = match self.outline.nodes[top].path.as_str() {
            "" => "where its files go is not clear".to_owned(),
            path => format!("where the files of `{path}` go is not clear"),
        };
        let to_read = if may_tell { self.small_files(bottom) } else { Vec::new() };
        let (candidates, is_first_far_ahead) = self.offers(top, bottom, weighed, rows, &Gatherings::new());
        Unclear { question, candidates, is_first_far_ahead, to_read, root_missing: None }
    }

    /// All that speaks for anything, the likeliest first, and whether that is far ahead; as it is written is always
    /// among it.
    pub(super) fn offers(
        &self,
        top: usize,
        bottom: usize,
        weighed: &[Weighed],
        rows: &[InRow],
        gatherings: &Gatherings,
    ) -> (Vec<Candidate>, bool) {
        let mut offers = Offers::default();
        self.put_weighed((top, bottom), weighed, rows, gatherings, &mut offers);
        self.put_rows(top, rows, &mut offers);
        self.put_loose_homes(bottom, gatherings, &mut offers);
        self.put_own_folders(top, bottom, gatherings, &mut offers);
        if let Some(beside) = self.beside_the_program(bottom) {
            offers.put(0.62, beside);
        }
        let root = self.game_matches.address(&(0, String::new()));
        offers.put(0.12, self.candidate(&[(bottom, root.clone())], "into the game's own folder".to_owned()));
        for node in self.outline.chain(top).into_iter().rev().skip(1) {
            let with = self.outline.chain(node).get(1).map(|below| self.outline.name(*below).to_owned());
            let evidence =
                format!("into the game's own folder, with the folder `{}`", with.unwrap_or_default());
            offers.put(0.11, self.candidate(&[(node, root.clone())], evidence));
        }
        let at_root = root.to_string();
        offers.best(|candidate| candidate.places.iter().all(|place| place.to == at_root))
    }

    /// Places that files of the same names speak for.
    fn put_weighed(
        &self,
        (top, bottom): (usize, usize),
        weighed: &[Weighed],
        rows: &[InRow],
        gatherings: &Gatherings,
        offers: &mut Offers,
    ) {
        let all = self.outline.content(top);
        let usual = Self::usual_beside_each_other(weighed);
        let mut beside: FxHashMap<Spot, Vec<(f64, &str)>> = FxHashMap::default();
        for it in weighed {
            let is_written_out = self.is_written_out(top, it);
            if !is_written_out && !self.outline.is_below(bottom, it.mapping.node) {
                continue;
            }
            let mut weight = self.weight_of(it, all, weighed);
            let is_new_one = rows.iter().any(|row| self.has_own_names(row) && self.is_beside(it, row));
            // Some files alone that are like another add-on's are what add-ons have.
            let a = &it.agreement;
            let is_others = it.mapping.node == bottom
                && gatherings.contains_key(&side_by_side(it).1)
                && (a.met + a.met_flat) * 5 < all * 4;
            if !is_written_out && (is_new_one || is_others || usual.contains(&side_by_side(it))) {
                weight *= 0.45;
            }
            if weight > 0.0 {
                if it.mapping.node == bottom {
                    beside.entry(side_by_side(it).1).or_default().push((weight, it.mapping.to.1.as_str()));
                }
                let places = [(it.mapping.node, self.game_matches.address(&it.mapping.to))];
                offers.put(weight, self.candidate(&places, self.words(&it.agreement)));
            }
        }
        self.put_one_more(top, bottom, beside, offers);
    }

    /// Folders that loose files of the same kinds lie in.
    fn put_loose_homes(&self, bottom: usize, gatherings: &Gatherings, offers: &mut Offers) {
        // What lies in another add-on's folder says little of where this one goes.
        let is_addons = |home: &LooseHome| {
            let (root, key) = &home.spot;
            let above = (*root, key.rfind('/').map_or("", |cut| &key[..cut]).to_owned());
            let is_gathered = home.share < 0.35 && gatherings.contains_key(&above);
            is_gathered || self.game_matches.addons().contains_key(&above)
        };
        let homes = self.loose_homes(bottom);
        let above = |home: &LooseHome| {
            let (root, key) = &home.spot;
            (*root, key.rfind('/').map(|cut| key[..cut].to_owned()))
        };
        for home in homes.iter().filter(|home| !is_addons(home)) {
            // What folders side by side all have tells none of them.
            let beside = homes.iter().filter(|other| above(other) == above(home)).count();
            let usual = if beside > 2 && above(home).1.is_some() { 0.6 } else { 1.0 };
            let places = [(bottom, self.game_matches.spelled_home(&home.spot))];
            let known = if self.knows_other(bottom, &home.spot) { 0.6 } else { 1.0 };
            offers.put(
                usual * known * (0.3 + 0.45 * home.share.min(1.0)),
                self.candidate(&places, home.evidence.clone()),
            );
        }
    }

    /// A folder of its own beside those of other add-ons.
    fn put_own_folders(&self, top: usize, bottom: usize, gatherings: &Gatherings, offers: &mut Offers) {
        for (spot, (folders, marker)) in gatherings {
            let weight = 0.5 + 0.06 * folders.len().min(5) as f64;
            let to = self.game_matches.address(spot);
            for mut candidate in self.own_folders(top, bottom, &to, folders) {
                let told = if self.told_names.is_empty() { 0.0 } else { 0.1 };
                candidate.evidence += &format!(", as `{}/{marker}` lies there", folders[0]);
                offers.put(told + weight - 0.001 * offers.0.len() as f64, candidate);
            }
        }
        for (spot, others) in self.game_matches.addons() {
            for candidate in self.own_folders(top, bottom, &self.game_matches.address(spot), others) {
                offers.put(0.34 - 0.001 * offers.0.len() as f64, candidate);
            }
        }
    }

    /// Where it may be laid onto each of several folders side by side it may as well be one more of them.
    fn put_one_more(
        &self,
        top: usize,
        bottom: usize,
        beside: FxHashMap<Spot, Vec<(f64, &str)>>,
        offers: &mut Offers,
    ) {
        const FEWEST: usize = 3;
        for (spot, mut folders) in beside.into_iter().filter(|(_, folders)| folders.len() >= FEWEST) {
            folders.sort_by(|one, two| two.0.total_cmp(&one.0).then_with(|| one.1.cmp(two.1)));
            let name = |key: &str| key.rsplit('/').next().unwrap_or_default().to_owned();
            let others: Vec<String> = folders.iter().map(|(_, key)| name(key)).collect();
            let own =
                self.own_folders(top, bottom, &self.game_matches.address(&spot), &others).into_iter().take(2);
            for (at, mut candidate) in own.enumerate() {
                candidate.evidence =
                    format!("{}; {} folders there are alike", candidate.evidence, folders.len());
                offers.put(folders[1].0 - 0.001 * (at + 1) as f64, candidate);
            }
        }
    }

    /// Whether the mapping follows a path of several folders that the game has, whatever is new at its end.
    pub(super) fn is_written_out(&self, top: usize, it: &Weighed) -> bool {
        const FOLDERS: usize = 3;
        let a = &it.agreement;
        let is_known = a.folders > FOLDERS && a.met + a.met_flat == 0;
        is_known && a.begun * 5 >= self.outline.content(top) * 4
    }

    /// How much speaks for a mapping that places `all` files, or fewer of them.
    fn weight_of(&self, it: &Weighed, all: usize, weighed: &[Weighed]) -> f64 {
        let a = &it.agreement;
        let share = |files: usize| files as f64 / all.max(1) as f64;
        let weight = match () {
            () if a.met + a.met_flat > 0 => 0.45 + 0.55 * share(a.met + a.met_flat),
            () if a.kind > 0 => 0.4 + 0.3 * share(a.kind),
            () if a.housed > 0 => 0.3 + 0.2 * share(a.housed),
            // The more folders of a path are known, the surer it is written out.
            () if a.begun > 0 => 0.25 + share(a.begun) * (0.1 + 0.1 * a.folders.min(5) as f64),
            () => return 0.0,
        };
        let is_known = a.folders > 3 && a.begun > 0;
        if !is_known && self.is_named_elsewhere(it, weighed) { weight * 0.4 } else { weight }
    }

    /// Mappings of a folder onto several that lie side by side, each of which has as much of it: that is what such
    /// folders have, and it is none of them.
    fn usual_beside_each_other(weighed: &[Weighed]) -> FxHashSet<(usize, Spot)> {
        const FEWEST: usize = 5;
        let mut scores: FxHashMap<(usize, Spot), Vec<usize>> = FxHashMap::default();
        for it in weighed.iter().filter(|it| !it.mapping.to.1.is_empty()) {
            scores.entry(side_by_side(it)).or_default().push(it.agreement.score());
        }
        scores.retain(|_, scores| {
            scores.sort_unstable_by(|one, two| two.cmp(one));
            scores.get(FEWEST - 1).is_some_and(|third| third * 2 > scores[0])
        });
        scores.into_keys().collect()
    }

    /// Beside the main program, where programs or libraries are among the loose files.
    fn beside_the_program(&self, bottom: usize) -> Option<Candidate> {
        let programs = |file: &usize| words::ending(self.outline.file_name(*file)) == "exe";
        let runs =
            !self.libraries(bottom).is_empty() || self.outline.nodes[bottom].files.iter().any(programs);
        let (to, program) = self.program_folder().filter(|_| runs).zip(self.program_address())?;
        Some(self.candidate(&[(bottom, to.0)], format!("beside the main program {program}")))
    }

    /// The folders that hold what the loose files look like, the likeliest first.
    pub(super) fn loose_homes(&self, bottom: usize) -> Vec<LooseHome> {
        const MOST_FILES: usize = 256;
        const MOST_HOMES: usize = 7;
        let files = &self.outline.nodes[bottom].files;
        let files = &files[..files.len().min(MOST_FILES)];
        let (mut endings, mut patterns): (FxHashMap<String, f64>, FxHashMap<String, f64>) =
            Default::default();
        for file in files {
            let name = folded(self.outline.file_name(*file));
            *endings.entry(words::ending(&name)).or_default() += 1.0;
            if let Some(pattern) = patterns_of(&name, &[]).pop() {
                *patterns.entry(pattern).or_default() += 1.0;
            }
        }
        let mut homes: FxHashMap<Spot, (f64, f64, LooseHome)> = FxHashMap::default();
        let of_ending = endings
            .iter()
            .map(|(ending, files)| (ending, files, self.game_matches.homes_of_ending(ending), false));
        let of_pattern = patterns
            .iter()
            .map(|(pattern, files)| (pattern, files, self.game_matches.homes_of_pattern(pattern), true));
        for (what, alike, there, is_pattern) in of_ending.chain(of_pattern) {
            let total: u64 = there.iter().map(|(_, count)| count).sum();
            for (spot, count) in there {
                let factor = if !is_pattern {
                    1.0
                } else if count > 2 {
                    2.0
                } else {
                    0.5
                };
                let share = factor * alike * count as f64 / total as f64;
                let (_, most, home) = homes.entry(spot.clone()).or_insert_with(|| {
                    (
                        0.0,
                        0.0,
                        LooseHome { spot, share: 0.0, count: 0, is_telling: false, evidence: String::new() },
                    )
                });
                home.share += share / files.len() as f64;
                home.count += if is_pattern { 0 } else { count };
                home.is_telling |= is_pattern && count > 2 || !is_pattern && !words::is_general_ending(what);
                if share > *most {
                    *most = share;
                    home.evidence = match (is_pattern, what.as_str()) {
                        (_, _) if count == 1 => "one file of that kind lies there".to_owned(),
                        (true, _) => format!("{count} files named like `{what}` lie there"),
                        (false, "") => format!("{count} files without an ending lie there"),
                        (false, ending) => format!("{count} .{ending} files of the game lie there"),
                    };
                }
            }
        }
        let mut homes: Vec<LooseHome> = homes.into_values().map(|(_, _, home)| home).collect();
        homes.sort_by(|one, two| two.share.total_cmp(&one.share).then_with(|| one.spot.cmp(&two.spot)));
        homes.truncate(MOST_HOMES);
        homes
    }

    pub(super) fn candidate(&self, places: &[(usize, Address)], evidence: String) -> Candidate {
        let places = places
            .iter()
            .map(|(node, to)| Place::new(self.outline.place_text(*node), to.to_string()))
            .collect();
        Candidate { places, evidence, ..Candidate::default() }
    }
}
