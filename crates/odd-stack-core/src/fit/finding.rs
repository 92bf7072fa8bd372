//! What decided a placement, and the evidence for it.

use std::fmt;

use crate::address::Address;

/// Something that decided a placement; shown in words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Finding {
    /// A folder of the package was found to belong to an address.
    Found {
        /// The folder; empty for the whole package.
        folder: String,
        /// Where what is in it goes.
        to: Address,
        /// What speaks for it.
        evidence: String,
    },
    /// A place was found inside the wrapper folder, which it did not name.
    InsideWrapper {
        /// The place's `FROM`.
        from: String,
        /// The wrapper folder.
        wrapper: String,
    },
    /// Given places decided.
    ByPlaces,
}

impl fmt::Display for Finding {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Found { folder, to, evidence } if folder.is_empty() => {
                write!(formatter, "it goes to {to} as it is ({evidence})")
            }
            Self::Found { folder, to, evidence } => {
                write!(formatter, "what is in `{folder}` goes to {to} ({evidence})")
            }
            Self::InsideWrapper { from, wrapper } => {
                write!(formatter, "`{from}` was found inside the wrapper folder `{wrapper}`")
            }
            Self::ByPlaces => write!(formatter, "placed by the rules given"),
        }
    }
}
