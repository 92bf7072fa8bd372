//! Files on disk that are not what the stack says.

use std::io;
use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use crate::address::Address;
use crate::files::{Seen, look_at};
use crate::hash::ContentHash;
use crate::stack::{BaseFile, BaseKind, Entry, Provider};

/// How a file differs from what should lie there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum DriftKind {
    /// A layer's file has other content.
    Edited,
    /// A layer's file is gone.
    Missing,
    /// The base's own file lies there again, as the game's client puts it when it repairs.
    PutBack,
    /// Neither the layer's file nor the base's old one, and the game itself was updated.
    Updated,
    /// A file of the base has other content.
    BaseChanged,
    /// A file of the base has another time at the same size, and its content was not known.
    BaseTouched,
    /// A file nobody knows lies in a folder of the base.
    BaseAdded,
    /// A file of the base is gone.
    BaseGone,
    /// A file nobody knows lies where a layer's file is to go, or in a folder that a layer made.
    Stray,
    /// A folder of the base, or one that a layer needs, is gone.
    FolderGone,
    /// A file lies beside a layer's under another spelling of its name; the game may read either.
    OtherSpelling,
}

impl DriftKind {
    /// All of them, what weighs most first.
    pub const ALL: [Self; 11] = [
        Self::Missing,
        Self::FolderGone,
        Self::BaseGone,
        Self::Edited,
        Self::PutBack,
        Self::Updated,
        Self::BaseChanged,
        Self::BaseTouched,
        Self::OtherSpelling,
        Self::Stray,
        Self::BaseAdded,
    ];
}

/// One drifted file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drift {
    /// Where.
    pub address: Address,
    /// How.
    pub kind: DriftKind,
    /// The layer whose file should lie there.
    pub layer: Option<crate::stack::LayerId>,
}

/// What a look at one file says of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Finding {
    /// Just as it should be; for a base file of equal content its times may be new.
    Fits { now: Option<Seen> },
    /// Not as it should be.
    Drifted(DriftKind, Option<Seen>),
    /// A folder lies where a file should.
    FolderInTheWay,
    /// What is to lie there lies there already, put by somebody else.
    LiesAlready,
}

impl Finding {
    /// The file that lies there, where it is one.
    pub(crate) fn seen(&self) -> Option<Seen> {
        match self {
            Self::Fits { now } | Self::Drifted(_, now) => *now,
            Self::FolderInTheWay | Self::LiesAlready => None,
        }
    }
}

/// Compares the file at `path` with what `expected` supplies there, by size and time, and only
/// where these differ and `compare_content` allows by content.
pub(crate) fn compare(path: &Path, expected: Provider<'_>, compare_content: bool) -> io::Result<Finding> {
    let seen = look_at(path)?;
    Ok(match (expected, seen) {
        (_, Some(Seen { kind: BaseKind::Folder, .. })) => Finding::FolderInTheWay,
        (Provider::Nothing, None) => Finding::Fits { now: None },
        (Provider::Nothing, Some(_)) => Finding::Drifted(DriftKind::Stray, seen),
        (Provider::Base(_), None) => Finding::Drifted(DriftKind::BaseGone, None),
        (Provider::Layer(_), None) => Finding::Drifted(DriftKind::Missing, None),
        (Provider::Base(base), Some(now)) if is_base_as_seen(base, &now) => Finding::Fits { now: seen },
        (Provider::Layer(entry), Some(now)) if is_entry_as_laid(entry, &now) => Finding::Fits { now: seen },
        (provider, Some(now)) => {
            let is_alike = compare_content
                && now.kind == BaseKind::File
                && now.size_bytes == provider.size_bytes()
                && provider
                    .hash()
                    .is_some_and(|hash| ContentHash::of_file(path).is_ok_and(|now| now == hash));
            if is_alike {
                Finding::Fits { now: seen }
            } else {
                let kind = match provider {
                    Provider::Base(base) if may_be_as_it_was(base, now.kind, now.size_bytes) => {
                        DriftKind::BaseTouched
                    }
                    Provider::Base(_) => DriftKind::BaseChanged,
                    _ => DriftKind::Edited,
                };
                Finding::Drifted(kind, seen)
            }
        }
    })
}

/// Whether a file of the base that shows another time may be what it was: it has the same size, and nobody knows what
/// was in it.
pub(crate) fn may_be_as_it_was(base: &BaseFile, kind: BaseKind, size_bytes: u64) -> bool {
    (base.kind, kind) == (BaseKind::File, BaseKind::File)
        && base.hash.is_none()
        && base.size_bytes == size_bytes
}

/// Whether a quick look shows the base's thing unchanged.
pub(crate) fn is_base_as_seen(base: &BaseFile, now: &Seen) -> bool {
    now.kind == base.kind
        && (now.kind != BaseKind::File
            || (now.size_bytes == base.size_bytes && now.modified_ns == base.modified_ns))
}

/// Whether a quick look shows a layer's file as it was laid. Files that were adopted keep what is below a
/// second of their times, which a layer does not know.
pub(crate) fn is_entry_as_laid(entry: &Entry, now: &Seen) -> bool {
    now.kind == BaseKind::File
        && now.size_bytes == entry.size_bytes
        && is_time_of(entry.modified, now.modified_ns)
}

/// Whether a file that was given a time in seconds shows it. FAT keeps every other second, and a system may round up or down
/// (FAT specification; learn.microsoft.com, File Times).
fn is_time_of(given: i64, shown_ns: i64) -> bool {
    const SECOND_NS: i64 = 1_000_000_000;
    let shown = shown_ns.div_euclid(SECOND_NS);
    let is_even = shown_ns.rem_euclid(2 * SECOND_NS) == 0;
    shown == given || is_even && (shown - given).abs() == 1
}

/// Whether what lies at `path` is the base's own file that a layer covers.
pub(crate) fn is_put_back(path: &Path, seen: Option<Seen>, covered: Option<&BaseFile>) -> io::Result<bool> {
    let (Some(seen), Some(base)) = (seen, covered) else { return Ok(false) };
    let (Some(hash), BaseKind::File) = (base.hash, seen.kind) else { return Ok(false) };
    Ok(seen.size_bytes == base.size_bytes && ContentHash::of_file(path)? == hash)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_time_is_known_again_on_a_disk_that_keeps_every_other_second() {
        let ns = |seconds: i64| seconds * 1_000_000_000;
        for (given, shown) in
            [(101, ns(101)), (101, ns(101) + 5), (101, ns(100)), (101, ns(102)), (-3, ns(-4))]
        {
            assert!(is_time_of(given, shown), "{given} {shown}");
        }
        for (given, shown) in
            [(101, ns(103)), (101, ns(100) + 5), (101, ns(104)), (100, ns(101)), (100, ns(102))]
        {
            assert!(!is_time_of(given, shown), "{given} {shown}");
        }
    }
}
