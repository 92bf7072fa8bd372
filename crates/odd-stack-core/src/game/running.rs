//! Which of a game's programs run right now.

use std::path::{Path, PathBuf};

use sysinfo::{ProcessRefreshKind, ProcessesToUpdate, System, UpdateKind};

use super::program_kind;
use crate::address::plain_path;

/// A process whose program lies in a game's folders.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Running {
    /// The system's number of the process.
    pub process: u32,
    /// The program.
    pub program: PathBuf,
}

impl Running {
    /// The process of that number, if it runs.
    #[cfg(windows)]
    pub(super) fn of(number: u32) -> Option<Self> {
        let id = sysinfo::Pid::from_u32(number);
        let mut system = System::new().ok()?;
        let told = ProcessRefreshKind::nothing().with_exe(UpdateKind::Always).without_tasks();
        system.refresh_processes_specifics(ProcessesToUpdate::Some(&[id]), true, told);
        let process = system.process(id)?;
        let program = process.exe().map_or_else(|| process.name().into(), Path::to_path_buf);
        Some(Self { process: number, program })
    }
}

/// The names of the programs that started this process, the nearest first; none where the system does not tell.
pub fn parents() -> Vec<String> {
    let Ok(mut system) = System::new() else { return Vec::new() };
    system.refresh_processes_specifics(
        ProcessesToUpdate::All,
        true,
        ProcessRefreshKind::nothing().without_tasks(),
    );
    let (mut names, mut seen) = (Vec::new(), Vec::new());
    let mut next = sysinfo::get_current_pid().ok();
    // The number of a parent that has ended may be another's by now.
    while let Some(process) = next.filter(|process| !seen.contains(process)) {
        seen.push(process);
        next = system.process(process).and_then(sysinfo::Process::parent);
        let name = next.and_then(|parent| system.process(parent)).map(sysinfo::Process::name);
        names.extend(name.map(|name| name.to_string_lossy().into_owned()));
    }
    names
}

/// Looks for processes whose program lies in one of `roots`, also where a runner was started with a program of
/// them. This process and those that started it do not count. A system that tells nothing has none.
pub fn running_in(roots: &[PathBuf]) -> Vec<Running> {
    let Ok(mut system) = System::new() else { return Vec::new() };
    let told = ProcessRefreshKind::nothing()
        .with_exe(UpdateKind::Always)
        .with_cmd(UpdateKind::Always)
        .with_cwd(UpdateKind::Always)
        .without_tasks();
    system.refresh_processes_specifics(ProcessesToUpdate::All, true, told);
    let mut own = Vec::new();
    let mut next = sysinfo::get_current_pid().ok();
    while let Some(process) = next.filter(|process| !own.contains(process)) {
        own.push(process);
        next = system.process(process).and_then(sysinfo::Process::parent);
    }
    let roots: Vec<PathBuf> = roots.iter().map(|root| real(root)).collect();
    let mut found: Vec<Running> = system
        .processes()
        .iter()
        .filter(|(id, _)| !own.contains(id))
        .filter_map(|(id, process)| {
            let words: Vec<&str> = process.cmd().iter().filter_map(|word| word.to_str()).collect();
            let program = program_in(&roots, process.exe(), &words, process.cwd(), &is_program)?;
            Some(Running { process: id.as_u32(), program })
        })
        .collect();
    found.sort_by_key(|running| running.process);
    found
}

/// A path as the system itself has it, without links.
fn real(path: &Path) -> PathBuf {
    plain_path(&std::fs::canonicalize(path).unwrap_or_else(|_| path.to_path_buf()))
}

/// Whether a path lies in a folder; on Windows whatever the case.
fn lies_in(path: &Path, folder: &Path) -> bool {
    let lower = |path: &Path| PathBuf::from(path.to_string_lossy().to_lowercase());
    match cfg!(windows) {
        true => lower(path).starts_with(lower(folder)),
        false => path.starts_with(folder),
    }
}

fn is_program(path: &Path) -> bool {
    program_kind(path).is_ok_and(|kind| kind.is_some())
}

/// The program in one of `roots` that a process runs: its own, or the one that a runner was given as a word.
fn program_in(
    roots: &[PathBuf],
    own: Option<&Path>,
    words: &[&str],
    folder: Option<&Path>,
    is_program: &dyn Fn(&Path) -> bool,
) -> Option<PathBuf> {
    let lies_in = |path: &Path| roots.iter().any(|root| lies_in(path, root));
    // It may be known by a short name, or with a mark before it.
    let own = own.map(|own| if lies_in(own) { own.to_path_buf() } else { real(own) });
    if let Some(own) = own.filter(|own| lies_in(own)) {
        return Some(own);
    }
    let candidates = words.iter().flat_map(|word| {
        // Runners of Windows programs name them by a drive letter.
        let plain = word.replace('\\', "/");
        let below_drive = plain.get(2..).filter(|_| plain.as_bytes().get(1) == Some(&b':'));
        [Some(PathBuf::from(word)), below_drive.map(PathBuf::from)]
    });
    candidates.flatten().map(|path| folder.map_or(path.clone(), |folder| folder.join(&path))).find_map(
        |path| {
            // Anything may be a word; only few are files there.
            let path = path.is_file().then(|| real(&path))?;
            (lies_in(&path) && is_program(&path)).then_some(path)
        },
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_program_runs_by_itself_or_through_a_runner() {
        let folder = tempfile::tempdir().unwrap();
        let game = real(folder.path()).join("Quillhaven");
        std::fs::create_dir(&game).unwrap();
        for name in ["quill.exe", "notes.txt"] {
            std::fs::write(game.join(name), "x").unwrap();
        }
        let roots = [game.clone()];
        let is_exe = |path: &Path| path.extension().is_some_and(|ending| ending == "exe");
        let found = |own: &str, words: &[&str], at: &Path| {
            program_in(&roots, Some(Path::new(own)), words, Some(at), &is_exe)
        };
        let exe = game.join("quill.exe");
        let whole = exe.to_str().unwrap();
        assert_eq!(program_in(&roots, Some(&exe), &[], None, &is_exe), Some(exe.clone()));
        assert_eq!(
            found("/usr/bin/runner", &["runner", whole, "-windowed"], Path::new("/")),
            Some(exe.clone())
        );
        assert_eq!(found("/usr/bin/runner", &["runner", "quill.exe"], &game), Some(exe.clone()));
        if cfg!(unix) {
            let drive = format!("Z:{}", whole.replace('/', "\\"));
            assert_eq!(found("/usr/bin/loader", &[&drive], Path::new("/")), Some(exe.clone()));
        }
        let notes = game.join("notes.txt");
        assert_eq!(found("/usr/bin/editor", &["editor", notes.to_str().unwrap()], &game), None, "only read");
        assert_eq!(found("/usr/bin/editor", &["quill.exe"], Path::new("/")), None, "of another folder");
    }

    /// Not a test: the program that the next one starts.
    #[test]
    #[cfg(windows)]
    fn waits() {
        if std::env::var_os("ODDSTACK_TEST_WAITS").is_some() {
            std::thread::sleep(std::time::Duration::from_secs(60));
        }
    }

    #[test]
    #[cfg(windows)]
    fn a_program_is_found_however_it_was_started() {
        let folder = tempfile::tempdir().unwrap();
        let game = real(folder.path()).join("Quill Haven");
        std::fs::create_dir(&game).unwrap();
        let program = game.join("quill.exe");
        std::fs::copy(std::env::current_exe().unwrap(), &program).unwrap();
        let written = program.to_str().unwrap();
        let ways = [
            written.to_owned(),
            written.to_uppercase(),
            format!(r"\\?\{written}"),
            written.replace('\\', "/"),
        ];
        for way in ways {
            for root in [
                game.clone(),
                std::fs::canonicalize(&game).unwrap(),
                PathBuf::from(written.to_lowercase()).parent().unwrap().to_owned(),
            ] {
                let mut command = std::process::Command::new(&way);
                command.args(["--exact", "game::running::tests::waits"]).env("ODDSTACK_TEST_WAITS", "1");
                let mut child = command.stdout(std::process::Stdio::null()).spawn().unwrap();
                let found = running_in(std::slice::from_ref(&root));
                child.kill().unwrap();
                child.wait().unwrap();
                assert_eq!(found.len(), 1, "{way} in {}", root.display());
                assert!(
                    found[0].process == child.id() && !found[0].program.to_string_lossy().starts_with(r"\\?")
                );
            }
        }
    }

    #[test]
    #[cfg(unix)]
    fn a_running_program_is_found() {
        let folder = tempfile::tempdir().unwrap();
        let game = folder.path().join("Quillhaven");
        std::fs::create_dir(&game).unwrap();
        let program = game.join("quillhaven");
        std::fs::copy("/bin/sleep", &program).unwrap();
        assert_eq!(running_in(std::slice::from_ref(&game)), Vec::new());
        let mut child = std::process::Command::new(&program).arg("30").spawn().unwrap();
        let found = running_in(&[game]);
        child.kill().unwrap();
        child.wait().unwrap();
        assert_eq!(found, [Running { process: child.id(), program: real(&program) }]);
    }
}
