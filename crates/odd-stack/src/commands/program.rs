//! The program that a person wants to be run: found before anything is done for it, and why it can't be run.

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::process::{Command, ExitStatus};
use std::time::{Duration, Instant};

use odd_stack_core::OpenGame;
use odd_stack_core::game::{Running, Started};

use crate::errors::{Exit, Failure};
use crate::output::tell_at_once;
use crate::progress::{was_interrupted, while_a_program_runs};
use crate::session::absolute;

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

/// The words that start a command, with the game's runner where it needs one. A runner that is missing, or not there,
/// is told before anything is begun.
pub fn with_its_runner(game: &OpenGame, command: &[String], folder: &Path) -> Result<Vec<String>, Failure> {
    let words = game.with_runner(command);
    let Some((program, first)) = command.first().zip(words.first()) else {
        return Err(Failure::new(Exit::Usage, "usage", "say what to run"));
    };
    let has_runner = words.len() > command.len() && words.ends_with(command);
    if game.about().runner.is_none() && needs_runner(Path::new(program)) {
        let message = format!(
            "{program} is a Windows program, which needs a runner here: say what starts such programs with `oddstack game \
             set --runner \"PROGRAM ARGUMENTS\"`; nothing was begun"
        );
        return Err(Failure::new(Exit::Failed, "needs_runner", message));
    }
    if has_runner && game.about().runner.is_some() && found(first, folder).is_err() {
        let message = format!(
            "the runner `{first}`, which is to start {program}, can't be found; say another with `oddstack game set \
             --runner \"PROGRAM ARGUMENTS\"`; nothing was begun"
        );
        return Err(Failure::new(Exit::Failed, "no_runner", message));
    }
    Ok(words)
}

/// What ran, for a person: the program, or the runner that was to start it.
pub fn ran(words: &[String], command: &[String]) -> String {
    match (words.first(), command.first()) {
        (Some(runner), Some(program)) if runner != program => format!("the runner {runner}, for {program},"),
        (Some(program), _) => program.clone(),
        (None, _) => String::new(),
    }
}

/// Whether the file is a Windows program, and this system starts none.
fn needs_runner(program: &Path) -> bool {
    if cfg!(windows) || system_starts_windows_programs() {
        return false;
    }
    let mut head = Vec::new();
    let read = File::open(program).and_then(|file| file.take(2).read_to_end(&mut head));
    let ending = program.extension().map(|ending| ending.to_string_lossy().to_lowercase());
    let is_by_name = matches!(ending.as_deref(), Some("msi" | "bat" | "cmd"));
    read.is_ok() && (head == b"MZ" || is_by_name && head != b"#!")
}

/// Whether the kernel hands Windows programs to something that starts them (Linux kernel, binfmt_misc).
fn system_starts_windows_programs() -> bool {
    let Ok(formats) = std::fs::read_dir("/proc/sys/fs/binfmt_misc") else { return false };
    formats.flatten().filter_map(|format| std::fs::read_to_string(format.path()).ok()).any(|format| {
        format.starts_with("enabled")
            && format.lines().any(|line| line.starts_with("magic 4d5a") || line == "extension .exe")
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

/// Runs a program to its end and, unless Ctrl-C is pressed, to that of what it started, as far as the system tells, and of
/// what `else_running` names. Says whether Ctrl-C was pressed.
pub fn run_to_the_end(
    command: &mut Command,
    else_running: impl Fn() -> Vec<Running>,
) -> (io::Result<ExitStatus>, bool) {
    const LOOK_AGAIN_AFTER: Duration = Duration::from_millis(500);
    const WORTH_SAYING: Duration = Duration::from_secs(2);
    let name = command.get_program().to_string_lossy().into_owned();
    while_a_program_runs(|| {
        let started = Started::from_now_on();
        let ended = command.status()?;
        let (since, mut is_said) = (Instant::now(), false);
        while !was_interrupted() {
            let mut left = started.running();
            left.extend(else_running());
            let Some(first) = left.first() else { break };
            if !is_said && since.elapsed() > WORTH_SAYING {
                let Running { program, process } = first;
                let program = program.display();
                tell_at_once(&format!(
                    "{name} has ended; waiting for {program} (process {process}) too, or until you press Ctrl-C"
                ));
                is_said = true;
            }
            std::thread::sleep(LOOK_AGAIN_AFTER);
        }
        Ok(ended)
    })
}

/// Why the system refused to start a program.
pub fn refusal(program: &str, error: &io::Error) -> String {
    // learn.microsoft.com, System Error Codes.
    let why = match error.raw_os_error().filter(|_| cfg!(windows)) {
        Some(740) => "it needs administrator rights: start the terminal as administrator and try again".to_owned(),
        Some(5) => "Windows denies it: start the terminal as administrator, and look whether a virus scanner has locked it"
            .to_owned(),
        Some(193) => "it is no program that this Windows can start".to_owned(),
        Some(206 | 267) => "Windows starts no program in a folder whose path has more than 260 letters".to_owned(),
        _ => error.to_string(),
    };
    format!("{program} can't be run: {why}")
}
