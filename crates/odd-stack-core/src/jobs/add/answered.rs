//! What a person answered for this game before: where packages of such a shape go.
//!
//! It is read off the layers that there are and what is remembered of their fits: it is told by `show`, goes with
//! the layer, and only moves an answer to the front of a question.

use std::collections::BTreeSet;

use super::remembered::remembered_rules;
use crate::address::{Address, AddressBook, RelPath};
use crate::fit::{Candidate, Unclear};
use crate::ledger::{Ledger, LedgerError};
use crate::package::Member;

/// A layer whose files a person placed.
#[derive(Debug)]
pub(in crate::jobs) struct Answered {
    layer: String,
    to: Vec<Address>,
    /// What its files' names end with.
    endings: BTreeSet<String>,
}

/// Of all layers of the game those whose places a person gave, the latest first.
///
/// # Errors
/// [`LedgerError`] when the catalogue can't be read.
pub(in crate::jobs) fn answered(ledger: &Ledger) -> Result<Vec<Answered>, LedgerError> {
    let book = ledger.game().address_book();
    let mut layers = ledger.layers()?;
    layers.sort_by_key(|layer| std::cmp::Reverse(layer.id));
    let mut all = Vec::new();
    for layer in layers {
        let rules = remembered_rules(ledger, &layer)?.of_person();
        let to: Vec<Address> = rules.places.iter().filter_map(|place| book.resolve(&place.to).ok()).collect();
        if to.is_empty() {
            continue;
        }
        let files = ledger.catalogue.addresses_of_files(layer.id)?;
        let endings = files.iter().map(|(_, key)| ending_of(key.as_str())).collect();
        all.push(Answered { layer: layer.about.name, to, endings });
    }
    Ok(all)
}

/// Puts the answer first that agrees with what was answered about a package of that shape, and says so. What is far ahead by
/// itself stays first.
pub(in crate::jobs) fn put_first(
    unclear: &mut Unclear,
    answered: &[Answered],
    members: &[Member],
    book: &AddressBook,
    held: &Held<'_>,
) {
    if unclear.is_first_far_ahead {
        return;
    }
    let endings: BTreeSet<String> = members.iter().map(|member| ending_of(member.path.name())).collect();
    for earlier in answered.iter().filter(|earlier| are_alike(&earlier.endings, &endings)) {
        let agrees = |candidate: &Candidate| {
            let place = candidate.places.first().and_then(|place| book.resolve(&place.to).ok());
            place.is_some_and(|place| earlier.to.iter().any(|to| held.is_same_kind_of_place(to, &place)))
        };
        if let Some(at) = unclear.candidates.iter().position(agrees) {
            let mut candidate = unclear.candidates.remove(at);
            candidate.evidence = format!("as you placed `{}`; {}", earlier.layer, candidate.evidence);
            unclear.candidates.insert(0, candidate);
            return;
        }
    }
}

fn ending_of(path: &str) -> String {
    let name = path.rsplit('/').next().unwrap_or(path);
    name.rsplit_once('.').map_or_else(String::new, |(_, ending)| ending.to_lowercase())
}

/// Whether half of all endings that either has are in both.
fn are_alike(one: &BTreeSet<String>, two: &BTreeSet<String>) -> bool {
    let both = one.intersection(two).count();
    both > 0 && both * 2 >= one.union(two).count()
}

/// What of the game an answer may be held against.
pub(in crate::jobs) struct Held<'a> {
    /// Whether a folder lies there.
    pub is_there: &'a dyn Fn(&Address) -> bool,
    /// Whether it is the game's own.
    pub is_own: &'a dyn Fn(&Address) -> bool,
}

impl Held<'_> {
    /// The same folder of the game's own, or a new one beside that which was as new.
    fn is_same_kind_of_place(&self, earlier: &Address, now: &Address) -> bool {
        let beside = |path: &RelPath| Some(path.parent()).filter(|parent| !parent.is_root());
        if earlier == now {
            return (self.is_own)(now);
        }
        earlier.root == now.root
            && beside(&earlier.path).is_some()
            && beside(&earlier.path) == beside(&now.path)
            && !(self.is_own)(earlier)
            && !(self.is_there)(now)
    }
}
