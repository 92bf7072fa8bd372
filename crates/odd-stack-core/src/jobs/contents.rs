//! Reading a package's contents, into the ledger or only for their hashes.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use super::add::AddError;
use crate::disk::check_room;
use crate::fit::{FitError, MOST_SHEET_BYTES, SheetHead, is_sheet, wrapper_of};
use crate::hash::ContentHash;
use crate::ledger::{Intake, Ledger};
use crate::observer::{Observer, Work};
use crate::package::{OpenOptions, Package};
use crate::version::FileNameParts;

/// Takes the contents of one package, each once.
pub(super) struct Contents<'a> {
    folder: &'a Path,
    intake: Intake<'a>,
    stores: bool,
    hashes: Mutex<BTreeMap<usize, ContentHash>>,
}

/// The contents of a package by their numbers, and those that the ledger did not have.
pub(super) struct Taken {
    pub hashes: BTreeMap<usize, ContentHash>,
    pub new: Vec<(ContentHash, u64)>,
}

impl<'a> Contents<'a> {
    /// Unless it `stores`, contents are hashed and nothing is written.
    pub(super) fn new(ledger: &'a Ledger, stores: bool) -> Self {
        let intake = Intake::new(ledger.folder(), &*ledger.seam, stores);
        Self { folder: ledger.folder(), intake, stores, hashes: Mutex::default() }
    }

    fn take(&self, content: usize, size_bytes: u64, bytes: &mut dyn Read) -> Result<(), AddError> {
        let hash = self.intake.take(bytes, size_bytes)?;
        self.hashes.lock().unwrap_or_else(PoisonError::into_inner).insert(content, hash);
        Ok(())
    }

    /// Opens the package; contents that can only be listed by unpacking them are taken at once.
    pub(super) fn open(
        &self,
        path: &Path,
        options: &OpenOptions,
        observer: &dyn Observer,
    ) -> Result<Package, AddError> {
        let take =
            |content: usize, size_bytes: u64, bytes: &mut dyn Read| self.take(content, size_bytes, bytes);
        Package::open_taking(path, options, &take, observer)
    }

    /// Takes those of `wanted` that were not taken yet; gives all taken so far.
    pub(super) fn read(
        self,
        package: &Package,
        wanted: &BTreeSet<usize>,
        observer: &dyn Observer,
    ) -> Result<Taken, AddError> {
        let taken = self.hashes.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let wanted: Vec<usize> =
            wanted.iter().filter(|content| !taken.contains_key(content)).copied().collect();
        let mut sizes: BTreeMap<usize, u64> = BTreeMap::new();
        for member in package.members() {
            sizes.insert(member.content, member.size_bytes);
        }
        let bytes: u64 = wanted.iter().filter_map(|content| sizes.get(content)).sum();
        if self.stores {
            check_room(self.folder, bytes)?;
        }
        if !wanted.is_empty() {
            let take =
                |content: usize, size_bytes: u64, bytes: &mut dyn Read| self.take(content, size_bytes, bytes);
            observer.begin(Work::Reading, wanted.len() as u64, bytes);
            let read = package.read(&wanted, &take, observer);
            observer.end();
            read?;
        }
        let hashes = self.hashes.into_inner().unwrap_or_else(PoisonError::into_inner);
        Ok(Taken { hashes, new: self.intake.finish() })
    }
}

/// Name, version and variant of a package: what its fit sheet says, else what its file name tells.
pub(super) fn told_of(package: &Package, observer: &dyn Observer) -> Result<FileNameParts, AddError> {
    let told = package.file_name_parts();
    let wrapper = wrapper_of(package.members(), package.folders());
    let sheet = package.members().iter().find(|member| is_sheet(&member.path, wrapper));
    let Some(sheet) = sheet else { return Ok(told) };
    let bytes = package.read_small(sheet, MOST_SHEET_BYTES, observer)?;
    let no_text = FitError::BadSheet { line: 1, column: 1, reason: "it is not UTF-8 text".to_owned() };
    let text = String::from_utf8(bytes).map_err(|_| no_text);
    let head = text.and_then(|text| SheetHead::parse(text.strip_prefix('\u{feff}').unwrap_or(&text)));
    let head =
        head.map_err(|source| AddError::Fit { package: package.path().display().to_string(), source })?;
    Ok(FileNameParts {
        name: head.name.unwrap_or(told.name),
        version: head.version.or(told.version),
        variant: head.variant.or(told.variant),
    })
}
