//! What a person says about where a package's files go.

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use serde::{Deserialize, Serialize};

use super::FitError;
use crate::address::RelPath;

/// One `FROM=TO`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    /// A file or folder inside the package; `.` is all of it.
    pub from: String,
    /// The address it goes to.
    pub to: String,
}

impl Place {
    /// Cuts `FROM=TO` at its last `=`.
    ///
    /// # Errors
    /// [`FitError::BadPlace`].
    pub fn parse(text: &str) -> Result<Self, FitError> {
        match text.rsplit_once('=') {
            Some((from, to)) if !from.trim().is_empty() && !to.trim().is_empty() => {
                Ok(Self { from: from.trim().to_owned(), to: to.trim().to_owned() })
            }
            _ => Err(FitError::BadPlace { text: text.to_owned() }),
        }
    }
}

/// The rules of one fit, kept with the layer.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rules {
    /// Where things go; empty to place the package by its own folders.
    pub places: Vec<Place>,
    /// Patterns of which a file must meet one, if there are any.
    pub only: Vec<String>,
    /// Patterns of which a file must meet none.
    pub skip: Vec<String>,
    /// Leave out links that lead to nothing inside the package.
    pub skip_links: bool,
    /// The code page of the package's names, where it does not tell it.
    #[serde(default)]
    pub names: Option<String>,
}

/// Compiled patterns. `*` also matches `/`; a pattern without `/` is also held against each single
/// name of a path, and what matches a folder matches all inside. Case does not matter.
pub(super) struct Patterns {
    whole: GlobSet,
    names: GlobSet,
    is_empty: bool,
}

impl Patterns {
    pub(super) fn new(patterns: &[String]) -> Result<Self, FitError> {
        let mut whole = GlobSetBuilder::new();
        let mut names = GlobSetBuilder::new();
        for pattern in patterns {
            let normal = pattern.replace('\\', "/");
            let normal = normal.trim_end_matches('/');
            let glob = GlobBuilder::new(normal).case_insensitive(true).build().map_err(|error| {
                FitError::BadPattern { pattern: pattern.clone(), reason: error.kind().to_string() }
            })?;
            if !normal.contains('/') {
                names.add(glob.clone());
            }
            whole.add(glob);
        }
        let build = |builder: GlobSetBuilder| {
            builder.build().map_err(|error| FitError::BadPattern {
                pattern: patterns.join(" "),
                reason: error.kind().to_string(),
            })
        };
        Ok(Self { whole: build(whole)?, names: build(names)?, is_empty: patterns.is_empty() })
    }

    pub(super) fn is_empty(&self) -> bool {
        self.is_empty
    }

    /// Whether a pattern meets `path` or a folder above it.
    pub(super) fn meet(&self, path: &RelPath) -> bool {
        !self.is_empty
            && (self.whole.is_match(path.as_str())
                || path.ancestors().any(|folder| self.whole.is_match(folder))
                || path.parts().any(|name| self.names.is_match(name)))
    }
}
