//! Addresses, folders and patterns of addresses, as people write them.

use globset::{GlobBuilder, GlobMatcher};
use thiserror::Error;

use super::Game;
use crate::address::{Address, AddressError, FoldedKey, Folding, cut_pattern};
use crate::stack::RootId;

/// Why a text means no addresses.
#[derive(Debug, Error)]
pub enum PatternError {
    /// It is no address.
    #[error(transparent)]
    Address(#[from] AddressError),
    /// It is no pattern.
    #[error("`{text}` is no pattern: {reason}")]
    Pattern {
        /// What was given.
        text: String,
        /// What is wrong with it.
        reason: String,
    },
}

/// What a text means: one address with all below it, or all addresses that meet a pattern (`*` is any text, also
/// across folders).
#[derive(Debug, Clone)]
pub struct AddressPattern {
    /// The root that it is about.
    pub root: RootId,
    /// The folded path of the address, or of the folder that the pattern begins in; empty for the whole root.
    pub within: FoldedKey,
    wild: Option<GlobMatcher>,
}

impl AddressPattern {
    /// Reads a text against a game; `None` if the game has no such root.
    ///
    /// # Errors
    /// [`PatternError`].
    pub fn parse(game: &Game, text: &str) -> Result<Option<Self>, PatternError> {
        let book = game.address_book();
        // What stands before the pattern says which root; a spot stands for a folder.
        let text = &*game.as_address(text)?;
        let (before, wild) = cut_pattern(text);
        let Address { root, path } = book.resolve(before)?;
        let Some(root) = game.root_named(&root) else { return Ok(None) };
        let wild = wild.map(|pattern| {
            let fold = game.folding == Folding::Folded;
            GlobBuilder::new(pattern).case_insensitive(fold).build().map_err(|error| PatternError::Pattern {
                text: text.to_owned(),
                reason: error.kind().to_string(),
            })
        });
        let wild = wild.transpose()?.map(|glob| glob.compile_matcher());
        Ok(Some(Self { root: root.id, within: game.folding.key(path.as_str()), wild }))
    }

    /// Whether it means just one address, with what lies below.
    pub fn is_plain(&self) -> bool {
        self.wild.is_none()
    }

    /// Whether it means the address with that folded path.
    pub fn meets(&self, root: RootId, key: &str) -> bool {
        if root != self.root {
            return false;
        }
        let below = match self.within.as_str() {
            "" => Some(key),
            within if within == key => Some(""),
            within => key.strip_prefix(within).and_then(|rest| rest.strip_prefix('/')),
        };
        match (&self.wild, below) {
            (_, None) => false,
            (None, Some(_)) => true,
            (Some(wild), Some(below)) => !below.is_empty() && wild.is_match(below),
        }
    }
}

/// Several patterns, any of which may meet.
#[derive(Debug, Clone, Default)]
pub struct AddressPatterns(Vec<AddressPattern>);

impl AddressPatterns {
    /// Reads all of `texts`; those about roots that the game has not mean nothing.
    ///
    /// # Errors
    /// [`PatternError`].
    pub fn parse<T: AsRef<str>>(game: &Game, texts: &[T]) -> Result<Self, PatternError> {
        let patterns = texts.iter().map(|text| AddressPattern::parse(game, text.as_ref()));
        Ok(Self(patterns.filter_map(Result::transpose).collect::<Result<_, _>>()?))
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether one of them means the address.
    pub fn meet(&self, root: RootId, key: &str) -> bool {
        self.0.iter().any(|pattern| pattern.meets(root, key))
    }
}
