//! Configuration of the INI kind as lines that keep their form.
//!
//! There is no standard for it; this reads what games' files have in common: sections in brackets or none, a
//! key, `=` (or `:` where a file has no `=` at all), a value; `;`, `#` and `//` begin comments on lines of their own, and
//! behind a value when a space stands before them. Sections and keys are compared without regard to case. A
//! key that stands several times in a section is told apart by its number.

use std::collections::BTreeMap;

use super::{Clash, Prefer};

/// A key's place: folded section, folded key, and which of several of that name.
type Key = (String, String, usize);

#[derive(Debug, Clone)]
struct Line {
    /// All of it, with its end.
    text: String,
    /// Where the value lies in it.
    value: Option<(Key, std::ops::Range<usize>)>,
    /// The folded section that it belongs to, and how it is spelled.
    section: String,
    shown: String,
}

/// A whole file.
#[derive(Debug, Clone)]
pub(super) struct Ini {
    lines: Vec<Line>,
    /// How each key is spelled, with its section.
    spelled: BTreeMap<Key, String>,
}

impl Ini {
    pub(super) fn parse(text: &str) -> Self {
        let separator = if text.lines().any(|line| is_key_line(line, '=')) { '=' } else { ':' };
        let mut section = String::new();
        let mut shown = String::new();
        let mut counts: BTreeMap<(String, String), usize> = BTreeMap::new();
        let mut spelled = BTreeMap::new();
        let mut lines = Vec::new();
        for line in text.split_inclusive('\n') {
            let bare = line.trim();
            if let Some(name) = bare.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
                shown = name.0.trim().to_owned();
                section = shown.to_lowercase();
            }
            let mut value = None;
            if is_key_line(line, separator)
                && let Some(cut) = line.find(separator)
            {
                let name = line[..cut].trim();
                let number = counts.entry((section.clone(), name.to_lowercase())).or_default();
                let key = (section.clone(), name.to_lowercase(), *number);
                *number += 1;
                let path = if shown.is_empty() { name.to_owned() } else { format!("{shown}.{name}") };
                spelled.insert(key.clone(), path);
                value = Some((key, value_in(line, cut + 1)));
            }
            lines.push(Line { text: line.to_owned(), value, section: section.clone(), shown: shown.clone() });
        }
        Self { lines, spelled }
    }

    /// Whether keys are what it is made of.
    pub(super) fn is_mostly_keys(&self) -> bool {
        let is_empty = |line: &&Line| line.text.trim().is_empty() || is_comment(&line.text);
        let is_section = |line: &Line| line.text.trim_start().starts_with('[');
        let said: Vec<&Line> = self.lines.iter().filter(|line| !is_empty(line)).collect();
        let known = said.iter().filter(|line| line.value.is_some() || is_section(line)).count();
        known * 10 >= said.len() * 9
    }

    fn values(&self) -> BTreeMap<&Key, &str> {
        let valued = self.lines.iter().filter_map(|line| {
            let (key, range) = line.value.as_ref()?;
            Some((key, &line.text[range.clone()]))
        });
        valued.collect()
    }

    fn set(&mut self, key: &Key, value: &str) {
        for line in &mut self.lines {
            if let Some((own, range)) = &mut line.value
                && own == key
            {
                line.text.replace_range(range.clone(), value);
                *range = range.start..range.start + value.len();
            }
        }
    }

    fn remove(&mut self, key: &Key) {
        self.lines.retain(|line| line.value.as_ref().is_none_or(|(own, _)| own != key));
    }

    /// Puts a line of another file at the end of its section.
    fn insert(&mut self, line: &Line) {
        let end =
            self.lines.iter().find_map(|line| line.text.strip_suffix("\r\n").map(|_| "\r\n")).unwrap_or("\n");
        let text = format!("{}{end}", line.text.trim_end_matches(['\r', '\n']));
        let last = self.lines.iter().rposition(|other| {
            other.section == line.section
                && (other.value.is_some() || other.text.trim_start().starts_with('['))
        });
        if let Some(last) = self.lines.last_mut().filter(|last| !last.text.ends_with('\n')) {
            last.text.push_str(end);
        }
        let new = Line { text, ..line.clone() };
        match last {
            Some(last) => self.lines.insert(last + 1, new),
            None if line.section.is_empty() => self.lines.insert(0, new),
            None => {
                let head = format!("[{}]{end}", line.shown);
                self.lines.push(Line { text: head, value: None, ..line.clone() });
                self.lines.push(new);
            }
        }
    }

    fn to_text(&self) -> String {
        self.lines.iter().map(|line| line.text.as_str()).collect()
    }
}

fn is_comment(line: &str) -> bool {
    let line = line.trim_start();
    line.starts_with([';', '#']) || line.starts_with("//")
}

fn is_key_line(line: &str, separator: char) -> bool {
    let bare = line.trim();
    !is_comment(bare)
        && !bare.starts_with(['[', '<', '{', '}'])
        && bare.split_once(separator).is_some_and(|(key, _)| !key.trim().is_empty())
}

/// The value that begins behind the separator, without spaces around it and a comment behind it.
fn value_in(line: &str, from: usize) -> std::ops::Range<usize> {
    let rest = &line[from..];
    let start = from + (rest.len() - rest.trim_start_matches([' ', '\t']).len());
    let value = &line[start..];
    let end = if let Some(quoted) = value.strip_prefix('"')
        && let Some(close) = quoted.find('"')
    {
        close + 2
    } else {
        let comment =
            [" ;", " #", " //", "\t;", "\t#", "\t//"].iter().filter_map(|mark| value.find(mark)).min();
        comment.unwrap_or(value.len())
    };
    start..start + value[..end].trim_end().len()
}

/// Carries what `mine` changed against `old` over to `new`; gives the text and the keys that were carried.
pub(super) fn carry_over(
    old: &Ini,
    mine: &Ini,
    mut new: Ini,
    prefer: Option<Prefer>,
) -> Result<(String, Vec<String>), Vec<Clash>> {
    let (before, own) = (old.values(), mine.values());
    let mut clashes = Vec::new();
    let mut carried = Vec::new();
    // In the order of the person's file, then what they took out.
    let kept = mine.lines.iter().filter_map(|line| line.value.as_ref().map(|(key, _)| (key, Some(line))));
    let gone = old.lines.iter().filter_map(|line| line.value.as_ref().map(|(key, _)| key));
    let gone = gone.filter(|key| !own.contains_key(key)).map(|key| (key, None));
    for (key, line) in kept.chain(gone) {
        let (was, is) = (before.get(key).copied(), own.get(key).copied());
        if was == is {
            continue;
        }
        let next = new.values().get(key).map(|value| (*value).to_owned());
        let shown = mine.spelled.get(key).or_else(|| old.spelled.get(key)).cloned().unwrap_or_default();
        if next.as_deref() == is {
            continue;
        }
        // A key that the new version dropped is no reason to lose what the person set.
        let is_clash = next.as_deref() != was && next.is_some();
        if is_clash && prefer == Some(Prefer::New) {
            continue;
        }
        if is_clash && prefer.is_none() {
            let text = |value: Option<&str>| value.map(str::to_owned);
            clashes.push(Clash { what: shown, old: text(was), mine: text(is), new: next });
            continue;
        }
        match (is, line) {
            (Some(value), _) if next.is_some() => new.set(key, value),
            (Some(_), Some(line)) => new.insert(line),
            _ => new.remove(key),
        }
        carried.push(shown);
    }
    if clashes.is_empty() { Ok((new.to_text(), carried)) } else { Err(clashes) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn carry(
        old: &str,
        mine: &str,
        new: &str,
        prefer: Option<Prefer>,
    ) -> Result<(String, Vec<String>), Vec<Clash>> {
        carry_over(&Ini::parse(old), &Ini::parse(mine), Ini::parse(new), prefer)
    }

    #[test]
    fn changed_keys_keep_the_value_and_new_ones_come_in() {
        let old = "; harbour\n[Gulls]\ncount = 40 ; many\nloud=1\n[Fog]\nthick=2\n";
        let mine = "; harbour\n[Gulls]\ncount = 200 ; many\nloud=1\nmine=7\n[Fog]\nthick=2\n[Own]\nx=1\n";
        let new = "; harbour 2\n[gulls]\nCount= 40   ; rather many\nloud=0\nnew=5\n\n[Fog]\nthick=3\n";
        let (text, keys) = carry(old, mine, new, None).unwrap();
        assert_eq!(
            text,
            "; harbour 2\n[gulls]\nCount= 200   ; rather many\nloud=0\nnew=5\nmine=7\n\n[Fog]\nthick=3\n[Own]\nx=1\n"
        );
        assert_eq!(keys, ["Gulls.count", "Gulls.mine", "Own.x"]);
    }

    #[test]
    fn what_both_changed_is_shown_and_can_be_decided() {
        let (old, mine, new) = ("[a]\nx=1\ny=1\nz=1\n", "[a]\nx=2\nz=1\n", "[a]\nx=3\ny=2\nz=1\n");
        let clashes = carry(old, mine, new, None).unwrap_err();
        let told: Vec<_> =
            clashes.iter().map(|c| (c.what.as_str(), c.mine.as_deref(), c.new.as_deref())).collect();
        assert_eq!(told, [("a.x", Some("2"), Some("3")), ("a.y", None, Some("2"))]);
        assert_eq!(carry(old, mine, new, Some(Prefer::Mine)).unwrap().0, "[a]\nx=2\nz=1\n");
        assert_eq!(carry(old, mine, new, Some(Prefer::New)).unwrap().0, new);
    }

    #[test]
    fn odd_forms() {
        assert_eq!(carry("a=1\na=2\n", "a=1\na=3\n", "a=1\na=2\nb=1\n", None).unwrap().0, "a=1\na=3\nb=1\n");
        assert_eq!(
            carry("u=\"a ; b\"\n", "u=\"c ; d\"\n", "u=\"a ; b\" ; note\n", None).unwrap().0,
            "u=\"c ; d\" ; note\n"
        );
        assert_eq!(carry("fog: 1\n", "fog: 2\n", "fog: 1\nsea: 3", None).unwrap().0, "fog: 2\nsea: 3");
        assert_eq!(carry("a=1", "a=1\nb=2", "a=1", None).unwrap().0, "a=1\nb=2\n");
        assert_eq!(carry("u=http://x\n", "u=http://y\n", "u=http://x\n", None).unwrap().0, "u=http://y\n");
        assert!(!Ini::parse("{ \"a\": 1 }\nsome words\nand more").is_mostly_keys());
    }

    proptest! {
        #[test]
        fn nothing_changed_gives_the_new_version_and_nothing_new_gives_mine(
            old in "(\\[[ab]\\]\n|[abc]=[0-3]\n|; x\n){0,8}",
            other in "(\\[[ab]\\]\n|[abc]=[0-3]\n|; x\n){0,8}",
        ) {
            prop_assert_eq!(carry(&old, &old, &other, None).unwrap().0, other.clone());
            // Every key that a person has is there when the author changed nothing.
            let (text, _) = carry(&old, &other, &old, None).unwrap();
            let parsed = Ini::parse(&text);
            let wanted = Ini::parse(&other);
            prop_assert_eq!(parsed.values(), wanted.values());
        }
    }
}
