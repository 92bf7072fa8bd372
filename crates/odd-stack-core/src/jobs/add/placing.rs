//! Placing a package onto a game: what its sheet, a person and the game say, put together.

use std::cell::{OnceCell, RefCell};
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::Path;

use rustc_hash::FxHashSet;

use super::answered::{Held, answered, put_first};
use super::arrival::{Arrival, Told};
use super::contents::Contents;
use super::error::AddError;
use super::game_containers::game_containers;
use super::game_tree::LedgerTree;
use super::placing_again::VersionBefore;
use super::placing_request::{PlacingRequest, sheet_text};
use crate::address::{Address, FoldedKey, Folding, INTO, PrefixName, RelPath};
use crate::files::{is_nothing_there, look_at};
use crate::fit::NothingReason;
use crate::fit::{
    Candidate, ContainerSeen, Effect, Finding, Fit, FitError, FitInput, FitSheet, GameTree, Hints, LeftOut,
    MOST_SHEET_BYTES, Place, Rank, Rules, RulesFound, ToldName, Unclear, draft, fit, holds_backups,
    into_container, is_document, is_in_backup, name_told, suspected_copies,
};
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError};
use crate::observer::Observer;
use crate::package::{Member, Package};
use crate::stack::{BaseKind, Order};

/// Reads the fit sheet at `path`.
///
/// # Errors
/// [`AddError::Sheet`] when it can't be read, [`AddError::Fit`] when it has a mistake.
pub fn read_sheet(path: &Path) -> Result<FitSheet, AddError> {
    let bytes = read_sheet_bytes(path)?;
    parse_sheet(bytes).map_err(|source| AddError::Fit { package: path.display().to_string(), source })
}

pub(in crate::jobs) fn read_sheet_bytes(path: &Path) -> Result<Vec<u8>, AddError> {
    let unreadable = |source| AddError::Sheet { path: path.to_path_buf(), source };
    let size_bytes = std::fs::metadata(path).map_err(unreadable)?.len();
    if size_bytes > MOST_SHEET_BYTES {
        return Err(unreadable(std::io::Error::other("it is far too big for a fit sheet")));
    }
    std::fs::read(path).map_err(unreadable)
}

fn parse_sheet(bytes: Vec<u8>) -> Result<FitSheet, FitError> {
    FitSheet::parse(&sheet_text(bytes)?)
}

/// How much of a small file is read that may tell a name.
const MOST_NAME_BYTES: u64 = 64 << 10;

/// Places one package onto one game.
pub(in crate::jobs) struct Placer<'a> {
    pub ledger: &'a Ledger,
    pub tree: LedgerTree<'a>,
    pub package: &'a Package,
    pub told: &'a Told,
    pub contents: &'a Contents<'a>,
    pub observer: &'a dyn Observer,
    /// Hashes of base files that became known on the way.
    base_hashes: RefCell<BTreeMap<Address, ContentHash>>,
    /// The game's containers, once they were looked for.
    containers: OnceCell<Vec<ContainerSeen>>,
    /// Names that small files of the package tell, by members that were read.
    names_read: RefCell<BTreeMap<usize, Option<ToldName>>>,
}

impl<'a> Placer<'a> {
    /// For a package that arrives at a game with layers in that order.
    pub(in crate::jobs) fn new(
        ledger: &'a Ledger,
        order: Order,
        arrival: &'a Arrival,
        contents: &'a Contents<'a>,
        observer: &'a dyn Observer,
    ) -> Self {
        Self {
            ledger,
            tree: LedgerTree::new(ledger, order),
            package: &arrival.package,
            told: &arrival.told,
            contents,
            observer,
            base_hashes: RefCell::default(),
            containers: OnceCell::new(),
            names_read: RefCell::default(),
        }
    }

    /// Hashes of base files that became known on the way.
    pub(in crate::jobs) fn into_base_hashes(self) -> BTreeMap<Address, ContentHash> {
        self.base_hashes.into_inner()
    }
}

/// Whether something speaks for one of the answers.
fn has_matches(unclear: &Unclear) -> bool {
    unclear.candidates.iter().any(|candidate| candidate.effect.is_some_and(|effect| effect.over > 0))
}

fn lies_in(there: &FxHashSet<(PrefixName, FoldedKey)>, address: &Address) -> bool {
    there.contains(&(address.root.clone(), Folding::Folded.key(address.path.as_str())))
}

impl Placer<'_> {
    fn misfit(&self, source: FitError) -> AddError {
        AddError::Fit { package: self.package.path().display().to_string(), source }
    }

    /// Places the package; `before` is the layer that it takes the place of.
    pub(in crate::jobs) fn place(
        &self,
        wanted: &PlacingRequest,
        before: Option<&VersionBefore>,
    ) -> Result<Fit, AddError> {
        let own = self.told.sheet.as_ref().map(|sheet| sheet.rules(Rank::Package)).unwrap_or_default();
        let backups = self.backups()?;
        let place = |copies: &BTreeSet<usize>| match before {
            None => self.fit(&wanted.rules_over(own.clone()), copies),
            Some(before) => self.fit_again(wanted, &own, before, copies),
        };
        let placed = match place(&backups) {
            Err(
                error @ (FitError::Unclear(_) | FitError::ChoiceNeeded { .. } | FitError::TwoToOne { .. }),
            ) => {
                // Copies of the game's own files may be all that makes it unclear.
                let copies = self.suspected(|_| true)?;
                if copies.is_empty() { Err(error) } else { place(&copies) }
            }
            other => other,
        };
        let says_where = wanted.rules_over(own.clone()).say_where();
        let placed = match before {
            None if !says_where => self.held_against_containers(placed, wanted, &own, &backups)?,
            _ => placed,
        };
        let placed = placed.map(|fit| self.held_against_the_game(fit, &wanted.rules, before, &backups));
        placed.map_err(|mut error| {
            if before.is_none()
                && let FitError::Unclear(Unclear { candidates, .. }) | FitError::OnlyPacked { candidates, .. } =
                    &mut error
            {
                self.try_each(candidates, &wanted.rules_over(own.clone()), &backups);
            }
            if before.is_none()
                && let FitError::Unclear(unclear) = &mut error
            {
                // What can't be read here is reported when something is written.
                let earlier = answered(self.ledger).unwrap_or_default();
                let held = Held {
                    is_there: &|address| self.tree.has_folder(address),
                    is_own: &|address| self.is_base_folder(address),
                };
                let (members, book) = (self.package.members(), self.ledger.game().address_book());
                put_first(unclear, &earlier, members, &book, &held);
            }
            self.misfit(error)
        })
    }

    /// The fit, or the question, with what the game's containers say of it: where nothing that it would cover lies in the
    /// game's folders, and its files are members of a container, it goes there; where both fit, it is asked.
    fn held_against_containers(
        &self,
        placed: Result<Fit, FitError>,
        wanted: &PlacingRequest,
        own: &Rules,
        copies: &BTreeSet<usize>,
    ) -> Result<Result<Fit, FitError>, AddError> {
        let over = match &placed {
            Ok(fit) => {
                let there = self.named_alike();
                fit.placements.iter().filter(|placement| lies_in(&there, &placement.to)).count()
            }
            Err(FitError::Unclear(_)) => 0,
            Err(_) => return Ok(placed),
        };
        if placed.is_ok() && over * 2 > self.package.members().len() {
            return Ok(placed);
        }
        if self.containers.get().is_none() {
            let _ = self.containers.set(game_containers(self.ledger)?);
        }
        let containers = self.containers.get().map(Vec::as_slice).unwrap_or_default();
        let is_read = |member: &Member| is_document(&member.path);
        let Some(into) = into_container(self.package.members(), is_read, containers) else {
            return Ok(placed);
        };
        let beside = (over > 0 && into.over >= over) || !into.is_clear();
        Ok(match placed {
            Ok(fit) if !into.is_clear() || into.over < over => Ok(fit),
            Err(FitError::Unclear(mut unclear)) if beside || has_matches(&unclear) => {
                unclear.candidates.insert(0, into.candidate());
                unclear.is_first_far_ahead = false;
                Err(FitError::Unclear(unclear))
            }
            Ok(fit) if over > 0 => Err(FitError::Unclear(Unclear {
                question: "where its files go is not clear: into a container, or into folders".to_owned(),
                candidates: vec![
                    into.candidate(),
                    Candidate {
                        places: fit.rules.places,
                        evidence: "as its folders lie in the game".to_owned(),
                        ..Candidate::default()
                    },
                ],
                is_first_far_ahead: false,
                to_read: Vec::new(),
                root_missing: None,
            })),
            _ => {
                let mut rules = wanted.rules_over(own.clone());
                rules.places.push(into.place.clone());
                rules.tidy = true;
                let place = format!("{}={}", into.place.from, into.place.to);
                let found = Finding::InContainer { place, over: into.over, files: into.files };
                self.fit(&rules, copies).map(|mut fit| {
                    fit.findings.retain(|finding| *finding != Finding::ByPlaces);
                    fit.findings.push(found);
                    fit
                })
            }
        })
    }

    /// The addresses of the game's files that are named like one of the package's.
    fn named_alike(&self) -> FxHashSet<(PrefixName, FoldedKey)> {
        let names = self.package.members().iter().map(|member| member.path.name());
        let files = names.map(|name| Folding::Folded.key(name).as_str().to_owned()).collect();
        let mut there = self.tree.files_named(&files);
        for container in self.containers.get().into_iter().flatten() {
            let Address { root, path } = &container.address;
            let member = |member: &RelPath| Folding::Folded.key(&format!("{path}{INTO}{member}"));
            there.extend(container.members.iter().map(|path| (root.clone(), member(path))));
        }
        there
    }

    /// The fit, with a word on it when a person placed the files of a small package where none of them lies, though
    /// most of them lie elsewhere.
    fn held_against_the_game(
        &self,
        mut fit: Fit,
        rules: &Rules,
        before: Option<&VersionBefore>,
        copies: &BTreeSet<usize>,
    ) -> Fit {
        const MOST_FILES: usize = 2000;
        const FEWEST: usize = 3;
        let all = fit.placements.len();
        if before.is_some() || rules.places.is_empty() || self.package.members().len() > MOST_FILES {
            return fit;
        }
        let there = self.named_alike();
        let count =
            |fit: &Fit| fit.placements.iter().filter(|placement| lies_in(&there, &placement.to)).count();
        let as_given = count(&fit);
        if as_given * 4 > all || there.len() < FEWEST {
            return fit;
        }
        let without = Rules { places: Vec::new(), ..rules.clone() };
        let Ok(other) = self.fit(&without, copies) else { return fit };
        let elsewhere = count(&other);
        if let Some(place) = other.rules.places.first()
            && elsewhere >= FEWEST.max(2 * as_given + 1)
            && elsewhere * 4 > all
        {
            let place = format!("{}={}", place.from, place.to);
            fit.findings.push(Finding::BetterElsewhere { elsewhere, as_given, all, place });
        }
        fit
    }

    /// Notes of each answer what it would do; nothing of one that leads to another question.
    fn try_each(&self, candidates: &mut [Candidate], rules: &Rules, copies: &BTreeSet<usize>) {
        // Of very big packages that would take longer than a person likes to wait for a question.
        const MOST_FILES: usize = 5000;
        let members = self.package.members();
        if members.len() > MOST_FILES {
            return;
        }
        let there = self.named_alike();
        for candidate in candidates {
            let mut rules = rules.clone();
            rules.tidy |= !candidate.places.is_empty();
            let rank = Rank::Option;
            rules.places.extend(candidate.places.iter().map(|place| Place { rank, ..place.clone() }));
            rules.skip.extend(candidate.skip.iter().cloned());
            let Ok(fit) = self.fit(&rules, copies) else { continue };
            let over =
                fit.placements.iter().filter(|placement| lies_in(&there, &placement.to)).count() as u64;
            // An archive that is unpacked is not left out.
            let is_out = |(index, reason): &&(usize, LeftOut)| {
                let path = &members[*index].path;
                *reason != LeftOut::Packed
                    && !rules.places.iter().any(|place| place.from.starts_with(&format!("{path}!")))
            };
            let left_out = fit.left_out.iter().filter(is_out).count() as u64;
            let new = fit.placements.len() as u64 - over;
            candidate.effect = Some(Effect { new, over, left_out });
        }
    }

    pub(in crate::jobs) fn fit(&self, rules: &Rules, copies: &BTreeSet<usize>) -> Result<Fit, FitError> {
        self.with_names_read(rules, copies, fit)
    }

    /// The rules by which the package is placed, with nothing chosen yet.
    pub(in crate::jobs) fn draft(&self, wanted: &PlacingRequest) -> Result<RulesFound, AddError> {
        let own = self.told.sheet.as_ref().map(|sheet| sheet.rules(Rank::Package)).unwrap_or_default();
        let rules = wanted.rules_over(own);
        let drafted = match self.with_names_read(&rules, &self.backups()?, draft) {
            Err(error @ FitError::Unclear(_)) => {
                let copies = self.suspected(|_| true)?;
                if copies.is_empty() { Err(error) } else { self.with_names_read(&rules, &copies, draft) }
            }
            other => other,
        };
        drafted.map_err(|error| self.misfit(error))
    }

    /// Tries to `place`, again with what small files of the package tell when that may help.
    pub(in crate::jobs) fn with_names_read<T>(
        &self,
        rules: &Rules,
        copies: &BTreeSet<usize>,
        place: fn(&FitInput<'_>) -> Result<T, FitError>,
    ) -> Result<T, FitError> {
        let game = self.ledger.game();
        let book = game.address_book();
        let mut told_names: Vec<ToldName> = Vec::new();
        loop {
            let hints = Hints { package_name: &self.told.parts.name, told_names: &told_names };
            let (members, folders) = (self.package.members(), self.package.folders());
            let input = FitInput {
                members,
                folders,
                rules,
                book: &book,
                folding: game.folding,
                tree: &self.tree,
                hints,
                copies,
            };
            match place(&input) {
                Err(FitError::Unclear(unclear)) if told_names.is_empty() && !unclear.to_read.is_empty() => {
                    told_names = self.names_told(&unclear.to_read);
                    if told_names.is_empty() {
                        return Err(FitError::Unclear(unclear));
                    }
                }
                other => return other,
            }
        }
    }

    /// Names that these small members tell of the package, read in one pass. What can't be read tells nothing here,
    /// and is told when it is taken in.
    fn names_told(&self, to_read: &[usize]) -> Vec<ToldName> {
        let members = self.package.members();
        let mut known = self.names_read.borrow_mut();
        let new: Vec<usize> = to_read.iter().copied().filter(|index| !known.contains_key(index)).collect();
        let wanted: Vec<&Member> = new.iter().map(|index| &members[*index]).collect();
        let read = self.contents.read_small(self.package, &wanted, MOST_NAME_BYTES, self.observer);
        for (index, bytes) in new.into_iter().zip(read.unwrap_or_default()) {
            let path = members[index].path.as_str();
            known.insert(index, name_told(path, &String::from_utf8_lossy(&bytes)));
        }
        to_read.iter().filter_map(|index| known.get(index).cloned().flatten()).collect()
    }

    /// Copies of the game's own files in folders that say they keep such.
    fn backups(&self) -> Result<BTreeSet<usize>, AddError> {
        match holds_backups(self.package.folders()) {
            true => self.suspected(is_in_backup),
            false => Ok(BTreeSet::new()),
        }
    }

    /// Members that `may_be`, wherever they would go, copies of the game's own files, and are.
    fn suspected(&self, may_be: impl Fn(&Member) -> bool) -> Result<BTreeSet<usize>, AddError> {
        let members = self.package.members();
        let mut suspected = suspected_copies(members, self.package.folders(), &self.tree);
        suspected.retain(|(member, _)| may_be(&members[*member]));
        let wanted: BTreeSet<usize> = suspected.iter().map(|(member, _)| members[*member].content).collect();
        self.contents.read_ahead(self.package, &wanted, self.observer)?;
        let mut copies = BTreeSet::new();
        for (member, places) in suspected {
            let Some(hash) = self.contents.hash_of(members[member].content) else { continue };
            for place in places {
                if self.base_hash(&place, members[member].size_bytes)? == Some(hash) {
                    copies.insert(member);
                    break;
                }
            }
        }
        Ok(copies)
    }

    /// The fit without files that are the very ones of the game that they would cover, when it is one that
    /// leaves such out. Their contents must have been read.
    pub(in crate::jobs) fn without_copies(&self, mut fit: Fit) -> Result<Fit, AddError> {
        if !fit.rules.tidy {
            return Ok(fit);
        }
        let members = self.package.members();
        let mut copies: BTreeSet<usize> = BTreeSet::new();
        for placement in &fit.placements {
            let member = &members[placement.member];
            let Some(hash) = self.contents.hash_of(member.content) else { continue };
            if self.base_hash(&placement.to, member.size_bytes)? == Some(hash) {
                copies.insert(placement.member);
            }
        }
        if copies.is_empty() {
            return Ok(fit);
        }
        fit.placements.retain(|placement| !copies.contains(&placement.member));
        if fit.placements.is_empty() {
            return Err(self.misfit(FitError::NothingPlaced { reason: NothingReason::Originals }));
        }
        // Folders of the game itself that nothing else of the package is in are not needed.
        let folders = std::mem::take(&mut fit.folders);
        let holding = folders_holding(fit.placements.iter().map(|placement| &placement.to));
        let is_needed = |folder: &Address| {
            holding.contains(&(&folder.root, folder.path.as_str())) || !self.is_base_folder(folder)
        };
        fit.folders = folders.into_iter().filter(is_needed).collect();
        fit.left_out.extend(copies.into_iter().map(|member| (member, LeftOut::Original)));
        fit.left_out.sort_unstable();
        Ok(fit)
    }

    fn is_base_folder(&self, folder: &Address) -> bool {
        let game = self.ledger.game();
        let Some(root) = game.root_named(&folder.root) else { return false };
        let key = game.folding.key(folder.path.as_str());
        let base = self.ledger.catalogue.base_at(root.id, &key);
        base.is_ok_and(|base| base.is_some_and(|base| base.kind == BaseKind::Folder))
    }

    /// The hash of the game's own file at the address, if it has that size.
    fn base_hash(&self, address: &Address, size_bytes: u64) -> Result<Option<ContentHash>, LedgerError> {
        if let Some(known) = self.base_hashes.borrow().get(address) {
            return Ok(Some(*known));
        }
        let game = self.ledger.game();
        let Some(root) = game.root_named(&address.root) else { return Ok(None) };
        let key = game.folding.key(address.path.as_str());
        let base = self.ledger.catalogue.base_at(root.id, &key)?;
        let Some(base) = base.filter(|base| base.kind == BaseKind::File && base.size_bytes == size_bytes)
        else {
            return Ok(None);
        };
        if base.hash.is_some() {
            return Ok(base.hash);
        }
        // One that was ever covered has its hash, so this one lies in the game.
        let path = base.spelled.on(&root.folder);
        let hash = match ContentHash::of_file(&path) {
            Ok(hash) => hash,
            Err(error) if is_nothing_there(&error) => return Ok(None),
            Err(error) => return Err(LedgerError::io("read", &path)(error)),
        };
        let is_as_seen = look_at(&path)
            .ok()
            .flatten()
            .is_some_and(|seen| seen.size_bytes == base.size_bytes && seen.modified_ns == base.modified_ns);
        if is_as_seen {
            self.base_hashes.borrow_mut().insert(address.clone(), hash);
        }
        Ok(Some(hash))
    }
}

/// All folders that something of `addresses` lies in.
pub(in crate::jobs) fn folders_holding<'a>(
    addresses: impl Iterator<Item = &'a Address>,
) -> HashSet<(&'a PrefixName, &'a str)> {
    addresses.flat_map(|to| to.path.ancestors().map(move |folder| (&to.root, folder))).collect()
}
