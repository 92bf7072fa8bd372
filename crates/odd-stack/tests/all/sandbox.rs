//! A folder with nothing of this machine in it, and commands run there.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitStatus, Stdio};

use assert_cmd::cargo::cargo_bin;
use serde_json::Value;
use tempfile::TempDir;
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

pub struct Sandbox {
    folder: TempDir,
}

/// Runs it to its end. Wine says now and then that it can't start a process ("Internal error"), and can a moment later.
fn started(command: &mut Command) -> ExitStatus {
    const INTERNAL_ERROR: i32 = 1359;
    for _ in 0..20 {
        match command.status() {
            Err(error) if cfg!(windows) && error.raw_os_error() == Some(INTERNAL_ERROR) => {
                std::thread::sleep(std::time::Duration::from_millis(250));
            }
            ended => return ended.unwrap(),
        }
    }
    panic!("{command:?} can't be started")
}

/// All of them; on Windows some, one of so many: what follows from each is the same there, and each command takes long to start
/// where that is tested.
pub fn some<T>(all: impl IntoIterator<Item = T>, one_of: usize) -> impl Iterator<Item = T> {
    all.into_iter().step_by(if cfg!(windows) { one_of } else { 1 })
}

impl Sandbox {
    /// An empty home.
    pub fn empty() -> Self {
        let in_memory = Some(PathBuf::from("/dev/shm")).filter(|folder| cfg!(unix) && folder.is_dir());
        let folder = std::env::var_os("ODDSTACK_TEST_FOLDER").map(PathBuf::from).or(in_memory);
        let mut builder = tempfile::Builder::new();
        builder.prefix("oddstack-");
        Self {
            folder: folder.map_or_else(|| builder.tempdir(), |folder| builder.tempdir_in(folder)).unwrap(),
        }
    }

    /// A small Quillhaven added, with a documents folder.
    pub fn with_game() -> Self {
        let sandbox = Self::empty();
        sandbox.write("game/bin/harbour.txt", "the program's folder\n");
        sandbox.write("game/data/lamps/brass.qtx", "base brass\n");
        sandbox.write("game/data/lamps/iron.qtx", "base iron\n");
        sandbox.write("game/config/fog.ini", "fog=1\n");
        sandbox.write("docs/profiles/wren.ini", "name=Wren\n");
        let line = "game add Quillhaven game --root docs=docs --spot bin=bin --game-version 1.7";
        sandbox.run(line).status(0);
        sandbox
    }

    pub fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    pub fn write(&self, path: &str, content: &str) {
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }

    pub fn read(&self, path: &str) -> String {
        fs::read_to_string(self.path(path)).unwrap()
    }

    /// A zip archive of members by name and content, all of one time.
    pub fn zip(&self, name: &str, members: &[(&str, &str)]) {
        let members: Vec<_> = members.iter().map(|(member, content)| (*member, content.as_bytes())).collect();
        self.zip_of_bytes(name, &members);
    }

    pub fn zip_of_bytes(&self, name: &str, members: &[(&str, &[u8])]) {
        let mut writer = ZipWriter::new(fs::File::create(self.path(name)).unwrap());
        for (member, content) in members {
            writer.start_file(*member, SimpleFileOptions::default()).unwrap();
            writer.write_all(content).unwrap();
        }
        writer.finish().unwrap();
    }

    /// Contents of all files of the game's folders.
    pub fn files(&self) -> BTreeMap<String, String> {
        let mut files = BTreeMap::new();
        for root in ["game", "docs"] {
            walk(&self.path(root), root, &mut files);
        }
        files
    }

    /// Runs `oddstack` with the words of `line`.
    #[must_use = "say how it must have ended"]
    pub fn run(&self, line: &str) -> Ran {
        self.run_words(&line.split(' ').filter(|word| !word.is_empty()).collect::<Vec<_>>())
    }

    #[must_use = "say how it must have ended"]
    pub fn run_words(&self, words: &[&str]) -> Ran {
        self.run_in("", words, &[])
    }

    /// The program in a folder, with nothing of this machine and more in its environment.
    pub fn command(&self, folder: &str, words: &[&str], set: &[(&str, &str)]) -> Command {
        let mut command = Command::new(cargo_bin("oddstack"));
        command.current_dir(self.path(folder));
        if cfg!(windows) {
            // Windows programs do not start without much of their environment.
            for name in ["ODDSTACK_GAME", "NO_COLOR", "CLICOLOR", "CLICOLOR_FORCE"] {
                command.env_remove(name);
            }
        } else {
            command.env_clear();
        }
        command.env("ODDSTACK_HOME", self.path("home"));
        command.env("ODDSTACK_NOW", "2026-01-02T03:04:05Z");
        command.env("COLUMNS", "100");
        command.envs(set.iter().copied()).args(words).stdin(Stdio::null());
        command
    }

    /// Runs it in a folder, with more in its environment. Where it offers choices, each of them is tried.
    #[must_use = "say how it must have ended"]
    pub fn run_in(&self, folder: &str, words: &[&str], set: &[(&str, &str)]) -> Ran {
        let mut command = self.command(folder, words, set);
        // Into files: Wine can't open the pipes that the standard library makes.
        let (stdout, stderr) = (self.path("stdout.txt"), self.path("stderr.txt"));
        command.stdout(fs::File::create(&stdout).unwrap()).stderr(fs::File::create(&stderr).unwrap());
        let status = started(&mut command);
        let text = |path: PathBuf| self.tidy(&String::from_utf8_lossy(&fs::read(path).unwrap()));
        let (stdout, stderr) = (text(stdout), text(stderr));
        let status = status.code().unwrap_or(-1);
        if status != 0 && stderr.contains("\nChoose:\n") {
            paste::every_choice(self, folder, words, set);
        }
        Ran { line: words.join(" "), status, stdout, stderr }
    }

    /// Acts on a copy of all that is here, in its place. The state itself is moved away and back, so that not even times
    /// of change are touched.
    #[cfg(unix)]
    pub fn on_a_copy<T>(&self, act: impl FnOnce() -> T) -> T {
        let place = self.folder.path().to_path_buf();
        let mut names = (0..).map(|number| place.with_extension(format!("aside{number}")));
        let aside = names.find(|name| !name.exists()).unwrap();
        fs::rename(&place, &aside).unwrap();
        assert!(Command::new("cp").arg("-a").args([&aside, &place]).status().unwrap().success());
        let done = act();
        fs::remove_dir_all(&place).unwrap();
        fs::rename(&aside, &place).unwrap();
        done
    }

    /// Paths of this run become `[HERE]`, and separators `/`.
    fn tidy(&self, text: &str) -> String {
        let here = self.folder.path().display().to_string();
        let json = here.replace('\\', "\\\\");
        let text = text.replace(&json, "[HERE]").replace(&here, "[HERE]").replace("\r\n", "\n");
        if cfg!(windows) { text.replace("\\\\", "/").replace('\\', "/") } else { text }
    }
}

fn walk(folder: &Path, shown: &str, files: &mut BTreeMap<String, String>) {
    for entry in fs::read_dir(folder).unwrap() {
        let entry = entry.unwrap();
        let name = format!("{shown}/{}", entry.file_name().to_string_lossy());
        if entry.file_name() == ".oddstack" {
            continue;
        }
        if entry.file_type().unwrap().is_dir() {
            walk(&entry.path(), &name, files);
        } else {
            files.insert(name, fs::read_to_string(entry.path()).unwrap());
        }
    }
}

/// What a command printed and how it ended.
pub struct Ran {
    line: String,
    status: i32,
    pub stdout: String,
    pub stderr: String,
}

impl Ran {
    /// Holds it to an exit code.
    pub fn status(self, wanted: i32) -> Self {
        assert_eq!(self.status, wanted, "{}\n{}{}", self.line, self.stdout, self.stderr);
        self
    }

    /// Holds it to one of several exit codes, and gives which.
    pub fn one_of(self, wanted: &[i32], told: &str) -> i32 {
        let Self { status, stdout, stderr, .. } = &self;
        assert!(wanted.contains(status), "{told}: {status}\n{stdout}{stderr}");
        self.status
    }

    /// Holds it to words on either stream.
    pub fn says(self, words: &str) -> Self {
        let all = format!("{}{}", self.stdout, self.stderr);
        assert!(all.contains(words), "`{words}` is not in\n{all}");
        self
    }

    /// All of it in one text, for a snapshot.
    pub fn whole(&self) -> String {
        format!("{}{}[exit {}]\n", self.stdout, self.stderr, self.status)
    }

    /// The JSON object on standard output.
    pub fn json(&self) -> Value {
        assert_eq!(self.stderr, "", "JSON comes alone");
        serde_json::from_str(&self.stdout).unwrap_or_else(|error| panic!("{error}\n{}", self.stdout))
    }
}

/// What the program offers is done as it says, in a copy of the same state.
mod paste {
    use super::*;

    /// Errors that say that what was given is nonsense, or names what does not exist.
    #[cfg(unix)]
    const NONSENSE: [&str; 12] = [
        "usage",
        "no_such_layer",
        "no_such_game",
        "package_missing",
        "bad_address",
        "bad_place",
        "bad_pattern",
        "bad_choice",
        "bad_name",
        "no_such_choice",
        "unknown_name",
        "nothing_there",
    ];

    /// Runs the command once more for its choices, and then each of them.
    #[cfg(unix)]
    pub fn every_choice(sandbox: &Sandbox, folder: &str, words: &[&str], set: &[(&str, &str)]) {
        let end = words.iter().position(|word| *word == "--").unwrap_or(words.len());
        // The first look may have been told things that a second one is not, such as what was cut short.
        let asked = run(sandbox, folder, &[&words[..end], &["--json"], &words[end..]].concat(), set);
        let Some(error) = asked.1.get("error").cloned() else { return };
        for choice in error["choices"].as_array().into_iter().flatten() {
            let option = choice["option"].as_str().unwrap();
            let offered = shlex::split(option).unwrap_or_else(|| panic!("no words: {option}"));
            let offered: Vec<&str> = offered.iter().map(String::as_str).collect();
            let line = match offered.as_slice() {
                ["oddstack", rest @ ..] if rest.contains(&"--json") => rest.to_vec(),
                ["oddstack", rest @ ..] => [rest, &["--json"]].concat(),
                options => [&words[..end], options, &["--json"], &words[end..]].concat(),
            };
            let (status, report) = sandbox.on_a_copy(|| run(sandbox, folder, &line, set));
            let (code, message) = (&report["error"]["code"], &report["error"]["message"]);
            let told = format!("`{}` offers `{option}`, and that says {code} {message}", words.join(" "));
            assert!(status != 2, "wrong usage: {told}");
            assert!(!NONSENSE.iter().any(|nonsense| code == nonsense), "nonsense: {told}");
            assert!(
                code.is_null() || (code, message) != (&error["code"], &error["message"]),
                "in a circle: {told}"
            );
        }
    }

    #[cfg(not(unix))]
    pub fn every_choice(_: &Sandbox, _: &str, _: &[&str], _: &[(&str, &str)]) {}

    #[cfg(unix)]
    fn run(sandbox: &Sandbox, folder: &str, words: &[&str], set: &[(&str, &str)]) -> (i32, Value) {
        let output = sandbox.command(folder, words, set).output().unwrap();
        let report = serde_json::from_slice(&output.stdout).unwrap_or(Value::Null);
        (output.status.code().unwrap_or(-1), report)
    }
}
