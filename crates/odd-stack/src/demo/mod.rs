//! The demo: an invented game, invented packages, and the main job walked through with the real
//! program.

mod build;
mod steps;

use std::io::{self, Read, Seek};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde_json::json;

use crate::Ended;
use crate::errors::{Exit, Failure};
use crate::session::{Session, absolute};
use crate::shell::{going_to, setting};
use crate::show::safe::as_own;
use crate::show::style::{BOLD, DIM, GOOD, WARN, paint};
use steps::{Act, STEPS};

fn failed(what: &str, error: &dyn std::fmt::Display) -> Failure {
    Failure::new(Exit::Failed, "demo_failed", format!("the demo can't {what}: {error}"))
}

/// Builds the demo in `folder`, or in a new temporary one, and walks through it.
pub fn run(session: &mut Session, folder: Option<&Path>) -> Result<Ended, Failure> {
    let folder = match folder {
        Some(folder) => fresh(absolute(folder)?)?,
        None => {
            let made = tempfile::Builder::new().prefix("oddstack-demo-").tempdir();
            made.map_err(|error| failed("make a temporary folder", &error))?.keep()
        }
    };
    build::build(&folder).map_err(|error| failed(&format!("be built in {}", folder.display()), &error))?;
    session.out.text(&format!(
        "{}\n{}\n",
        paint(BOLD, "Quillhaven 1.7, an invented game, and invented packages for it"),
        paint(DIM, &format!("built in {}", folder.display()))
    ));
    let mut told = Vec::new();
    for (index, step) in STEPS.iter().enumerate() {
        session.out.text(&format!("\n{}\n", paint(GOOD, &format!("{}. {}", index + 1, step.says))));
        for act in step.acts {
            told.push(do_act(session, &folder, act)?);
        }
    }
    let text = farewell(&folder);
    session.out.result(Some("Quillhaven"), &json!({ "folder": folder, "commands": told }), &text);
    Ok(Ended::Well)
}

/// A folder that is new or empty.
fn fresh(folder: PathBuf) -> Result<PathBuf, Failure> {
    let first = match std::fs::read_dir(&folder) {
        Ok(mut entries) => entries.next(),
        Err(error) if error.kind() == io::ErrorKind::NotFound => None,
        Err(error) => return Err(failed(&format!("use {}", folder.display()), &error)),
    };
    if first.is_some() {
        let message = format!("{} is not empty; give a new or empty folder for the demo", folder.display());
        return Err(Failure::new(Exit::Failed, "not_empty", message));
    }
    Ok(folder)
}

fn do_act(session: &mut Session, folder: &Path, act: &Act) -> Result<serde_json::Value, Failure> {
    match act {
        Act::Edit { path, from, to } => {
            let place = folder.join(path);
            let edit = || -> io::Result<()> {
                let text = std::fs::read_to_string(&place)?;
                std::fs::write(&place, text.replace(from, to))
            };
            edit().map_err(|error| failed(&format!("edit {path}"), &error))?;
            session.out.text(&paint(DIM, &format!("  (by hand, in {path}: {from} becomes {to})\n")));
            Ok(json!({ "edited": path }))
        }
        Act::Update { from } => {
            let files = build::copy_over(&folder.join(from), &folder.join("game"))
                .map_err(|error| failed(&format!("go over the game with {from}"), &error))?;
            let line = format!("  (the game's client writes {})\n", files.join(", "));
            session.out.text(&paint(DIM, &line));
            Ok(json!({ "updated": files }))
        }
        Act::Run { line, exit } => run_line(session, folder, line, *exit),
    }
}

/// Runs this very program, prints what it prints, and holds it to the exit code that is right here.
fn run_line(
    session: &mut Session,
    folder: &Path,
    line: &str,
    exit: i32,
) -> Result<serde_json::Value, Failure> {
    session.out.text(&format!("{}\n", paint(BOLD, &format!("$ oddstack {line}"))));
    let program = std::env::current_exe().map_err(|error| failed("find its own program", &error))?;
    let color = if session.out.uses_color() { "always" } else { "never" };
    let mut printed = tempfile::tempfile().map_err(|error| failed("make a temporary file", &error))?;
    let both = printed.try_clone().and_then(|result| Ok((result, printed.try_clone()?)));
    let (result, status) = both.map_err(|error| failed("share a temporary file", &error))?;
    let ended = Command::new(program)
        .args(["--color", color])
        .args(line.split(' '))
        .current_dir(folder)
        .env("ODDSTACK_HOME", folder.join("home"))
        .env("COLUMNS", session.out.width.to_string())
        .env_remove("ODDSTACK_GAME")
        .stdin(Stdio::null())
        .stdout(result)
        .stderr(status)
        .status()
        .map_err(|error| failed("start its own program", &error))?;
    let mut text = Vec::new();
    let read = printed.rewind().and_then(|()| printed.read_to_end(&mut text));
    read.map_err(|error| failed("read what was printed", &error))?;
    session.out.text(&as_own(&String::from_utf8_lossy(&text)));
    let code = ended.code();
    if code != Some(exit) {
        let got = code.map_or("no exit code".to_owned(), |code| format!("exit code {code}"));
        return Err(failed(
            &format!("go on: `oddstack {line}` ended with {got}"),
            &format!("{exit} is right here"),
        ));
    }
    if exit != 0 {
        session.out.text(&paint(WARN, &format!("  (exit code {exit})\n")));
    }
    Ok(json!({ "command": line, "exit": exit }))
}

fn farewell(folder: &Path) -> String {
    let set = setting("ODDSTACK_HOME", &folder.join("home").display().to_string());
    format!(
        "\n{}\n  {}\n  {set}\n  oddstack stack\n  oddstack show grand-bells\n  oddstack move quiet-bells --top\n  \
         oddstack conflicts\n  oddstack lift --all\n",
        paint(BOLD, "It is all yours to play with. Try:"),
        going_to(&folder.display().to_string())
    )
}
