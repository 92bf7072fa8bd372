//! Which places count once options are chosen and parts are taken or left.

use std::collections::{BTreeMap, BTreeSet};

use super::input::Package;
use super::outcome::{ChoiceMade, LeftOut, PartSeen};
use super::resolve::Resolved;
use super::{Choice, Finding, FitError, GameTree, NotChosen, Part, Rank, Rules};
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
    let taken = ChosenPlaces {
        places: Vec::new(),
        choices: Vec::new(),
        parts: Vec::new(),
        chosen: rules.chosen.clone(),
        options: Vec::new(),
        closed: Vec::new(),
        firm: Vec::new(),
        open: Vec::new(),
    };
    let mut choosing = Choosing { rules, package, book, tree, findings, taken };
    for place in &rules.places {
        let resolved = choosing.resolve(place, false)?;
        choosing.taken.places.push(resolved);
    }
    let mut open_questions = Vec::new();
    for choice in &rules.choices {
        open_questions.extend(choosing.take_choice(choice)?);
    }
    for part in &rules.parts {
        choosing.take_part(part)?;
    }
    let taken = choosing.taken;
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

/// Choices and parts, taken one after the other.
struct Choosing<'r, 'p> {
    rules: &'r Rules,
    package: &'p Package<'p>,
    book: &'p AddressBook,
    tree: &'p dyn GameTree,
    findings: &'p mut Vec<Finding>,
    taken: ChosenPlaces<'r>,
}

impl<'r> Choosing<'r, '_> {
    fn resolve(&mut self, place: &super::Place, of_part: bool) -> Result<Resolved, FitError> {
        let resolved = Resolved::new(place, of_part, self.package, self.book, self.tree)?;
        if resolved.in_wrapper
            && let Some(wrapper) = self.package.wrapper
        {
            let wrapper = wrapper.to_string();
            self.findings.push(Finding::InsideWrapper { from: place.from.clone(), wrapper });
        }
        Ok(resolved)
    }

    /// What of the package belongs to an option or a part, but not all of it.
    fn folders_of(&self, folder: Option<&String>, places: &[super::Place]) -> Vec<RelPath> {
        let find = |text: &str| self.package.find(text).map(|found| found.path);
        let mut paths: Vec<RelPath> = folder.and_then(|folder| find(folder)).into_iter().collect();
        paths.extend(places.iter().filter_map(|place| find(&place.from)));
        paths.retain(|path| !path.is_root());
        paths
    }

    /// Takes the option that is chosen; where none is, gives the question.
    fn take_choice(&mut self, choice: &'r Choice) -> Result<Option<NotChosen>, FitError> {
        let name = self.rules.chosen.get(&choice.id).or(choice.default.as_ref());
        let options: Vec<String> = choice.options.iter().map(|option| option.name.clone()).collect();
        let Some(name) = name else {
            return Ok(Some(NotChosen { id: choice.id.clone(), ask: choice.ask.clone(), options }));
        };
        let chosen = choice.options.iter().find(|option| option.name.eq_ignore_ascii_case(name));
        let Some(chosen) = chosen else {
            let (id, option) = (choice.id.clone(), name.clone());
            return Err(FitError::NoSuchOption { id, option, options });
        };
        let is_firm = choice.options.iter().all(|option| option.places.is_empty());
        let mut of_options = Vec::new();
        for option in &choice.options {
            let paths = self.folders_of(option.folder.as_ref(), &option.places);
            of_options.push((option.name.clone(), paths.clone()));
            if option.name == chosen.name {
                self.taken.open.extend(paths);
                for place in &option.places {
                    let resolved = self.resolve(place, false)?;
                    self.taken.places.push(resolved);
                }
            } else {
                self.taken.firm.extend(paths.iter().filter(|_| is_firm).cloned());
                self.taken.closed.extend(paths.into_iter().map(|path| (path, LeftOut::NotChosen)));
            }
        }
        self.taken.chosen.insert(choice.id.clone(), chosen.name.clone());
        self.taken.options.push(of_options);
        self.taken.choices.push(ChoiceMade { id: choice.id.clone(), options, chosen: chosen.name.clone() });
        Ok(None)
    }

    fn take_part(&mut self, part: &'r Part) -> Result<(), FitError> {
        let on = match self.rules.chosen.get(&part.id).map(|word| word.to_lowercase()) {
            None => part.on,
            Some(word) => match word.as_str() {
                "on" | "yes" => true,
                "off" | "no" => false,
                _ => {
                    let (id, options) = (part.id.clone(), vec!["on".into(), "off".into()]);
                    return Err(FitError::NoSuchOption { id, option: word, options });
                }
            },
        };
        let paths = self.folders_of(part.folder.as_ref(), &part.places);
        if on {
            if part.places.is_empty() && self.taken.places.iter().all(|place| place.rank.0 < Rank::Sheet) {
                let folder = part.folder.clone().unwrap_or_default();
                return Err(FitError::PartNeedsPlace { id: part.id.clone(), folder });
            }
            self.taken.open.extend(paths.iter().cloned());
            for place in &part.places {
                let resolved = self.resolve(place, true)?;
                self.taken.places.push(resolved);
            }
        } else {
            self.taken.closed.extend(paths.iter().map(|path| (path.clone(), LeftOut::PartOff)));
        }
        self.taken.chosen.insert(part.id.clone(), if on { "on" } else { "off" }.to_owned());
        self.taken.parts.push((part, on, paths));
        Ok(())
    }
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
