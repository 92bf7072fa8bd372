//! Where a person and a new version changed the same.

/// Whose word counts where both sides changed the same key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Prefer {
    /// The person's.
    Mine,
    /// The new version's.
    New,
}

/// Something that a person and the new version both changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Clash {
    /// The key with its section, such as `Gulls.count`; or the lines.
    pub what: String,
    /// What the old version had; none if nothing.
    pub old: Option<String>,
    /// What the person has.
    pub mine: Option<String>,
    /// What the new version has.
    pub new: Option<String>,
}

/// Why changes can't be carried over.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotCarried {
    /// It is no text, or too big a one, or one that the new version's encoding can't hold.
    NoText,
    /// Both sides changed the same.
    Clashes(Vec<Clash>),
}
