//! How two spellings of one address are found to be the same.

use std::sync::Arc;

use unicode_normalization::UnicodeNormalization;

use super::path::RelPath;

/// Whether a game tells spellings of one name apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Folding {
    /// Case and Unicode normal form do not matter, as on the file systems games are made for.
    #[default]
    Folded,
    /// Every spelling is an address of its own.
    Exact,
}

/// A path in the form in which addresses are compared; never shown, never used on disk. A clone
/// shares the text.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FoldedKey(Arc<str>);

impl FoldedKey {
    /// The text that stands for the path in comparisons and in the catalogue.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Takes a text that [`Folding::key`] made before, such as one read from the catalogue.
    pub fn from_stored(text: impl Into<Arc<str>>) -> Self {
        Self(text.into())
    }

    /// The key whose text is `text`, with the text of `path` where that is the same.
    pub(crate) fn sharing(text: &str, path: &RelPath) -> Self {
        if text == path.as_str() { Self(path.shared()) } else { Self(text.into()) }
    }

    /// The keys of the innermost container and of the member in it, where the address may be a member's.
    pub(crate) fn member(&self) -> Option<(Self, Self)> {
        let (container, member) = self.0.rsplit_once(super::INTO)?;
        let is_none = container.is_empty() || member.is_empty();
        (!is_none).then(|| (Self(container.into()), Self(member.into())))
    }

    /// The key of the folder above, or `None` directly below the root.
    pub fn parent(&self) -> Option<Self> {
        self.parent_text().map(|text| Self(text.into()))
    }

    /// The text of [`FoldedKey::parent`].
    pub(crate) fn parent_text(&self) -> Option<&str> {
        self.0.rfind('/').map(|cut| &self.0[..cut])
    }
}

impl Folding {
    /// Folds `path` (parts joined by `/`).
    ///
    /// Case is folded one character to one character, as NTFS and APFS do: `ß` stays `ß` and is
    /// not `ss`. The text is brought to normal form C (Unicode Standard Annex 15) before and after.
    pub fn key(self, path: &str) -> FoldedKey {
        match self {
            Self::Exact => FoldedKey(path.into()),
            Self::Folded if path.is_ascii() => FoldedKey(path.to_ascii_lowercase().into()),
            Self::Folded => FoldedKey(path.nfc().map(fold_char).nfc().collect::<String>().into()),
        }
    }
}

fn fold_char(character: char) -> char {
    one_to_one(one_to_one(character, char::to_uppercase), char::to_lowercase)
}

fn one_to_one<I: Iterator<Item = char>>(character: char, mapping: impl Fn(char) -> I) -> char {
    let mut mapped = mapping(character);
    match (mapped.next(), mapped.next()) {
        (Some(only), None) => only,
        _ => character,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn spellings_of_one_name_share_a_key() {
        let key = |text| Folding::Folded.key(text);
        assert_eq!(key("Textures/A.DDS"), key("textures/a.dds"));
        assert_eq!(key("caf\u{e9}"), key("CAFE\u{301}"));
        assert_ne!(key("stra\u{df}e"), key("strasse"), "folding is one to one");
        assert_ne!(Folding::Exact.key("A"), Folding::Exact.key("a"));
    }

    proptest! {
        #[test]
        fn folding_twice_changes_nothing(text in "\\PC{0,24}") {
            let once = Folding::Folded.key(&text);
            prop_assert_eq!(Folding::Folded.key(once.as_str()), once);
        }
    }
}
