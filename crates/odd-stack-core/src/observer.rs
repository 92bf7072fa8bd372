//! How the core tells what it is doing, without knowing who listens.

use crate::notice::Notice;

/// What a long piece of work is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Work {
    /// Looking through the game's folders.
    Scanning,
    /// Reading a package's contents.
    Reading,
    /// Comparing the game's files by content.
    Comparing,
    /// Protecting files before a program may write over them.
    Guarding,
    /// Preparing files beside their destination.
    Staging,
    /// Moving files into place.
    Placing,
    /// Deleting what is no longer needed.
    Clearing,
}

/// Listens to the core's work. All methods may be called from several threads at once.
pub trait Observer: Send + Sync {
    /// A piece of work begins; totals are 0 when they are not known.
    fn begin(&self, _work: Work, _total_files: u64, _total_bytes: u64) {}
    /// Some of it is done.
    fn advance(&self, _files: u64, _bytes: u64) {}
    /// The piece of work is over.
    fn end(&self) {}
    /// Something the user should know, though the work goes on.
    fn notice(&self, _notice: Notice) {}
    /// Whether the user asked to stop; asked often, before anything visible has changed.
    fn is_cancelled(&self) -> bool {
        false
    }
}

/// Listens to nothing.
#[derive(Debug, Clone, Copy, Default)]
pub struct Silent;

impl Observer for Silent {}
