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

/// What a text means: one address with all below it, or all addresses that meet a pattern (`*` is any text within one
/// name, `**` any folders; one without `/` is held against each name) or lie in a folder that does.
#[derive(Debug, Clone)]
pub struct AddressPattern {
    /// The root that it is about.
    pub root: RootId,
    /// The folded path of the address, or of the folder that the pattern begins in; empty for the whole root.
    pub within: FoldedKey,
    wild: Option<GlobMatcher>,
    /// The pattern is held against each single name.
    by_name: bool,
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
        let by_name = path.is_root() && wild.is_some_and(|pattern| !pattern.contains('/'));
        let wild = wild.map(|pattern| {
            let fold = game.folding == Folding::Folded;
            GlobBuilder::new(pattern).case_insensitive(fold).literal_separator(true).build().map_err(
                |error| PatternError::Pattern { text: text.to_owned(), reason: error.kind().to_string() },
            )
        });
        let wild = wild.transpose()?.map(|glob| glob.compile_matcher());
        Ok(Some(Self { root: root.id, within: game.folding.key(path.as_str()), wild, by_name }))
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
            (Some(_), Some("")) => false,
            (Some(wild), Some(below)) if self.by_name => below.split('/').any(|name| wild.is_match(name)),
            (Some(wild), Some(below)) => {
                let mut ends = below.match_indices('/').map(|(at, _)| at).chain([below.len()]);
                ends.any(|end| wild.is_match(&below[..end]))
            }
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
