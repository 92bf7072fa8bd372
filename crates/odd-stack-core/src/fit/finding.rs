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
    /// Far more of the names lie in the game elsewhere than where given places put them.
    BetterElsewhere {
        /// How many of its files lie there.
        elsewhere: usize,
        /// How many lie where they were placed.
        as_given: usize,
        /// How many files it has.
        all: usize,
        /// The place, `FROM=TO`.
        place: String,
    },
    /// Its files are members of one of the game's containers.
    InContainer {
        /// The place, `FROM=TO`.
        place: String,
        /// How many of its files the container has.
        over: usize,
        /// How many files it has.
        files: usize,
    },
    /// What a place of the older version means lies elsewhere in the new one.
    Realigned {
        /// Its `FROM` in the older version.
        was: String,
        /// The folder or file in the new one.
        now: String,
        /// Where it goes.
        to: Address,
    },
    /// The older version's places would have left most of it nowhere, so it was found out anew.
    Anew {
        /// How many of the older version's addresses it has so.
        common: usize,
        /// How many it would have had as the older version was placed.
        as_before: usize,
    },
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
            Self::InContainer { place, over, files } => {
                let (from, to) = place.split_once('=').unwrap_or((place, ""));
                let what =
                    if from == "." { "it goes".to_owned() } else { format!("what is in `{from}` goes") };
                write!(formatter, "{what} into {to} ({over} of its {files} files are members there)")
            }
            Self::InsideWrapper { from, wrapper } => {
                write!(formatter, "`{from}` was found inside the wrapper folder `{wrapper}`")
            }
            Self::Realigned { was, now, to } if now.is_empty() => {
                write!(
                    formatter,
                    "what was in `{was}` in the old version lies at the top of the new one, and goes to {to}"
                )
            }
            Self::Realigned { was, now, to } => {
                write!(
                    formatter,
                    "what was `{was}` in the old version is `{now}` in the new one, and goes to {to}"
                )
            }
            Self::Anew { common, as_before } => write!(
                formatter,
                "placed anew: so it has {common} of the old version's files, and as that one was placed {as_before}"
            ),
            Self::BetterElsewhere { elsewhere, as_given, all, place } => {
                let given = if *as_given == 0 { "none".to_owned() } else { as_given.to_string() };
                write!(
                    formatter,
                    "{elsewhere} of its {all} files exist in the game as `{place}` would put them, and {given} where they were \
                     placed"
                )
            }
            Self::ByPlaces => write!(formatter, "placed by the rules given"),
        }
    }
}
