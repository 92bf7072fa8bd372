//! What a person reads has no phrase that a native modder would not say: texts of both crates, help, and all documents.

use std::fs;
use std::path::{Path, PathBuf};

/// Each is explained in `docs/words.md`.
const BANNED: [&str; 20] = [
    "behind our back",
    "under our hands",
    "placed as it was",
    "exchange the layer",
    "exchanges the layer",
    "let go of",
    "lets go of",
    "into care",
    "in care",
    "blended of",
    "nothing is open",
    "although a need",
    "can't be had again",
    "in the place of",
    "fine as it lies",
    "can't live with",
    "that meet the pattern",
    "several makes",
    "blended with other",
    "can't be blended",
];

fn repository() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().nth(2).unwrap().to_path_buf()
}

fn files(folder: &Path, ending: &str, into: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files(&path, ending, into);
        } else if path.extension().is_some_and(|found| found == ending) {
            into.push(path);
        }
    }
}

/// What of a source file a person may read: all but comments, other than those that `clap` makes help of.
fn readable(path: &Path, source: &str) -> String {
    let is_of_face = path.components().any(|part| part.as_os_str() == "odd-stack");
    let is_help = |line: &str| is_of_face && line.starts_with("///");
    let lines = source.lines().map(str::trim_start);
    lines.filter(|line| !line.starts_with("//") || is_help(line)).collect::<Vec<_>>().join("\n")
}

#[test]
fn no_banned_phrase_is_read_by_anybody() {
    let repository = repository();
    let (mut sources, mut documents) = (Vec::new(), vec![repository.join("README.md")]);
    for of in ["odd-stack", "odd-stack-core"] {
        files(&repository.join("crates").join(of).join("src"), "rs", &mut sources);
    }
    files(&repository.join("docs"), "md", &mut documents);
    documents.retain(|path| !path.ends_with("words.md"));
    assert!(sources.len() > 100 && documents.len() > 10);
    let mut found = Vec::new();
    for path in sources.iter().chain(&documents) {
        let text = fs::read_to_string(path).unwrap();
        let text = if sources.contains(path) { readable(path, &text) } else { text };
        // A phrase may be broken over two lines.
        let text = text.to_lowercase().split_whitespace().collect::<Vec<_>>().join(" ");
        for phrase in BANNED.iter().filter(|phrase| text.contains(*phrase)) {
            found.push(format!("{}: {phrase}", path.display()));
        }
    }
    assert!(found.is_empty(), "see docs/words.md:\n{}", found.join("\n"));
}
