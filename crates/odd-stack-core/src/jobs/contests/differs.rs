//! What differs between two layers' files at one address.

use std::io::BufReader;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::keys::KnownWords;
use crate::blend::{Format, MOST_BLENDED_BYTES, lie_apart, text_difference};
use crate::expected::Blender;
use crate::ledger::{Ledger, LedgerError, Stored};
use crate::stack::{Column, Entry, EntryKind, Order};

/// A key to which two files give different values.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct KeyClashRow {
    /// The key as people write it.
    pub key: String,
    /// The value in the game's own file; none where it has none.
    pub base: Option<String>,
    /// The lower layer's value; none where it takes the key out.
    pub lower: Option<String>,
    /// The upper layer's value; none where it takes the key out.
    pub upper: Option<String>,
}

/// What differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Differs {
    /// Configuration: the keys.
    Configuration {
        /// Keys that both set, differently.
        keys: Vec<KeyClashRow>,
    },
    /// Text: the lines.
    Text {
        /// Lines that only the lower file has, with `-` before them, then those of the upper, with `+`; the first few.
        lines: Vec<String>,
        /// How many lines are not shown.
        more_lines: u64,
        /// Both change the game's own file in places that lie apart, so that merging it by lines would keep both.
        lie_apart: bool,
    },
    /// Pictures: format and dimensions.
    Picture {
        /// Such as `dds 512x512`.
        lower: String,
        /// Likewise.
        upper: String,
    },
    /// Anything else: what it is by its content.
    Binary {
        /// Such as `program`.
        lower: String,
        /// Likewise.
        upper: String,
    },
    /// One of them takes the file away.
    TakenAway,
    /// A content is not to be had.
    Lost,
}

/// Lines of a text that are shown.
const MOST_LINES: usize = 4;

/// What differs between `lower` and `upper`, which are stored.
pub(in crate::jobs) fn differs(
    ledger: &Ledger,
    column: &Column,
    lower: &Entry,
    upper: &Entry,
    order: &Order,
    known: &KnownWords,
) -> Result<Differs, LedgerError> {
    if lower.takes_away() || upper.takes_away() {
        return Ok(Differs::TakenAway);
    }
    let blender = Blender::new(ledger);
    let is_small = lower.size_bytes.max(upper.size_bytes) <= MOST_BLENDED_BYTES;
    let has_keys = lower.kind == EntryKind::Keys || upper.kind == EntryKind::Keys;
    if is_small && column.may_blend_as(order).is_some() {
        let keys = known.clashes(ledger, column, [lower, upper], order)?;
        if has_keys || !keys.is_empty() {
            return Ok(Differs::Configuration { keys });
        }
    }
    let stored = (ledger.stored(lower.hash)?, ledger.stored(upper.hash)?);
    if let (Some(one), Some(two)) = (picture(&stored.0), picture(&stored.1)) {
        return Ok(Differs::Picture { lower: one, upper: two });
    }
    if is_small {
        let (one, two) = (blender.stored_if_there(lower)?, blender.stored_if_there(upper)?);
        let (Some(one), Some(two)) = (one, two) else { return Ok(Differs::Lost) };
        if let Some(lines) = text_difference(&one, &two) {
            // Something of both sides.
            let (gone, come): (Vec<String>, Vec<String>) =
                lines.into_iter().partition(|line| line.starts_with('-'));
            let all = gone.len() + come.len();
            let of_gone = gone.len().min(MOST_LINES / 2).max(MOST_LINES.saturating_sub(come.len()));
            let mut lines: Vec<String> = gone.into_iter().take(of_gone).collect();
            lines.extend(come.into_iter().take(MOST_LINES - lines.len()));
            // What is by its name merged by lines, or key by key, is not if that can't be; but Lua may be code.
            let is_other = matches!(column.may_blend_as(order), None | Some(Format::ByContent | Format::Lua));
            let base = if is_other { blender.base_content(column)? } else { None };
            let lie_apart = base.is_some_and(|base| lie_apart(&base, &one, &two));
            return Ok(Differs::Text { more_lines: (all - lines.len()) as u64, lines, lie_apart });
        }
    }
    match (sort_of(&stored.0), sort_of(&stored.1)) {
        (Some(lower), Some(upper)) => {
            Ok(Differs::Binary { lower: lower.to_owned(), upper: upper.to_owned() })
        }
        _ => Ok(Differs::Lost),
    }
}

/// Format and dimensions of a picture.
fn picture(stored: &Stored) -> Option<String> {
    let format = imagesize::image_type(&stored.read(64).ok()?).ok()?;
    let size = imagesize::reader_size(BufReader::new(stored.open().ok()?)).ok()?;
    let name = format!("{format:?}").to_lowercase();
    let name = name.split('(').next().unwrap_or_default().to_owned();
    Some(format!("{name} {}x{}", size.width, size.height))
}

/// What a file is by its first bytes, in a word.
fn sort_of(stored: &Stored) -> Option<&'static str> {
    const SORTS: [(&[u8], &str); 12] = [
        (b"MZ", "program or library"),
        (b"\x7fELF", "program or library"),
        (b"PK\x03\x04", "zip archive"),
        (b"7z\xbc\xaf", "7z archive"),
        (b"Rar!", "rar archive"),
        (b"OggS", "sound (ogg)"),
        (b"fLaC", "sound (flac)"),
        (b"ID3", "sound (mp3)"),
        (b"RIFF", "sound or film (riff)"),
        (b"SQLite format 3", "database"),
        (b"%PDF", "document (pdf)"),
        (b"\x1aE\xdf\xa3", "film (matroska)"),
    ];
    let head = stored.read(16).ok()?;
    let known = SORTS.iter().find(|(start, _)| head.starts_with(start));
    Some(known.map_or("data", |(_, sort)| sort))
}
