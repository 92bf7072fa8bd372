//! Paths as a tree, folded where folders are long.

use std::collections::BTreeMap;

use super::style::{BOLD, DIM, paint};
use super::units::{files, size};

/// One file: its path, its size, and what is said of it.
pub struct Leaf<'a> {
    pub path: &'a str,
    pub size_bytes: u64,
    pub said: String,
}

#[derive(Default)]
struct Node<'a> {
    folders: BTreeMap<&'a str, Node<'a>>,
    leaves: Vec<(&'a str, &'a Leaf<'a>)>,
    count: u64,
    bytes: u64,
}

/// Files of one folder that are shown before the rest is folded.
const MOST_IN_A_FOLDER: usize = 8;

/// The leaves as an indented tree with counts and sizes; `all` shows every file.
pub fn tree(leaves: &[Leaf<'_>], all: bool) -> String {
    let mut top = Node::default();
    for leaf in leaves {
        let mut node = &mut top;
        node.count += 1;
        node.bytes += leaf.size_bytes;
        let mut rest = leaf.path;
        while let Some((folder, below)) = rest.split_once('/') {
            node = node.folders.entry(folder).or_default();
            node.count += 1;
            node.bytes += leaf.size_bytes;
            rest = below;
        }
        node.leaves.push((rest, leaf));
    }
    let mut lines = Vec::new();
    write(&top, 1, if all { usize::MAX } else { MOST_IN_A_FOLDER }, &mut lines);
    let widest = lines.iter().map(|line: &Line| line.width()).max().unwrap_or(0).min(56);
    lines.iter().map(|line| line.text(widest)).collect()
}

struct Line {
    indent: usize,
    name: String,
    is_folder: bool,
    size: String,
    said: String,
}

impl Line {
    fn width(&self) -> usize {
        self.indent * 2 + self.name.chars().count()
    }

    fn text(&self, widest: usize) -> String {
        let gap = " ".repeat(widest.saturating_sub(self.width()) + 2);
        let name = if self.is_folder { paint(BOLD, &self.name) } else { self.name.clone() };
        let line =
            format!("{}{name}{gap}{:>8}  {}", "  ".repeat(self.indent), self.size, paint(DIM, &self.said));
        format!("{}\n", line.trim_end())
    }
}

fn write(node: &Node<'_>, indent: usize, most: usize, lines: &mut Vec<Line>) {
    for (name, folder) in &node.folders {
        // A chain of folders with nothing else in them reads as one.
        let (mut path, mut folder) = ((*name).to_owned(), folder);
        while folder.leaves.is_empty() && folder.folders.len() == 1 {
            let Some((next, inner)) = folder.folders.iter().next() else { break };
            path = format!("{path}/{next}");
            folder = inner;
        }
        lines.push(Line {
            indent,
            name: format!("{path}/"),
            is_folder: true,
            size: size(folder.bytes),
            said: files(folder.count),
        });
        write(folder, indent + 1, most, lines);
    }
    // Folding away a single file would save no line.
    let shown = if node.leaves.len() <= most + 1 { node.leaves.len() } else { most };
    for (name, leaf) in &node.leaves[..shown] {
        let (name, said) = ((*name).to_owned(), leaf.said.clone());
        lines.push(Line { indent, name, is_folder: false, size: size(leaf.size_bytes), said });
    }
    if shown < node.leaves.len() {
        let rest = &node.leaves[shown..];
        let bytes = rest.iter().map(|(_, leaf)| leaf.size_bytes).sum();
        let said = "-v shows them".to_owned();
        lines.push(Line {
            indent,
            name: format!("… {} more", rest.len()),
            is_folder: false,
            size: size(bytes),
            said,
        });
    }
}
