//! The head of a fit sheet: what an author says of the package itself.

use serde::Deserialize;

use super::FitError;
use crate::address::{Folding, RelPath};

/// The file in a package that says how it is to be placed.
pub const SHEET_NAME: &str = "oddfit.toml";
/// The biggest sheet that is read.
pub const MOST_SHEET_BYTES: u64 = 1 << 20;

/// Name, version and variant of a package, as its author writes them in its fit sheet (TOML 1.0, the
/// keys `name`, `version` and `variant` at its top). They go before what the file name says.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
pub struct SheetHead {
    /// What the layer is to be called.
    pub name: Option<String>,
    /// The version, as its author writes it.
    pub version: Option<String>,
    /// Which one of several makes it is.
    pub variant: Option<String>,
}

impl SheetHead {
    /// Reads the head; other keys are passed over.
    ///
    /// # Errors
    /// [`FitError::BadSheet`], with line and column.
    pub fn parse(text: &str) -> Result<Self, FitError> {
        toml::from_str(text).map_err(|error| {
            let before = error.span().map_or("", |span| text.get(..span.start).unwrap_or_default());
            FitError::BadSheet {
                line: before.matches('\n').count() + 1,
                column: before.rsplit('\n').next().unwrap_or_default().chars().count() + 1,
                reason: error.message().to_owned(),
            }
        })
    }
}

/// Whether `path` is the package's fit sheet, at its top or that of its wrapper folder.
pub fn is_sheet(path: &RelPath, wrapper: Option<&RelPath>) -> bool {
    let is_named = Folding::Folded.key(path.name()) == Folding::Folded.key(SHEET_NAME);
    is_named && (path.parent().is_root() || Some(&path.parent()) == wrapper)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn heads_are_read_and_mistakes_are_placed() {
        let head = SheetHead::parse("name = \"Brass Lamps\"\nversion = \"1.2b\"\n[later]\nx = 1\n").unwrap();
        assert_eq!((head.name.as_deref(), head.version.as_deref()), (Some("Brass Lamps"), Some("1.2b")));
        let error = SheetHead::parse("name = \"a\"\nversion = 1\n").unwrap_err();
        assert!(matches!(error, FitError::BadSheet { line: 2, column: 11, .. }), "{error}");
    }
}
