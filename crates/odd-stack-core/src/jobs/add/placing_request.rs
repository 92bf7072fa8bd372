//! What is said of where the files of a package go.

use crate::fit::{FitError, FitSheet, Rank, Rules};

pub(in crate::jobs) fn sheet_text(bytes: Vec<u8>) -> Result<String, FitError> {
    let no_text = FitError::BadSheet { line: 1, column: 1, reason: "it is not UTF-8 text".to_owned() };
    let text = String::from_utf8(bytes).map_err(|_| no_text)?;
    Ok(text.strip_prefix('\u{feff}').map(str::to_owned).unwrap_or(text))
}

/// All that a person says of where a package's files go.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct PlacingRequest {
    /// A fit sheet of theirs, which goes over the package's own.
    pub sheet: Option<FitSheet>,
    /// Options, which go over both.
    pub rules: Rules,
}

impl PlacingRequest {
    /// The rules over those of the package's own sheet.
    pub(in crate::jobs) fn rules_over(&self, below: Rules) -> Rules {
        let sheet = self.sheet.as_ref().map(|sheet| sheet.rules(Rank::Sheet)).unwrap_or_default();
        below.with_over(sheet).with_over(self.rules.clone())
    }
}
