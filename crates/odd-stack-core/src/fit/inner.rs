//! Archives inside a package: where what is in them would go, were each a package of its own.

use std::collections::BTreeMap;

use super::input::{Hints, Package};
use super::{Candidate, FitError, FitInput, LeftOut, Place, detect, wrapper_of};
use crate::address::RelPath;
use crate::members::{Folder, Member, is_named_like_an_archive};

/// Answers offered for each archive.
const MOST_EACH: usize = 5;

/// What may be done with the archives that were looked into, the likeliest first; with several, first all together.
pub(super) fn candidates(input: &FitInput<'_>, archives: &[RelPath]) -> Vec<Candidate> {
    let each: Vec<Vec<Candidate>> = archives.iter().map(|archive| of_one(input, archive)).collect();
    let mut all = Vec::new();
    if each.len() > 1 && each.iter().all(|candidates| !candidates.is_empty()) {
        let firsts = each.iter().map(|candidates| &candidates[0]);
        let places = firsts.flat_map(|candidate| candidate.places.clone()).collect();
        let evidence = format!("each of the {} archives as if it were a package of its own", each.len());
        all.push(Candidate { places, evidence, ..Candidate::default() });
    }
    all.extend(each.into_iter().flatten());
    all
}

/// All that may be done with a package of nothing but archives; `insides` are what each holds without its wrapper.
pub(super) fn ways(
    input: &FitInput<'_>,
    archives: &[RelPath],
    insides: impl Iterator<Item = RelPath>,
) -> Vec<Candidate> {
    let mut ways = candidates(input, archives);
    let to_game = |from: String, evidence: &str| {
        let places = vec![Place::new(from, "game:".to_owned())];
        Candidate { places, evidence: evidence.to_owned(), ..Candidate::default() }
    };
    let unpacked = insides.map(|inside| to_game(inside.to_string(), "unpack it, to the game's main folder"));
    let packed = to_game(".".to_owned(), "leave it packed, as the game reads it");
    for way in unpacked.chain([packed]) {
        if !ways.iter().any(|known| known.places == way.places) {
            ways.push(way);
        }
    }
    ways
}

/// The question with answers that unpack the archives beside the other files, where those were looked into.
pub(super) fn offered(error: FitError, input: &FitInput<'_>, takes_part: &dyn Fn(usize) -> bool) -> FitError {
    let FitError::Unclear(mut unclear) = error else { return error };
    let own = input.members.iter().enumerate().filter(|(_, member)| member.inner.is_none());
    let archives =
        own.filter(|(index, member)| is_named_like_an_archive(member.path.name()) && takes_part(*index));
    let archives: Vec<RelPath> = archives.map(|(_, member)| member.path.clone()).collect();
    let mut found = candidates(input, &archives);
    if found.is_empty() {
        return FitError::Unclear(unclear);
    }
    let is_rest = |index: usize| takes_part(index) && !archives.contains(&input.members[index].path);
    let rest =
        detect::detect(input.members, input.folders, &is_rest, input.hints, &input.rules.chosen, input.tree);
    let rest = match rest {
        Ok(rest) => rest.places,
        Err(FitError::Unclear(rest)) => {
            rest.candidates.into_iter().next().map(|it| it.places).unwrap_or_default()
        }
        Err(_) => Vec::new(),
    };
    if let Some(first) = found.first_mut() {
        first.places.extend(rest);
        first.evidence += "; the rest by itself";
    }
    found.truncate(MOST_EACH);
    found.append(&mut unclear.candidates);
    FitError::Unclear(super::Unclear { candidates: found, ..unclear })
}

/// What is in the archives that the places lead into and no part of what these add, by index of the whole package's
/// members.
pub(super) fn aside(input: &FitInput<'_>) -> Vec<(usize, LeftOut)> {
    let mut tops: Vec<&RelPath> = input.members.iter().filter_map(|member| member.inner.as_ref()).collect();
    tops.dedup();
    let mut all = Vec::new();
    for top in tops {
        let (numbers, members, folders) = sub_package(input, top);
        let aside = detect::aside(&members, &folders, &|_| true, input.tree);
        all.extend(aside.into_iter().map(|(index, reason)| (numbers[index], reason)));
    }
    all
}

/// What lies in the archive at `top` as a package of its own, with the members' numbers in the whole one.
fn sub_package(input: &FitInput<'_>, top: &RelPath) -> (Vec<usize>, Vec<Member>, Vec<Folder>) {
    let inside = input.members.iter().enumerate().filter(|(_, member)| member.inner.as_ref() == Some(top));
    let own = |member: &Member| Some(Member { path: member.path.below(top)?, inner: None, ..member.clone() });
    let (numbers, members) = inside.filter_map(|(index, member)| Some((index, own(member)?))).unzip();
    let folders = input.folders.iter().filter(|folder| folder.inner.as_ref() == Some(top));
    let below = folders.filter_map(|folder| folder.path.below(top)).filter(|path| !path.is_root());
    (numbers, members, below.map(|path| Folder { path, inner: None }).collect())
}

fn of_one(input: &FitInput<'_>, archive: &RelPath) -> Vec<Candidate> {
    let top = RelPath::from_disk(format!("{archive}!"));
    let (_, members, folders) = sub_package(input, &top);
    if members.is_empty() {
        return Vec::new();
    }
    let hints = Hints { told_names: &[], ..input.hints };
    let found = detect::detect(&members, &folders, &|_| true, hints, &BTreeMap::new(), input.tree);
    let package = Package { members: &members, folders: &folders, wrapper: wrapper_of(&members, &folders) };
    let name = archive.name();
    let told = |places: &[Place], skip: &[String], evidence: String| {
        let spelled = |from: &str| match package.find(from).map(|found| found.path) {
            Some(path) if !path.is_root() => format!("{top}/{path}"),
            _ => top.to_string(),
        };
        let places = places.iter().map(|place| Place::new(spelled(&place.from), place.to.clone())).collect();
        let skip = skip.iter().map(|from| spelled(from)).collect();
        Candidate { places, skip, evidence, ..Candidate::default() }
    };
    match found {
        Ok(found) if found.choices.is_empty() => {
            let parts = found.parts.iter().flat_map(|part| part.folder.iter().cloned());
            let parts = parts.chain(
                found.parts.iter().flat_map(|part| part.places.iter().map(|place| place.from.clone())),
            );
            let said = found.findings.first().map_or(String::new(), |finding| format!(": {finding}"));
            vec![told(&found.places, &parts.collect::<Vec<_>>(), format!("unpack `{name}`{said}"))]
        }
        Ok(found) => {
            let options = found.choices.iter().flat_map(|choice| &choice.options).take(MOST_EACH);
            let each = options.map(|option| {
                let places: Vec<Place> = found.places.iter().chain(&option.places).cloned().collect();
                told(
                    &places,
                    &[],
                    format!("unpack `{name}`, and of what there is to choose take {}", option.name),
                )
            });
            each.collect()
        }
        Err(FitError::Unclear(unclear)) => {
            let each = unclear.candidates.iter().take(MOST_EACH);
            each.map(|it| told(&it.places, &it.skip, format!("unpack `{name}`: {}", it.evidence))).collect()
        }
        Err(_) => Vec::new(),
    }
}
