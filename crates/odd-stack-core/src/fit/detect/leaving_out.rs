//! What stays out of the game, told by names and by what lies around.

use std::collections::HashMap;

use super::super::outcome::LeftOut;
use super::game_matches::GameMatches;
use super::outline::*;
use super::words;

impl Outline<'_> {
    /// Leaves out what is only to be read or was left behind, unless the game has such a file there.
    pub(super) fn leave_out(&mut self, game_matches: &GameMatches) {
        let mut aside = Vec::new();
        for node in 0..self.nodes.len() {
            let in_metadata = self.nodes[node].path.parts().any(super::super::names::is_metadata);
            for member in &self.nodes[node].all_files {
                if in_metadata || super::super::names::is_metadata(self.file_name(*member)) {
                    aside.push((*member, LeftOut::Metadata));
                }
            }
        }
        self.drop_files(&aside);
        let tops = self.tops();
        let only_tells = self.only_tells(&tops);
        let mut found = Vec::new();
        for node in 0..self.nodes.len() {
            let folder_reason = self.folder_reason(node, &tops, game_matches);
            let names = &self.nodes[node].names;
            let mut kinds: HashMap<String, bool> = HashMap::new();
            for member in &self.nodes[node].files {
                let reason = folder_reason
                    .or_else(|| self.file_reason(*member, tops.contains(&node), only_tells, game_matches));
                let Some(reason) = reason else { continue };
                let name = self.file_name(*member);
                let mut is_kind = || {
                    let known = kinds.entry(words::ending(name));
                    *known.or_insert_with_key(|ending| game_matches.has_kind_like(ending, names))
                };
                if !game_matches.has_like(name, names.last()) && !is_kind() {
                    found.push((*member, reason));
                }
            }
        }
        // A package of nothing but these is meant to be placed.
        let files: usize = self.nodes.iter().map(|node| node.files.len()).sum();
        if found.len() < files {
            self.drop_files(&found);
            aside.extend(found);
        }
        self.aside = aside;
    }

    fn folder_reason(&self, node: usize, tops: &[usize], game_matches: &GameMatches) -> Option<LeftOut> {
        // The folder at or above the node that lies directly in a top one.
        let mut at = node;
        while let Some(parent) = self.nodes[at].parent {
            if tops.contains(&parent) && !tops.contains(&at) {
                break;
            }
            at = parent;
        }
        let name = self.name(at);
        let is_known = game_matches.has_folder_named(&folded(name)) || game_matches.is_root_of(self, at);
        if at == 0 || tops.contains(&at) || is_known {
            return None;
        }
        let all = |test: &dyn Fn(&str) -> bool| {
            let mut nodes = self.subtree(at).into_iter();
            nodes.all(|node| {
                self.nodes[node].files.iter().all(|file| test(&words::ending(self.file_name(*file))))
            })
        };
        let to_read = |ending: &str| {
            words::is_document_ending(ending)
                || words::is_text_ending(ending)
                || words::is_picture_ending(ending)
                || matches!(ending, "css" | "svg" | "js")
        };
        if words::is_source_folder(name) {
            Some(LeftOut::Source)
        } else if words::is_picture_folder(name) && all(&words::is_picture_ending) {
            Some(LeftOut::Picture)
        } else if words::is_document_folder(name) && all(&to_read) {
            Some(LeftOut::Document)
        } else {
            None
        }
    }

    fn file_reason(
        &self,
        member: usize,
        at_top: bool,
        only_tells: bool,
        game_matches: &GameMatches,
    ) -> Option<LeftOut> {
        let name = self.file_name(member);
        let ending = words::ending(name);
        if words::is_source_ending(&ending) {
            return Some(LeftOut::Source);
        }
        let is_text = words::is_text_ending(&ending);
        let is_document = is_text || words::is_document_ending(&ending);
        if !at_top {
            return (is_document && words::is_sure_document_word(name)).then_some(LeftOut::Document);
        }
        if is_document && words::is_document_word(name) || words::is_document_ending(&ending) {
            return Some(LeftOut::Document);
        }
        let is_known = game_matches.has_file_named(&folded(name));
        if words::is_picture_ending(&ending) && !is_known {
            return (words::is_picture_word(name) || only_tells).then_some(LeftOut::Picture);
        }
        (is_text && only_tells && !is_known).then_some(LeftOut::Document)
    }
}
