//! Placing a new version of a package: as the older one was placed, unless that would lead astray.
//!
//! What tells is how many of the older version's addresses the new one has again. So the places of the older version
//! are followed, also where what they mean lies in another folder now (`fit::Realigning`); where few addresses come
//! again it is found out anew, and taken if that agrees far better; else it is asked.

use std::collections::{BTreeSet, HashMap, HashSet};

use super::placing::Placer;
use super::placing_request::PlacingRequest;
use crate::address::{Address, RelPath};
use crate::fit::{
    Candidate, Finding, Fit, FitError, Inside, OldAddresses, Place, Rank, Realigning, Rules, Unclear, draft,
    set_aside, unreached,
};
use crate::ledger::LedgerError;
use crate::stack::LayerId;

/// The layer that a package takes the place of.
#[derive(Debug, Clone)]
pub(in crate::jobs) struct VersionBefore {
    /// What is remembered of its fit.
    pub rules: Rules,
    /// What comes holds only changed files.
    pub is_patch: bool,
    pub layer: LayerId,
}

/// A way to place it, with how many of the older version's addresses come again.
struct Tried {
    fit: Fit,
    rules: Rules,
    common: usize,
}

impl Tried {
    /// Whether so many come again that nobody would doubt it: half of what either version has.
    fn is_enough(&self, old: usize) -> bool {
        self.common * 2 >= old.min(self.fit.placements.len())
    }

    fn agrees_far_better(&self, other: &Result<Tried, FitError>) -> bool {
        match other {
            Ok(other) => self.common > other.common * 2,
            Err(FitError::FromMissing { .. }) => true,
            Err(_) => self.common > 0,
        }
    }
}

impl Placer<'_> {
    /// Places what takes the place of an older layer as that was placed, and asks where that does not say it.
    pub(in crate::jobs) fn fit_again(
        &self,
        wanted: &PlacingRequest,
        own: &Rules,
        before: &VersionBefore,
        copies: &BTreeSet<usize>,
    ) -> Result<Fit, FitError> {
        let old = self.old_addresses(before);
        let old_count: usize = old.values().map(HashSet::len).sum();
        let mut kept = self.as_before(wanted, own, &before.rules, before.is_patch, &old, copies);
        let (members, folders) = (self.package.members(), self.package.folders());
        let book = self.ledger.game().address_book();
        let folding = self.ledger.game().folding;
        let realigning = Realigning { members, folders, old: &old, book: &book, folding };
        if let Some((rules, findings)) = realigning.realign(&before.rules)
            && let Ok(mut realigned) = self.as_before(wanted, own, &rules, before.is_patch, &old, copies)
            && realigned.agrees_far_better(&kept)
        {
            realigned.fit.findings.splice(0..0, findings);
            kept = Ok(realigned);
        }
        let says_where = wanted.rules.say_where()
            || wanted.sheet.as_ref().is_some_and(|sheet| sheet.rules(Rank::Sheet).say_where());
        if says_where {
            let kept = kept.map_err(|error| self.moved(error, None, before))?;
            let kept = self.with_new_choices(kept, wanted, &old, copies)?;
            let kept = self.without_astray(kept, wanted, &old, copies)?;
            return self.with_all_reached(kept, None);
        }
        let was_found_out =
            before.rules.tidy && !own.say_where() && !before.rules.clone().of_person().say_where();
        if !was_found_out && kept.as_ref().is_ok_and(|kept| kept.is_enough(old_count)) {
            return self.with_all_reached(kept?, None);
        }
        let fresh = self.anew(wanted, own, before, &old, copies);
        let fresh = match fresh {
            Ok(fresh) => Some(fresh),
            // What was chosen is gone, or there is something to choose: these are the options now.
            Err(error @ (FitError::NoSuchOption { .. } | FitError::ChoiceNeeded { .. }))
                if !kept.as_ref().is_ok_and(|kept| kept.is_enough(old_count)) =>
            {
                return Err(error);
            }
            Err(_) => None,
        };
        self.better_of(kept, fresh, (was_found_out, old_count), before)
    }

    /// The old places, or those found anew: whichever has clearly more of the old version's addresses again, else it is
    /// asked.
    fn better_of(
        &self,
        kept: Result<Tried, FitError>,
        fresh: Option<Tried>,
        (was_found_out, old_count): (bool, usize),
        before: &VersionBefore,
    ) -> Result<Fit, FitError> {
        match (kept, fresh) {
            (Ok(kept), Some(fresh)) if kept.fit.placements == fresh.fit.placements => Ok(fresh.fit),
            (Ok(kept), Some(mut fresh)) => {
                if fresh.common > kept.common * 2 {
                    if !was_found_out {
                        let found = Finding::Anew { common: fresh.common, as_before: kept.common };
                        fresh.fit.findings.push(found);
                    }
                    Ok(fresh.fit)
                } else if kept.common > fresh.common * 2
                    || kept.common > 0 && is_extended(&fresh.fit, &kept.fit)
                {
                    self.with_all_reached(kept, Some(&fresh.fit))
                } else {
                    Err(FitError::Unclear(two_ways(&kept.fit, &fresh.fit)))
                }
            }
            (Ok(kept), None) if old_count > 0 && !kept.is_enough(old_count) => {
                let question = match kept.common {
                    0 => "as the old version was placed, the new one has none of its files again".to_owned(),
                    common => format!(
                        "as the old version was placed, the new one has only {common} of its {old_count} files again"
                    ),
                };
                Err(ask(question, vec![as_candidate(&kept.fit, "as the old version was placed")]))
            }
            (Ok(kept), None) => self.with_all_reached(kept, None),
            (Err(_), Some(fresh)) if fresh.common > 0 => Ok(fresh.fit),
            (Err(error), fresh) => Err(self.moved(error, fresh.map(|fresh| fresh.fit).as_ref(), before)),
        }
    }

    /// How many of the older version's addresses a fit has again, and how many there are.
    pub(in crate::jobs) fn files_again(&self, before: &VersionBefore, fit: &Fit) -> (usize, usize) {
        let old = self.old_addresses(before);
        let again = fit.placements.iter().filter(|placement| self.is_old(&placement.to, &old)).count();
        (again, old.values().map(HashSet::len).sum())
    }

    /// Places it by `remembered` rules, under what is said now.
    fn as_before(
        &self,
        wanted: &PlacingRequest,
        own: &Rules,
        remembered: &Rules,
        is_patch: bool,
        old: &OldAddresses,
        copies: &BTreeSet<usize>,
    ) -> Result<Tried, FitError> {
        let mut remembered = remembered.clone();
        let sheet = wanted.sheet.as_ref().map(|sheet| sheet.rules(Rank::Sheet)).unwrap_or_default();
        if sheet.say_where() {
            // A sheet that is given now says it all; what was said before goes.
            (remembered.places, remembered.choices, remembered.parts) = Default::default();
        }
        remembered.drop_contradicted(&wanted.rules.chosen, &[own, &sheet], self.inside());
        remembered.drop_replaced(&wanted.rules.places, self.inside());
        let below = match own.say_where() {
            true => own.clone().with_over(remembered.of_person()),
            false => remembered.with_over(own.clone()),
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
        let book = self.ledger.game().address_book();
        let was_file = |place: &Place| book.resolve(&place.to).is_ok_and(|to| self.is_old(&to, old));
        let mut fit = self.fit(&rules, copies);
        while let Err(FitError::FromMissing { from, .. }) = &fit
            && rules.places.len() > 1
            && (is_patch || rules.places.iter().any(|place| place.from == *from && was_file(place)))
        {
            // A package of changed files has not all folders, and a new version not every file that had its own place.
            let from = from.clone();
            rules.places.retain(|place| place.from != from);
            fit = self.fit(&rules, copies);
        }
        fit.map(|fit| self.tried(fit, rules, old))
    }

    /// Finds out anew where it goes, with what was chosen.
    fn anew(
        &self,
        wanted: &PlacingRequest,
        own: &Rules,
        before: &VersionBefore,
        old: &OldAddresses,
        copies: &BTreeSet<usize>,
    ) -> Result<Tried, FitError> {
        let rules = wanted.rules_over(before.rules.clone().with_over(own.clone()));
        let mut anew = Rules { passed_over: Vec::new(), ..rules.with_nothing_placed() };
        let mut fresh = self.fit(&anew, copies);
        while let Err(FitError::NoSuchChoice { id, .. }) = &fresh
            && !wanted.rules.chosen.contains_key(id)
            && anew.chosen.remove(id).is_some()
        {
            // There is nothing to choose there any more.
            fresh = self.fit(&anew, copies);
        }
        fresh.map(|fit| self.tried(fit, anew, old))
    }

    /// Where a person says now where files go, places of before that bring none of the older version's files again
    /// lead astray.
    fn without_astray(
        &self,
        kept: Tried,
        wanted: &PlacingRequest,
        old: &OldAddresses,
        copies: &BTreeSet<usize>,
    ) -> Result<Tried, FitError> {
        let said_now = wanted.rules_over(Rules::default()).places;
        let book = self.ledger.game().address_book();
        let members = self.package.members();
        let leads_astray = |place: &Place| {
            let (Some(from), Ok(to)) = (self.inside().find(&place.from), book.resolve(&place.to)) else {
                return false;
            };
            let mut brings = kept.fit.placements.iter().filter(|placement| {
                let below = members[placement.member].path.below(&from);
                placement.to.root == to.root
                    && below.is_some_and(|below| placement.to.path == to.path.join(&below))
            });
            !said_now.contains(place) && !brings.any(|placement| self.is_old(&placement.to, old))
        };
        let mut rules = kept.rules.clone();
        rules.places.retain(|place| !leads_astray(place));
        if old.is_empty() || rules.places.len() == kept.rules.places.len() || said_now.is_empty() {
            return Ok(kept);
        }
        self.fit(&rules, copies).map(|fit| self.tried(fit, rules, old))
    }

    /// What a person places now may be one of several makes that the older version did not have: the others must not
    /// go where its rules lead them.
    fn with_new_choices(
        &self,
        kept: Tried,
        wanted: &PlacingRequest,
        old: &OldAddresses,
        copies: &BTreeSet<usize>,
    ) -> Result<Tried, FitError> {
        let members = self.package.members();
        let stray: Vec<&RelPath> = kept
            .fit
            .placements
            .iter()
            .filter(|placement| !self.is_old(&placement.to, old))
            .map(|placement| &members[placement.member].path)
            .collect();
        let anew = Rules { chosen: wanted.rules.chosen.clone(), ..kept.rules.clone().with_nothing_placed() };
        let Some(drafted) =
            (!stray.is_empty()).then(|| self.with_names_read(&anew, copies, draft).ok()).flatten()
        else {
            return Ok(kept);
        };
        let mut rules = kept.rules.clone();
        let is_known = |id: &str| kept.rules.choices.iter().any(|known| known.id == id);
        for mut choice in drafted.rules.choices.into_iter().filter(|choice| !is_known(&choice.id)) {
            let folders = choice.folders_in(self.inside());
            let is_in = |path: &RelPath, option: &Vec<RelPath>| {
                option.iter().any(|folder| path.below(folder).is_some())
            };
            if !stray.iter().any(|path| folders.iter().any(|option| is_in(path, option))) {
                continue;
            }
            let placed_now = wanted.rules.places.iter().filter_map(|place| self.inside().find(&place.from));
            let placed_now: Vec<RelPath> = placed_now.collect();
            let is_meant = |option: &&Vec<RelPath>| placed_now.iter().any(|path| is_in(path, option));
            let meant: Vec<usize> = (0..folders.len()).filter(|index| is_meant(&&folders[*index])).collect();
            if let [only] = meant.as_slice() {
                rules.chosen.insert(choice.id.clone(), choice.options[*only].name.clone());
                // Where it goes is said.
                choice.options[*only].places.clear();
            }
            rules.choices.push(choice);
        }
        if rules == kept.rules {
            return Ok(kept);
        }
        self.fit(&rules, copies).map(|fit| self.tried(fit, rules, old))
    }

    fn inside(&self) -> Inside<'_> {
        Inside { members: self.package.members(), folders: self.package.folders() }
    }

    fn tried(&self, fit: Fit, rules: Rules, old: &OldAddresses) -> Tried {
        let common = fit.placements.iter().filter(|placement| self.is_old(&placement.to, old)).count();
        Tried { fit, rules, common }
    }

    fn is_old(&self, to: &Address, old: &OldAddresses) -> bool {
        let key = self.ledger.game().folding.key(to.path.as_str());
        old.get(&to.root).is_some_and(|keys| keys.contains(&key))
    }

    fn old_addresses(&self, before: &VersionBefore) -> OldAddresses {
        let game = self.ledger.game();
        let mut old: OldAddresses = HashMap::new();
        // A catalogue that fails here fails again, and is reported, when the entries are written.
        let known: Result<_, LedgerError> = self.ledger.catalogue.addresses_of_files(before.layer);
        for (root, key) in known.unwrap_or_default() {
            if let Some(root) = game.root(root) {
                old.entry(root.name.clone()).or_default().insert(key);
            }
        }
        old
    }

    /// A place whose folder is gone is asked about with what was found out.
    fn moved(&self, error: FitError, fresh: Option<&Fit>, before: &VersionBefore) -> FitError {
        let FitError::FromMissing { from, .. } = &error else { return error };
        let question = format!("the new version has no `{from}`, where the old one had files to place");
        let fresh = fresh.map(|fresh| as_candidate(fresh, "as it would be placed if it were new"));
        // Else all of it may go where the old one's files went.
        let options = before.rules.choices.iter().flat_map(|choice| &choice.options);
        let of_options = options.flat_map(|option| &option.places);
        let of_parts = before.rules.parts.iter().flat_map(|part| &part.places);
        let known = before.rules.places.iter().chain(of_options).chain(of_parts);
        let mut places = known.filter(|place| place.from == *from);
        let all = places.next().map(|place| Candidate {
            places: vec![Place::new(".".to_owned(), place.to.clone())],
            evidence: "all of it, where the old one's files went".to_owned(),
            ..Candidate::default()
        });
        ask(question, fresh.or(all).into_iter().collect())
    }

    /// The fit, unless it has new files that no rule reaches and that are not left out otherwise.
    fn with_all_reached(&self, tried: Tried, fresh: Option<&Fit>) -> Result<Fit, FitError> {
        let Tried { fit, rules, .. } = tried;
        let (members, folders) = (self.package.members(), self.package.folders());
        let mut new = unreached(&fit, members, folders, &rules);
        if let Some(fresh) = fresh {
            let placed: HashSet<usize> = fresh.placements.iter().map(|placement| placement.member).collect();
            new.retain(|index| placed.contains(index));
        }
        if !new.is_empty() {
            // What is only to be read is no question.
            let aside: HashSet<usize> =
                set_aside(members, folders, &self.tree).into_iter().map(|(index, _)| index).collect();
            new.retain(|index| !aside.contains(index));
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
            tops.insert(RelPath::from_disk(top));
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
        Err(ask(question, vec![skip, into]))
    }
}

fn ask(question: String, candidates: Vec<Candidate>) -> FitError {
    FitError::Unclear(Unclear { question, candidates, ..Unclear::default() })
}

/// Whether `more` places all that `fit` places at the same addresses.
fn is_extended(more: &Fit, fit: &Fit) -> bool {
    let of_more: HashSet<(usize, &Address)> =
        more.placements.iter().map(|placement| (placement.member, &placement.to)).collect();
    fit.placements.iter().all(|placement| of_more.contains(&(placement.member, &placement.to)))
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
        ..Unclear::default()
    }
}
