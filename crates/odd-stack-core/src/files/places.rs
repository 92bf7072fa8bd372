//! What kind of place a folder is.

use std::path::{Path, PathBuf};

/// Whether a path lies on another computer's disk, where a catalogue can't be kept whole: locks and shared memory can't be
/// relied on there (sqlite.org, Write-Ahead Logging and How To Corrupt An SQLite Database File). What can't be told is not.
pub(crate) fn is_remote(path: &Path) -> bool {
    path.ancestors().find(|folder| folder.is_dir()).is_some_and(lies_remote)
}

#[cfg(windows)]
use super::windows::is_remote as lies_remote;

#[cfg(target_os = "linux")]
fn lies_remote(folder: &Path) -> bool {
    // linux/magic.h: NFS, SMB, CIFS, SMB2.
    const REMOTE: [u32; 4] = [0x6969, 0x517b, 0xff53_4d42, 0xfe53_4d42];
    is_of_kind(folder, &REMOTE)
}

/// Whether a folder lies on a file system that can keep what is alike once, as far as its kind tells. Nothing is tried.
#[cfg(target_os = "linux")]
pub(crate) fn may_share_blocks(folder: &Path) -> bool {
    // linux/magic.h: btrfs, XFS, bcachefs; and ZFS.
    const SHARING: [u32; 4] = [0x9123_683e, 0x5846_5342, 0xca45_1a4e, 0x2fc1_2fc1];
    is_of_kind(folder, &SHARING)
}

#[cfg(not(target_os = "linux"))]
pub(crate) fn may_share_blocks(_folder: &Path) -> bool {
    cfg!(target_os = "macos")
}

#[cfg(target_os = "linux")]
fn is_of_kind(folder: &Path, kinds: &[u32]) -> bool {
    rustix::fs::statfs(folder).is_ok_and(|told| {
        // Its type is another on each machine; the numbers have 32 bits.
        #[expect(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "that is what is compared"
        )]
        let kind = told.f_type as u32;
        kinds.contains(&kind)
    })
}

#[cfg(not(any(windows, target_os = "linux")))]
fn lies_remote(_folder: &Path) -> bool {
    false
}

/// The folder around `path` that a cloud client keeps the same on other computers, where the system tells.
#[cfg(windows)]
pub(crate) fn synced_around(path: &Path) -> Option<PathBuf> {
    let folded = |path: &Path| PathBuf::from(path.to_string_lossy().to_lowercase());
    let path = folded(path);
    super::windows::synced_folders().into_iter().find(|synced| path.starts_with(folded(synced)))
}

/// The folder around `path` that a cloud client keeps the same on other computers, where the system tells.
#[cfg(not(windows))]
pub(crate) fn synced_around(_path: &Path) -> Option<PathBuf> {
    None
}

/// Whether a folder is the system's or a person's as a whole, and so no game's.
pub(crate) fn is_no_games(folder: &Path) -> bool {
    let named = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
    let (within, around): (&[&str], &[&str]) = match cfg!(windows) {
        true => (&["SystemRoot"], &["ProgramFiles", "ProgramFiles(x86)", "ProgramData", "USERPROFILE"]),
        false => (&[], &["HOME"]),
    };
    let around = around.iter().filter_map(|name| named(name));
    let tops = ["/bin", "/boot", "/dev", "/etc", "/lib", "/opt", "/proc", "/sbin", "/sys", "/usr", "/var"];
    let tops = tops.iter().map(PathBuf::from).filter(|_| cfg!(unix));
    let within: Vec<PathBuf> = within.iter().filter_map(|name| named(name)).collect();
    lies_so(folder, &within, &around.chain(tops).collect::<Vec<_>>())
}

/// Whether a folder lies within one of the first, or holds one of the second.
fn lies_so(folder: &Path, within: &[PathBuf], around: &[PathBuf]) -> bool {
    let folded = |path: &Path| match cfg!(windows) {
        true => PathBuf::from(path.to_string_lossy().to_lowercase()),
        false => path.to_path_buf(),
    };
    let folder = folded(folder);
    within.iter().any(|path| folder.starts_with(folded(path)))
        || around.iter().any(|path| folded(path).starts_with(&folder))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_the_systems_is_no_games() {
        let path = |text: &str| PathBuf::from(if cfg!(windows) { format!("C:{text}") } else { text.into() });
        let (within, around) = ([path("/Windows")], [path("/Users/me"), path("/Programs")]);
        let is_one = |text: &str| !lies_so(&path(text), &within, &around);
        for game in ["/Programs/Quillhaven", "/Users/me/Games/Quillhaven", "/Games", "/WindowsGames"] {
            assert!(is_one(game), "{game}");
        }
        for other in ["/Windows", "/Windows/System32/x", "/Users/me", "/Users", "/Programs"] {
            assert!(!is_one(other), "{other}");
        }
        assert_eq!(is_one("/windows/x"), cfg!(unix));
    }
}
