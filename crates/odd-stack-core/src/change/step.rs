//! The steps of a change.

use std::path::{Path, PathBuf};

use crate::files::{STAGE, Seen};

/// One step of a change. How each is done, seen to be done and taken back is said where they are executed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Step {
    /// A file leaves the game. `private` is a name nothing lies under before. Of one that is thrown away it is known what
    /// was seen of it when the change was decided.
    TakeOut { public: PathBuf, private: PathBuf, thrown: Option<Seen> },
    /// An original makes room for a new one, before anything else. `private` is a name nothing lies under before; a
    /// file may be taken out to `public` afterwards.
    SetAside { public: PathBuf, private: PathBuf },
    /// A folder gets another spelling.
    RenameFolder { from: PathBuf, to: PathBuf },
    /// A folder is made.
    MakeFolder { path: PathBuf },
    /// A file enters the game. It lies at `private` before.
    PutIn { private: PathBuf, public: PathBuf },
    /// A folder that nobody needs any more goes, unless something unknown is in it.
    DropFolder { path: PathBuf },
}

/// Whether a private end is where new files and folders are made: a folder directly there, or a file in a numbered folder.
pub(super) fn is_staged(private: &Path) -> bool {
    private.ancestors().skip(1).take(2).any(|folder| folder.ends_with(STAGE))
}

/// What a step does. The numbers are the journal's.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum StepKind {
    TakeOut = 0,
    RenameFolder = 1,
    MakeFolder = 2,
    PutIn = 3,
    DropFolder = 4,
    SetAside = 5,
}

impl StepKind {
    /// All kinds, in order of their numbers.
    pub(super) const ALL: [Self; 6] =
        [Self::TakeOut, Self::RenameFolder, Self::MakeFolder, Self::PutIn, Self::DropFolder, Self::SetAside];

    pub(super) fn of_number(number: u8) -> Option<Self> {
        Self::ALL.get(usize::from(number)).copied()
    }

    /// Whether such a step has two ends.
    pub(super) fn has_private(self) -> bool {
        !matches!(self, Self::MakeFolder | Self::DropFolder)
    }
}

impl Step {
    pub(super) fn kind(&self) -> StepKind {
        match self {
            Self::TakeOut { .. } => StepKind::TakeOut,
            Self::SetAside { .. } => StepKind::SetAside,
            Self::RenameFolder { .. } => StepKind::RenameFolder,
            Self::MakeFolder { .. } => StepKind::MakeFolder,
            Self::PutIn { .. } => StepKind::PutIn,
            Self::DropFolder { .. } => StepKind::DropFolder,
        }
    }

    /// What the step is made of: its private end, where it has one, and its public one; of a folder that gets another
    /// spelling where it lay and where it will lie.
    pub(super) fn ends(&self) -> (Option<&Path>, &Path) {
        match self {
            Self::TakeOut { public, private, .. }
            | Self::SetAside { public, private }
            | Self::PutIn { private, public }
            | Self::RenameFolder { from: private, to: public } => (Some(private), public),
            Self::MakeFolder { path } | Self::DropFolder { path } => (None, path),
        }
    }

    /// The step of that kind with these ends; `None` if such a step has others.
    pub(super) fn of(kind: StepKind, private: Option<PathBuf>, public: PathBuf) -> Option<Self> {
        Some(match (kind, private) {
            (StepKind::TakeOut, Some(private)) => Self::TakeOut { public, private, thrown: None },
            (StepKind::RenameFolder, Some(from)) => Self::RenameFolder { from, to: public },
            (StepKind::MakeFolder, None) => Self::MakeFolder { path: public },
            (StepKind::PutIn, Some(private)) => Self::PutIn { private, public },
            (StepKind::DropFolder, None) => Self::DropFolder { path: public },
            (StepKind::SetAside, Some(private)) => Self::SetAside { public, private },
            _ => return None,
        })
    }
}
