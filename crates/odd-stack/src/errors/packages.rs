//! What stands against reading a package.

use std::path::Path;

use odd_stack_core::package::{LimitBroken, PackageError};

use super::{Exit, Failure};
use crate::shell::quoted;

/// What runs a file that is no package, as one that installs by itself.
pub fn installing(path: &Path) -> Option<String> {
    const ENDINGS: [&str; 6] = ["exe", "msi", "bat", "cmd", "run", "sh"];
    let ending = path.extension()?.to_string_lossy().to_lowercase();
    let name = path.file_stem()?.to_string_lossy().into_owned();
    let path = path.display().to_string();
    let is_one = ENDINGS.contains(&ending.as_str());
    is_one.then(|| format!("oddstack capture {} -- {}", quoted(&name), quoted(&path)))
}

impl From<PackageError> for Failure {
    fn from(error: PackageError) -> Self {
        let capturing = match &error {
            PackageError::UnknownKind { path, .. } => installing(path),
            _ => None,
        };
        let code = match &error {
            PackageError::NotFound { .. } => "package_missing",
            PackageError::Unreadable { .. } => "package_unreadable",
            PackageError::UnknownKind { .. } => "package_kind_unknown",
            PackageError::NeitherFileNorFolder { .. } => "not_a_file",
            PackageError::Broken { .. } => "package_broken",
            PackageError::Member { .. } => "member_broken",
            PackageError::NotRead { .. } => "method_not_read",
            PackageError::Encrypted { .. } => "encrypted",
            PackageError::HostileName { .. } => "name_refused",
            PackageError::Duplicate { .. } => "duplicate_name",
            PackageError::FileAgainstFolder { .. } => "file_against_folder",
            PackageError::OverLimit { .. } => "over_limit",
            PackageError::MissingVolume { .. } => "volume_missing",
            PackageError::Unsuitable { .. } => "unsuitable_member",
            PackageError::NoRoomInside { .. } => "no_room_inside",
            PackageError::Cancelled => "stopped",
        };
        let mut failure = Self::of(Exit::Failed, code, &error);
        if let PackageError::OverLimit { limit, .. } = &error {
            let trust = if matches!(limit, LimitBroken::Ratio { .. }) { " if you trust it" } else { "" };
            failure.message.push_str(&format!(" (--limit {}{trust})", limit.that_would_do()));
        }
        match capturing {
            Some(command) => failure.choice("run it, and make a layer of what it changes", command),
            None => failure,
        }
    }
}
