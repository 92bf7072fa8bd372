//! What only Windows has, each behind a function that is safe to call.

use std::ffi::OsString;
use std::io;
use std::os::windows::ffi::{OsStrExt, OsStringExt};
use std::os::windows::io::{AsRawHandle, FromRawHandle, OwnedHandle};
use std::path::{Path, PathBuf};

use super::links::Identity;
use windows_sys::Win32::Foundation::{ERROR_SUCCESS, LocalFree};
use windows_sys::Win32::Security::Authorization::{
    GetNamedSecurityInfoW, SE_FILE_OBJECT, SetNamedSecurityInfoW,
};
use windows_sys::Win32::Security::{
    DACL_SECURITY_INFORMATION, GetFileSecurityW, GetSecurityDescriptorControl,
    PROTECTED_DACL_SECURITY_INFORMATION, PSECURITY_DESCRIPTOR, SE_DACL_AUTO_INHERIT_REQ,
    SE_DACL_AUTO_INHERITED, SE_DACL_PROTECTED, SetFileSecurityW, SetSecurityDescriptorControl,
    UNPROTECTED_DACL_SECURITY_INFORMATION,
};
use windows_sys::Win32::Storage::FileSystem::{
    BY_HANDLE_FILE_INFORMATION, FILE_ATTRIBUTE_HIDDEN, GetDriveTypeW, GetFileAttributesW,
    GetFileInformationByHandle, GetVolumeNameForVolumeMountPointW, GetVolumePathNameW,
    INVALID_FILE_ATTRIBUTES, SetFileAttributesW,
};
use windows_sys::Win32::System::JobObjects::{
    AssignProcessToJobObject, CreateJobObjectW, JobObjectBasicProcessIdList, QueryInformationJobObject,
};
use windows_sys::Win32::System::RestartManager::{
    CCH_RM_SESSION_KEY, RM_PROCESS_INFO, RmEndSession, RmGetList, RmRegisterResources, RmStartSession,
};
use windows_sys::Win32::System::Threading::GetCurrentProcess;
use windows_sys::Win32::System::WindowsProgramming::DRIVE_REMOTE;

/// Longer paths must be marked as taken literally (learn.microsoft.com, Maximum Path Length Limitation).
const LONGEST_PLAIN_PATH: usize = 240;

/// A path as the system's functions take it, with the zero behind it.
fn wide(path: &Path) -> Vec<u16> {
    let units: Vec<u16> = path.as_os_str().encode_wide().chain([0]).collect();
    let starts_with = |mark: &str| units.iter().copied().take(mark.len()).eq(mark.encode_utf16());
    if units.len() <= LONGEST_PLAIN_PATH || starts_with(r"\\?\") {
        return units;
    }
    let plain = units.iter().map(|unit| if *unit == u16::from(b'/') { u16::from(b'\\') } else { *unit });
    match starts_with(r"\\") {
        true => r"\\?\UNC\".encode_utf16().chain(plain.skip(2)).collect(),
        false => r"\\?\".encode_utf16().chain(plain).collect(),
    }
}

/// What tells a file from all others, and how many names it has (learn.microsoft.com, BY_HANDLE_FILE_INFORMATION).
#[expect(unsafe_code, reason = "the system's own interface, for which std has no other")]
pub(crate) fn identity_of(path: &Path) -> io::Result<Identity> {
    let file = std::fs::File::open(path)?;
    let mut told = BY_HANDLE_FILE_INFORMATION::default();
    // SAFETY: the handle is open as long as `file` lives, and the structure is of the size that the function writes.
    let done = unsafe { GetFileInformationByHandle(file.as_raw_handle(), &raw mut told) };
    if done == 0 {
        return Err(io::Error::last_os_error());
    }
    let number = u64::from(told.nFileIndexHigh) << 32 | u64::from(told.nFileIndexLow);
    Ok(Identity::new(u64::from(told.dwVolumeSerialNumber), number, u64::from(told.nNumberOfLinks)))
}

/// The text in a buffer up to its zero.
fn text(wide: &[u16]) -> OsString {
    let end = wide.iter().position(|unit| *unit == 0).unwrap_or(wide.len());
    OsString::from_wide(&wide[..end])
}

/// The names of the programs that have a file open, as the Restart Manager tells (learn.microsoft.com, RmGetList); none where
/// it does not.
#[expect(unsafe_code, reason = "the system's own interface, for which std has no other")]
pub(crate) fn holders(path: &Path) -> Vec<String> {
    /// More programs than that are not told.
    const MOST_PROGRAMS: usize = 8;
    let file = wide(path);
    let mut key = [0u16; CCH_RM_SESSION_KEY as usize + 1];
    let mut session = 0;
    // SAFETY: `key` has room for the key and its end, as the function asks for.
    if unsafe { RmStartSession(&mut session, 0, key.as_mut_ptr()) } != ERROR_SUCCESS {
        return Vec::new();
    }
    let files = [file.as_ptr()];
    let mut programs = vec![RM_PROCESS_INFO::default(); MOST_PROGRAMS];
    let (mut needed, mut count, mut reasons) = (0, MOST_PROGRAMS as u32, 0);
    // SAFETY: the session is open, `files` holds one text that ends in zero, and `count` is the room in `programs`.
    let is_told = unsafe {
        RmRegisterResources(session, 1, files.as_ptr(), 0, std::ptr::null(), 0, std::ptr::null())
            == ERROR_SUCCESS
            && RmGetList(session, &mut needed, &mut count, programs.as_mut_ptr(), &mut reasons)
                == ERROR_SUCCESS
    };
    // SAFETY: the session was opened above and is not used any more.
    unsafe { RmEndSession(session) };
    if !is_told {
        return Vec::new();
    }
    programs.truncate(count as usize);
    let names = programs.iter().map(|program| text(&program.strAppName).to_string_lossy().into_owned());
    names.filter(|name| !name.is_empty()).collect()
}

/// A job object (learn.microsoft.com, Job Objects): whatever a process in it starts is in it, too.
#[derive(Debug)]
pub(crate) struct Job {
    handle: OwnedHandle,
}

impl Job {
    /// A new one with this process in it, which stays in it; nothing where the system refuses that.
    #[expect(unsafe_code, reason = "the system's own interface, for which std has no other")]
    pub(crate) fn of_this_process() -> Option<Self> {
        // SAFETY: both parameters may be left out; the handle is nobody else's.
        let handle = unsafe { CreateJobObjectW(std::ptr::null(), std::ptr::null()) };
        if handle.is_null() {
            return None;
        }
        // SAFETY: the handle was made above and is valid.
        let handle = unsafe { OwnedHandle::from_raw_handle(handle) };
        // SAFETY: both handles are valid.
        let is_in = unsafe { AssignProcessToJobObject(handle.as_raw_handle(), GetCurrentProcess()) };
        (is_in != 0).then_some(Self { handle })
    }

    /// The numbers of the processes in it, this one apart.
    #[expect(unsafe_code, reason = "the system's own interface, for which std has no other")]
    pub(crate) fn others(&self) -> Vec<u32> {
        /// As JOBOBJECT_BASIC_PROCESS_ID_LIST, with room for so many; more are not told.
        #[repr(C)]
        struct List {
            assigned: u32,
            listed: u32,
            processes: [usize; 1024],
        }
        let mut list = List { assigned: 0, listed: 0, processes: [0; 1024] };
        // SAFETY: `list` has the form that this class of information has, and its size is told.
        let is_told = unsafe {
            QueryInformationJobObject(
                self.handle.as_raw_handle(),
                JobObjectBasicProcessIdList,
                (&raw mut list).cast(),
                size_of::<List>() as u32,
                std::ptr::null_mut(),
            )
        };
        if is_told == 0 {
            return Vec::new();
        }
        let processes = list.processes.iter().take(list.listed as usize);
        let numbers = processes.filter_map(|number| u32::try_from(*number).ok());
        numbers.filter(|number| *number != std::process::id()).collect()
    }
}

/// Lets a file have the rights that its folder gives to what lies there, beside those of its own: a file that was moved
/// there has those of the folder in which it was made (learn.microsoft.com, SetNamedSecurityInfoW and Automatic Propagation
/// of Inheritable ACEs).
///
/// # Errors
/// The system's own; also on a disk without rights.
#[expect(unsafe_code, reason = "the system's own interface, for which std has no other")]
pub(crate) fn inherit_rights(path: &Path) -> io::Result<()> {
    let name = wide(path);
    let (mut list, mut whole) = (std::ptr::null_mut(), std::ptr::null_mut());
    // SAFETY: `name` ends in zero, and what is not asked for may be left out.
    let error = unsafe {
        GetNamedSecurityInfoW(
            name.as_ptr(),
            SE_FILE_OBJECT,
            DACL_SECURITY_INFORMATION,
            std::ptr::null_mut(),
            std::ptr::null_mut(),
            &mut list,
            std::ptr::null_mut(),
            &mut whole,
        )
    };
    if error != ERROR_SUCCESS {
        return Err(system_error(error));
    }
    let (mut control, mut revision) = (0, 0);
    // SAFETY: `whole` was given by the call above.
    let is_told = unsafe { GetSecurityDescriptorControl(whole, &mut control, &mut revision) };
    // What is protected from its folder was made so on purpose.
    let is_open = is_told != 0 && control & SE_DACL_PROTECTED == 0 && !list.is_null();
    let error = match is_open {
        // SAFETY: `list` lies in `whole`, which is not freed yet.
        true => unsafe {
            SetNamedSecurityInfoW(
                name.as_ptr(),
                SE_FILE_OBJECT,
                DACL_SECURITY_INFORMATION | UNPROTECTED_DACL_SECURITY_INFORMATION,
                std::ptr::null_mut(),
                std::ptr::null_mut(),
                list,
                std::ptr::null(),
            )
        },
        false => ERROR_SUCCESS,
    };
    // SAFETY: `whole` is freed once, as GetNamedSecurityInfoW asks for.
    unsafe { LocalFree(whole) };
    if error == ERROR_SUCCESS { Ok(()) } else { Err(system_error(error)) }
}

/// Gives a file the rights of another, those too that come from that one's folder, just as they are.
///
/// # Errors
/// The system's own; also on a disk without rights.
#[expect(unsafe_code, reason = "the system's own interface, for which std has no other")]
pub(crate) fn copy_rights(from: &Path, to: &Path) -> io::Result<()> {
    let (from, to) = (wide(from), wide(to));
    let mut needed = 0;
    // SAFETY: with no room nothing is written but what is needed.
    unsafe {
        GetFileSecurityW(from.as_ptr(), DACL_SECURITY_INFORMATION, std::ptr::null_mut(), 0, &mut needed)
    };
    // Of whole numbers, since it must be aligned.
    let mut room = vec![0u64; (needed as usize).div_ceil(size_of::<u64>())];
    let descriptor: PSECURITY_DESCRIPTOR = room.as_mut_ptr().cast();
    // SAFETY: `descriptor` has the room that was asked for.
    let is_read = unsafe {
        GetFileSecurityW(from.as_ptr(), DACL_SECURITY_INFORMATION, descriptor, needed, &mut needed)
    };
    if is_read == 0 {
        return Err(io::Error::last_os_error());
    }
    let (mut control, mut revision) = (0, 0);
    // SAFETY: `descriptor` holds what was read.
    let is_told = unsafe { GetSecurityDescriptorControl(descriptor, &mut control, &mut revision) };
    let mut what = DACL_SECURITY_INFORMATION;
    if is_told != 0 && control & SE_DACL_PROTECTED != 0 {
        what |= PROTECTED_DACL_SECURITY_INFORMATION;
    }
    if is_told != 0 && control & SE_DACL_AUTO_INHERITED != 0 {
        // Else what comes from the folder would count as the file's own.
        // SAFETY: as above.
        unsafe {
            SetSecurityDescriptorControl(descriptor, SE_DACL_AUTO_INHERIT_REQ, SE_DACL_AUTO_INHERIT_REQ)
        };
    }
    // SAFETY: as above, and `to` ends in zero.
    match unsafe { SetFileSecurityW(to.as_ptr(), what, descriptor) } {
        0 => Err(io::Error::last_os_error()),
        _ => Ok(()),
    }
}

/// Hides a folder from people's file managers.
///
/// # Errors
/// The system's own.
#[expect(unsafe_code, reason = "the system's own interface, for which std has no other")]
pub(crate) fn hide(path: &Path) -> io::Result<()> {
    let path = wide(path);
    // SAFETY: `path` ends in zero.
    let attributes = unsafe { GetFileAttributesW(path.as_ptr()) };
    // SAFETY: as above.
    let is_done = attributes != INVALID_FILE_ATTRIBUTES
        && unsafe { SetFileAttributesW(path.as_ptr(), attributes | FILE_ATTRIBUTE_HIDDEN) } != 0;
    if is_done { Ok(()) } else { Err(io::Error::last_os_error()) }
}

/// The top of the volume that a path lies on: of a drive, of a share, or the folder that a volume is mounted in.
#[expect(unsafe_code, reason = "the system's own interface, for which std has no other")]
fn top_of(path: &Path) -> io::Result<Vec<u16>> {
    let path = wide(path);
    let mut top = vec![0u16; path.len() + 2];
    // SAFETY: `path` ends in zero, and the room in `top` is told.
    match unsafe { GetVolumePathNameW(path.as_ptr(), top.as_mut_ptr(), top.len() as u32) } {
        0 => Err(io::Error::last_os_error()),
        _ => Ok(top),
    }
}

/// What tells the volume that an existing path lies on from others: its own name where it has one, else its top.
///
/// # Errors
/// The system's own.
#[expect(unsafe_code, reason = "the system's own interface, for which std has no other")]
pub(crate) fn volume_of(path: &Path) -> io::Result<OsString> {
    /// `\\?\Volume{GUID}\` and the zero.
    const NAME_UNITS: usize = 50;
    let top = top_of(&std::fs::canonicalize(path)?)?;
    let mut name = [0u16; NAME_UNITS];
    // SAFETY: `top` ends in zero and in a separator, and the room in `name` is told.
    let is_named =
        unsafe { GetVolumeNameForVolumeMountPointW(top.as_ptr(), name.as_mut_ptr(), NAME_UNITS as u32) };
    Ok(if is_named == 0 { text(&top).to_ascii_lowercase() } else { text(&name) })
}

/// Whether a path lies on another computer's disk.
#[expect(unsafe_code, reason = "the system's own interface, for which std has no other")]
pub(crate) fn is_remote(path: &Path) -> bool {
    let Ok(top) = top_of(path) else { return false };
    // SAFETY: `top` ends in zero.
    unsafe { GetDriveTypeW(top.as_ptr()) == DRIVE_REMOTE }
}

/// The folders of this account that a cloud client keeps the same on other computers, as these clients have told the system
/// (learn.microsoft.com, StorageProviderSyncRootManager).
pub(crate) fn synced_folders() -> Vec<PathBuf> {
    const KEY: &str = r"SOFTWARE\Microsoft\Windows\CurrentVersion\Explorer\SyncRootManager";
    let Ok(clients) = windows_registry::LOCAL_MACHINE.open(KEY) else { return Vec::new() };
    let accounts = clients.keys().into_iter().flatten().filter_map(|client| {
        let accounts = clients.open(format!(r"{client}\UserSyncRoots")).ok()?;
        let folders: Vec<PathBuf> = accounts
            .values()
            .into_iter()
            .flatten()
            .filter_map(|(_, folder)| String::try_from(folder).ok())
            .map(PathBuf::from)
            .collect();
        Some(folders)
    });
    accounts.flatten().collect()
}

fn system_error(code: u32) -> io::Error {
    io::Error::from_raw_os_error(code.cast_signed())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_paths_are_marked_and_short_ones_are_not() {
        let plain = |path: &str| text(&wide(Path::new(path))).into_string().unwrap();
        assert_eq!(plain(r"C:\Games\a"), r"C:\Games\a");
        let long = "a".repeat(300);
        assert_eq!(plain(&format!("C:/{long}")), format!(r"\\?\C:\{long}"));
        assert_eq!(plain(&format!(r"\\server\share\{long}")), format!(r"\\?\UNC\server\share\{long}"));
        assert_eq!(plain(&format!(r"\\?\C:\{long}")), format!(r"\\?\C:\{long}"));
    }

    #[test]
    fn rights_are_copied_and_taken_from_the_folder() {
        let folder = tempfile::tempdir().unwrap();
        let (from, to) = (folder.path().join("from"), folder.path().join("to"));
        std::fs::write(&from, "x").unwrap();
        std::fs::write(&to, "x").unwrap();
        copy_rights(&from, &to).unwrap();
        inherit_rights(&to).unwrap();
        std::fs::write(&to, "y").unwrap();
        assert!(copy_rights(&folder.path().join("none"), &to).is_err());
        assert!(inherit_rights(&folder.path().join("none")).is_err());
    }

    #[test]
    fn volumes_are_told_apart() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("below")).unwrap();
        let volume = volume_of(folder.path()).unwrap();
        assert_eq!(volume_of(&folder.path().join("below")).unwrap(), volume);
        assert!(!is_remote(folder.path()) && volume_of(&folder.path().join("none")).is_err());
    }

    #[test]
    fn what_this_process_starts_is_in_its_job() {
        let job = Job::of_this_process().unwrap();
        let mut child = std::process::Command::new("ping").args(["-n", "30", "127.0.0.1"]).spawn().unwrap();
        let others = job.others();
        child.kill().unwrap();
        child.wait().unwrap();
        assert!(others.contains(&child.id()), "{others:?}");
    }
}
