//! Archives that were split into several files, given any one of them.
//!
//! Three ways are in use: `x.7z.001`, `x.7z.002`, ... are one file cut into pieces; `x.z01`, ..., `x.zip`
//! are the segments of a zip archive (PKWARE APPNOTE 8), the last of which has its directory; and
//! `x.part1.rar`, ... or `x.rar`, `x.r00`, ... are rar volumes.

use std::fs;
use std::path::{Path, PathBuf};

use super::PackageError;
use super::archive_file::ArchiveFile;
use super::kind::kind_of;

/// How a package's files belong together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Scheme {
    /// One file.
    Single,
    /// Pieces to be joined.
    Joined,
    /// Segments of a zip archive.
    SplitZip,
    /// Volumes of a rar archive.
    RarVolumes,
}

/// The files of one package, in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Volumes {
    pub scheme: Scheme,
    pub files: Vec<PathBuf>,
}

impl Volumes {
    fn single(path: &Path) -> Self {
        Self { scheme: Scheme::Single, files: vec![path.to_path_buf()] }
    }

    /// Finds all files of the package that `given` is one of.
    ///
    /// # Errors
    /// [`PackageError::MissingVolume`], when one of them is not there; [`PackageError::Unreadable`].
    pub(super) fn of(given: &Path) -> Result<Self, PackageError> {
        let Some(name) = given.file_name().and_then(|name| name.to_str()) else {
            return Ok(Self::single(given));
        };
        let Some((stem, ending)) = name.rsplit_once('.') else { return Ok(Self::single(given)) };
        let lower = ending.to_lowercase();
        if ending.len() >= 3 && ending.bytes().all(|byte| byte.is_ascii_digit()) {
            return Self::joined(given, stem, ending);
        }
        if is_numbered(&lower, &['z']) {
            return Self::split_zip(given, stem, ending.starts_with('Z'));
        }
        if lower == "zip" && zip_disks(given)? > 0 {
            return Self::split_zip(given, stem, ending.starts_with('Z'));
        }
        if lower == "rar" || is_numbered(&lower, &['r', 's', 't', 'u']) {
            return Self::rar(given, stem, ending);
        }
        Ok(Self::single(given))
    }

    fn joined(given: &Path, stem: &str, ending: &str) -> Result<Self, PackageError> {
        let width = ending.len();
        let named = |number: u64| given.with_file_name(format!("{stem}.{number:0width$}"));
        let first = named(1);
        if given != first && kind_of(&open(given)?).is_ok_and(|kind| kind.is_ok()) {
            // An archive of its own whose name happens to end with a number.
            return Ok(Self::single(given));
        }
        if !first.is_file() {
            return Err(missing(given, first));
        }
        if !kind_of(&open(&first)?).is_ok_and(|kind| kind.is_ok()) {
            return Ok(Self::single(given));
        }
        let files: Vec<_> = (1..).map(named).take_while(|file| file.is_file()).collect();
        let next = files.len() as u64 + 1;
        let is_gap = |name: &str| {
            let number = name.strip_prefix(stem).and_then(|rest| rest.strip_prefix('.'));
            number.filter(|text| text.len() == width).and_then(|text| text.parse::<u64>().ok()) > Some(next)
        };
        if siblings(given)?.iter().any(|name| is_gap(name)) {
            return Err(missing(given, named(next)));
        }
        Ok(Self { scheme: Scheme::Joined, files })
    }

    fn split_zip(given: &Path, stem: &str, is_upper: bool) -> Result<Self, PackageError> {
        let (letter, ending) = if is_upper { ('Z', "ZIP") } else { ('z', "zip") };
        let last = given.with_file_name(format!("{stem}.{ending}"));
        if !last.is_file() {
            return Err(missing(given, last));
        }
        let mut files: Vec<_> = (1..=zip_disks(&last)?)
            .map(|number| given.with_file_name(format!("{stem}.{letter}{number:02}")))
            .collect();
        if let Some(gone) = files.iter().find(|file| !file.is_file()) {
            return Err(missing(given, gone.clone()));
        }
        files.push(last);
        Ok(Self { scheme: Scheme::SplitZip, files })
    }

    fn rar(given: &Path, stem: &str, ending: &str) -> Result<Self, PackageError> {
        let names = RarNames::of(given, stem, ending);
        let first = names.named(0);
        if !first.is_file() {
            return Err(missing(given, first));
        }
        let files: Vec<_> =
            (0..).map(|number| names.named(number)).take_while(|file| file.is_file()).collect();
        let scheme = if files.len() > 1 { Scheme::RarVolumes } else { Scheme::Single };
        Ok(Self { scheme, files })
    }

    /// The name that one more file of the set would have, for a set that turns out to be cut short.
    pub(super) fn next(&self) -> Option<PathBuf> {
        let last = self.files.last()?;
        let name = last.file_name()?.to_str()?;
        let (stem, ending) = name.rsplit_once('.')?;
        match self.scheme {
            Scheme::Joined => {
                let (number, width) = (self.files.len() + 1, ending.len());
                Some(last.with_file_name(format!("{stem}.{number:0width$}")))
            }
            Scheme::SplitZip => None,
            Scheme::Single | Scheme::RarVolumes => {
                Some(RarNames::of(last, stem, ending).named(self.files.len()))
            }
        }
    }
}

/// How the volumes of one rar archive are named.
enum RarNames<'a> {
    /// `x.part01.rar`
    Parts { given: &'a Path, stem: &'a str, width: usize, ending: &'a str },
    /// `x.rar`, `x.r00`, ..., `x.r99`, `x.s00`, ...
    Old { given: &'a Path, stem: &'a str, is_upper: bool },
}

impl<'a> RarNames<'a> {
    fn of(given: &'a Path, stem: &'a str, ending: &'a str) -> Self {
        let part = stem.rsplit_once('.').and_then(|(_, part)| {
            let digits =
                part.get(..4).filter(|word| word.eq_ignore_ascii_case("part")).map(|_| &part[4..])?;
            (!digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit())).then_some(digits.len())
        });
        match part {
            Some(width) if ending.eq_ignore_ascii_case("rar") => {
                Self::Parts { given, stem: &stem[..stem.len() - width], width, ending }
            }
            _ => Self::Old { given, stem, is_upper: ending.starts_with(char::is_uppercase) },
        }
    }

    fn named(&self, number: usize) -> PathBuf {
        match self {
            Self::Parts { given, stem, width, ending } => {
                given.with_file_name(format!("{stem}{:0width$}.{ending}", number + 1))
            }
            Self::Old { given, stem, is_upper } => {
                let ending = match number.checked_sub(1) {
                    None => "rar".to_owned(),
                    Some(rest) => {
                        let letter = char::from(b'r' + u8::try_from(rest / 100).unwrap_or(8).min(8));
                        format!("{letter}{:02}", rest % 100)
                    }
                };
                let ending = if *is_upper { ending.to_uppercase() } else { ending };
                given.with_file_name(format!("{stem}.{ending}"))
            }
        }
    }
}

fn is_numbered(ending: &str, letters: &[char]) -> bool {
    let digits = ending.strip_prefix(letters).unwrap_or_default();
    digits.len() >= 2 && digits.bytes().all(|byte| byte.is_ascii_digit())
}

fn open(path: &Path) -> Result<ArchiveFile, PackageError> {
    ArchiveFile::open(path).map_err(|source| PackageError::unreadable(path, source))
}

fn missing(given: &Path, volume: PathBuf) -> PackageError {
    PackageError::MissingVolume { package: given.display().to_string(), volume }
}

fn siblings(given: &Path) -> Result<Vec<String>, PackageError> {
    let folder = given.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let entries = fs::read_dir(folder).map_err(|source| PackageError::unreadable(folder, source))?;
    Ok(entries.filter_map(|entry| entry.ok()?.file_name().into_string().ok()).collect())
}

/// How many segments come before this one, by the record at the end of a zip archive; 0 if it has none.
fn zip_disks(path: &Path) -> Result<u16, PackageError> {
    let file = open(path)?;
    let end = super::split_zip::end_record(&file).map_err(|source| PackageError::unreadable(path, source))?;
    Ok(end.map_or(0, |end| end.disk).min(9999))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(volumes: &Volumes) -> Vec<String> {
        volumes.files.iter().map(|file| file.file_name().unwrap().to_string_lossy().into_owned()).collect()
    }

    #[test]
    fn the_whole_set_is_found_from_any_of_its_names() {
        let folder = tempfile::Builder::new().prefix("volumes").tempdir().unwrap();
        let write = |name: &str, bytes: &[u8]| fs::write(folder.path().join(name), bytes).unwrap();
        let of = |name: &str| Volumes::of(&folder.path().join(name));
        write("x.7z.001", b"7z\xbc\xaf\x27\x1c");
        write("x.7z.002", b"rest");
        write("y.part1.rar", b"Rar!\x1a\x07\0");
        write("y.part2.rar", b"Rar!\x1a\x07\0");
        write("Z.RAR", b"Rar!\x1a\x07\0");
        write("Z.R00", b"Rar!\x1a\x07\0");
        for name in ["x.7z.001", "x.7z.002"] {
            assert_eq!(names(&of(name).unwrap()), ["x.7z.001", "x.7z.002"]);
        }
        for name in ["y.part2.rar", "y.part1.rar"] {
            assert_eq!(names(&of(name).unwrap()), ["y.part1.rar", "y.part2.rar"]);
        }
        assert_eq!(names(&of("Z.R00").unwrap()), ["Z.RAR", "Z.R00"]);
        let next = |name: &str| of(name).unwrap().next().unwrap();
        assert!(next("x.7z.001").ends_with("x.7z.003"));
        assert!(next("y.part1.rar").ends_with("y.part3.rar"));
        assert!(next("Z.RAR").ends_with("Z.R01"));
        write("x.7z.004", b"later");
        let gone = |name: &str| match of(name) {
            Err(PackageError::MissingVolume { volume, .. }) => volume.file_name().unwrap().to_owned(),
            other => panic!("{other:?}"),
        };
        assert_eq!(gone("x.7z.002"), "x.7z.003");
        write("w.7z.002", b"rest");
        write("w.z01", b"rest");
        assert_eq!((gone("w.7z.002"), gone("w.z01")), ("w.7z.001".into(), "w.zip".into()));
        write("notes.001", b"hello");
        assert_eq!(of("notes.001").unwrap().scheme, Scheme::Single);
    }
}
