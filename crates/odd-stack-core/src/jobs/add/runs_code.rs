//! Which files of a package can run code, and so can do harm.

use crate::address::RelPath;

/// Endings of programs, libraries and scripts that a system or a shell runs by itself.
const ENDINGS: [&str; 30] = [
    "exe", "dll", "asi", "com", "scr", "msi", "sys", "cpl", "ocx", "bat", "cmd", "ps1", "vbs", "vbe", "js",
    "jse", "wsf", "hta", "lnk", "reg", "jar", "so", "dylib", "sh", "bash", "py", "pyd", "pl", "command",
    "appimage",
];

/// Whether the file is a program, library or script, by its ending or because it is marked to run.
pub(in crate::jobs) fn runs_code(path: &RelPath, executable: Option<bool>) -> bool {
    let name = path.name().to_lowercase();
    match name.rsplit_once('.').map(|(_, ending)| ending) {
        Some(ending) if ENDINGS.contains(&ending) => true,
        // `libhook.so.2`; and files without an ending that may be run.
        ending => name.contains(".so.") || (ending.is_none() && executable == Some(true)),
    }
}
