//! Answers about one part of a package that say of the rest what is known of it, so that nothing is lost by an answer.

use super::decider::Decider;
use super::{Group, tell};
use crate::fit::{Candidate, Place, Unclear};

/// The question about the first group that is not clear, each answer with the places of the other groups: those that
/// were found, or the same for what lies alike in them.
pub(super) fn question(decider: &Decider<'_>, groups: &[Group]) -> Option<Unclear> {
    let mut wanted = groups.iter().filter(|group| group.is_wanted);
    let asked = wanted.find(|group| group.found.is_err())?;
    let Err(unclear) = &asked.found else { return None };
    let candidates =
        unclear.candidates.iter().map(|candidate| with_the_rest(decider, groups, asked, candidate));
    Some(Unclear { candidates: candidates.collect(), ..unclear.clone() })
}

/// Of more groups only what is certain to be placed is told.
const MOST_TOLD: usize = 7;

fn with_the_rest(decider: &Decider<'_>, groups: &[Group], asked: &Group, candidate: &Candidate) -> Candidate {
    let mut whole = candidate.clone();
    // Options that are not chosen now may be later; of very many that would be too much to paste.
    let is_told = |group: &&Group| group.is_wanted || groups.len() <= MOST_TOLD;
    for group in groups.iter().filter(|group| group.top != asked.top).filter(is_told) {
        // What lies in a folder of the same name belongs together.
        let same = candidate.places.iter().filter_map(|place| alike(decider, asked.top, group.top, place));
        let same: Vec<(Place, usize)> = same.collect();
        let places = match &group.found {
            Ok(found) if same.iter().all(|(_, deep)| *deep == 0) => {
                tell(decider, found.clone(), &mut Vec::new())
            }
            _ => same.into_iter().map(|(place, _)| place).collect(),
        };
        let new = |place: &Place| !whole.places.iter().any(|known| known.from == place.from);
        let places: Vec<Place> = places.into_iter().filter(new).collect();
        whole.places.extend(places);
    }
    whole
}

/// The place of what lies below `to` as what `place` is about lies below `from`: as many folders deep as both go, and
/// how many that is.
fn alike(decider: &Decider<'_>, from: usize, to: usize, place: &Place) -> Option<(Place, usize)> {
    let outline = &decider.outline;
    let node = outline.subtree(from).into_iter().find(|node| outline.place_text(*node) == place.from)?;
    let names = &outline.nodes[node].names[outline.nodes[from].names.len()..];
    let top = outline.nodes[to].names.len();
    let inside = outline.subtree(to);
    let found = (0..=names.len()).find_map(|skipped| {
        inside.iter().copied().find(|node| outline.nodes[*node].names[top..] == names[skipped..])
    })?;
    let deep = outline.nodes[found].names.len() - top;
    Some((Place::new(outline.place_text(found), place.to.clone()), deep))
}
