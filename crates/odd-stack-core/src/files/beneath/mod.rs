//! Acting on a file of the game through a folder that was reached without following a link.
//!
//! Between the look that decides a change and the change itself another program may put a link in place of a folder,
//! and a path would then lead out of the game. So the folder is opened first, from the root down, refusing every link
//! below the root, and stays open while something is done in it.

#[cfg(target_os = "linux")]
mod linux;
#[cfg(not(target_os = "linux"))]
mod others;

#[cfg(target_os = "linux")]
pub(super) use linux::Fences;
#[cfg(not(target_os = "linux"))]
pub(super) use others::Fences;

use std::io;

/// What acting through a link ends with.
fn link_on_the_way() -> io::Error {
    io::Error::new(io::ErrorKind::NotADirectory, "a link lies on the way to it, and is not followed")
}
