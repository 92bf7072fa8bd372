//! Which of a game's executables is the game.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

use object::read::{Object, ReadCache};

use crate::address::RelPath;

/// What kind of executable a file is, by its header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ProgramKind {
    /// A Windows program (PE) with a window of its own.
    WindowsGui,
    /// A Windows program for a console.
    WindowsConsole,
    /// A Linux program (ELF).
    Linux,
}

/// An executable below a root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Program {
    /// Where it lies.
    pub path: RelPath,
    /// Its size.
    pub size_bytes: u64,
    /// What its header says.
    pub kind: ProgramKind,
    /// It asks the system for libraries that draw, play sound or read a game pad.
    pub plays: bool,
}

/// Words in a file name that tell a helper program from the game.
const HELPER_WORDS: [&str; 24] = [
    "launch",
    "unins",
    "install",
    "setup",
    "crash",
    "report",
    "updat",
    "patch",
    "config",
    "settings",
    "redist",
    "vcredist",
    "dxsetup",
    "helper",
    "server",
    "editor",
    "benchmark",
    "handler",
    "bootstrap",
    "prereq",
    "diagnos",
    "repair",
    "register",
    "tool",
];

/// Picks the main program: never a launcher, installer, uninstaller or other helper; of the rest the
/// one that is large, named like the game, has a window, draws and plays, and lies not too deep.
pub fn main_program<'a>(programs: &'a [Program], game_names: &[&str]) -> Option<&'a Program> {
    programs.iter().filter(|program| !is_helper(program.path.name())).max_by(|one, two| {
        let order = score(one, game_names).total_cmp(&score(two, game_names));
        order.then_with(|| two.path.cmp(&one.path))
    })
}

fn is_helper(name: &str) -> bool {
    let name = name.to_lowercase();
    HELPER_WORDS.iter().any(|word| name.contains(word))
}

fn score(program: &Program, game_names: &[&str]) -> f64 {
    let letters = |text: &str| text.to_lowercase().replace(|c: char| !c.is_alphanumeric(), "");
    let stem = program.path.name().split('.').next().map(letters).unwrap_or_default();
    let is_named = game_names.iter().map(|name| letters(name)).any(|name| {
        stem.len() >= 3 && name.len() >= 3 && (stem.starts_with(&name) || name.starts_with(&stem))
    });
    // A doubling of the size is worth one point; the largest of many programs is mostly the game.
    let size = (program.size_bytes.max(1) as f64).log2();
    let depth = program.path.parts().count() as f64;
    let window = if program.kind == ProgramKind::WindowsConsole { 0.0 } else { 2.0 };
    size + window - depth * 0.5 + if is_named { 4.0 } else { 0.0 } + if program.plays { 3.0 } else { 0.0 }
}

/// Whether a file may be a program, by its name and mode, so that its header is worth a look.
pub fn may_be_program(path: &RelPath, mode: u32) -> bool {
    let name = path.name().to_lowercase();
    match name.rsplit_once('.') {
        Some((_, "exe")) => true,
        Some((_, "x86_64" | "x86" | "bin")) | None => mode & 0o111 != 0,
        Some(_) => false,
    }
}

/// Whether a file may be a program by its name alone.
pub(crate) fn is_named_like_program(path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    let ending = name.rsplit_once('.').map(|(_, ending)| ending);
    ending.is_none_or(|ending| {
        ["exe", "x86_64", "x86", "bin"].iter().any(|known| known.eq_ignore_ascii_case(ending))
    })
}

/// Reads the header of the file at `path`: PE (Microsoft PE/COFF specification) or ELF (System V
/// ABI); `None` when it is neither or is a library.
///
/// # Errors
/// When the file can't be read.
pub fn program_kind(path: &Path) -> io::Result<Option<ProgramKind>> {
    let mut head = Vec::with_capacity(4096);
    File::open(path)?.take(4096).read_to_end(&mut head)?;
    Ok(kind_of_header(&head))
}

fn kind_of_header(head: &[u8]) -> Option<ProgramKind> {
    let u16_at = |at: usize| head.get(at..at + 2).map(|bytes| u16::from_le_bytes([bytes[0], bytes[1]]));
    if head.starts_with(b"\x7fELF") {
        const EXECUTABLE: u16 = 2;
        const SHARED_OR_POSITION_INDEPENDENT: u16 = 3;
        return matches!(u16_at(16), Some(EXECUTABLE | SHARED_OR_POSITION_INDEPENDENT))
            .then_some(ProgramKind::Linux);
    }
    if !head.starts_with(b"MZ") {
        return None;
    }
    let at = usize::from(u16_at(0x3c)?) + (usize::from(u16_at(0x3e)?) << 16);
    if head.get(at..at + 4)? != b"PE\0\0" {
        return None;
    }
    const LIBRARY: u16 = 0x2000;
    const WINDOW: u16 = 2;
    if u16_at(at + 22)? & LIBRARY != 0 {
        return None;
    }
    match u16_at(at + 24 + 68) {
        Some(WINDOW) => Some(ProgramKind::WindowsGui),
        _ => Some(ProgramKind::WindowsConsole),
    }
}

/// File names, in lower case, of the libraries that the Windows program at `path` asks the system for (its
/// import table, Microsoft PE/COFF specification); none of other programs.
///
/// # Errors
/// When the file can't be read.
pub fn imports_of(path: &Path) -> io::Result<Vec<String>> {
    let cache = ReadCache::new(File::open(path)?);
    let imports = object::File::parse(&cache).and_then(|file| {
        let names =
            file.imports()?.map(|import| Ok(String::from_utf8_lossy(import?.library()).to_lowercase()));
        names.collect::<object::read::Result<Vec<String>>>()
    });
    // What can't be parsed tells nothing.
    let mut libraries: Vec<String> = imports.unwrap_or_default();
    libraries.sort();
    libraries.dedup();
    Ok(libraries)
}

/// Whether one of the libraries draws, plays sound or reads a game pad.
pub fn plays(imports: &[String]) -> bool {
    const BEGINNINGS: [&str; 10] =
        ["d3d", "dxgi", "ddraw", "opengl32", "vulkan", "sdl", "glfw", "xinput", "dinput", "xaudio"];
    imports.iter().any(|library| BEGINNINGS.iter().any(|beginning| library.starts_with(beginning)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn program(path: &str, size_bytes: u64) -> Program {
        Program {
            path: RelPath::parse(path).unwrap(),
            size_bytes,
            kind: ProgramKind::WindowsGui,
            plays: false,
        }
    }

    #[test]
    fn the_game_and_not_its_helpers() {
        let programs = [
            program("QuillhavenLauncher.exe", 90_000_000),
            program("bin/quillhaven.exe", 4_000_000),
            program("unins000.exe", 9_000_000),
            program("bin/CrashReporter.exe", 80_000_000),
            program("redist/vc_redist.x64.exe", 25_000_000),
            program("bin/chart_viewer.exe", 5_000_000),
        ];
        let picked = main_program(&programs, &["Quillhaven"]).unwrap();
        assert_eq!(picked.path.as_str(), "bin/quillhaven.exe");
        let largest = main_program(&programs, &["harbour"]).unwrap();
        assert_eq!(largest.path.as_str(), "bin/chart_viewer.exe");
        let mut playing = programs.clone();
        playing[1].plays = true;
        assert_eq!(main_program(&playing, &["harbour"]).unwrap().path.as_str(), "bin/quillhaven.exe");
        assert!(plays(&["kernel32.dll".into(), "d3d11.dll".into()]) && !plays(&["kernel32.dll".into()]));
        assert_eq!(main_program(&programs[..1], &["Quillhaven"]), None, "a launcher is never the game");
    }

    #[test]
    fn headers() {
        let mut pe = vec![0; 0x200];
        pe[..2].copy_from_slice(b"MZ");
        pe[0x3c] = 0x80;
        pe[0x80..0x84].copy_from_slice(b"PE\0\0");
        pe[0x80 + 24 + 68] = 2;
        assert_eq!(kind_of_header(&pe), Some(ProgramKind::WindowsGui));
        pe[0x80 + 23] = 0x20;
        assert_eq!(kind_of_header(&pe), None, "a library");
        assert_eq!(kind_of_header(b"MZ"), None);
        let mut elf = vec![0; 64];
        elf[..4].copy_from_slice(b"\x7fELF");
        elf[16] = 3;
        assert_eq!(kind_of_header(&elf), Some(ProgramKind::Linux));
    }
}
