//! What a fit sheet takes away: files, folders with all in them, and what meets patterns.

use std::collections::HashSet;

use super::content_at::key_of;
use super::into_containers::opened;
use crate::address::{Address, FoldedKey, INTO, RelPath};
use crate::expected::Containers;
use crate::fit::{Fit, FitError, Patterns};
use crate::game::{AddressPattern, PatternError};
use crate::jobs::AddError;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{BaseKind, Order, RootId};

/// One address that a layer takes away.
pub(in crate::jobs) type AwayAt = (RootId, FoldedKey, RelPath);

/// What a layer takes away, in order of addresses.
#[derive(Debug, Default)]
pub(in crate::jobs) struct Away {
    pub files: Vec<AwayAt>,
    /// Folders of the base of which nothing stays.
    pub folders: Vec<AwayAt>,
    /// Signatures of containers that no longer hold.
    pub signatures: Vec<AwayAt>,
    /// What is said to be taken away and is not there now, as it is said.
    pub missing: Vec<String>,
}

impl Away {
    /// Finds what the sheet means, by what the base and the layers of the stack have now. Files that the package itself
    /// puts are not taken away.
    ///
    /// # Errors
    /// [`AddError`], when the sheet says what is no address.
    pub(in crate::jobs) fn of(ledger: &Ledger, order: &Order, placed: &Fit) -> Result<Self, AddError> {
        let mut away = Self::default();
        for text in placed.rules.takes_away() {
            if !away.add(ledger, order, &text)? {
                away.missing.push(text);
            }
        }
        away.sort();
        if !away.files.is_empty() {
            let put = placed.placements.iter().map(|placement| key_of(ledger, &placement.to));
            let put = put.collect::<Result<foldhash::HashSet<_>, _>>()?;
            away.files.retain(|(root, key, _)| !put.contains(&(*root, key.clone())));
        }
        away.keep_folders_in_use(ledger)?;
        Ok(away)
    }

    /// Puts what is taken away into order, each address once.
    pub(super) fn sort(&mut self) {
        for list in [&mut self.files, &mut self.folders] {
            list.sort();
            list.dedup_by(|one, two| (one.0, &one.1) == (two.0, &two.1));
        }
    }

    /// Adds the members of a container that a text means; says whether there are any.
    fn add_members(
        &mut self,
        ledger: &Ledger,
        order: &Order,
        (container, within): (&str, &str),
    ) -> Result<bool, AddError> {
        let game = ledger.game();
        let bad = |source| AddError::Fit { package: "the fit sheet".to_owned(), source };
        let address = game.meant(container).map_err(|error| bad(FitError::Address(error)))?;
        let (root, key) = key_of(ledger, &address)?;
        let containers = Containers::new(ledger);
        let column = containers.column(root, &key)?;
        if column.base.is_none() && column.entries.is_empty() {
            // One that the game has only at times.
            return Ok(false);
        }
        let patterns = Patterns::new(&[within.to_owned()]).map_err(bad)?;
        let is_plain = !within.contains(['*', '?', '[', '{']);
        let folder = game.folding.key(within.trim_end_matches('/'));
        let opened = opened(ledger, &containers, order, &address)?;
        let before = self.files.len();
        let path_of = |member: &str| RelPath::from_disk(format!("{}{INTO}{member}", address.path));
        for member in opened.directory.members.iter().filter(|member| !member.is_folder) {
            let own = game.folding.key(member.path.as_str());
            let below = own.as_str().strip_prefix(folder.as_str());
            let is_in = is_plain && below.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'));
            if is_in || patterns.meet(&member.path) {
                let path = path_of(member.path.as_str());
                self.files.push((root, game.folding.key(path.as_str()), path));
            }
        }
        let is_there = self.files.len() > before;
        if !is_there && is_plain && !within.ends_with('/') {
            // One member, which the container may have only at times.
            let path = path_of(within);
            self.files.push((root, game.folding.key(path.as_str()), path));
        }
        Ok(is_there)
    }

    /// Adds what a text means; says whether there is any of it.
    fn add(&mut self, ledger: &Ledger, order: &Order, text: &str) -> Result<bool, AddError> {
        let game = ledger.game();
        let bad = |error: PatternError| {
            let source = match error {
                PatternError::Address(error) => FitError::Address(error),
                PatternError::Pattern { text: pattern, reason } => FitError::BadPattern { pattern, reason },
            };
            AddError::Fit { package: "the fit sheet".to_owned(), source }
        };
        if let Some(into) = text.rsplit_once(INTO) {
            return self.add_members(ledger, order, into);
        }
        let Some(pattern) = AddressPattern::parse(game, text).map_err(bad)? else { return Ok(true) };
        let (root, within) = (pattern.root, &pattern.within);
        let base = ledger.catalogue.base_within(root, within)?;
        let of_layers = ledger.catalogue.addresses_within(root, within)?;
        let is_folder = base.iter().any(|(key, base)| key == within && base.kind == BaseKind::Folder);
        if pattern.is_plain() && !is_folder {
            // One file, which the game may have only at times.
            let asked = game.meant(text).map(|address| address.path).unwrap_or_default();
            if asked.is_root() {
                return Ok(true);
            }
            let is_there =
                base.iter().any(|(key, _)| key == within) || of_layers.iter().any(|(key, _)| key == within);
            self.files.push((root, within.clone(), asked));
            return Ok(is_there);
        }
        let before = (self.files.len(), self.folders.len());
        for (key, base) in base.into_iter().filter(|(key, _)| pattern.meets(root, key.as_str())) {
            let list = if base.kind == BaseKind::Folder { &mut self.folders } else { &mut self.files };
            list.push((root, key, base.spelled));
        }
        let met = of_layers.into_iter().filter(|(key, _)| pattern.meets(root, key.as_str()));
        self.files.extend(met.map(|(key, spelled)| (root, key, spelled)));
        Ok((self.files.len(), self.folders.len()) != before)
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
