//! Which places count once options are chosen and parts are taken or left.

use std::collections::{BTreeMap, BTreeSet};

use super::input::Package;
use super::outcome::{ChoiceMade, LeftOut, PartSeen};
use super::resolve::Resolved;
use super::{Finding, FitError, GameTree, NotChosen, Part, Rank, Rules};
use crate::address::{AddressBook, RelPath};
use crate::members::Member;

/// The places that count once all is chosen, and what belongs to what was not.
pub(super) struct ChosenPlaces<'r> {
    pub places: Vec<Resolved>,
    pub choices: Vec<ChoiceMade>,
    pub parts: Vec<(&'r super::Part, bool, Vec<RelPath>)>,
    pub chosen: BTreeMap<String, String>,
    /// For each choice its options with what belongs to each alone.
    options: Vec<Vec<(String, Vec<RelPath>)>>,
    /// Folders and files whose members are left out.
    closed: Vec<(RelPath, LeftOut)>,
    /// Those of them whose places are given together with what is chosen: no place opens them.
    firm: Vec<RelPath>,
    /// Those of options and parts that are taken, which may lie inside closed ones.
    open: Vec<RelPath>,
}

impl ChosenPlaces<'_> {
    /// What was taken of each choice, by the files that are `placed`: a place that a person gives may take another
    /// option than the one that is chosen, or several.
    pub(super) fn choices_made<'p>(
        &self,
        placed: impl Iterator<Item = &'p RelPath> + Clone,
    ) -> Vec<ChoiceMade> {
        let depth = |path: &RelPath, folders: &[RelPath]| {
            let around = folders.iter().filter(|folder| path.below(folder).is_some());
            around.map(|folder| folder.as_str().len()).max()
        };
        let made = self.choices.iter().zip(&self.options).map(|(choice, options)| {
            let mut taken: BTreeSet<usize> = BTreeSet::new();
            for path in placed.clone() {
                let depths = options.iter().map(|(_, folders)| depth(path, folders));
                // Options may share folders; what is of the chosen one is not of another.
                let is_chosen = |index: &usize| options[*index].0 == choice.chosen;
                let deepest = depths.enumerate().filter_map(|(index, depth)| Some((depth?, index)));
                taken.extend(
                    deepest.max_by_key(|(depth, index)| (*depth, is_chosen(index))).map(|(_, index)| index),
                );
            }
            let names: Vec<&str> = taken.iter().map(|index| options[*index].0.as_str()).collect();
            let chosen = if names.is_empty() { choice.chosen.clone() } else { names.join(" and ") };
            ChoiceMade { chosen, ..choice.clone() }
        });
        made.collect()
    }

    /// Why the option or part that the path belongs to is not taken, if so.
    pub(super) fn left_out(&self, path: &RelPath) -> Option<LeftOut> {
        let longest = |paths: &mut dyn Iterator<Item = &RelPath>| {
            paths.filter(|folder| path.below(folder).is_some()).map(|folder| folder.as_str().len()).max()
        };
        let closed = self.closed.iter().filter(|(folder, _)| path.below(folder).is_some());
        let (folder, reason) = closed.max_by_key(|(folder, _)| folder.as_str().len())?;
        // An option named by the person on the command line is taken, whatever was chosen.
        let by_option =
            self.places.iter().filter(|place| place.rank.0 >= Rank::Option).map(|place| &place.from);
        let by_option = by_option.filter(|_| !self.firm.contains(folder));
        let opened = longest(&mut self.open.iter().chain(by_option));
        opened.is_none_or(|length| length < folder.as_str().len()).then_some(*reason)
    }
}

/// What is taken of the rules' choices and parts.
pub(super) fn take<'r>(
    rules: &'r Rules,
    package: &Package<'_>,
    book: &AddressBook,
    tree: &dyn GameTree,
    findings: &mut Vec<Finding>,
) -> Result<ChosenPlaces<'r>, FitError> {
    let mut taken = ChosenPlaces {
        places: Vec::new(),
        choices: Vec::new(),
        parts: Vec::new(),
        chosen: rules.chosen.clone(),
        options: Vec::new(),
        closed: Vec::new(),
        firm: Vec::new(),
        open: Vec::new(),
    };
    let mut resolve = |place: &super::Place, of_part: bool| -> Result<Resolved, FitError> {
        let resolved = Resolved::new(place, of_part, package, book, tree)?;
        if resolved.in_wrapper
            && let Some(wrapper) = package.wrapper
        {
            findings.push(Finding::InsideWrapper { from: place.from.clone(), wrapper: wrapper.to_string() });
        }
        Ok(resolved)
    };
    for place in &rules.places {
        taken.places.push(resolve(place, false)?);
    }
    let find = |text: &str| package.find(text).map(|found| found.path);
    let folders_of = |folder: &Option<String>, places: &[super::Place]| -> Vec<RelPath> {
        let mut paths: Vec<RelPath> = folder.iter().filter_map(|folder| find(folder)).collect();
        paths.extend(places.iter().filter_map(|place| find(&place.from)));
        paths.retain(|path| !path.is_root());
        paths
    };
    let mut open_questions = Vec::new();
    for choice in &rules.choices {
        let name = rules.chosen.get(&choice.id).or(choice.default.as_ref());
        let options: Vec<String> = choice.options.iter().map(|option| option.name.clone()).collect();
        let chosen = match name {
            Some(name) => {
                let option = choice.options.iter().find(|option| option.name.eq_ignore_ascii_case(name));
                Some(option.ok_or_else(|| FitError::NoSuchOption {
                    id: choice.id.clone(),
                    option: name.clone(),
                    options: options.clone(),
                })?)
            }
            None => None,
        };
        let Some(chosen) = chosen else {
            open_questions.push(NotChosen { id: choice.id.clone(), ask: choice.ask.clone(), options });
            continue;
        };
        let is_firm = choice.options.iter().all(|option| option.places.is_empty());
        let mut of_options = Vec::new();
        for option in &choice.options {
            let paths = folders_of(&option.folder, &option.places);
            of_options.push((option.name.clone(), paths.clone()));
            if option.name == chosen.name {
                taken.open.extend(paths);
                for place in &option.places {
                    taken.places.push(resolve(place, false)?);
                }
            } else {
                taken.firm.extend(paths.iter().filter(|_| is_firm).cloned());
                taken.closed.extend(paths.into_iter().map(|path| (path, LeftOut::NotChosen)));
            }
        }
        taken.chosen.insert(choice.id.clone(), chosen.name.clone());
        taken.options.push(of_options);
        taken.choices.push(ChoiceMade { id: choice.id.clone(), options, chosen: chosen.name.clone() });
    }
    for part in &rules.parts {
        let on = match rules.chosen.get(&part.id).map(|word| word.to_lowercase()) {
            None => part.on,
            Some(word) => match word.as_str() {
                "on" | "yes" => true,
                "off" | "no" => false,
                _ => {
                    let (id, option) = (part.id.clone(), word);
                    return Err(FitError::NoSuchOption {
                        id,
                        option,
                        options: vec!["on".into(), "off".into()],
                    });
                }
            },
        };
        let paths = folders_of(&part.folder, &part.places);
        if on {
            if part.places.is_empty() && taken.places.iter().all(|place| place.rank.0 < Rank::Sheet) {
                return Err(FitError::PartNeedsPlace {
                    id: part.id.clone(),
                    folder: part.folder.clone().unwrap_or_default(),
                });
            }
            taken.open.extend(paths.iter().cloned());
            for place in &part.places {
                taken.places.push(resolve(place, true)?);
            }
        } else {
            taken.closed.extend(paths.iter().map(|path| (path.clone(), LeftOut::PartOff)));
        }
        taken.chosen.insert(part.id.clone(), if on { "on" } else { "off" }.to_owned());
        taken.parts.push((part, on, paths));
    }
    let is_known = |id: &&String| {
        rules.choices.iter().any(|choice| choice.id == **id) || rules.parts.iter().any(|part| part.id == **id)
    };
    if let Some(unknown) = rules.chosen.keys().find(|id| !is_known(id)) {
        let known =
            rules.choices.iter().map(|choice| &choice.id).chain(rules.parts.iter().map(|part| &part.id));
        return Err(FitError::NoSuchChoice { id: unknown.clone(), known: known.cloned().collect() });
    }
    if !open_questions.is_empty() {
        let parts =
            taken.parts.iter().map(|(part, on, folders)| part_seen(part, *on, folders, package.members));
        return Err(FitError::ChoiceNeeded { choices: open_questions, parts: parts.collect() });
    }
    Ok(taken)
}

/// What is told of a part.
pub(super) fn part_seen(part: &Part, on: bool, folders: &[RelPath], members: &[Member]) -> PartSeen {
    let is_below = |member: &&Member| folders.iter().any(|folder| member.path.below(folder).is_some());
    PartSeen {
        id: part.id.clone(),
        says: part.says.clone(),
        on,
        files: members.iter().filter(|member| member.inner.is_none()).filter(is_below).count() as u64,
        folder: folders.first().map(ToString::to_string).unwrap_or_default(),
    }
}
