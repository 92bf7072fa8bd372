//! The one way to the file system for everything that changes it.
//!
//! A test puts its own [`Seam`] here and makes any single step fail, stop there, or forget what was
//! not yet synced. Looking is not part of it: a look changes nothing.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use filetime::FileTime;

use super::beneath::Fences;
use super::hashing::HashingReader;
use super::patience::patiently;
use super::reading::open_at_once;
use crate::hash::ContentHash;
use crate::stack::BaseFile;

#[cfg(not(target_os = "linux"))]
use rayon::prelude::*;
#[cfg(target_os = "linux")]
use rustix::fs::{AtFlags, Mode, RenameFlags, mkdirat, renameat, renameat_with, unlinkat};
#[cfg(target_os = "linux")]
use rustix::io::Errno;

#[cfg(not(target_os = "linux"))]
use super::patience::quietly;

/// A piece of a file that is written.
#[derive(Debug, Clone)]
pub enum Block {
    /// Bytes of its own.
    New(Arc<Vec<u8>>),
    /// What the file that it is made from has at the same place.
    InPlace(Arc<Vec<u8>>),
    /// Likewise so many bytes, which nobody has read.
    Unread(u64),
}

impl Block {
    /// Its bytes, where they were read.
    ///
    /// # Errors
    /// They were not.
    pub fn read(&self) -> io::Result<&[u8]> {
        match self {
            Self::New(bytes) | Self::InPlace(bytes) => Ok(bytes),
            Self::Unread(_) => Err(io::Error::other("what the new file has of the old one was not read")),
        }
    }

    fn length_bytes(&self) -> u64 {
        match self {
            Self::New(bytes) | Self::InPlace(bytes) => bytes.len() as u64,
            Self::Unread(bytes) => *bytes,
        }
    }
}

/// Time and mode that a file gets when it is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stamp {
    /// Seconds since 1970.
    pub modified: i64,
    /// What is beyond these, in nanoseconds.
    pub nanoseconds: u32,
    /// Permission bits; used on Unix only.
    pub mode: u32,
}

impl Stamp {
    /// A time in nanoseconds since 1970, and a mode.
    pub(crate) fn at(modified_ns: i64, mode: u32) -> Self {
        let second = 1_000_000_000;
        let nanoseconds = u32::try_from(modified_ns.rem_euclid(second)).unwrap_or_default();
        Self { modified: modified_ns.div_euclid(second), nanoseconds, mode }
    }

    /// Those of a file of the base.
    pub(crate) fn of_base(base: &BaseFile) -> Self {
        Self::at(base.modified_ns, base.mode)
    }
}

/// What was copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Copied {
    /// Bytes there were.
    pub size_bytes: u64,
    /// The hash of them, unless they were not read since the copy shares its blocks.
    pub hash: Option<ContentHash>,
}

/// Changes of the file system, each one step. All are whole or not at all as far as the system
/// keeps its word, except those that write contents, which can leave a part.
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
    /// As [`Seam::remove_file`], without waiting for a program that holds the file.
    ///
    /// # Errors
    /// The system's own.
    fn remove_if_free(&self, path: &Path) -> io::Result<()> {
        self.remove_file(path)
    }
    /// Moves a file or link within one volume, never over another.
    ///
    /// # Errors
    /// The system's own; [`io::ErrorKind::AlreadyExists`] when something lies at `to`.
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()>;
    /// Moves a file within one volume over another one, in one step.
    ///
    /// # Errors
    /// The system's own; the other one is as it was then.
    fn replace(&self, from: &Path, to: &Path) -> io::Result<()>;
    /// Gives a folder another spelling.
    ///
    /// # Errors
    /// The system's own.
    fn respell(&self, from: &Path, to: &Path) -> io::Result<()>;
    /// Writes a whole file, replacing one that lies there; gives the bytes written.
    ///
    /// # Errors
    /// The content's or the system's own; a part may be left.
    fn write_file(&self, path: &Path, content: &mut dyn Read) -> io::Result<u64>;
    /// As [`Seam::write_file`], and in the same pass to a new file `again`, which is stamped, as far as that can be; says
    /// whether all of that was.
    ///
    /// # Errors
    /// As [`Seam::write_file`]; a part of both may be left.
    fn write_twice(
        &self,
        path: &Path,
        again: (&Path, Stamp),
        content: &mut dyn Read,
    ) -> io::Result<(u64, bool)>;
    /// Writes a whole file of blocks one after the other, replacing one that lies there. Where the disk can, those that
    /// `like` has at the same place are shared with it.
    ///
    /// # Errors
    /// The system's own; a part may be left.
    fn write_blocks(
        &self,
        path: &Path,
        like: Option<&File>,
        blocks: &mut dyn Iterator<Item = Block>,
    ) -> io::Result<()>;
    /// Writes a whole new file, and stamps it.
    ///
    /// # Errors
    /// The system's own, also where something lies there; a part may be left.
    fn write_new(&self, path: &Path, content: &[u8], stamp: Stamp) -> io::Result<()>;
    /// Writes at the end of a file, which is made if nothing lies there.
    ///
    /// # Errors
    /// The system's own; a part may be left.
    fn append_file(&self, path: &Path, content: &[u8]) -> io::Result<()>;
    /// Copies a file of `size_bytes` to a new file, sharing blocks where the disk can, and stamps it. The source is
    /// looked at no further than `size_bytes`.
    ///
    /// # Errors
    /// The system's own; a part may be left.
    fn copy_file(&self, from: &Path, to: &Path, size_bytes: u64, stamp: Stamp) -> io::Result<Copied>;
    /// As [`Seam::copy_file`], for what is to be put back: with all that the system keeps of a file beside its content.
    ///
    /// # Errors
    /// The system's own; a part may be left.
    fn copy_original(&self, from: &Path, to: &Path, size_bytes: u64, stamp: Stamp) -> io::Result<()> {
        self.copy_file(from, to, size_bytes, stamp).map(drop)
    }
    /// Lets a file that was made elsewhere have the rights that the folder it lies in gives. What can't be is left.
    fn inherit_rights(&self, _path: &Path) {}
    /// Sets a file's time and mode.
    ///
    /// # Errors
    /// The system's own.
    fn stamp(&self, path: &Path, stamp: Stamp) -> io::Result<()>;
    /// Gives a file a second name on the same volume.
    ///
    /// # Errors
    /// The system's own; also where the disk has no such thing.
    fn link_file(&self, from: &Path, to: &Path) -> io::Result<()>;
    /// Makes a symbolic link that leads to `target`, where the system lets anybody make one.
    ///
    /// # Errors
    /// The system's own.
    fn make_link(&self, _target: &Path, _path: &Path) -> io::Result<()> {
        Err(io::ErrorKind::Unsupported.into())
    }
    /// Makes durable all that was written and renamed so far on the volume of `folder`. `touched`
    /// are the files and folders concerned, for systems that can't sync a whole volume.
    ///
    /// # Errors
    /// The system's own.
    fn make_durable(&self, folder: &Path, touched: &[&Path]) -> io::Result<()>;
    /// From now on nothing is done through links that lead out of these folders, as far as the system can make sure.
    fn fence(&self, _folders: &[PathBuf]) {}
    /// A point to pass before the catalogue commits; does nothing but let a test stop there.
    ///
    /// # Errors
    /// Only in tests.
    fn pass(&self, _point: &'static str) -> io::Result<()> {
        Ok(())
    }
}

/// Whether copies on the volume of `folder` share their blocks with the original, so that they cost next to nothing.
/// Tried with a file of its own there; a volume that refuses shares none.
pub(crate) fn shares_blocks(folder: &Path) -> bool {
    let (from, to) = (folder.join("share-one"), folder.join("share-two"));
    let shares = fs::write(&from, b"shared?").is_ok() && reflink_copy::reflink(&from, &to).is_ok();
    // What was never made can't be removed.
    let _ = fs::remove_file(&from);
    let _ = fs::remove_file(&to);
    shares
}

/// The real file system.
#[derive(Debug, Default)]
pub struct RealDisk {
    no_reflink: AtomicBool,
    /// Modes that new files get as asked, whatever the umask.
    modes_that_come_right: Mutex<Vec<u32>>,
    fences: Fences,
    teller: Teller,
}

type Tell = dyn Fn(&Path) + Send + Sync;

/// Who hears of it when something is waited for.
#[derive(Default)]
struct Teller(Option<Box<Tell>>);

impl std::fmt::Debug for Teller {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.debug_tuple("Teller").field(&self.0.is_some()).finish()
    }
}

const COPY_BUFFER_BYTES: usize = 256 * 1024;

impl Seam for RealDisk {
    #[cfg(target_os = "linux")]
    fn create_folder(&self, path: &Path) -> io::Result<()> {
        let mode = Mode::RWXU | Mode::RWXG | Mode::RWXO;
        self.fences.at(path, |folder, name| Ok(mkdirat(folder, name, mode)?))
    }

    #[cfg(not(target_os = "linux"))]
    fn create_folder(&self, path: &Path) -> io::Result<()> {
        self.patiently(path, || {
            let _held = self.fences.hold(path)?;
            fs::create_dir(path)
        })?;
        hide_side_folder(path);
        Ok(())
    }

    #[cfg(target_os = "linux")]
    fn remove_folder(&self, path: &Path) -> io::Result<()> {
        self.fences.at(path, |folder, name| Ok(unlinkat(folder, name, AtFlags::REMOVEDIR)?))
    }

    #[cfg(not(target_os = "linux"))]
    fn remove_folder(&self, path: &Path) -> io::Result<()> {
        let _held = self.fences.hold(path)?;
        fs::remove_dir(path)
    }

    #[cfg(target_os = "linux")]
    fn remove_file(&self, path: &Path) -> io::Result<()> {
        self.fences.at(path, |folder, name| Ok(unlinkat(folder, name, AtFlags::empty())?))
    }

    #[cfg(not(target_os = "linux"))]
    fn remove_file(&self, path: &Path) -> io::Result<()> {
        self.patiently(path, || self.remove_if_free(path))
    }

    #[cfg(not(target_os = "linux"))]
    fn remove_if_free(&self, path: &Path) -> io::Result<()> {
        let _held = self.fences.hold(path)?;
        match fs::remove_file(path) {
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
                // Windows refuses to delete read-only files.
                make_writable(path)?;
                fs::remove_file(path)
            }
            other => other,
        }
    }

    /// One call where the system has one that never replaces.
    #[cfg(target_os = "linux")]
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.fences.at(from, |old, old_name| {
            self.fences.at(to, |new, new_name| {
                match renameat_with(old, old_name, new, new_name, RenameFlags::NOREPLACE) {
                    // Some file systems do not know the flag.
                    Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => look_and_rename(from, to),
                    other => Ok(other?),
                }
            })
        })
    }

    #[cfg(not(target_os = "linux"))]
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.patiently(from, || {
            let _held = (self.fences.hold(from)?, self.fences.hold(to)?);
            look_and_rename(from, to)
        })
    }

    #[cfg(target_os = "linux")]
    fn respell(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.fences.at(from, |old, old_name| {
            self.fences.at(to, |new, new_name| Ok(renameat(old, old_name, new, new_name)?))
        })
    }

    #[cfg(not(target_os = "linux"))]
    fn respell(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.patiently(from, || {
            let _held = (self.fences.hold(from)?, self.fences.hold(to)?);
            fs::rename(from, to)
        })
    }

    fn fence(&self, folders: &[PathBuf]) {
        self.fences.set(folders);
    }

    fn write_file(&self, path: &Path, content: &mut dyn Read) -> io::Result<u64> {
        let mut file = self.patiently(path, || File::create(path))?;
        pump(content, u64::MAX, &mut file)
    }

    fn write_twice(
        &self,
        path: &Path,
        (again, stamp): (&Path, Stamp),
        content: &mut dyn Read,
    ) -> io::Result<(u64, bool)> {
        let first = self.patiently(path, || File::create(path))?;
        let mut both = Both { first, second: self.create_new(again, stamp.mode).ok() };
        let size_bytes = pump(content, u64::MAX, &mut both)?;
        Ok((size_bytes, both.second.is_some_and(|second| set_time(&second, stamp).is_ok())))
    }

    fn write_blocks(
        &self,
        path: &Path,
        like: Option<&File>,
        blocks: &mut dyn Iterator<Item = Block>,
    ) -> io::Result<()> {
        let mut file = self.patiently(path, || File::create(path))?;
        let is_shared = like.is_some_and(|like| share_blocks(like, &file));
        let mut at = 0;
        for block in blocks {
            match (&block, like) {
                (Block::InPlace(_) | Block::Unread(_), _) if is_shared => {}
                (Block::Unread(bytes), Some(mut like)) => {
                    like.seek(SeekFrom::Start(at))?;
                    pump(&mut like.take(*bytes), *bytes, &mut file)?;
                }
                _ => {
                    if is_shared {
                        file.seek(SeekFrom::Start(at))?;
                    }
                    file.write_all(block.read()?)?;
                }
            }
            at += block.length_bytes();
        }
        if is_shared { file.set_len(at) } else { Ok(()) }
    }

    fn write_new(&self, path: &Path, content: &[u8], stamp: Stamp) -> io::Result<()> {
        let mut file = self.create_new(path, stamp.mode)?;
        file.write_all(content)?;
        set_time(&file, stamp)
    }

    fn append_file(&self, path: &Path, content: &[u8]) -> io::Result<()> {
        let open = || OpenOptions::new().append(true).create(true).open(path);
        self.patiently(path, open)?.write_all(content)
    }

    fn copy_file(&self, from: &Path, to: &Path, size_bytes: u64, stamp: Stamp) -> io::Result<Copied> {
        if !self.no_reflink.load(Ordering::Relaxed) {
            match reflink_copy::reflink(from, to) {
                Ok(()) => {
                    let file = self.patiently(to, || OpenOptions::new().write(true).open(to))?;
                    grant(&file, stamp.mode)?;
                    set_time(&file, stamp)?;
                    return Ok(Copied { size_bytes: file.metadata()?.len(), hash: None });
                }
                Err(_) => {
                    self.no_reflink.store(true, Ordering::Relaxed);
                    // What it left is held by whoever looks at new files.
                    match self.remove_file(to) {
                        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
                        _ => {}
                    }
                }
            }
        }
        let source = open_at_once(from)?;
        let mut file = self.create_new(to, stamp.mode)?;
        let mut source = source.take(size_bytes);
        // It is read anyway.
        let mut hashing = HashingReader::new(&mut source);
        let size_bytes = pump(&mut hashing, size_bytes, &mut file)?;
        let hash = Some(hashing.hash());
        set_time(&file, stamp)?;
        Ok(Copied { size_bytes, hash })
    }

    /// Attributes and streams (learn.microsoft.com, CopyFileExW), rights, and the time at which it was made; its blocks are
    /// shared where the system does that by itself.
    #[cfg(windows)]
    fn copy_original(&self, from: &Path, to: &Path, _size_bytes: u64, _stamp: Stamp) -> io::Result<()> {
        use std::os::windows::fs::{FileTimesExt, OpenOptionsExt};
        /// FILE_WRITE_ATTRIBUTES: a file that is read-only opens for it, too.
        const TIMES: u32 = 0x100;
        self.patiently(from, || fs::copy(from, to))?;
        let metadata = fs::metadata(from)?;
        let mut times = fs::FileTimes::new().set_modified(metadata.modified()?);
        if let Ok(created) = metadata.created() {
            times = times.set_created(created);
        }
        let open = || OpenOptions::new().access_mode(TIMES).open(to);
        self.patiently(to, open)?.set_times(times)?;
        // Not every disk has rights.
        let _ = super::windows::copy_rights(from, to);
        Ok(())
    }

    #[cfg(windows)]
    fn inherit_rights(&self, path: &Path) {
        // Not every disk has rights, and whoever made the file can use it.
        let _ = super::windows::inherit_rights(path);
    }

    fn stamp(&self, path: &Path, stamp: Stamp) -> io::Result<()> {
        let file = self.patiently(path, || OpenOptions::new().write(true).open(path))?;
        set_time(&file, stamp)?;
        grant(&file, stamp.mode).map(drop)
    }

    fn link_file(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.patiently(from, || fs::hard_link(from, to))
    }

    fn replace(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.patiently(to, || fs::rename(from, to))
    }

    #[cfg(unix)]
    fn make_link(&self, target: &Path, path: &Path) -> io::Result<()> {
        std::os::unix::fs::symlink(target, path)
    }

    #[cfg(target_os = "linux")]
    fn make_durable(&self, folder: &Path, _touched: &[&Path]) -> io::Result<()> {
        rustix::fs::syncfs(File::open(folder)?)?;
        Ok(())
    }

    #[cfg(not(target_os = "linux"))]
    fn make_durable(&self, folder: &Path, touched: &[&Path]) -> io::Result<()> {
        touched.par_iter().try_for_each(|path| sync_one(path))?;
        match cfg!(windows) && touched.iter().any(|path| path.is_dir()) {
            true => self.flush_log(folder),
            false => Ok(()),
        }
    }
}

#[cfg(not(target_os = "linux"))]
impl RealDisk {
    /// Makes durable what was renamed on the volume of a folder. NTFS writes that into one log, in order; what is flushed of
    /// a later write has all of the earlier ones before it.
    fn flush_log(&self, folder: &Path) -> io::Result<()> {
        let path = folder.join("flush");
        let file = match self.patiently(&path, || File::create(&path)) {
            Err(error) if super::look::is_nothing_there(&error) => return Ok(()),
            other => other?,
        };
        (&file).write_all(b"flush")?;
        file.sync_all()?;
        drop(file);
        self.remove_file(&path)
    }
}

/// Folders of our own beside a game's are not what people look for there.
pub(crate) fn hide_side_folder(path: &Path) {
    #[cfg(windows)]
    if path.file_name().is_some_and(|name| name == crate::address::SIDE_FOLDER) {
        // Not every disk can hide.
        let _ = super::windows::hide(path);
    }
    #[cfg(not(windows))]
    let _ = path;
}

#[cfg(not(target_os = "linux"))]
fn sync_one(path: &Path) -> io::Result<()> {
    let metadata = match quietly(path, || fs::symlink_metadata(path)) {
        Ok(metadata) => metadata,
        Err(error) if super::look::is_nothing_there(&error) => return Ok(()),
        Err(error) => return Err(error),
    };
    if metadata.is_file() {
        // Windows flushes only through a handle that may write; a file that is read-only was moved,
        // not written.
        return match quietly(path, || OpenOptions::new().write(true).open(path)) {
            Ok(file) => file.sync_all(),
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => Ok(()),
            Err(error) => Err(error),
        };
    }
    // NTFS journals its folders; elsewhere a folder is synced through a handle on it.
    if cfg!(unix) && metadata.is_dir() { File::open(path)?.sync_all() } else { Ok(()) }
}

/// Has an empty file share all blocks of another one; false where the disk can't.
#[cfg(target_os = "linux")]
fn share_blocks(of: &File, with: &File) -> bool {
    rustix::fs::ioctl_ficlone(with, of).is_ok()
}

#[cfg(not(target_os = "linux"))]
fn share_blocks(_of: &File, _with: &File) -> bool {
    false
}

/// Two files of one content, the second as far as it can be written.
struct Both {
    first: File,
    second: Option<File>,
}

impl Write for Both {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.first.write(bytes)?;
        if self.second.as_mut().is_some_and(|second| second.write_all(&bytes[..written]).is_err()) {
            self.second = None;
        }
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.first.flush()
    }
}

/// Writes what `content` gives; the end is not looked for beyond `size_bytes`.
fn pump(content: &mut dyn Read, size_bytes: u64, file: &mut dyn Write) -> io::Result<u64> {
    thread_local! {
        static BUFFER: std::cell::RefCell<Vec<u8>> = const { std::cell::RefCell::new(Vec::new()) };
    }
    BUFFER.with_borrow_mut(|buffer| {
        buffer.resize(COPY_BUFFER_BYTES, 0);
        let mut written_bytes = 0;
        while written_bytes < size_bytes {
            match content.read(buffer) {
                Ok(0) => break,
                Ok(count) => {
                    file.write_all(&buffer[..count])?;
                    written_bytes += count as u64;
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        Ok(written_bytes)
    })
}

impl RealDisk {
    /// One that calls `tell` when it has to wait for long until another program drops a file.
    pub fn telling(tell: impl Fn(&Path) + Send + Sync + 'static) -> Self {
        Self { teller: Teller(Some(Box::new(tell))), ..Self::default() }
    }

    fn patiently<T>(&self, path: &Path, act: impl FnMut() -> io::Result<T>) -> io::Result<T> {
        let tell = |path: &Path| self.teller.0.iter().for_each(|tell| tell(path));
        patiently(path, tell, act)
    }

    /// Makes a file of the given mode. What the umask takes off is asked for again, which most modes
    /// never need.
    fn create_new(&self, path: &Path, mode: u32) -> io::Result<File> {
        let mut options = OpenOptions::new();
        options.write(true).create_new(true);
        #[cfg(unix)]
        std::os::unix::fs::OpenOptionsExt::mode(&mut options, mode);
        let file = self.patiently(path, || options.open(path))?;
        let mut come_right = self.modes_that_come_right.lock().unwrap_or_else(PoisonError::into_inner);
        if !come_right.contains(&mode) && grant(&file, mode)? {
            come_right.push(mode);
        }
        Ok(file)
    }
}

/// Makes sure of a file's mode; says whether it was right at once.
#[cfg(unix)]
fn grant(file: &File, mode: u32) -> io::Result<bool> {
    use std::os::unix::fs::PermissionsExt;
    let was_right = file.metadata()?.permissions().mode() & 0o7777 == mode;
    if !was_right {
        file.set_permissions(fs::Permissions::from_mode(mode))?;
    }
    Ok(was_right)
}

#[cfg(not(unix))]
fn grant(_file: &File, _mode: u32) -> io::Result<bool> {
    Ok(true)
}

fn set_time(file: &File, stamp: Stamp) -> io::Result<()> {
    let time = FileTime::from_unix_time(stamp.modified, stamp.nanoseconds);
    filetime::set_file_handle_times(file, None, Some(time))
}

fn look_and_rename(from: &Path, to: &Path) -> io::Result<()> {
    match super::look::look_at(to)? {
        Some(_) => Err(io::Error::from(io::ErrorKind::AlreadyExists)),
        None => fs::rename(from, to),
    }
}

#[cfg(windows)]
#[expect(clippy::permissions_set_readonly_false, reason = "on Windows it only clears the attribute")]
fn make_writable(path: &Path) -> io::Result<()> {
    let mut permissions = fs::metadata(path)?.permissions();
    permissions.set_readonly(false);
    fs::set_permissions(path, permissions)
}

#[cfg(not(any(windows, target_os = "linux")))]
fn make_writable(_path: &Path) -> io::Result<()> {
    Err(io::Error::from(io::ErrorKind::PermissionDenied))
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn nothing_is_done_through_a_link_out_of_a_fence() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        for name in ["game/data/deep", "outside/deep", "ledger"] {
            fs::create_dir_all(at(name)).unwrap();
        }
        for name in ["outside/a", "outside/deep/b", "ledger/1", "game/data/deep/c"] {
            fs::write(at(name), name).unwrap();
        }
        let disk = RealDisk::default();
        disk.fence(&[at("game")]);
        symlink(at("outside"), at("game/link")).unwrap();
        // A link that stays inside is one, too: what was looked at was a folder.
        symlink("data", at("game/inside")).unwrap();
        for through in ["game/link", "game/link/deep", "game/inside", "game/inside/deep"] {
            let path = |name: &str| at(through).join(name);
            let refused = [
                disk.create_folder(&path("new")),
                disk.remove_folder(&path("deep")),
                disk.remove_file(&path("a")),
                disk.rename(&at("ledger/1"), &path("1")),
                disk.rename(&path("a"), &at("ledger/2")),
                disk.respell(&path("deep"), &path("Deep")),
            ];
            for result in refused {
                assert_eq!(result.unwrap_err().kind(), io::ErrorKind::NotADirectory, "{through}");
            }
        }
        assert_eq!(fs::read_dir(at("outside")).unwrap().count(), 2);
        // The link itself can be moved, and folders that are none are acted in.
        disk.rename(&at("game/link"), &at("ledger/link")).unwrap();
        disk.rename(&at("ledger/1"), &at("game/data/deep/1")).unwrap();
        disk.create_folder(&at("game/data/deep/new")).unwrap();
        disk.remove_folder(&at("game/data/deep/new")).unwrap();
        disk.respell(&at("game/data"), &at("game/Data")).unwrap();
        disk.remove_file(&at("game/Data/deep/1")).unwrap();
        assert!(
            matches!(disk.rename(&at("ledger/none"), &at("game/x")), Err(error) if error.kind() == io::ErrorKind::NotFound)
        );
        // The root itself may be reached through a link.
        symlink(at("game"), at("home")).unwrap();
        disk.fence(&[at("home")]);
        disk.rename(&at("home/Data/deep/c"), &at("home/c")).unwrap();
        assert_eq!(fs::read_to_string(at("game/c")).unwrap(), "game/data/deep/c");
    }
}
