//! A package as a tree, and which of its files are no part of what it adds.

use std::collections::HashMap;

use super::super::names::starred;
use super::words;
use crate::address::{Folding, RelPath};
use crate::fit::LeftOut;
use crate::members::{Folder, Member};

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
            let siblings = self.nodes[parent]
                .folders
                .iter()
                .filter(|folder| !super::super::names::is_metadata(self.name(**folder)));
            parts.push((self.name(at), siblings.count() == 1));
            at = parent;
        }
        starred(parts)
    }

    pub(super) fn drop_files(&mut self, aside: &[(usize, LeftOut)]) {
        let out: std::collections::HashSet<usize> = aside.iter().map(|(member, _)| *member).collect();
        for node in &mut self.nodes {
            node.files.retain(|member| !out.contains(member));
        }
    }

    /// The top and the folders around everything but what may be left out.
    pub(super) fn tops(&self) -> Vec<usize> {
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

    /// Whether the files at `tops` are loose texts and pictures alone, above folders of content that they tell of.
    pub(super) fn only_tells(&self, tops: &[usize]) -> bool {
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
}
