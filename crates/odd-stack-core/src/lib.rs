//! The core of Odd Stack: packages kept as tracked layers over a game's own files.
//!
//! The law everything rests on: what is on disk is a pure function of the base and the ordered, laid
//! layers. Every command changes the stack; then the disk is brought to agree with it, all or
//! nothing.
//!
//! In reading order:
//!
//! | module | what it holds | kind |
//! |---|---|---|
//! | [`address`] | [`address::Address`]: which file of which root; refused names; folding | pure |
//! | [`stack`] | [`stack::Column`], [`stack::Arrangement`]: who wins where | pure |
//! | [`fit`] | [`fit::fit`]: where a package's files go | pure |
//! | [`blend`] | [`blend::combine`], [`blend::carry_over`]: configuration and texts made of several | pure |
//! | [`version`] | names and versions on file names | pure |
//! | [`package`] | [`package::Package`]: folders and archives as members and streams | edge |
//! | [`game`] | [`game::Game`]: roots, scan, main program | edge |
//! | [`ledger`] | [`ledger::Ledger`]: catalogue, stored contents, lock | edge |
//! | [`disk`] | plan, steps, journal, recovery, check; [`disk::Seam`] | edge |
//! | [`jobs`] | one file a use; what a face calls | joins them |
//!
//! The core knows no terminal: it tells progress to an [`observer::Observer`], and times are given
//! to it by the caller.

#![deny(missing_docs)]

pub mod address;
pub mod blend;
pub mod change;
pub mod check;
pub mod expected;
pub mod files;
pub mod fit;
pub mod game;
mod hash;
pub mod jobs;
pub mod ledger;
mod members;
pub mod observer;
pub mod package;
pub mod stack;
pub mod version;
mod version_order;
mod version_range;

pub use hash::ContentHash;
pub use version_order::compare_versions;
pub use version_range::VersionRange;
