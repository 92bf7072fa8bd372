//! The one way to the file system for everything that changes it.
//!
//! A test puts its own [`Seam`] here and makes any single step fail, stop there, or forget what was
//! not yet synced. Looking is not part of it: a look changes nothing.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use filetime::FileTime;
#[cfg(not(target_os = "linux"))]
use rayon::prelude::*;

/// Time and mode that a file gets when it is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stamp {
    /// Seconds since 1970.
    pub modified: i64,
    /// Permission bits; used on Unix only.
    pub mode: u32,
}

/// Changes of the file system, each one step. All are whole or not at all as far as the system
/// keeps its word, except [`Seam::write_file`] and [`Seam::copy_file`], which can leave a part.
pub trait Seam: Send + Sync {
    /// Makes one folder whose parent exists.
    ///
    /// # Errors
    /// The system's own; that it exists already is one.
    fn create_folder(&self, path: &Path) -> io::Result<()>;
    /// Removes an empty folder.
    ///
    /// # Errors
    /// The system's own.
    fn remove_folder(&self, path: &Path) -> io::Result<()>;
    /// Removes a file or link.
    ///
    /// # Errors
    /// The system's own.
    fn remove_file(&self, path: &Path) -> io::Result<()>;
    /// Moves a file, link or folder within one volume. The caller makes sure that nothing lies at
    /// `to`.
    ///
    /// # Errors
    /// The system's own.
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()>;
    /// Writes a whole file, replacing one that lies there; gives the bytes written.
    ///
    /// # Errors
    /// The content's or the system's own; a part may be left.
    fn write_file(&self, path: &Path, content: &mut dyn Read) -> io::Result<u64>;
    /// Copies a file's content to a new file, sharing blocks where the disk can, and stamps it.
    ///
    /// # Errors
    /// The system's own; a part may be left.
    fn copy_file(&self, from: &Path, to: &Path, stamp: Stamp) -> io::Result<u64>;
    /// Makes durable all that was written and renamed so far on the volume of `folder`. `touched`
    /// are the files and folders concerned, for systems that can't sync a whole volume.
    ///
    /// # Errors
    /// The system's own.
    fn make_durable(&self, folder: &Path, touched: &[PathBuf]) -> io::Result<()>;
    /// A point to pass before the catalogue commits; does nothing but let a test stop there.
    ///
    /// # Errors
    /// Only in tests.
    fn pass(&self, _point: &'static str) -> io::Result<()> {
        Ok(())
    }
}

/// The real file system.
#[derive(Debug, Default)]
pub struct RealDisk {
    no_reflink: AtomicBool,
}

const COPY_BUFFER_BYTES: usize = 256 * 1024;

impl Seam for RealDisk {
    fn create_folder(&self, path: &Path) -> io::Result<()> {
        fs::create_dir(path)
    }

    fn remove_folder(&self, path: &Path) -> io::Result<()> {
        fs::remove_dir(path)
    }

    fn remove_file(&self, path: &Path) -> io::Result<()> {
        match fs::remove_file(path) {
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
                // Windows refuses to delete read-only files.
                make_writable(path)?;
                fs::remove_file(path)
            }
            other => other,
        }
    }

    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        fs::rename(from, to)
    }

    fn write_file(&self, path: &Path, content: &mut dyn Read) -> io::Result<u64> {
        let mut file = File::create(path)?;
        pump(content, &mut file)
    }

    fn copy_file(&self, from: &Path, to: &Path, stamp: Stamp) -> io::Result<u64> {
        if !self.no_reflink.load(Ordering::Relaxed) {
            match reflink_copy::reflink(from, to) {
                Ok(()) => {
                    let file = OpenOptions::new().write(true).open(to)?;
                    apply(&file, stamp)?;
                    return Ok(file.metadata()?.len());
                }
                Err(_) => {
                    self.no_reflink.store(true, Ordering::Relaxed);
                    let _ = fs::remove_file(to);
                }
            }
        }
        let mut source = File::open(from)?;
        let mut file = create_new(to, stamp.mode)?;
        let copied = pump(&mut source, &mut file)?;
        filetime::set_file_handle_times(&file, None, Some(FileTime::from_unix_time(stamp.modified, 0)))?;
        Ok(copied)
    }

    #[cfg(target_os = "linux")]
    fn make_durable(&self, folder: &Path, _touched: &[PathBuf]) -> io::Result<()> {
        rustix::fs::syncfs(File::open(folder)?)?;
        Ok(())
    }

    #[cfg(not(target_os = "linux"))]
    fn make_durable(&self, _folder: &Path, touched: &[PathBuf]) -> io::Result<()> {
        touched.par_iter().try_for_each(|path| sync_one(path))
    }
}

#[cfg(not(target_os = "linux"))]
fn sync_one(path: &Path) -> io::Result<()> {
    let metadata = match fs::symlink_metadata(path) {
        Ok(metadata) => metadata,
        Err(error) if super::look::is_nothing_there(&error) => return Ok(()),
        Err(error) => return Err(error),
    };
    if metadata.is_file() {
        // Windows flushes only through a handle that may write; a file that is read-only was moved,
        // not written.
        return match OpenOptions::new().write(true).open(path) {
            Ok(file) => file.sync_all(),
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => Ok(()),
            Err(error) => Err(error),
        };
    }
    // NTFS journals its folders; elsewhere a folder is synced through a handle on it.
    if cfg!(unix) && metadata.is_dir() { File::open(path)?.sync_all() } else { Ok(()) }
}

fn pump(content: &mut dyn Read, file: &mut File) -> io::Result<u64> {
    thread_local! {
        static BUFFER: std::cell::RefCell<Vec<u8>> = const { std::cell::RefCell::new(Vec::new()) };
    }
    BUFFER.with_borrow_mut(|buffer| {
        buffer.resize(COPY_BUFFER_BYTES, 0);
        let mut written_bytes = 0;
        loop {
            match content.read(buffer) {
                Ok(0) => return Ok(written_bytes),
                Ok(count) => {
                    file.write_all(&buffer[..count])?;
                    written_bytes += count as u64;
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
    })
}

#[cfg(unix)]
fn create_new(path: &Path, mode: u32) -> io::Result<File> {
    use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
    let file = OpenOptions::new().write(true).create_new(true).mode(mode).open(path)?;
    // The umask takes off only bits of group and others in practice; ask for what it took.
    if file.metadata()?.permissions().mode() & 0o7777 != mode {
        file.set_permissions(fs::Permissions::from_mode(mode))?;
    }
    Ok(file)
}

#[cfg(not(unix))]
fn create_new(path: &Path, _mode: u32) -> io::Result<File> {
    OpenOptions::new().write(true).create_new(true).open(path)
}

fn apply(file: &File, stamp: Stamp) -> io::Result<()> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        file.set_permissions(fs::Permissions::from_mode(stamp.mode))?;
    }
    filetime::set_file_handle_times(file, None, Some(FileTime::from_unix_time(stamp.modified, 0)))
}

#[cfg(windows)]
#[expect(clippy::permissions_set_readonly_false, reason = "on Windows it only clears the attribute")]
fn make_writable(path: &Path) -> io::Result<()> {
    let mut permissions = fs::metadata(path)?.permissions();
    permissions.set_readonly(false);
    fs::set_permissions(path, permissions)
}

#[cfg(not(windows))]
fn make_writable(_path: &Path) -> io::Result<()> {
    Err(io::Error::from(io::ErrorKind::PermissionDenied))
}
