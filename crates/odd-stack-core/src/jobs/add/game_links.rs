//! Links of a package that lead out of it, to a file of the game: each becomes a copy of that file.

use std::path::PathBuf;

use super::content_at::{ContentAt, key_of};
use super::contents::Contents;
use super::error::AddError;
use crate::address::{Address, RelPath};
use crate::files::look_at;
use crate::fit::{Fit, Patterns};
use crate::ledger::{Ledger, LedgerError};
use crate::package::{LinkOut, Package};
use crate::stack::{BaseKind, EntryKind, Order, Provider};

/// What the links of a package that lead out of it come to.
#[derive(Debug, Default)]
pub(in crate::jobs) struct GameLinks {
    /// Those that lead to a file of the game.
    pub copies: Vec<GameCopy>,
    /// All others.
    pub out: Vec<LinkOut>,
}

/// A link that stands for a file of the game.
#[derive(Debug)]
pub(in crate::jobs) struct GameCopy {
    pub link: RelPath,
    to: Address,
    pub of: Address,
    /// Where the game's file lies now.
    path: PathBuf,
    pub size_bytes: u64,
}

impl GameLinks {
    /// Follows each link from where it would lie, which is where the files beside it go. Links beside which nothing is
    /// placed, or that are left out by name, are not needed.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub(in crate::jobs) fn follow(
        ledger: &Ledger,
        order: &Order,
        package: &Package,
        placed: &Fit,
    ) -> Result<Self, LedgerError> {
        let mut links = Self::default();
        let skip = Patterns::new(&placed.rules.skip).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        for link in package.links_out().iter().filter(|link| !skip.meet(&link.path)) {
            let copy = match address_of(&link.path, package, placed) {
                Some(to) => copy_at(ledger, order, link, to, placed)?,
                None => None,
            };
            match copy {
                Some(copy) => links.copies.push(copy),
                None => links.out.push(link.clone()),
            }
        }
        Ok(links)
    }

    /// Stores the game's files as contents, for entries of the new layer.
    ///
    /// # Errors
    /// [`AddError`], where one can't be read.
    pub(in crate::jobs) fn take(&self, contents: &Contents<'_>) -> Result<Vec<ContentAt>, AddError> {
        let take = |copy: &GameCopy| {
            let hash = contents.put_file(&copy.path, copy.size_bytes)?;
            let (address, size_bytes) = (copy.to.clone(), copy.size_bytes);
            Ok(ContentAt { kind: EntryKind::File, address, hash, size_bytes })
        };
        self.copies.iter().map(take).collect()
    }
}

/// Where a file of the package would go, as those in the same folder do.
fn address_of(path: &RelPath, package: &Package, placed: &Fit) -> Option<Address> {
    let folder = path.parent();
    let beside = placed.placements.iter().find(|placement| {
        let member = &package.members()[placement.member];
        member.path.parent() == folder && member.path.name() == placement.to.path.name()
    })?;
    let name = RelPath::from_disk(path.name());
    Some(Address { root: beside.to.root.clone(), path: beside.to.path.parent().join(&name) })
}

fn copy_at(
    ledger: &Ledger,
    order: &Order,
    link: &LinkOut,
    to: Address,
    placed: &Fit,
) -> Result<Option<GameCopy>, LedgerError> {
    let Some(path) = link.leads_to(&to.path) else { return Ok(None) };
    let of = Address { root: to.root.clone(), path };
    let (root, key) = key_of(ledger, &of)?;
    let (_, own) = key_of(ledger, &to)?;
    let is_placed = |placement: &crate::fit::Placement| {
        placement.to.root == to.root && ledger.game().folding.key(placement.to.path.as_str()) == own
    };
    let column = ledger.column(root, &key)?;
    let Some(base) = column.base.as_ref().filter(|base| base.kind == BaseKind::File) else { return Ok(None) };
    if placed.placements.iter().any(is_placed) {
        return Ok(None);
    }
    let site = ledger.site();
    let folder = site.root(root)?;
    let path = match column.provider(order) {
        Provider::Layer(_) => site.original(folder, column.path),
        _ => base.spelled.on(&folder.folder),
    };
    // As it is now, whoever changed it.
    let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
    let Some(seen) = seen.filter(|seen| seen.kind == BaseKind::File) else { return Ok(None) };
    let of = Address { root: of.root, path: base.spelled.clone() };
    Ok(Some(GameCopy { link: link.path.clone(), to, of, path, size_bytes: seen.size_bytes }))
}
