//! What a fit sheet takes away: files, folders with all in them, and what meets patterns.

use std::collections::HashSet;

use super::content_at::key_of;
use crate::address::{Address, FoldedKey, RelPath};
use crate::fit::{Fit, FitError};
use crate::game::{AddressPattern, PatternError};
use crate::jobs::AddError;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{BaseKind, RootId};

/// One address that a layer takes away.
pub(in crate::jobs) type AwayAt = (RootId, FoldedKey, RelPath);

/// What a layer takes away, in order of addresses.
#[derive(Debug, Default)]
pub(in crate::jobs) struct Away {
    pub files: Vec<AwayAt>,
    /// Folders of the base of which nothing stays.
    pub folders: Vec<AwayAt>,
}

impl Away {
    /// Finds what the sheet means, by what the base and the layers of the stack have now. Files that the package itself
    /// puts are not taken away.
    ///
    /// # Errors
    /// [`AddError`], when the sheet says what is no address.
    pub(in crate::jobs) fn of(ledger: &Ledger, placed: &Fit) -> Result<Self, AddError> {
        let mut away = Self::default();
        for text in &placed.rules.wishes.takes_away {
            away.add(ledger, text)?;
        }
        let sort = |list: &mut Vec<AwayAt>| {
            list.sort();
            list.dedup_by(|one, two| (one.0, &one.1) == (two.0, &two.1));
        };
        sort(&mut away.files);
        sort(&mut away.folders);
        let mut put = Vec::new();
        for placement in &placed.placements {
            put.push(key_of(ledger, &placement.to)?);
        }
        put.sort();
        away.files.retain(|(root, key, _)| put.binary_search(&(*root, key.clone())).is_err());
        away.keep_folders_in_use(ledger)?;
        Ok(away)
    }

    fn add(&mut self, ledger: &Ledger, text: &str) -> Result<(), AddError> {
        let game = ledger.game();
        let bad = |error: PatternError| {
            let source = match error {
                PatternError::Address(error) => FitError::Address(error),
                PatternError::Pattern { text: pattern, reason } => FitError::BadPattern { pattern, reason },
            };
            AddError::Fit { package: "the fit sheet".to_owned(), source }
        };
        let Some(pattern) = AddressPattern::parse(game, text).map_err(bad)? else { return Ok(()) };
        let (root, within) = (pattern.root, &pattern.within);
        let base = ledger.catalogue.base_within(root, within)?;
        let of_layers = ledger.catalogue.addresses_within(root, within)?;
        let is_folder = base.iter().any(|(key, base)| key == within && base.kind == BaseKind::Folder);
        if pattern.is_plain() && !is_folder {
            // One file, which the game may have only at times.
            let asked = game.meant(text).map(|address| address.path).unwrap_or_default();
            if !asked.is_root() {
                self.files.push((root, within.clone(), asked));
            }
            return Ok(());
        }
        for (key, base) in base.into_iter().filter(|(key, _)| pattern.meets(root, key.as_str())) {
            let list = if base.kind == BaseKind::Folder { &mut self.folders } else { &mut self.files };
            list.push((root, key, base.spelled));
        }
        let met = of_layers.into_iter().filter(|(key, _)| pattern.meets(root, key.as_str()));
        self.files.extend(met.map(|(key, spelled)| (root, key, spelled)));
        Ok(())
    }

    /// Leaves those folders that something of the base stays in.
    fn keep_folders_in_use(&mut self, ledger: &Ledger) -> Result<(), LedgerError> {
        let folders = std::mem::take(&mut self.folders);
        for (root, key, spelled) in folders {
            let is_taken = |other: &FoldedKey| {
                let at = self.files.binary_search_by(|(of, key, _)| (*of, key).cmp(&(root, other)));
                at.is_ok()
            };
            let inside = ledger.catalogue.base_within(root, &key)?;
            let mut files = inside.iter().filter(|(_, base)| base.kind != BaseKind::Folder);
            if files.all(|(other, _)| is_taken(other)) {
                self.folders.push((root, key, spelled));
            }
        }
        Ok(())
    }

    /// What is taken away as few addresses as will do: a folder stands for all in it.
    pub(in crate::jobs) fn told(&self, ledger: &Ledger) -> Vec<String> {
        let folders: HashSet<(RootId, &str)> =
            self.folders.iter().map(|(root, _, folder)| (*root, folder.as_str())).collect();
        let is_in =
            |root: RootId, path: &RelPath| path.ancestors().any(|folder| folders.contains(&(root, folder)));
        let told = |(root, _, spelled): &AwayAt, end: &str| {
            let address = ledger.game().address(*root, spelled.clone())?;
            (!is_in(*root, spelled)).then(|| format!("{address}{end}"))
        };
        let folders = self.folders.iter().filter_map(|folder| told(folder, "/"));
        folders.chain(self.files.iter().filter_map(|file| told(file, ""))).collect()
    }

    /// The addresses of the files.
    pub(in crate::jobs) fn addresses(&self, ledger: &Ledger) -> Vec<Address> {
        let address = |(root, _, spelled): &AwayAt| ledger.game().address(*root, spelled.clone());
        self.files.iter().filter_map(address).collect()
    }
}
