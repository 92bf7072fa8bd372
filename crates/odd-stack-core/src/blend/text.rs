//! Text as it is encoded on disk.

use encoding_rs::{UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Encoding {
    Utf8 { mark: bool },
    Utf16 { little: bool },
    Western,
}

/// A decoded text that knows how it was encoded.
pub(crate) struct Text {
    pub text: String,
    encoding: Encoding,
}

impl Text {
    /// UTF-8, UTF-16 with its mark, else Windows-1252; nothing when it is no text.
    pub(crate) fn decode(bytes: &[u8]) -> Option<Self> {
        let (encoding, text) = match bytes {
            [0xef, 0xbb, 0xbf, rest @ ..] => {
                (Encoding::Utf8 { mark: true }, UTF_8.decode_without_bom_handling(rest))
            }
            [0xff, 0xfe, rest @ ..] => {
                (Encoding::Utf16 { little: true }, UTF_16LE.decode_without_bom_handling(rest))
            }
            [0xfe, 0xff, rest @ ..] => {
                (Encoding::Utf16 { little: false }, UTF_16BE.decode_without_bom_handling(rest))
            }
            bytes if std::str::from_utf8(bytes).is_ok() => {
                (Encoding::Utf8 { mark: false }, UTF_8.decode_without_bom_handling(bytes))
            }
            bytes => (Encoding::Western, WINDOWS_1252.decode_without_bom_handling(bytes)),
        };
        let (text, had_errors) = text;
        let is_text = !had_errors
            && !text.chars().any(|c| c.is_control() && !matches!(c, '\n' | '\r' | '\t' | '\u{c}'));
        is_text.then(|| Self { text: text.into_owned(), encoding })
    }

    /// Another text in the encoding of this one; what Windows-1252 can't say turns the file into UTF-8.
    pub(crate) fn encode(&self, text: &str) -> Vec<u8> {
        match self.encoding {
            Encoding::Utf8 { mark: false } => text.as_bytes().to_vec(),
            Encoding::Utf8 { mark: true } => [b"\xef\xbb\xbf", text.as_bytes()].concat(),
            Encoding::Utf16 { little } => {
                let units = std::iter::once(0xfeff).chain(text.encode_utf16());
                units
                    .flat_map(|unit: u16| if little { unit.to_le_bytes() } else { unit.to_be_bytes() })
                    .collect()
            }
            Encoding::Western => {
                let (bytes, _, had_errors) = WINDOWS_1252.encode(text);
                if had_errors { text.as_bytes().to_vec() } else { bytes.into_owned() }
            }
        }
    }
}
