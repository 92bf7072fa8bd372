//! Add-ons that want a folder of their own, beside others.

use std::cmp::Reverse;

use super::decider::{Decider, Gatherings, Weighed};
use super::in_rows::InRow;
use super::names::{name_of_files, patterns_of, stems};
use super::outline::folded;
use super::{ToldName, words};
use crate::address::{Address, RelPath};
use crate::fit::{Candidate, Unclear};
use crate::version::parts_of_file_name;

impl Decider<'_> {
    /// Folders of the game that gather add-ons with a file named like one directly in the folder: the add-ons,
    /// and the file's name.
    pub(super) fn gatherings(&self, node: usize) -> Gatherings {
        let mut all = Gatherings::new();
        for file in self.outline.nodes[node].files.iter().take(64) {
            let name = self.outline.file_name(*file);
            for (spot, folders) in self.game_matches.gatherings(name) {
                let known = all.entry(spot).or_default();
                if folders.len() > known.0.len() {
                    *known = (folders, name.to_owned());
                }
            }
        }
        all
    }

    /// When the folder looks like one of several add-ons, each in a folder of its own.
    pub(super) fn own_folder(
        &self,
        top: usize,
        bottom: usize,
        whole: &[Weighed],
        all: &[Weighed],
        rows: &[InRow],
        gatherings: Gatherings,
    ) -> Option<Unclear> {
        let parent = self.outline.nodes[bottom].parent;
        // Its place is written out: the folder itself, or the one above it, lies in the game.
        let is_written = whole.iter().any(|it| {
            let above = it.mapping.node != bottom && self.outline.is_below(bottom, it.mapping.node);
            above
                && (self.game_matches.has_folder(&self.spot_of(&it.mapping, bottom))
                    || parent.is_some_and(|parent| {
                        parent != it.mapping.node
                            && self.outline.is_below(parent, it.mapping.node)
                            && self.game_matches.has_folder(&self.spot_of(&it.mapping, parent))
                    }))
        });
        if is_written {
            return None;
        }
        let best =
            gatherings.iter().max_by_key(|(spot, (folders, _))| (folders.len(), Reverse((*spot).clone())));
        let (gathering, (folders, marker)) = best?;
        let question = format!(
            "it looks like an add-on that wants a folder of its own below {}, where `{}/{marker}` lies",
            self.game_matches.address(gathering),
            folders[0]
        );
        let (candidates, is_first_far_ahead) = self.offers(top, bottom, all, rows, &gatherings);
        let to_read = if self.told_names.is_empty() { self.small_files(bottom) } else { Vec::new() };
        Some(Unclear { question, candidates, is_first_far_ahead, to_read, root_missing: None })
    }

    /// Folders of its own in `to` that the add-on may want, beside `others`.
    pub(super) fn own_folders(
        &self,
        top: usize,
        bottom: usize,
        to: &Address,
        others: &[String],
    ) -> Vec<Candidate> {
        let mut candidates: Vec<Candidate> = Vec::new();
        let mut seen: Vec<String> = Vec::new();
        let mut offer = |name: &str, is_id: bool, evidence: String| {
            let styled = if is_id { name.to_owned() } else { self.styled(name, others) };
            let valid = RelPath::parse(&styled).is_ok_and(|path| path.parent().is_root());
            if valid && !seen.contains(&folded(&styled)) {
                seen.push(folded(&styled));
                // Under its own name it goes there as it is.
                let is_own = bottom != top && folded(&styled) == folded(self.outline.name(bottom));
                let parent = self.outline.nodes[bottom].parent.filter(|_| is_own);
                let path = to.path.join(&RelPath::from_disk(styled));
                let place = match parent {
                    Some(parent) => (parent, to.clone()),
                    None => (bottom, Address { root: to.root.clone(), path }),
                };
                candidates.push(self.candidate(&[place], evidence));
            }
        };
        for ToldName { file, name, is_id } in self.told_names {
            let lies_in = file.rfind('/').map_or("", |cut| &file[..cut]);
            if lies_in == self.outline.nodes[bottom].path.as_str() {
                let file = file.rsplit('/').next().unwrap_or(file);
                offer(name, *is_id, format!("its own file `{file}` says so"));
            }
        }
        if let Some(name) = name_of_files(&self.outline, &self.outline.nodes[bottom]) {
            offer(name, true, "after what its files are called".to_owned());
        }
        let node = &self.outline.nodes[bottom];
        let stems = stems(&self.outline, node);
        for (stem, file) in &stems {
            // One of several of a kind is none that the folder is called after.
            let kind = words::ending(file);
            if stems.iter().filter(|(_, other)| words::ending(other) == kind).count() > 1 {
                continue;
            }
            // Where others have a file that is called like their folder.
            let patterns = patterns_of(&folded(file), &[folded(stem)]);
            let is_usual =
                |it: &String| it.starts_with("@.") && self.game_matches.homes_of_pattern(it).len() > 1;
            if patterns.iter().any(is_usual) {
                offer(stem, true, format!("after its file `{file}`, as others are called after theirs"));
            }
        }
        let own = if bottom == top { self.package_name } else { self.outline.name(bottom) };
        let name = parts_of_file_name(std::path::Path::new(own), false).name;
        let after = if bottom == top { "after the package's name" } else { "after its folder's name" };
        offer(&name, false, format!("{after}, where other add-ons lie"));
        candidates
    }

    /// Members directly in the folder that may tell its name.
    pub(super) fn small_files(&self, node: usize) -> Vec<usize> {
        const TELLING: [&str; 8] = ["json", "toml", "xml", "ini", "cfg", "yaml", "yml", "txt"];
        let files = self.outline.nodes[node].files.iter().copied();
        let may_tell = |file: &usize| {
            let member = &self.outline.members[*file];
            member.size_bytes <= 64 << 10 && TELLING.contains(&words::ending(member.path.name()).as_str())
        };
        files.filter(may_tell).take(4).collect()
    }

    /// The name as the other add-ons write theirs.
    fn styled(&self, name: &str, others: &[String]) -> String {
        let count = |letter: char| others.iter().filter(|other| other.contains(letter)).count();
        let (under, dash, space) = (count('_'), count('-'), count(' '));
        let words: Vec<&str> = name.split([' ', '_', '-']).filter(|word| !word.is_empty()).collect();
        let joiner = match () {
            () if under > dash && under >= space => "_",
            () if dash > 0 && dash >= space => "-",
            () if space > 0 => " ",
            () => return name.to_owned(),
        };
        let is_lower =
            !others.is_empty() && others.iter().all(|other| !other.chars().any(char::is_uppercase));
        if is_lower { words.join(joiner).to_lowercase() } else { words.join(joiner) }
    }
}
