//! Looks at paths, each with where it was.

use std::path::Path;

use super::error::ChangeError;
use crate::files::{Seen, is_nothing_there};

/// Looks at a path and says of an error where it was.
pub(super) fn look(path: &Path) -> Result<Option<Seen>, ChangeError> {
    match crate::files::look_at(path) {
        Err(error) if is_nothing_there(&error) => Ok(None),
        other => other.map_err(|source| ChangeError::Look { path: path.to_path_buf(), source }),
    }
}
