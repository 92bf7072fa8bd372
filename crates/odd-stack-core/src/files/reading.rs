//! Opening files that others may have put there: regular files only, without waiting.
//!
//! A game's folder may hold anything. A named pipe would keep a reader waiting for ever, and a link may lead to a file
//! that is none of the game's.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read};
use std::path::Path;

use super::patience::quietly;

/// Opens the regular file at `path` to read it; a link at its own name is none.
///
/// # Errors
/// When it can't be opened, and [`io::ErrorKind::InvalidInput`] where something other than a regular file lies there.
pub(crate) fn open_regular(path: &Path) -> io::Result<File> {
    let is_regular = |is_file: bool| if is_file { Ok(()) } else { Err(not_regular()) };
    // Before it is opened, since opening alone may already set something off.
    is_regular(quietly(path, || fs::symlink_metadata(path))?.is_file())?;
    let file = open_at_once(path)?;
    is_regular(file.metadata()?.is_file())?;
    Ok(file)
}

/// All of the regular file at `path`; nothing where it is bigger than `most_bytes`.
///
/// # Errors
/// As [`open_regular`], and of reading.
pub(crate) fn read_small(path: &Path, most_bytes: u64) -> io::Result<Option<Vec<u8>>> {
    let mut content = Vec::new();
    // It may grow while it is read.
    open_regular(path)?.take(most_bytes + 1).read_to_end(&mut content)?;
    Ok((content.len() as u64 <= most_bytes).then_some(content))
}

/// Opens what lies at `path` to read it, whatever it is, without following a link at its own name or waiting for anybody:
/// a pipe gives nothing. For files that are judged by their contents.
///
/// # Errors
/// When it can't be opened.
pub(crate) fn open_at_once(path: &Path) -> io::Result<File> {
    let mut options = OpenOptions::new();
    options.read(true);
    refuse_links(&mut options);
    quietly(path, || options.open(path))
}

/// Opens the regular file that lies at `path` once links are followed, which must lie below `root` like all of the
/// game's.
///
/// # Errors
/// As [`open_regular`], and [`io::ErrorKind::InvalidInput`] where links lead out of `root`.
pub(crate) fn open_below(root: &Path, path: &Path) -> io::Result<File> {
    let real = fs::canonicalize(path)?;
    if !real.starts_with(fs::canonicalize(root)?) {
        return Err(io::Error::new(
            io::ErrorKind::InvalidInput,
            "a link leads from there out of the game's folder, and is not followed",
        ));
    }
    open_regular(&real)
}

/// Reads as many bytes as there is room for, from a place on, whatever was read before.
///
/// # Errors
/// Also where the file ends before.
#[cfg(unix)]
pub(crate) fn read_exact_at(file: &File, bytes: &mut [u8], at: u64) -> io::Result<()> {
    std::os::unix::fs::FileExt::read_exact_at(file, bytes, at)
}

#[cfg(windows)]
pub(crate) fn read_exact_at(file: &File, mut bytes: &mut [u8], mut at: u64) -> io::Result<()> {
    while !bytes.is_empty() {
        match std::os::windows::fs::FileExt::seek_read(file, bytes, at)? {
            0 => return Err(io::ErrorKind::UnexpectedEof.into()),
            count => {
                bytes = &mut bytes[count..];
                at += count as u64;
            }
        }
    }
    Ok(())
}

fn not_regular() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidInput, "it is no regular file, but a link, a folder or a pipe")
}

#[cfg(unix)]
fn refuse_links(options: &mut OpenOptions) {
    use std::os::unix::fs::OpenOptionsExt;
    let flags = rustix::fs::OFlags::NOFOLLOW | rustix::fs::OFlags::NONBLOCK;
    options.custom_flags(flags.bits() as i32);
}

#[cfg(windows)]
fn refuse_links(options: &mut OpenOptions) {
    use std::os::windows::fs::OpenOptionsExt;
    const FILE_FLAG_OPEN_REPARSE_POINT: u32 = 0x0020_0000;
    options.custom_flags(FILE_FLAG_OPEN_REPARSE_POINT);
}

#[cfg(not(any(unix, windows)))]
fn refuse_links(_options: &mut OpenOptions) {}

#[cfg(all(test, unix))]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn only_regular_files_of_the_game_are_read() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::create_dir_all(at("game/logs")).unwrap();
        fs::write(at("game/logs/run.log"), "ready").unwrap();
        fs::write(at("secret"), "secret").unwrap();
        symlink(at("secret"), at("game/out.log")).unwrap();
        symlink(at("game/logs"), at("game/in")).unwrap();
        symlink(folder.path(), at("game/up")).unwrap();
        rustix::fs::mknodat(
            rustix::fs::CWD,
            at("game/pipe"),
            rustix::fs::FileType::Fifo,
            rustix::fs::Mode::RWXU,
            0,
        )
        .unwrap();
        assert_eq!(read_small(&at("game/logs/run.log"), 5).unwrap().unwrap(), b"ready");
        assert_eq!(read_small(&at("game/logs/run.log"), 4).unwrap(), None, "it is bigger");
        let mut nothing = Vec::new();
        open_at_once(&at("game/pipe")).unwrap().read_to_end(&mut nothing).unwrap();
        assert!(nothing.is_empty() && open_at_once(&at("game/out.log")).is_err());
        let of_kind = |result: io::Result<File>| result.map_err(|error| error.kind()).map(drop);
        for name in ["game/out.log", "game/pipe", "game/logs"] {
            assert_eq!(of_kind(open_regular(&at(name))), Err(io::ErrorKind::InvalidInput), "{name}");
        }
        let below = |name: &str| of_kind(open_below(&at("game"), &at(name)));
        assert_eq!(below("game/in/run.log"), Ok(()));
        for name in ["game/out.log", "game/up/secret", "game/pipe"] {
            assert_eq!(below(name), Err(io::ErrorKind::InvalidInput), "{name}");
        }
        assert_eq!(below("game/none"), Err(io::ErrorKind::NotFound));
    }
}
