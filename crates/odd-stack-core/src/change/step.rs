//! The steps of a change and how each is done, seen to be done, and taken back.

use std::path::{Path, PathBuf};

use crate::ledger::catalogue::JournalStep;

/// One step of a change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Step {
    /// A file leaves the game. `private` is a name nothing lies under before.
    TakeOut { public: PathBuf, private: PathBuf },
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

impl Step {
    pub(crate) fn to_journal(&self) -> JournalStep {
        let text = |path: &Path| path.to_string_lossy().into_owned();
        let (kind, private, public) = match self {
            Self::TakeOut { public, private } => (0, Some(private), public),
            Self::RenameFolder { from, to } => (1, Some(from), to),
            Self::MakeFolder { path } => (2, None, path),
            Self::PutIn { private, public } => (3, Some(private), public),
            Self::DropFolder { path } => (4, None, path),
            Self::SetAside { public, private } => (5, Some(private), public),
        };
        JournalStep { kind, private: private.map(|path| text(path)), public: text(public) }
    }

    /// `None` for what [`Step::to_journal`] never writes.
    pub(crate) fn from_journal(step: JournalStep) -> Option<Self> {
        let public = PathBuf::from(step.public);
        let private = step.private.map(PathBuf::from);
        Some(match (step.kind, private) {
            (0, Some(private)) => Self::TakeOut { public, private },
            (1, Some(from)) => Self::RenameFolder { from, to: public },
            (2, None) => Self::MakeFolder { path: public },
            (3, Some(private)) => Self::PutIn { private, public },
            (4, None) => Self::DropFolder { path: public },
            (5, Some(private)) => Self::SetAside { public, private },
            _ => return None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_step_comes_back_from_the_journal() {
        let (public, private) = (PathBuf::from("/game/a"), PathBuf::from("/ledger/originals/7"));
        let steps = [
            Step::TakeOut { public: public.clone(), private: private.clone() },
            Step::PutIn { private: private.clone(), public: public.clone() },
            Step::RenameFolder { from: private.clone(), to: public.clone() },
            Step::MakeFolder { path: public.clone() },
            Step::DropFolder { path: public.clone() },
            Step::SetAside { public: public.clone(), private: private.clone() },
        ];
        for step in &steps {
            assert_eq!(Step::from_journal(step.to_journal()).as_ref(), Some(step));
        }
        let unknown = JournalStep { kind: 9, private: None, public: "/game/a".into() };
        assert_eq!(Step::from_journal(unknown), None);
        let halved = JournalStep { kind: 0, private: None, public: "/game/a".into() };
        assert_eq!(Step::from_journal(halved), None);
    }
}
