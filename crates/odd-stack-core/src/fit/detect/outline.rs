//! A package as a tree, and which of its files are no part of what it adds.

use std::collections::HashMap;

use super::sight::Sight;
use super::words;
use crate::address::{Folding, RelPath};
use crate::fit::LeftOut;
use crate::package::{Folder, Member};

/// One folder of a package.
#[derive(Debug, Default)]
pub(super) struct Node {
    pub path: RelPath,
    /// Folded names from the top down.
    pub names: Vec<String>,
    pub parent: Option<usize>,
    pub folders: Vec<usize>,
    /// Members directly in it, without those left out.
    pub files: Vec<usize>,
    /// All members directly in it.
    pub all_files: Vec<usize>,
    /// To which group it belongs; 0 is what the package always adds.
    pub group: usize,
}

/// The folders of a package, the top one first, each after the one above it.
pub(super) struct Outline<'a> {
    pub members: &'a [Member],
    /// What the package is called; empty where that does not matter.
    pub package_name: &'a str,
    pub nodes: Vec<Node>,
    pub aside: Vec<(usize, LeftOut)>,
}

/// The text of a place from names, the lowest first, each with whether it is the only folder where it
/// lies.
pub(in crate::fit) fn starred(names: Vec<(&str, bool)>) -> String {
    let mut is_around = true;
    let parts = names.into_iter().rev().map(|(name, is_only)| {
        is_around &= is_only;
        if is_around { "*" } else { name }
    });
    let parts: Vec<&str> = parts.collect();
    if parts.is_empty() { ".".to_owned() } else { parts.join("/") }
}

/// Whether a folder's name says that what is in it may be left out.
pub(super) fn may_be_no_content(name: &str) -> bool {
    words::is_document_folder(name)
        || words::is_optional(name)
        || words::is_picture_folder(name)
        || words::is_source_folder(name)
}

pub(super) fn folded(text: &str) -> String {
    Folding::Folded.key(text).as_str().to_owned()
}

impl<'a> Outline<'a> {
    /// The tree of those members that `takes_part`.
    pub(super) fn new(members: &'a [Member], folders: &[Folder], takes_part: impl Fn(usize) -> bool) -> Self {
        let mut nodes = vec![Node::default()];
        let mut numbers: HashMap<&str, usize> = HashMap::from([("", 0)]);
        for folder in folders.iter().filter(|folder| folder.inner.is_none()) {
            let path = folder.path.as_str();
            let above = path.rfind('/').map_or("", |cut| &path[..cut]);
            let Some(parent) = numbers.get(above).copied() else { continue };
            let mut names = nodes[parent].names.clone();
            names.push(folded(folder.path.name()));
            numbers.insert(path, nodes.len());
            let number = nodes.len();
            nodes[parent].folders.push(number);
            nodes.push(Node { path: folder.path.clone(), names, parent: Some(parent), ..Node::default() });
        }
        for (index, member) in members.iter().enumerate() {
            if member.inner.is_some() || !takes_part(index) {
                continue;
            }
            let path = member.path.as_str();
            let above = path.rfind('/').map_or("", |cut| &path[..cut]);
            if let Some(parent) = numbers.get(above) {
                nodes[*parent].all_files.push(index);
            }
        }
        for node in &mut nodes {
            node.files.clone_from(&node.all_files);
        }
        Self { members, package_name: "", nodes, aside: Vec::new() }
    }

    pub(super) fn name(&self, node: usize) -> &str {
        self.nodes[node].path.name()
    }

    pub(super) fn file_name(&self, member: usize) -> &str {
        self.members[member].path.name()
    }

    /// The node and all below it that belong to its group.
    pub(super) fn subtree(&self, node: usize) -> Vec<usize> {
        let group = self.nodes[node].group;
        let mut all = vec![node];
        let mut at = 0;
        while at < all.len() {
            let folders = &self.nodes[all[at]].folders;
            all.extend(folders.iter().filter(|folder| self.nodes[**folder].group == group));
            at += 1;
        }
        all
    }

    /// Members in the node's own group at or below it.
    pub(super) fn content(&self, node: usize) -> usize {
        self.subtree(node).into_iter().map(|node| self.nodes[node].files.len()).sum()
    }

    /// Whether the node or one below it, of its group, has members.
    pub(super) fn has_content(&self, node: usize) -> bool {
        let group = self.nodes[node].group;
        !self.nodes[node].files.is_empty()
            || self.nodes[node]
                .folders
                .iter()
                .any(|below| self.nodes[*below].group == group && self.has_content(*below))
    }

    pub(super) fn is_below(&self, node: usize, above: usize) -> bool {
        let mut at = Some(node);
        while let Some(node) = at {
            if node == above {
                return true;
            }
            at = self.nodes[node].parent;
        }
        false
    }

    /// Child folders of the node's own group with members in them.
    pub(super) fn units(&self, node: usize) -> Vec<usize> {
        let group = self.nodes[node].group;
        let folders = self.nodes[node].folders.iter().copied();
        folders.filter(|folder| self.nodes[*folder].group == group && self.has_content(*folder)).collect()
    }

    /// From `top` down through folders that hold nothing but one other.
    pub(super) fn chain(&self, top: usize) -> Vec<usize> {
        let mut chain = vec![top];
        let mut at = top;
        while self.nodes[at].files.is_empty() {
            match self.units(at).as_slice() {
                [only] => at = *only,
                _ => break,
            }
            chain.push(at);
        }
        chain
    }

    pub(super) fn set_group(&mut self, node: usize, group: usize) {
        for node in self.subtree(node) {
            self.nodes[node].group = group;
        }
    }

    /// How a place names the folder: `*` for each of those around everything.
    pub(super) fn place_text(&self, node: usize) -> String {
        let mut parts = Vec::new();
        let mut at = node;
        while let Some(parent) = self.nodes[at].parent {
            let siblings =
                self.nodes[parent].folders.iter().filter(|folder| !words::is_metadata(self.name(**folder)));
            parts.push((self.name(at), siblings.count() == 1));
            at = parent;
        }
        starred(parts)
    }

    /// Leaves out what is only to be read or was left behind, unless the game has such a file there.
    pub(super) fn leave_out(&mut self, sight: &Sight) {
        let mut aside = Vec::new();
        for node in 0..self.nodes.len() {
            let in_metadata = self.nodes[node].path.parts().any(words::is_metadata);
            for member in &self.nodes[node].all_files {
                if in_metadata || words::is_metadata(self.file_name(*member)) {
                    aside.push((*member, LeftOut::Metadata));
                }
            }
        }
        self.drop_files(&aside);
        let tops = self.tops();
        let only_tells = self.only_tells(&tops);
        let mut found = Vec::new();
        for node in 0..self.nodes.len() {
            let folder_reason = self.folder_reason(node, &tops, sight);
            let names = &self.nodes[node].names;
            let mut kinds: HashMap<String, bool> = HashMap::new();
            for member in &self.nodes[node].files {
                let reason = folder_reason
                    .or_else(|| self.file_reason(*member, tops.contains(&node), only_tells, sight));
                let Some(reason) = reason else { continue };
                let name = self.file_name(*member);
                let mut is_kind = || {
                    let known = kinds.entry(words::ending(name));
                    *known.or_insert_with_key(|ending| sight.has_kind_like(ending, names))
                };
                if !sight.has_like(name, names.last()) && !is_kind() {
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

    fn drop_files(&mut self, aside: &[(usize, LeftOut)]) {
        let out: std::collections::HashSet<usize> = aside.iter().map(|(member, _)| *member).collect();
        for node in &mut self.nodes {
            node.files.retain(|member| !out.contains(member));
        }
    }

    /// The top and the folders around everything but what may be left out.
    fn tops(&self) -> Vec<usize> {
        let mut tops = vec![0];
        let mut at = 0;
        loop {
            let may_be_left_out = |member: &usize| {
                let ending = words::ending(self.file_name(*member));
                words::is_document_ending(&ending)
                    || words::is_text_ending(&ending)
                    || words::is_picture_ending(&ending)
            };
            let is_aside = |node: &usize| may_be_no_content(self.name(*node));
            let units: Vec<usize> = self.units(at).into_iter().filter(|node| !is_aside(node)).collect();
            match units.as_slice() {
                [only] if self.nodes[at].files.iter().all(may_be_left_out) => at = *only,
                _ => return tops,
            }
            tops.push(at);
        }
    }

    fn folder_reason(&self, node: usize, tops: &[usize], sight: &Sight) -> Option<LeftOut> {
        // The folder at or above the node that lies directly in a top one.
        let mut at = node;
        while let Some(parent) = self.nodes[at].parent {
            if tops.contains(&parent) && !tops.contains(&at) {
                break;
            }
            at = parent;
        }
        let name = self.name(at);
        let is_known = sight.has_folder_named(&folded(name)) || sight.is_root_of(self, at);
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

    /// Whether the files at `tops` are loose texts and pictures alone, above folders of content that they tell of.
    fn only_tells(&self, tops: &[usize]) -> bool {
        let to_look_at = |member: &usize| {
            let ending = words::ending(self.file_name(*member));
            words::is_text_ending(&ending)
                || words::is_picture_ending(&ending)
                || words::is_document_ending(&ending)
        };
        // Folders that may be left out are no content by themselves.
        let has_content =
            |top: &usize| self.units(*top).iter().any(|unit| !may_be_no_content(self.name(*unit)));
        tops.last().is_some_and(has_content)
            && tops.iter().all(|top| self.nodes[*top].files.iter().all(to_look_at))
    }

    fn file_reason(&self, member: usize, at_top: bool, only_tells: bool, sight: &Sight) -> Option<LeftOut> {
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
        let is_known = sight.has_file_named(&folded(name));
        if words::is_picture_ending(&ending) && !is_known {
            return (words::is_picture_word(name) || only_tells).then_some(LeftOut::Picture);
        }
        (is_text && only_tells && !is_known).then_some(LeftOut::Document)
    }
}
