//! Waiting for what another program holds for a moment.
//!
//! On Windows virus scanners and indexers open each new file, and while they hold it, it can't be renamed, removed or
//! opened: `ERROR_SHARING_VIOLATION` (32), `ERROR_LOCK_VIOLATION` (33), and `ERROR_ACCESS_DENIED` (5) for a file that
//! is about to go (learn.microsoft.com, System Error Codes). That passes by itself, so it is tried again for a while.
//! Elsewhere a file can be renamed and removed whoever has it open, and nothing is waited for.

use std::path::{Path, PathBuf};
use std::time::Duration;
use std::{fmt, io};

/// Nothing is waited for longer than that.
const LONGEST: Duration = Duration::from_secs(5);
/// People are told when it takes longer.
const WORTH_TELLING: Duration = Duration::from_millis(500);
const FIRST_PAUSE: Duration = Duration::from_millis(10);
const LONGEST_PAUSE: Duration = Duration::from_millis(500);

/// A file that another program does not let go.
#[derive(Debug)]
pub(crate) struct StillHeld {
    path: PathBuf,
    programs: Vec<String>,
    source: io::Error,
}

impl fmt::Display for StillHeld {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.programs.as_slice() {
            [] if is_shared_out(&self.source) => {
                write!(formatter, "another program has {} open", self.path.display())
            }
            [] => write!(formatter, "{}: {}", self.path.display(), self.source),
            programs => write!(formatter, "{} is held by {}", self.path.display(), programs.join(", ")),
        }
    }
}

impl std::error::Error for StillHeld {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        Some(&self.source)
    }
}

/// Does something with what lies at `path`, again and again while another program holds that; `tell` hears of it when it takes
/// long.
///
/// # Errors
/// The last one; of a file that stays held with its path and, where the system tells, the programs that hold it.
pub(crate) fn patiently<T>(
    path: &Path,
    tell: impl Fn(&Path),
    act: impl FnMut() -> io::Result<T>,
) -> io::Result<T> {
    waited_for(path, |error| will_pass(error, path), tell, act)
}

/// As [`patiently`] for what changes a file of our own, and nobody hears of it.
pub(crate) fn firmly<T>(path: &Path, act: impl FnMut() -> io::Result<T>) -> io::Result<T> {
    patiently(path, |_| {}, act)
}

/// As [`patiently`], for what only reads: nobody hears of it, and what may not be read is not waited for.
pub(crate) fn quietly<T>(path: &Path, act: impl FnMut() -> io::Result<T>) -> io::Result<T> {
    waited_for(path, is_shared_out, |_| {}, act)
}

fn waited_for<T>(
    path: &Path,
    is_passing: impl Fn(&io::Error) -> bool,
    tell: impl Fn(&Path),
    act: impl FnMut() -> io::Result<T>,
) -> io::Result<T> {
    let pause = |waited, pause| {
        if waited >= WORTH_TELLING {
            tell(path);
        }
        std::thread::sleep(pause);
    };
    tried(&is_passing, pause, act).map_err(|error| match is_passing(&error) {
        true => {
            let kind = match error.kind() {
                io::ErrorKind::PermissionDenied => io::ErrorKind::PermissionDenied,
                _ => io::ErrorKind::ResourceBusy,
            };
            let programs = holders(path);
            io::Error::new(kind, StillHeld { path: path.to_owned(), programs, source: error })
        }
        false => error,
    })
}

/// Tries until it works, the error is none that passes, or the pauses together reach [`LONGEST`].
fn tried<T>(
    is_passing: impl Fn(&io::Error) -> bool,
    mut pause: impl FnMut(Duration, Duration),
    mut act: impl FnMut() -> io::Result<T>,
) -> io::Result<T> {
    let (mut waited, mut next) = (Duration::ZERO, FIRST_PAUSE);
    loop {
        match act() {
            Err(error) if waited < LONGEST && is_passing(&error) => {
                let length = next.min(LONGEST - waited);
                pause(waited, length);
                waited += length;
                next = (next * 2).min(LONGEST_PAUSE);
            }
            other => return other,
        }
    }
}

/// Whether an error says that somebody has the file open.
fn is_shared_out(error: &io::Error) -> bool {
    cfg!(windows) && matches!(error.raw_os_error(), Some(32 | 33))
}

/// Whether an error is of the kind that goes when another program lets go.
#[cfg(windows)]
fn will_pass(error: &io::Error, path: &Path) -> bool {
    match error.raw_os_error() {
        _ if is_shared_out(error) => true,
        // What is write-protected stays so, and a folder is refused by other rights.
        Some(5) => std::fs::symlink_metadata(path)
            .map_or(true, |metadata| metadata.is_file() && !metadata.permissions().readonly()),
        _ => false,
    }
}

#[cfg(not(windows))]
fn will_pass(_error: &io::Error, _path: &Path) -> bool {
    false
}

#[cfg(windows)]
use super::windows::holders;

#[cfg(not(windows))]
fn holders(_path: &Path) -> Vec<String> {
    Vec::new()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn failing(times: usize) -> (io::Result<usize>, Vec<Duration>) {
        let (mut pauses, mut tries) = (Vec::new(), 0);
        let result = tried(
            |error| error.kind() == io::ErrorKind::ResourceBusy,
            |waited, pause| {
                assert_eq!(waited, pauses.iter().sum::<Duration>());
                pauses.push(pause);
            },
            || {
                tries += 1;
                if tries > times { Ok(tries) } else { Err(io::ErrorKind::ResourceBusy.into()) }
            },
        );
        (result, pauses)
    }

    #[test]
    fn what_passes_is_tried_again_with_growing_pauses_and_not_for_ever() {
        assert!(matches!(failing(0), (Ok(1), pauses) if pauses.is_empty()));
        let (result, pauses) = failing(6);
        assert_eq!(result.unwrap(), 7);
        assert!(pauses.is_sorted() && pauses[0] == FIRST_PAUSE && pauses[5] == FIRST_PAUSE * 32);
        let (result, pauses) = failing(usize::MAX);
        assert_eq!(result.unwrap_err().kind(), io::ErrorKind::ResourceBusy);
        assert_eq!(pauses.iter().sum::<Duration>(), LONGEST);
        let mut tries = 0;
        let other = tried(
            |_| false,
            |_, _| panic!("it does not pass"),
            || -> io::Result<()> {
                tries += 1;
                Err(io::ErrorKind::NotFound.into())
            },
        );
        assert!(other.is_err() && tries == 1);
    }
}
