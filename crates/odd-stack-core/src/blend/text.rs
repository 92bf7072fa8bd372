//! Text as it is encoded on disk.
//!
//! What is written back is what was read, byte for byte, wherever nobody changes anything. So a code page that can't be
//! told is not guessed at: bytes that are not ASCII stand for themselves, as characters of the private use area.

use std::borrow::Cow;

use encoding_rs::{Encoding, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Coding {
    Utf8 {
        mark: bool,
    },
    Utf16 {
        little: bool,
    },
    /// ISO-8859-1, as an XML file declares it: bytes are characters.
    Latin1,
    /// As an XML file declares it.
    Declared(&'static Encoding),
    /// Words with single letters beyond ASCII in them, as Western languages have: Windows-1252.
    Western,
    /// A code page that can't be told; see [`FIRST_BYTE`].
    Unknown,
}

/// What the byte 0 would be of those that stand for themselves (a part of the private use area, Unicode 23.5).
const FIRST_BYTE: u32 = 0xf700;

/// A decoded text that knows how it was encoded.
#[derive(Debug, Clone)]
pub(crate) struct Text {
    /// With the line ends that it has, but line feeds where it has carriage returns alone.
    pub text: String,
    coding: Coding,
    ends_in_returns: bool,
}

impl Text {
    /// UTF-8, UTF-16 with its mark, what an XML declaration says, else a code page; nothing when it is no text.
    pub(crate) fn decode(bytes: &[u8]) -> Option<Self> {
        let (coding, text) = match bytes {
            [0xef, 0xbb, 0xbf, rest @ ..] => (Coding::Utf8 { mark: true }, decoded(UTF_8, rest)?),
            [0xff, 0xfe, rest @ ..] => (Coding::Utf16 { little: true }, decoded(UTF_16LE, rest)?),
            [0xfe, 0xff, rest @ ..] => (Coding::Utf16 { little: false }, decoded(UTF_16BE, rest)?),
            bytes if bytes.is_ascii() => match declared(bytes) {
                // What comes into it must be written as it says.
                Some(coding) => (coding, decoded(UTF_8, bytes)?),
                None => (Coding::Utf8 { mark: false }, decoded(UTF_8, bytes)?),
            },
            bytes => match (declared(bytes), std::str::from_utf8(bytes)) {
                (Some(Coding::Latin1), _) => {
                    (Coding::Latin1, encoding_rs::mem::decode_latin1(bytes).into_owned())
                }
                (Some(Coding::Declared(encoding)), _) => {
                    (Coding::Declared(encoding), decoded(encoding, bytes)?)
                }
                (_, Ok(text)) => (Coding::Utf8 { mark: false }, text.to_owned()),
                _ if is_western(bytes) => (Coding::Western, decoded(WINDOWS_1252, bytes)?),
                _ => (Coding::Unknown, bytes.iter().copied().map(stand_in).collect()),
            },
        };
        let is_text = !text.chars().any(|c| c.is_control() && !matches!(c, '\n' | '\r' | '\t' | '\u{c}'));
        let ends_in_returns = text.contains('\r') && !text.contains('\n');
        let text = if ends_in_returns { text.replace('\r', "\n") } else { text };
        is_text.then_some(Self { text, coding, ends_in_returns })
    }

    /// Whether another encoding would do as well: it is ASCII, and says nothing of its encoding.
    fn is_open(&self) -> bool {
        self.coding == Coding::Utf8 { mark: false } && self.text.is_ascii()
    }

    /// As this one, in the encoding of the `others` where nothing says which it has.
    ///
    /// # Errors
    /// That these differ.
    pub(crate) fn as_others<'t>(&self, others: impl Iterator<Item = &'t Self>) -> Result<Self, String> {
        let mut text = self.clone();
        for other in others.filter(|other| !other.is_open()) {
            match (text.is_open(), text.coding, other.coding) {
                // Marks and declarations are theirs alone.
                (true, _, Coding::Utf8 { mark: false } | Coding::Western | Coding::Unknown) => {
                    text.coding = other.coding;
                    text.text.push_str(&other.text);
                }
                (_, Coding::Western, Coding::Unknown) | (_, Coding::Unknown, Coding::Western) => {
                    return Err("the files are not in one encoding".to_owned());
                }
                (false, own, Coding::Western | Coding::Unknown) if self.is_open() && own != other.coding => {
                    return Err("the files are not in one encoding".to_owned());
                }
                _ => {}
            }
        }
        text.text.clone_from(&self.text);
        Ok(text)
    }

    /// Another text in the encoding of this one.
    ///
    /// # Errors
    /// What it can't hold.
    pub(crate) fn encode(&self, text: &str) -> Result<Vec<u8>, String> {
        let text: Cow<'_, str> =
            if self.ends_in_returns { text.replace('\n', "\r").into() } else { text.into() };
        if self.coding != Coding::Unknown
            && let Some(c) = text.chars().find(|c| byte_of(*c).is_some() && !self.text.contains(*c))
        {
            return Err(format!(
                "`{}` comes from a file whose code page can't be told, and can't be written into one of another",
                shown(&c.to_string())
            ));
        }
        match self.coding {
            Coding::Utf8 { mark: false } => Ok(text.into_owned().into_bytes()),
            Coding::Utf8 { mark: true } => Ok([b"\xef\xbb\xbf", text.as_bytes()].concat()),
            Coding::Utf16 { little } => {
                let units = std::iter::once(0xfeff).chain(text.encode_utf16());
                let bytes = |unit: u16| if little { unit.to_le_bytes() } else { unit.to_be_bytes() };
                Ok(units.flat_map(bytes).collect())
            }
            // What it can't hold is written as a reference (XML 1.0, 4.1).
            Coding::Latin1 => {
                let mut bytes = Vec::with_capacity(text.len());
                for c in text.chars() {
                    match u8::try_from(u32::from(c)) {
                        Ok(byte) => bytes.push(byte),
                        Err(_) => bytes.extend_from_slice(format!("&#{};", u32::from(c)).as_bytes()),
                    }
                }
                Ok(bytes)
            }
            Coding::Declared(encoding) => Ok(encoding.encode(&text).0.into_owned()),
            Coding::Western => {
                let (bytes, _, has_more) = WINDOWS_1252.encode(&text);
                let held = |c: &char| !WINDOWS_1252.encode(&c.to_string()).2;
                match text.chars().find(|c| has_more && !held(c)) {
                    None => Ok(bytes.into_owned()),
                    Some(c) => Err(format!("the file's encoding, Windows-1252, can't hold `{c}`")),
                }
            }
            Coding::Unknown => text.chars().try_fold(Vec::with_capacity(text.len()), |mut bytes, c| {
                let byte = u8::try_from(u32::from(c)).ok().filter(u8::is_ascii).or(byte_of(c));
                bytes.push(byte.ok_or_else(|| {
                    format!("the file's code page can't be told, so `{c}` can't be written")
                })?);
                Ok(bytes)
            }),
        }
    }
}

/// A text as people are shown it: bytes that stand for themselves as Windows-1252 has them.
pub(super) fn shown(text: &str) -> String {
    let western = |c: char| match byte_of(c) {
        Some(byte) => decoded(WINDOWS_1252, &[byte]).unwrap_or_else(|| "\u{fffd}".to_owned()),
        None => c.to_string(),
    };
    match text.chars().any(|c| byte_of(c).is_some()) {
        true => text.chars().map(western).collect(),
        false => text.to_owned(),
    }
}

fn stand_in(byte: u8) -> char {
    match byte.is_ascii() {
        true => char::from(byte),
        false => char::from_u32(FIRST_BYTE + u32::from(byte)).unwrap_or('\u{fffd}'),
    }
}

fn byte_of(c: char) -> Option<u8> {
    let byte = u8::try_from(u32::from(c).checked_sub(FIRST_BYTE)?).ok()?;
    (!byte.is_ascii()).then_some(byte)
}

fn decoded(encoding: &'static Encoding, bytes: &[u8]) -> Option<String> {
    encoding.decode_without_bom_handling_and_without_replacement(bytes).map(Cow::into_owned)
}

/// The encoding that an XML declaration names (XML 1.0, 2.8 and 4.3.3); nothing for UTF-8.
fn declared(bytes: &[u8]) -> Option<Coding> {
    let head = bytes.strip_prefix(b"<?xml")?;
    let end = head.iter().position(|byte| *byte == b'>')?;
    let head = std::str::from_utf8(&head[..end]).ok()?;
    let rest = head.split_once("encoding")?.1.trim_start().strip_prefix('=')?.trim_start();
    let quote = rest.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    let name = rest[1..].split(quote).next()?.trim();
    let is_latin =
        ["iso-8859-1", "latin1", "us-ascii", "ascii"].iter().any(|own| name.eq_ignore_ascii_case(own));
    if is_latin {
        return Some(Coding::Latin1);
    }
    let encoding = Encoding::for_label_no_replacement(name.as_bytes())?;
    (encoding.is_ascii_compatible() && encoding != UTF_8).then_some(Coding::Declared(encoding))
}

/// Whether what is not ASCII stands alone or in pairs among ASCII letters, as accented letters do; other scripts have
/// whole words of it.
fn is_western(bytes: &[u8]) -> bool {
    let longest = bytes.split(u8::is_ascii).map(<[u8]>::len).max().unwrap_or(0);
    let is_letter = |at: Option<usize>| at.and_then(|at| bytes.get(at)).is_some_and(u8::is_ascii_alphabetic);
    let mut beyond = bytes.iter().enumerate().filter(|(_, byte)| !byte.is_ascii());
    longest <= 2
        && beyond.all(|(at, _)| is_letter(at.checked_sub(1)) || is_letter(Some(at + 1)) || longest == 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_back_is_what_was_read() {
        let utf16: Vec<u8> = "\u{feff}a=\u{fc}\r\n".encode_utf16().flat_map(u16::to_be_bytes).collect();
        let all: [&[u8]; 9] = [
            b"a=1\n",
            "a=\u{fc}\n".as_bytes(),
            b"\xef\xbb\xbfa=1\r\n",
            &utf16,
            b"; \xd4\xe0\xe9\xeb\nx=1\n",
            b"; \xfcber\nx=1\n",
            b"x=1\ry=2\r",
            b"<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?><a b='\xe9\xa4'/>",
            b"<?xml version=\"1.0\" encoding='windows-1251'?><a>\xd4\xe0</a>",
        ];
        for bytes in all {
            let text = Text::decode(bytes).unwrap_or_else(|| panic!("{bytes:?}"));
            assert_eq!(text.encode(&text.text).unwrap(), bytes, "{}", text.text);
        }
        assert!(Text::decode(b"\0\x01").is_none());
    }

    #[test]
    fn what_an_encoding_can_not_hold_is_told_or_referred_to() {
        let encode = |bytes: &[u8], more: &str| {
            let text = Text::decode(bytes).unwrap();
            text.encode(&format!("{}{more}", text.text))
        };
        assert_eq!(encode(b"x=\xfcber\n", "y=\u{e9}").unwrap(), b"x=\xfcber\ny=\xe9");
        assert!(encode(b"x=\xfcber\n", "y=\u{439}").unwrap_err().contains("\u{439}"));
        assert!(encode(b"; \xd4\xe0\xe9\xeb\n", "y=\u{e9}").is_err());
        let latin = b"<?xml version=\"1.0\" encoding=\"iso-8859-1\"?><a/>";
        assert!(encode(latin, "\u{e9}\u{20ac}").unwrap().ends_with(b"\xe9&#8364;"));
        let cyrillic = b"<?xml version=\"1.0\" encoding=\"windows-1251\"?><a/>";
        assert!(encode(cyrillic, "\u{439}\u{e9}").unwrap().ends_with(b"\xe9&#233;"));
        // A byte whose meaning is not known goes into no other encoding.
        let unknown = Text::decode(b"\xd4\xe0\xe9\xeb").unwrap().text;
        assert!(encode("x=\u{fc}".as_bytes(), &unknown).is_err());
        assert_eq!(shown(&unknown), "\u{d4}\u{e0}\u{e9}\u{eb}");
    }
}
