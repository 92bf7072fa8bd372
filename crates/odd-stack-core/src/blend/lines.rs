//! Texts merged by lines, three ways (Khanna, Kunal, Pierce: A Formal Investigation of Diff3, 2007; by the crate `diffy`).

use super::text::Text;
use super::{Clash, NotCarried, Prefer};

/// Three-way merge by lines of a person's changes with those of a new version; with what was changed.
///
/// # Errors
/// [`NotCarried::Clashes`].
pub(super) fn carry(
    old: &str,
    mine: &str,
    new: &str,
    prefer: Option<Prefer>,
) -> Result<(String, Vec<String>), NotCarried> {
    let changed = diffy::create_patch(old, mine).hunks().len();
    let what = if changed == 1 { "1 place".to_owned() } else { format!("{changed} places") };
    match diffy::merge(old, mine, new) {
        Ok(text) => Ok((text, vec![what])),
        Err(marked) => {
            let (text, clashes) = decided(&marked, prefer.unwrap_or(Prefer::Mine));
            if prefer.is_some() { Ok((text, vec![what])) } else { Err(NotCarried::Clashes(clashes)) }
        }
    }
}

/// The text in which the merge has marked what clashes, with one side of each; and the clashes.
fn decided(marked: &str, prefer: Prefer) -> (String, Vec<Clash>) {
    let (mut text, mut clashes) = (String::new(), Vec::new());
    let mut lines = marked.split_inclusive('\n').enumerate();
    while let Some((number, line)) = lines.next() {
        if !line.starts_with("<<<<<<<") {
            text.push_str(line);
            continue;
        }
        let mut sides: [String; 3] = Default::default();
        let mut side = 0;
        for (_, line) in lines.by_ref() {
            match line {
                _ if line.starts_with("|||||||") => side = 1,
                _ if line.starts_with("=======") => side = 2,
                _ if line.starts_with(">>>>>>>") => break,
                line => sides[side].push_str(line),
            }
        }
        let [mine, old, new] = sides;
        text.push_str(if prefer == Prefer::Mine { &mine } else { &new });
        let shown = |side: String| Some(side.trim_end().to_owned()).filter(|side| !side.is_empty());
        let what = format!("line {}", number + 1);
        clashes.push(Clash { what, old: shown(old), mine: shown(mine), new: shown(new) });
    }
    (text, clashes)
}

/// The changes of all `files` against `base` in one text, with its line ends; nothing where two of them touch.
pub(super) fn merge_apart(base: &Text, files: &[&Text]) -> Option<String> {
    let plain = |text: &Text| text.text.replace("\r\n", "\n");
    let old = plain(base);
    let mut merged = old.clone();
    for file in files {
        let new = plain(file);
        if touch(&old, &merged, &new) {
            return None;
        }
        merged = diffy::merge(&old, &merged, &new).ok()?;
    }
    let has_returns = base.text.matches("\r\n").count() * 2 > base.text.matches('\n').count();
    Some(if has_returns { merged.replace('\n', "\r\n") } else { merged })
}

/// Whether two texts change the same lines of a third, or lines beside each other.
fn touch(old: &str, one: &str, two: &str) -> bool {
    let changed = |new: &str| -> Vec<(usize, usize)> {
        let patch = diffy::DiffOptions::new().set_context_len(0).create_patch(old, new);
        let lines = |hunk: &diffy::Hunk<'_, str>| {
            let range = hunk.old_range();
            // Of what is only added the range begins at the line before (POSIX, diff).
            let from = if range.is_empty() { range.start() + 1 } else { range.start() };
            (from, from + range.len())
        };
        patch.hunks().iter().map(lines).collect()
    };
    let (one, two) = (changed(one), changed(two));
    one.iter().any(|(from, until)| two.iter().any(|(other, end)| from <= end && other <= until))
}
