//! Placing a package onto a game: what its sheet, a person and the game say, put together.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::Path;

use super::add_error::AddError;
use super::contents::Contents;
use super::tree::LedgerTree;
use crate::address::{Address, RelPath};
use crate::disk::{is_nothing_there, look_at};
use crate::fit::{
    Candidate, Draft, Fit, FitError, FitInput, FitSheet, Hints, LeftOut, MOST_SHEET_BYTES, Place, Rank,
    Rules, ToldName, Unclear, draft, fit, is_sheet, name_told, suspected_copies, unreached, wrapper_of,
};
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError};
use crate::observer::Observer;
use crate::package::Package;
use crate::stack::{BaseKind, LayerId, RootId};
use crate::version::FileNameParts;

/// What a package tells of itself.
#[derive(Debug)]
pub(super) struct Told {
    /// Name, version and variant: what its fit sheet says, else what its file name tells.
    pub parts: FileNameParts,
    /// Its fit sheet.
    pub sheet: Option<FitSheet>,
    /// The sheet's text.
    pub text: Option<String>,
}

/// Reads what the package tells of itself.
pub(super) fn told_of(package: &Package, observer: &dyn Observer) -> Result<Told, AddError> {
    let mut parts = package.file_name_parts();
    let wrapper = wrapper_of(package.members(), package.folders());
    let sheet = package.members().iter().find(|member| is_sheet(&member.path, wrapper));
    let Some(member) = sheet else { return Ok(Told { parts, sheet: None, text: None }) };
    let bytes = package.read_small(member, MOST_SHEET_BYTES, observer)?;
    let misfit = |source| AddError::Fit {
        package: format!("{} in {}", member.path, package.path().display()),
        source,
    };
    let text = sheet_text(bytes).map_err(misfit)?;
    let sheet = FitSheet::parse(&text).map_err(misfit)?;
    if let Some(name) = &sheet.name {
        parts.name.clone_from(name);
    }
    parts.version = sheet.version.clone().or(parts.version);
    parts.variant = sheet.variant.clone().or(parts.variant);
    Ok(Told { parts, sheet: Some(sheet), text: Some(text) })
}

/// Reads the fit sheet at `path`.
///
/// # Errors
/// [`AddError::Sheet`] when it can't be read, [`AddError::Fit`] when it has a mistake.
pub fn read_sheet(path: &Path) -> Result<FitSheet, AddError> {
    let bytes = read_sheet_bytes(path)?;
    parse_sheet(bytes).map_err(|source| AddError::Fit { package: path.display().to_string(), source })
}

pub(super) fn read_sheet_bytes(path: &Path) -> Result<Vec<u8>, AddError> {
    let unreadable = |source| AddError::Sheet { path: path.to_path_buf(), source };
    let size_bytes = std::fs::metadata(path).map_err(unreadable)?.len();
    if size_bytes > MOST_SHEET_BYTES {
        return Err(unreadable(std::io::Error::other("it is far too big for a fit sheet")));
    }
    std::fs::read(path).map_err(unreadable)
}

pub(super) fn sheet_text(bytes: Vec<u8>) -> Result<String, FitError> {
    let no_text = FitError::BadSheet { line: 1, column: 1, reason: "it is not UTF-8 text".to_owned() };
    let text = String::from_utf8(bytes).map_err(|_| no_text)?;
    Ok(text.strip_prefix('\u{feff}').map(str::to_owned).unwrap_or(text))
}

fn parse_sheet(bytes: Vec<u8>) -> Result<FitSheet, FitError> {
    FitSheet::parse(&sheet_text(bytes)?)
}

/// All that a person says of where a package's files go.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Wanted {
    /// A fit sheet of theirs, which goes over the package's own.
    pub sheet: Option<FitSheet>,
    /// Options, which go over both.
    pub rules: Rules,
}

impl Wanted {
    /// The rules over those of the package's own sheet.
    fn rules_over(&self, below: Rules) -> Rules {
        let sheet = self.sheet.as_ref().map(|sheet| sheet.rules(Rank::Sheet)).unwrap_or_default();
        below.with_over(sheet).with_over(self.rules.clone())
    }
}

/// The layer that a package takes the place of.
#[derive(Debug, Clone)]
pub(super) struct Before {
    pub rules: Rules,
    /// What comes holds only changed files.
    pub is_patch: bool,
    pub layer: LayerId,
}

/// Addresses by root and folded path.
type Addresses = HashSet<(RootId, String)>;

/// Places one package onto one game.
pub(super) struct Placer<'a> {
    pub ledger: &'a Ledger,
    pub tree: LedgerTree<'a>,
    pub package: &'a Package,
    pub told: &'a Told,
    pub observer: &'a dyn Observer,
    /// Hashes of base files that became known on the way.
    pub base_hashes: RefCell<BTreeMap<Address, ContentHash>>,
}

impl Placer<'_> {
    fn misfit(&self, source: FitError) -> AddError {
        AddError::Fit { package: self.package.path().display().to_string(), source }
    }

    /// Places the package; `before` is the layer that it takes the place of.
    pub(super) fn place(
        &self,
        wanted: &Wanted,
        before: Option<&Before>,
        contents: &Contents<'_>,
    ) -> Result<Fit, AddError> {
        let own = self.told.sheet.as_ref().map(|sheet| sheet.rules(Rank::Package)).unwrap_or_default();
        let none = BTreeSet::new();
        let place = |copies: &BTreeSet<usize>| match before {
            None => self.fit(&wanted.rules_over(own.clone()), copies),
            Some(before) => self.fit_again(wanted, &own, before, copies),
        };
        match place(&none) {
            Err(error @ (FitError::Unclear(_) | FitError::ChoiceNeeded { .. })) => {
                // Copies of the game's own files may be all that makes it unclear.
                let copies = self.suspected(contents)?;
                let again = if copies.is_empty() { Err(error) } else { place(&copies) };
                again.map_err(|error| self.misfit(error))
            }
            other => other.map_err(|error| self.misfit(error)),
        }
    }

    fn fit(&self, rules: &Rules, copies: &BTreeSet<usize>) -> Result<Fit, FitError> {
        self.with_names_read(rules, copies, fit)
    }

    /// The rules by which the package is placed, with nothing chosen yet.
    pub(super) fn draft(&self, wanted: &Wanted, contents: &Contents<'_>) -> Result<Draft, AddError> {
        let own = self.told.sheet.as_ref().map(|sheet| sheet.rules(Rank::Package)).unwrap_or_default();
        let rules = wanted.rules_over(own);
        let drafted = match self.with_names_read(&rules, &BTreeSet::new(), draft) {
            Err(error @ FitError::Unclear(_)) => {
                let copies = self.suspected(contents)?;
                if copies.is_empty() { Err(error) } else { self.with_names_read(&rules, &copies, draft) }
            }
            other => other,
        };
        drafted.map_err(|error| self.misfit(error))
    }

    /// Tries to `place`, again with what small files of the package tell when that may help.
    fn with_names_read<T>(
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
                    for index in &unclear.to_read {
                        let member = &members[*index];
                        // What can't be read tells nothing here, and is told when it is taken in.
                        let bytes =
                            self.package.read_small(member, 64 << 10, self.observer).unwrap_or_default();
                        told_names.extend(name_told(member.path.as_str(), &String::from_utf8_lossy(&bytes)));
                    }
                    if told_names.is_empty() {
                        return Err(FitError::Unclear(unclear));
                    }
                }
                other => return other,
            }
        }
    }

    /// Places what takes the place of an older layer as that was placed, and asks where that does not say
    /// it.
    fn fit_again(
        &self,
        wanted: &Wanted,
        own: &Rules,
        before: &Before,
        copies: &BTreeSet<usize>,
    ) -> Result<Fit, FitError> {
        let below = match own.say_where() {
            true => own.clone().with_over(before.rules.clone().of_person()),
            false => before.rules.clone().with_over(own.clone()),
        };
        let mut rules = wanted.rules_over(below);
        let is_known = |id: &String| {
            rules.choices.iter().any(|choice| choice.id == *id)
                || rules.parts.iter().any(|part| part.id == *id)
                || wanted.rules.chosen.contains_key(id)
        };
        let unknown: Vec<String> = rules.chosen.keys().filter(|id| !is_known(id)).cloned().collect();
        if rules.say_where() {
            rules.chosen.retain(|id, _| !unknown.contains(id));
        }
        let was_found_out =
            before.rules.tidy && !own.say_where() && !before.rules.clone().of_person().say_where();
        let mut kept = self.fit(&rules, copies);
        while let Err(FitError::FromMissing { from, .. }) = &kept
            && before.is_patch
            && rules.places.len() > 1
        {
            // A package of changed files has not all folders.
            let from = from.clone();
            rules.places.retain(|place| place.from != from);
            kept = self.fit(&rules, copies);
        }
        let has_places =
            wanted.rules.say_where() || wanted.sheet.as_ref().is_some_and(|sheet| !sheet.place.is_empty());
        if !was_found_out {
            let kept = kept.map_err(|error| self.moved(error, None))?;
            return self.with_all_reached(kept, &rules, None);
        }
        // What was found out before is found out anew, with what was chosen.
        let mut anew = Rules {
            places: Vec::new(),
            choices: Vec::new(),
            parts: Vec::new(),
            passed_over: Vec::new(),
            ..rules.clone()
        };
        let mut fresh = self.fit(&anew, copies);
        while let Err(FitError::NoSuchChoice { id, .. }) = &fresh
            && !wanted.rules.chosen.contains_key(id)
            && anew.chosen.remove(&id.clone()).is_some()
        {
            // There is nothing to choose there any more.
            fresh = self.fit(&anew, copies);
        }
        let fresh = match fresh {
            _ if has_places => None,
            Ok(fresh) => Some(fresh),
            // What was chosen is gone, or there is more to choose: these are the options now.
            Err(error @ (FitError::NoSuchOption { .. } | FitError::ChoiceNeeded { .. })) if kept.is_err() => {
                return Err(error);
            }
            Err(_) => None,
        };
        match (kept, fresh) {
            (Ok(kept), Some(fresh)) if kept.placements == fresh.placements => Ok(fresh),
            (Ok(kept), Some(fresh)) => {
                let old = self.addresses_of(before);
                let (of_kept, of_fresh) = (self.common(&kept, &old), self.common(&fresh, &old));
                if of_fresh > of_kept * 2 {
                    Ok(fresh)
                } else if of_kept > of_fresh * 2 || of_kept > 0 && is_extended(&fresh, &kept) {
                    self.with_all_reached(kept, &rules, Some(&fresh))
                } else {
                    Err(FitError::Unclear(two_ways(&kept, &fresh)))
                }
            }
            (Ok(kept), None) => {
                let old = self.addresses_of(before);
                if !has_places && !old.is_empty() && self.common(&kept, &old) == 0 {
                    let question = "the new version has none of the files that the old one had".to_owned();
                    return Err(FitError::Unclear(Unclear {
                        question,
                        candidates: vec![as_candidate(&kept, "as the old version was placed")],
                        to_read: Vec::new(),
                    }));
                }
                self.with_all_reached(kept, &rules, None)
            }
            (Err(_), Some(fresh)) if self.common(&fresh, &self.addresses_of(before)) > 0 => Ok(fresh),
            (Err(error), fresh) => Err(self.moved(error, fresh.as_ref())),
        }
    }

    fn addresses_of(&self, before: &Before) -> Addresses {
        // A catalogue that fails here fails again, and is reported, when the entries are written.
        self.ledger.catalogue.addresses_of(before.layer).unwrap_or_default()
    }

    /// How many of the fit's addresses the older layer has.
    fn common(&self, fit: &Fit, old: &Addresses) -> usize {
        let game = self.ledger.game();
        let is_common = |to: &Address| {
            game.root_named(&to.root).is_some_and(|root| {
                let key = game.folding.key(to.path.as_str()).as_str().to_owned();
                old.contains(&(root.id, key))
            })
        };
        fit.placements.iter().filter(|placement| is_common(&placement.to)).count()
    }

    /// A place whose folder is gone is asked about with what was found out.
    fn moved(&self, error: FitError, fresh: Option<&Fit>) -> FitError {
        let FitError::FromMissing { from, .. } = &error else { return error };
        let question = format!("the new version has no `{from}`, where the old one had files to place");
        let candidates = fresh.map(|fresh| as_candidate(fresh, "as it would be placed if it were new"));
        FitError::Unclear(Unclear {
            question,
            candidates: candidates.into_iter().collect(),
            to_read: Vec::new(),
        })
    }

    /// The fit, unless it has new files that no rule reaches and that are not left out otherwise.
    fn with_all_reached(&self, fit: Fit, rules: &Rules, fresh: Option<&Fit>) -> Result<Fit, FitError> {
        let members = self.package.members();
        let mut new = unreached(&fit, members, self.package.folders(), rules);
        if let Some(fresh) = fresh {
            let placed: HashSet<usize> = fresh.placements.iter().map(|placement| placement.member).collect();
            new.retain(|index| placed.contains(index));
        }
        if new.is_empty() {
            return Ok(fit);
        }
        let mut tops: BTreeSet<RelPath> = BTreeSet::new();
        let used: HashSet<&str> =
            fit.placements.iter().flat_map(|placement| members[placement.member].path.ancestors()).collect();
        for index in &new {
            let path = &members[*index].path;
            let top = path.ancestors().find(|folder| !used.contains(folder)).unwrap_or(path.as_str());
            tops.insert(RelPath::from_disk(top.to_owned()));
        }
        let shown: Vec<String> = tops.iter().take(6).map(|top| format!("`{top}`")).collect();
        let more = if tops.len() > shown.len() { " and more" } else { "" };
        let question = format!(
            "the new version has files that no rule of the old one reaches: {}{more}",
            shown.join(", ")
        );
        let skip = Candidate {
            skip: tops.iter().map(ToString::to_string).collect(),
            evidence: "leave them out".to_owned(),
            ..Candidate::default()
        };
        let root = self.ledger.game().roots.first().map(|root| format!("{}:", root.name)).unwrap_or_default();
        let place = |top: &RelPath| Place::new(top.to_string(), format!("{root}{}", top.name()));
        let into = Candidate {
            places: tops.iter().map(place).collect(),
            evidence: "put them into the game's own folder".to_owned(),
            ..Candidate::default()
        };
        Err(FitError::Unclear(Unclear { question, candidates: vec![skip, into], to_read: Vec::new() }))
    }

    /// Members, wherever they would go, that are copies of the game's own files.
    fn suspected(&self, contents: &Contents<'_>) -> Result<BTreeSet<usize>, AddError> {
        let members = self.package.members();
        let suspected = suspected_copies(members, self.package.folders(), &self.tree);
        let wanted: BTreeSet<usize> = suspected.iter().map(|(member, _)| members[*member].content).collect();
        contents.read(self.package, &wanted, self.observer)?;
        let mut copies = BTreeSet::new();
        for (member, places) in suspected {
            let Some(hash) = contents.hash_of(members[member].content) else { continue };
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
    pub(super) fn without_copies(&self, mut fit: Fit, contents: &Contents<'_>) -> Result<Fit, AddError> {
        if !fit.rules.tidy {
            return Ok(fit);
        }
        let members = self.package.members();
        let mut copies: BTreeSet<usize> = BTreeSet::new();
        for placement in &fit.placements {
            let member = &members[placement.member];
            let Some(hash) = contents.hash_of(member.content) else { continue };
            if self.base_hash(&placement.to, member.size_bytes)? == Some(hash) {
                copies.insert(placement.member);
            }
        }
        if copies.is_empty() {
            return Ok(fit);
        }
        fit.placements.retain(|placement| !copies.contains(&placement.member));
        if fit.placements.is_empty() {
            let reason = "all are copies of the game's own files".to_owned();
            return Err(self.misfit(FitError::NothingPlaced { reason }));
        }
        // Folders of the game itself that nothing else of the package is in are not needed.
        let is_needed = |folder: &Address| {
            fit.placements.iter().any(|placement| {
                placement.to.root == folder.root && placement.to.path.below(&folder.path).is_some()
            }) || !self.is_base_folder(folder)
        };
        let folders = std::mem::take(&mut fit.folders);
        fit.folders = folders.into_iter().filter(|folder| is_needed(folder)).collect();
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

/// Whether `more` places all that `fit` places at the same addresses.
fn is_extended(more: &Fit, fit: &Fit) -> bool {
    fit.placements.iter().all(|placement| more.placements.contains(placement))
}

fn as_candidate(fit: &Fit, evidence: &str) -> Candidate {
    Candidate { places: fit.rules.places.clone(), evidence: evidence.to_owned(), ..Candidate::default() }
}

fn two_ways(kept: &Fit, fresh: &Fit) -> Unclear {
    Unclear {
        question: "the new version is built otherwise than the old one".to_owned(),
        candidates: vec![
            as_candidate(kept, "as the old version was placed"),
            as_candidate(fresh, "as it would be placed if it were new"),
        ],
        to_read: Vec::new(),
    }
}
