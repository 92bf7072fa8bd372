//! Names that an archive keeps as bytes of a code page it does not tell.

use std::sync::OnceLock;

use encoding_rs::Encoding;
use oem_cp::code_table::DECODING_TABLE_CP437;

use crate::address::NameProblem;

/// A code page that a person says an archive's names are in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NameEncoding(&'static Encoding);

impl NameEncoding {
    /// Takes a label of the WHATWG Encoding Standard (`shift_jis`, `gbk`, `windows-1251`, `ibm866`) or the
    /// number of a Windows code page (`932`, `cp932`).
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim().to_lowercase();
        let label = match text.strip_prefix("cp").unwrap_or(&text) {
            "932" => "shift_jis",
            "936" => "gbk",
            "949" => "euc-kr",
            "950" => "big5",
            "866" => "ibm866",
            "65001" => "utf-8",
            "20866" => "koi8-r",
            number if number.len() == 4 && number.starts_with("125") => &format!("windows-{number}"),
            other => other,
        };
        Encoding::for_label_no_replacement(label.as_bytes()).map(Self)
    }
}

/// How names are read whose code page the archive does not tell.
#[derive(Debug, Clone)]
pub(super) struct Names {
    pub said: Option<NameEncoding>,
    guessed: OnceLock<String>,
}

impl Names {
    pub(super) fn new(said: Option<NameEncoding>) -> Self {
        Self { said, guessed: OnceLock::new() }
    }

    /// A name in the code page that was said, or in 437, in which all bytes mean something.
    ///
    /// # Errors
    /// A readable stand-in, when the bytes mean nothing in that code page.
    pub(super) fn decode(&self, bytes: &[u8]) -> Result<String, (String, NameProblem)> {
        let Some(NameEncoding(encoding)) = self.said else {
            let name = oem_cp::decode_string_complete_table(bytes, &DECODING_TABLE_CP437);
            self.guessed.get_or_init(|| name.clone());
            return Ok(name);
        };
        let (name, has_errors) = encoding.decode_without_bom_handling(bytes);
        if has_errors { Err((name.into_owned(), NameProblem::NotText)) } else { Ok(name.into_owned()) }
    }

    /// The first name that was read in a code page that nobody has told.
    pub(super) fn guessed(&self) -> Option<&str> {
        self.guessed.get().map(String::as_str)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn labels_and_code_pages() {
        // The second byte of the first sign is a backslash, which is no separator here.
        let bytes = [0x95, 0x5c, b'.', b't', b'x', b't'];
        for label in ["shift_jis", "932", "CP932"] {
            let name = Names::new(NameEncoding::parse(label)).decode(&bytes).unwrap();
            assert_eq!(name, "\u{8868}.txt", "{label}");
        }
        assert_eq!(Names::new(NameEncoding::parse("1251")).decode(&[0xcf, 0xf0]).unwrap(), "\u{41f}\u{440}");
        assert_eq!(Names::new(None).decode(&[0x81]).unwrap(), "\u{fc}");
        assert!(Names::new(NameEncoding::parse("utf-8")).decode(&[0xff]).is_err());
        assert_eq!(NameEncoding::parse("harbourish"), None);
    }
}
