//! Contents made of others: layers' configuration combined key by key, and a person's changes to a file carried
//! over to another version of it.
//!
//! Pure: contents go in, contents or what is in the way come out. Configuration ([`Format`]) is taken key by key;
//! any other text is merged by lines. Everything but the changed values keeps its form: order, comments, line ends, encoding.

mod align;
mod carry;
mod clash;
mod combine;
mod compare;
mod edit;
mod formats;
mod ini;
mod keyed;
mod last_read;
mod lines;
mod meant;
mod nested;
mod no_keys;
mod not_blended;
mod resolve;
mod rows;
mod rules;
#[cfg(test)]
mod tests;
mod text;
mod toml;
mod xml;

pub use carry::Carried;
pub use carry::carry_over;
pub use clash::Clash;
pub use clash::NotCarried;
pub use clash::Prefer;
pub use combine::Combined;
pub use combine::combine;
pub use combine::combine_knowing;
pub use edit::{KeyEdit, read_edits, write_edits};
pub use last_read::LastRead;
pub use not_blended::Culprit;
pub use not_blended::NotBlended;
pub use resolve::{NotEdited, edits_between, look_up, renewed, resolve_edits};
pub use rows::{KeyRow, key_rows};
pub use rules::{BlendRule, BlendRules, Format, MOST_GUESSED_BYTES};

pub(crate) use text::Text;

/// Whether two texts change a third in places that lie apart, so that merging by lines would keep both.
pub fn lie_apart(base: &[u8], one: &[u8], two: &[u8]) -> bool {
    let texts = (Text::decode(base), Text::decode(one), Text::decode(two));
    matches!(texts, (Some(base), Some(one), Some(two)) if lines::merge_apart(&base, &[&one, &two]).is_some())
}

/// Files bigger than this are not looked into.
pub const MOST_BLENDED_BYTES: u64 = 4 << 20;

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
