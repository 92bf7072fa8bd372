//! What a layer does inside containers: which it goes into, what it takes away there, and signatures that no longer hold.

use std::collections::{BTreeMap, BTreeSet};

use super::content_at::{ContentAt, key_of};
use super::contents::Contents;
use super::error::AddError;
use super::taken_away::{Away, AwayAt};
use crate::address::{Address, INTO, RelPath};
use crate::container::{like_signatures, signature_of};
use crate::expected::{Containers, Opened};
use crate::fit::Fit;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Column, EntryKind, LayerId, Order, Provider};

/// A container that a layer changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(in crate::jobs) struct ContainerChange {
    /// Where it is.
    pub address: Address,
    /// Members that the layer puts or takes away.
    pub members: u64,
    /// Members of its signature that are taken away, since it no longer holds.
    pub signature: Vec<RelPath>,
    /// The signature stays, though it no longer holds.
    pub keeps_signature: bool,
    /// Folders in it that look like a signature of another kind, and stay.
    pub like_signatures: Vec<String>,
}

/// All that a layer does inside containers.
#[derive(Default)]
pub(in crate::jobs) struct IntoContainers {
    /// A stored list of members for each container.
    pub lists: Vec<ContentAt>,
    pub changes: Vec<ContainerChange>,
}

impl IntoContainers {
    /// Finds the containers that addresses of the layer lead into, and adds the files of their signatures to what it takes
    /// `away`.
    ///
    /// # Errors
    /// [`AddError::NotIntoContainer`], where there is no container that can be changed; [`AddError::LikeSignature`], where a
    /// person must say what becomes of one.
    pub(in crate::jobs) fn of(
        ledger: &Ledger,
        (order, containers): (&Order, &Containers<'_>),
        (placed, keys): (&Fit, &[ContentAt]),
        away: &mut Away,
        contents: &Contents<'_>,
    ) -> Result<Self, AddError> {
        let mut members: BTreeMap<(String, RelPath), BTreeSet<String>> = BTreeMap::new();
        let mut addresses: Vec<Address> =
            placed.placements.iter().map(|placement| placement.to.clone()).collect();
        addresses.extend(keys.iter().map(|keys| keys.address.clone()));
        addresses.extend(away.addresses(ledger));
        addresses.retain(|address| address.path.as_str().contains(INTO));
        if addresses.is_empty() {
            return Ok(Self::default());
        }
        let mut known: BTreeMap<(String, RelPath), bool> = BTreeMap::new();
        for address in &addresses {
            let text = address.path.as_str();
            let mut inner = false;
            for (at, _) in text.match_indices(INTO) {
                let container = RelPath::from_disk(&text[..at]);
                let place = (address.root.to_string(), container.clone());
                let is_one = match known.get(&place) {
                    Some(is_one) => *is_one,
                    None => {
                        let at = Address { root: address.root.clone(), path: container };
                        let is_one = inner || !is_folder(ledger, &at)?;
                        if is_one {
                            opened(ledger, containers, order, &at)?;
                        }
                        known.insert(place.clone(), is_one);
                        is_one
                    }
                };
                if is_one {
                    inner = true;
                    members.entry(place).or_default().insert(text[at + INTO.len()..].to_owned());
                }
            }
        }
        let mut found = Self::default();
        for ((root, path), within) in members {
            let root = ledger.game().roots.iter().find(|known| known.name.to_string() == root);
            let root = root.ok_or_else(|| ledger.catalogue.damaged_by(&"a root is gone"))?;
            let address = Address { root: root.name.clone(), path };
            found.add(
                ledger,
                (order, containers),
                address,
                within,
                (placed.rules.keeps_signature(), away),
                contents,
            )?;
        }
        Ok(found)
    }

    fn add(
        &mut self,
        ledger: &Ledger,
        (order, containers): (&Order, &Containers<'_>),
        address: Address,
        mut within: BTreeSet<String>,
        (keeps_signature, away): (bool, &mut Away),
        contents: &Contents<'_>,
    ) -> Result<(), AddError> {
        let members = within.len() as u64;
        let opened = opened(ledger, containers, order, &address)?;
        let mut signature = signature_of(&opened.directory);
        signature.retain(|path| !within.contains(path.as_str()));
        let mut like_signatures = match signature.is_empty() {
            true => like_signatures(&opened.file.rewound(), &opened.directory),
            false => Vec::new(),
        };
        like_signatures.retain(|top| !within.iter().any(|path| path.starts_with(&format!("{top}/"))));
        if !like_signatures.is_empty() && !keeps_signature && !is_changed_already(ledger, &address)? {
            return Err(AddError::LikeSignature { container: address.to_string(), folders: like_signatures });
        }
        let keeps_signature = keeps_signature && !signature.is_empty();
        if !keeps_signature {
            for path in &signature {
                let path = RelPath::from_disk(format!("{}{INTO}{path}", address.path));
                let (root, key) =
                    key_of(ledger, &Address { root: address.root.clone(), path: path.clone() })?;
                away.signatures.push((root, key, path) as AwayAt);
            }
            within.extend(signature.iter().map(|path| path.as_str().to_owned()));
        }
        let list: Vec<&String> = within.iter().collect();
        let bytes = serde_json::to_vec(&list).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        let size_bytes = bytes.len() as u64;
        let (kind, hash) = (EntryKind::Members, contents.put(bytes)?);
        self.lists.push(ContentAt { kind, address: address.clone(), hash, size_bytes });
        if keeps_signature {
            signature.clear();
        }
        self.changes.push(ContainerChange { address, members, signature, keeps_signature, like_signatures });
        Ok(())
    }
}

/// Whether a layer changes members of a container, so that it was decided what becomes of its signature.
fn is_changed_already(ledger: &Ledger, container: &Address) -> Result<bool, LedgerError> {
    let (root, key) = key_of(ledger, container)?;
    let layers = ledger.catalogue.arrangement()?;
    let is_in = |layer: LayerId| layers.standings().iter().any(|standing| standing.layer == layer);
    let column = ledger.catalogue.column_alone(root, &key)?;
    let mut entries = column.iter().flat_map(|column| &column.entries);
    Ok(entries.any(|entry| entry.kind == EntryKind::Members && is_in(entry.layer)))
}

/// Whether the game has a folder named as a container is written, with its `!`.
fn is_folder(ledger: &Ledger, container: &Address) -> Result<bool, LedgerError> {
    let folder = RelPath::from_disk(format!("{}!", container.path));
    let (root, key) = key_of(ledger, &Address { root: container.root.clone(), path: folder })?;
    let source = ledger.catalogue.folder_source(root, &key)?;
    Ok(source.base.is_some() || !source.needs.is_empty())
}

/// The container at an address as `order` has it, without what layers change in it.
pub(in crate::jobs) fn opened(
    ledger: &Ledger,
    containers: &Containers<'_>,
    order: &Order,
    address: &Address,
) -> Result<Opened, AddError> {
    let (root, key) = key_of(ledger, address)?;
    let column = containers.column(root, &key)?;
    let alone = Column { members: Vec::new(), ..(*column).clone() };
    let opened = match alone.whole_provider(order) {
        Provider::Base(_) => containers.of_base(&column)?,
        Provider::Layer(entry) => containers.of_entry(entry)?,
        Provider::Nothing => Err("there is no such file".to_owned()),
    };
    opened.map_err(|reason| AddError::NotIntoContainer { container: address.to_string(), reason })
}
