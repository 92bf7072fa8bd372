//! The program that a person wants to be run: found before anything is done for it, and why it can't be run.

use std::io;
use std::path::{Path, PathBuf};

use crate::desk::absolute;
use crate::errors::{Exit, Failure};

/// Where the program lies that a person names: a path leads from the current folder, or from `folder`, where it will be
/// run; a bare name is looked for there and on the path of programs, in the order in which the system's shell does.
pub fn found(named: &str, folder: &Path) -> Result<PathBuf, Failure> {
    let here = absolute(Path::new("."))?;
    let is_path = named.contains('/') || cfg!(windows) && named.contains('\\');
    let in_folders = || [here.as_path(), folder].iter().find_map(|folder| in_folder(named, folder));
    let found = match (is_path, cfg!(windows)) {
        (true, _) => in_folders(),
        (false, true) => in_folders().or_else(|| on_the_path(named, &here)),
        (false, false) => on_the_path(named, &here).or_else(in_folders),
    };
    found.ok_or_else(|| {
        let where_else = if is_path { "" } else { ", nor is it on the path of programs" };
        let message = format!(
            "`{named}` can't be run: there is no such file in {} or {}{where_else}; nothing was begun",
            here.display(),
            folder.display()
        );
        Failure::new(Exit::Failed, "no_program", message)
    })
}

/// The program of that name on the path of programs; without one, where the system keeps its own.
fn on_the_path(named: &str, here: &Path) -> Option<PathBuf> {
    let path = std::env::var_os("PATH").or_else(|| match cfg!(windows) {
        true => std::env::var_os("SystemRoot").map(|root| Path::new(&root).join("System32").into_os_string()),
        false => Some("/usr/bin:/bin".into()),
    });
    which::which_in(named, path, here).ok()
}

/// The file of that name in a folder, or on Windows what it starts without its ending.
fn in_folder(named: &str, folder: &Path) -> Option<PathBuf> {
    let whole = folder.join(named);
    if whole.is_file() {
        return Some(whole);
    }
    if cfg!(windows) { which::which_in(named, Some(folder), folder).ok() } else { None }
}

/// Why the system refused to start a program.
pub fn refusal(program: &str, error: &io::Error) -> String {
    // learn.microsoft.com, System Error Codes.
    let why = match error.raw_os_error().filter(|_| cfg!(windows)) {
        Some(740) => "it needs administrator rights: start the terminal as administrator and say it again".to_owned(),
        Some(5) => "Windows denies it: start the terminal as administrator, and look whether a virus scanner has locked it"
            .to_owned(),
        Some(193) => "it is no program that this Windows can start".to_owned(),
        Some(206 | 267) => "Windows starts no program in a folder whose path has more than 260 letters".to_owned(),
        _ => error.to_string(),
    };
    format!("{program} can't be run: {why}")
}
