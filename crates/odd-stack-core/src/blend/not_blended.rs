//! Why files can not be made one.

/// What stands in the way of combining files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Culprit {
    /// The game's own file.
    Base,
    /// One of the files.
    File(usize),
    /// Each is fine, but not with the others.
    Together,
}

/// Why files are not combined.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotBlended {
    /// Which of the files it is.
    pub culprit: Culprit,
    /// What is wrong with it.
    pub reason: String,
}

impl NotBlended {
    pub(super) fn together(reason: String) -> Self {
        Self { culprit: Culprit::Together, reason }
    }
}
