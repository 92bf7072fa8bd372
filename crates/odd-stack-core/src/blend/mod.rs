//! Contents made of others: layers' configuration combined key by key, and a person's changes to a file carried
//! over to another version of it.
//!
//! Pure: contents go in, contents or what is in the way come out. Configuration ([`Format`]) is taken key by key;
//! any other text is merged by lines, three ways (Khanna, Kunal, Pierce: A Formal Investigation of Diff3, 2007;
//! by the crate `diffy`). Everything but the changed values keeps its form: order, comments, line ends, encoding.

mod combine;
mod ini;
mod json;
mod keyed;
mod rules;
#[cfg(test)]
mod tests;
mod text;
mod toml;
mod xml;

pub use combine::{
    Combined, KeyClash, KeyEdit, KeyRow, NotBlended, combine, edits_between, key_clashes, key_rows, look_up,
};
pub use rules::{BlendRule, BlendRules, Format};

use combine::carry_keys;
pub(crate) use text::Text;

/// Whose word counts where both sides changed the same key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Prefer {
    /// The person's.
    Mine,
    /// The new version's.
    New,
}

/// Something that a person and the new version both changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Clash {
    /// The key with its section, such as `Gulls.count`; or the lines.
    pub what: String,
    /// What the old version had; none if nothing.
    pub old: Option<String>,
    /// What the person has.
    pub mine: Option<String>,
    /// What the new version has.
    pub new: Option<String>,
}

/// A person's changes in another version of the file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Carried {
    /// The file.
    pub content: Vec<u8>,
    /// What was carried over: keys, or counts of lines.
    pub changes: Vec<String>,
}

/// Why changes can't be carried over.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotCarried {
    /// It is no text, or too big a one.
    NoText,
    /// Both sides changed the same.
    Clashes(Vec<Clash>),
}

/// Files bigger than this are not looked into.
pub const MOST_BLENDED_BYTES: u64 = 4 << 20;

/// Carries what `mine` changed against `old` over to `new`: key by key for configuration of `format` that can be
/// read, else by lines.
///
/// # Errors
/// [`NotCarried`].
pub fn carry_over(
    format: Option<Format>,
    old: &[u8],
    mine: &[u8],
    new: &[u8],
    prefer: Option<Prefer>,
) -> Result<Carried, NotCarried> {
    if let Some(format) = format
        && let Ok(carried) = carry_keys(format.of_content(new), [old, mine, new], prefer)
    {
        return carried;
    }
    let texts = (Text::decode(old), Text::decode(mine), Text::decode(new));
    let (Some(old), Some(mine), Some(new)) = texts else { return Err(NotCarried::NoText) };
    let (text, changes) = by_lines(&old.text, &mine.text, &new.text, prefer)?;
    Ok(Carried { content: new.encode(&text), changes })
}

/// Lines in which two texts differ, those of the first with `-` before them and of the second with `+`; nothing if one
/// is no text.
pub fn text_difference(one: &[u8], two: &[u8]) -> Option<Vec<String>> {
    let (one, two) = (Text::decode(one)?, Text::decode(two)?);
    let patch = diffy::create_patch(&one.text, &two.text);
    let lines = patch.hunks().iter().flat_map(|hunk| hunk.lines()).filter_map(|line| match line {
        diffy::Line::Context(_) => None,
        diffy::Line::Delete(text) => Some(format!("- {}", text.trim_end())),
        diffy::Line::Insert(text) => Some(format!("+ {}", text.trim_end())),
    });
    Some(lines.collect())
}

/// Three-way merge by lines.
fn by_lines(
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

#[cfg(test)]
mod merging {
    use super::*;

    #[test]
    fn other_texts_are_merged_by_lines() {
        let old = "{\n  \"fog\": 1,\n  \"a\": 0,\n  \"b\": 0,\n  \"gulls\": 40\n}\n";
        let mine = old.replace("40", "200");
        let new = old.replace("\"fog\": 1", "\"fog\": 2");
        let carried = carry_over(None, old.as_bytes(), mine.as_bytes(), new.as_bytes(), None).unwrap();
        assert_eq!(String::from_utf8(carried.content).unwrap(), new.replace("40", "200"));
        let both = old.replace("40", "3");
        let clash = carry_over(None, old.as_bytes(), mine.as_bytes(), both.as_bytes(), None);
        let Err(NotCarried::Clashes(clashes)) = clash else { panic!() };
        assert!(
            clashes[0].mine.as_deref().unwrap().contains("200")
                && clashes[0].new.as_deref().unwrap().contains('3')
        );
        let mine_wins =
            carry_over(None, old.as_bytes(), mine.as_bytes(), both.as_bytes(), Some(Prefer::Mine));
        assert_eq!(String::from_utf8(mine_wins.unwrap().content).unwrap(), mine);
        assert_eq!(carry_over(None, b"\0\x01", b"\0\x02", b"\0\x03", None), Err(NotCarried::NoText));
    }

    #[test]
    fn encodings_and_line_ends_of_the_new_version_stay() {
        let utf16 = |text: &str| {
            let units = std::iter::once(0xfeffu16).chain(text.encode_utf16());
            units.flat_map(u16::to_le_bytes).collect::<Vec<u8>>()
        };
        let (old, mine, new) = ("[a]\r\nx=1\r\n", "[a]\r\nx=2\r\n", "[a]\r\nx=1\r\ny=\u{fc}\r\n");
        let carried = carry_over(Some(Format::Ini), &utf16(old), &utf16(mine), &utf16(new), None).unwrap();
        assert_eq!(carried.content, utf16("[a]\r\nx=2\r\ny=\u{fc}\r\n"));
        let western = carry_over(Some(Format::Ini), b"x=1\n", b"x=2\n", b"x=1\n; \xfcber\n", None).unwrap();
        assert_eq!(western.content, b"x=2\n; \xfcber\n");
        let marked = carry_over(Some(Format::Ini), b"x=1", b"x=2", b"\xef\xbb\xbfx=1", None).unwrap();
        assert_eq!(marked.content, b"\xef\xbb\xbfx=2");
    }
}
