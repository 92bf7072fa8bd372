//! Paths as a tree, folded where folders are long.

use std::collections::BTreeMap;

use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

use super::style::{BOLD, DIM, paint};
use super::units::{files, size};

/// One file: its path, its size, the one address it goes to, if it does, and what is said of it.
pub struct Leaf<'a> {
    pub path: &'a str,
    pub size_bytes: u64,
    pub target: Option<&'a str>,
    pub said: String,
}

#[derive(Default)]
struct Node<'a> {
    folders: BTreeMap<&'a str, Node<'a>>,
    leaves: Vec<(&'a str, &'a Leaf<'a>)>,
    count: u64,
    bytes: u64,
}

/// How much of a tree is shown before the rest is folded away.
#[derive(Debug, Clone, Copy)]
struct Most {
    /// Files of one folder.
    files: usize,
    /// Folders of one folder.
    folders: usize,
    /// Folders in each other.
    depth: usize,
}

const ALL: Most = Most { files: usize::MAX, folders: usize::MAX, depth: usize::MAX };
/// From little folded to much; the first that makes few enough lines is taken.
const FOLDINGS: [Most; 5] = [
    Most { files: 8, folders: 24, depth: usize::MAX },
    Most { files: 4, folders: 12, depth: usize::MAX },
    Most { files: 3, folders: 8, depth: 4 },
    Most { files: 3, folders: 8, depth: 2 },
    Most { files: 2, folders: 6, depth: 1 },
];
const FEW_LINES: usize = 48;

/// The leaves as an indented tree with counts and sizes, `width` columns wide; `all` shows every
/// file.
pub fn tree(leaves: &[Leaf<'_>], all: bool, width: usize) -> String {
    let mut top = Node::default();
    for leaf in leaves {
        let mut node = &mut top;
        let mut rest = leaf.path;
        node.count(leaf, rest);
        while let Some((folder, below)) = rest.split_once('/') {
            node = node.folders.entry(folder).or_default();
            rest = below;
            node.count(leaf, rest);
        }
        node.leaves.push((rest, leaf));
    }
    let foldings: &[Most] = if all { &[ALL] } else { &FOLDINGS };
    let mut lines = Vec::new();
    top.sort();
    // Where all of it goes to one place, that is told once.
    let target = top.target();
    for most in foldings {
        lines.clear();
        if let Some(target) = target {
            let said = format!("{} -> {target}", files(top.count));
            lines.push(Line {
                indent: 1,
                name: "./".to_owned(),
                is_folder: true,
                size: size(top.bytes),
                said,
            });
        }
        write(&top, 1, target, *most, &mut lines);
        if lines.len() <= FEW_LINES {
            break;
        }
    }
    // The names get what the sizes and a few words leave, and no more than they need.
    let room = width.saturating_sub(40).max(24);
    let widest = lines.iter().map(|line: &Line| line.width()).max().unwrap_or(0).min(room);
    lines.iter().map(|line| line.text(widest, width)).collect()
}

/// As many of the letters as take no more than `most` columns.
fn first_columns(letters: impl Iterator<Item = char>, most: usize) -> Vec<char> {
    let mut columns = 0;
    letters
        .take_while(|letter| {
            columns += letter.width().unwrap_or(0);
            columns <= most
        })
        .collect()
}

/// The text cut off after `most` columns.
fn cut_off(text: &str, most: usize) -> String {
    if text.width() <= most {
        return text.to_owned();
    }
    first_columns(text.chars(), most.saturating_sub(3)).into_iter().chain("...".chars()).collect()
}

/// The text cut down to `most` columns, its middle left out.
fn shortened(text: &str, most: usize) -> String {
    if text.width() <= most {
        return text.to_owned();
    }
    let tail = most.saturating_sub(3) * 2 / 3;
    let head = first_columns(text.chars(), most.saturating_sub(3) - tail);
    let end = first_columns(text.chars().rev(), tail);
    head.into_iter().chain("...".chars()).chain(end.into_iter().rev()).collect()
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
        self.indent * 2 + self.name.width()
    }

    fn text(&self, widest: usize, width: usize) -> String {
        let indent = self.indent * 2;
        let shown = shortened(&self.name, widest.saturating_sub(indent).max(8));
        let gap = " ".repeat(widest.saturating_sub(indent + shown.width()) + 2);
        let name = if self.is_folder { paint(BOLD, &shown) } else { shown };
        let said = cut_off(&self.said, width.saturating_sub(widest + 12).max(16));
        let said = if said.is_empty() { said } else { format!("  {}", paint(DIM, &said)) };
        format!("{}{name}{gap}{:>8}{said}\n", " ".repeat(indent), self.size)
    }
}

impl Node<'_> {
    /// Counts a file that lies here at `path`; what is in an archive here counts as that archive alone.
    fn count(&mut self, leaf: &Leaf<'_>, path: &str) {
        if !path.contains("!/") {
            self.count += 1;
            self.bytes += leaf.size_bytes;
        }
    }

    fn sort(&mut self) {
        self.leaves.sort_by_key(|(name, _)| *name);
        self.folders.values_mut().for_each(Self::sort);
    }

    /// The address that all of the folder goes to, when every file in it keeps its name and place there.
    fn target(&self) -> Option<&str> {
        let mut common = None;
        let of_files = self.leaves.iter().filter_map(|(name, leaf)| Some((*name, leaf.target?)));
        let of_folders = self.folders.iter().filter(|(_, folder)| folder.has_targets());
        let of_folders = of_folders.map(|(name, folder)| (*name, folder.target().unwrap_or_default()));
        for (name, target) in of_files.chain(of_folders) {
            let above = target.strip_suffix(name)?;
            let above = if above.ends_with(':') { above } else { above.strip_suffix('/')? };
            if *common.get_or_insert(above) != above {
                return None;
            }
        }
        common
    }

    fn has_targets(&self) -> bool {
        self.leaves.iter().any(|(_, leaf)| leaf.target.is_some())
            || self.folders.values().any(Node::has_targets)
    }
}

/// Where something in a folder goes by itself, or nothing when `above` tells it already.
fn own_target(above: Option<&str>, name: &str, target: Option<&str>) -> Option<String> {
    let target = target?;
    let expected = above
        .map(|above| if above.ends_with(':') { format!("{above}{name}") } else { format!("{above}/{name}") });
    (expected.as_deref() != Some(target)).then(|| format!("-> {target}"))
}

fn write(node: &Node<'_>, indent: usize, above: Option<&str>, most: Most, lines: &mut Vec<Line>) {
    let folders = few(node.folders.len(), most.folders);
    for (name, folder) in node.folders.iter().take(folders) {
        // A chain of folders with nothing else in them reads as one.
        let (mut path, mut folder) = ((*name).to_owned(), folder);
        while folder.leaves.is_empty() && folder.folders.len() == 1 {
            let Some((next, inner)) = folder.folders.iter().next() else { break };
            path = format!("{path}/{next}");
            folder = inner;
        }
        let target = folder.target();
        let mut said = files(folder.count);
        if let Some(target) = own_target(above, &path, target) {
            said = format!("{said} {target}{}", if target.ends_with(':') { "" } else { "/" });
        }
        if path.ends_with('!') {
            said.push_str(", inside this archive");
        }
        let (name, size) = (format!("{path}/"), size(folder.bytes));
        lines.push(Line { indent, name, is_folder: true, size, said });
        if indent <= most.depth {
            write(folder, indent + 1, target, most, lines);
        }
    }
    let mut rest = node.folders.values().skip(folders).peekable();
    if rest.peek().is_some() {
        let (count, bytes) =
            rest.fold((0, 0), |(count, bytes), folder| (count + folder.count, bytes + folder.bytes));
        let name = format!("... {} more folders", node.folders.len() - folders);
        lines.push(Line { indent, name, is_folder: false, size: size(bytes), said: files(count) });
    }
    let shown = few(node.leaves.len(), most.files);
    for (name, leaf) in &node.leaves[..shown] {
        let target = own_target(above, name, leaf.target);
        let said = [target.as_deref(), Some(leaf.said.as_str())]
            .into_iter()
            .flatten()
            .filter(|text| !text.is_empty());
        let said = said.collect::<Vec<_>>().join("  ");
        lines.push(Line {
            indent,
            name: (*name).to_owned(),
            is_folder: false,
            size: size(leaf.size_bytes),
            said,
        });
    }
    if shown < node.leaves.len() {
        let rest = &node.leaves[shown..];
        let size = size(rest.iter().map(|(_, leaf)| leaf.size_bytes).sum());
        let (name, said) = (format!("... {} more", rest.len()), "-v shows them".to_owned());
        lines.push(Line { indent, name, is_folder: false, size, said });
    }
}

/// How many of `count` are shown; folding away a single one would save no line.
fn few(count: usize, most: usize) -> usize {
    if count <= most.saturating_add(1) { count } else { most }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::show::safe::for_terminal;

    #[test]
    fn folders_tell_where_they_go_and_files_only_what_differs() {
        let leaf = |path, target, said: &str| Leaf { path, size_bytes: 10, target, said: said.to_owned() };
        let leaves = [
            leaf("Pack/data/a", Some("game:data/a"), "new"),
            leaf("Pack/data/deep/b", Some("game:data/deep/b"), ""),
            leaf("Pack/hook.dll", Some("game:bin/hook.dll"), "new"),
            leaf("Pack/readme", None, "left out"),
            leaf("docs/x", Some("docs:x"), ""),
        ];
        let plain = anstream::adapter::strip_str(&for_terminal(&tree(&leaves, true, 100))).to_string();
        let lines: Vec<&str> = plain.lines().map(str::trim_end).collect();
        assert_eq!(
            lines,
            [
                "  Pack/           40 B  4 files",
                "    data/         20 B  2 files -> game:data/",
                "      deep/       10 B  1 file",
                "        b         10 B",
                "      a           10 B  new",
                "    hook.dll      10 B  -> game:bin/hook.dll  new",
                "    readme        10 B  left out",
                "  docs/           10 B  1 file -> docs:",
                "    x             10 B",
            ]
        );
    }
}
