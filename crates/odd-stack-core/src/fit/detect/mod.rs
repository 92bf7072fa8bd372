//! Finding out where a package's files go, from its own folders and the game's.
//!
//! Names that occur in both speak for placements (`game_matches`); what is only to be read is set aside
//! (`outline`); folders that would put the same addresses are a choice, and those that call themselves
//! optional are parts (`options`); each group is placed by what the game agrees with most, or it is asked
//! (`decide`). Nothing is guessed: where two places have much the same to say for them, or nothing has,
//! the answer is [`Unclear`].

use std::collections::BTreeMap;

use decider::{Decider, FoundFolder};
use game_matches::GameMatches;
use outline::Outline;

use super::input::Hints;
use super::{Choice, ChoiceOption, Finding, FitError, GameTree, LeftOut, Part, Place, Rules, Unclear};
use crate::address::Address;
use crate::members::{Folder, Member};

mod add_on_name;
mod addons;
mod carry;
mod decide;
mod decider;
mod game_matches;
mod in_rows;
mod leaving_out;
mod names;
mod offers;
mod options;
mod outline;
mod program;
mod rows;
mod words;

pub use super::input::ToldName;
pub(super) use super::names::starred;
pub(crate) use add_on_name::name_told;

/// What detection found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Detected {
    pub places: Vec<Place>,
    pub choices: Vec<Choice>,
    pub parts: Vec<Part>,
    pub aside: Vec<(usize, LeftOut)>,
    pub findings: Vec<Finding>,
}

/// Places those `members` that `takes_part` says; of a choice in which something is `chosen`, that must be clear.
pub(super) fn detect(
    members: &[Member],
    folders: &[Folder],
    takes_part: &dyn Fn(usize) -> bool,
    hints: Hints<'_>,
    chosen: &BTreeMap<String, String>,
    tree: &dyn GameTree,
) -> Result<Detected, FitError> {
    let outline = Outline { package_name: hints.package_name, ..Outline::new(members, folders, takes_part) };
    let game_matches = GameMatches::of(&outline, tree);
    let (mut decider, alternatives, optional) = begin(outline, &game_matches, tree, hints);
    // What is to be chosen is asked first; where it goes is asked of what was chosen.
    let is_chosen = |choice: &options::Alternatives, option: &str| {
        chosen.get(&choice.id).is_some_and(|chosen| chosen.eq_ignore_ascii_case(option))
    };
    let is_all_chosen =
        alternatives.iter().all(|choice| choice.options.iter().any(|(option, _)| is_chosen(choice, option)));
    let mut groups: Vec<Group> = vec![Group { top: 0, found: decider.place(0), is_wanted: true }];
    for choice in &alternatives {
        for (option, node) in &choice.options {
            let is_wanted = is_chosen(choice, option);
            groups.push(Group { top: *node, found: decider.place(*node), is_wanted });
        }
    }
    if is_all_chosen && let Some(unclear) = carry::question(&decider, &groups) {
        return Err(FitError::Unclear(unclear));
    }
    let mut findings = Vec::new();
    let mut groups = groups.into_iter().map(|group| group.found.unwrap_or_default());
    let places = tell(&decider, groups.next().unwrap_or_default(), &mut findings);
    let mut choices = Vec::new();
    for choice in alternatives {
        let mut options = Vec::new();
        for ((name, node), found) in choice.options.into_iter().zip(&mut groups) {
            let folder = decider.outline.place_text(node);
            let places = tell(&decider, found, &mut Vec::new());
            let folder = Some(folder).filter(|folder| places.iter().all(|place| place.from != *folder));
            options.push(ChoiceOption { name, folder, places, ..ChoiceOption::default() });
        }
        choices.push(Choice { id: choice.id, ask: None, default: None, options });
    }
    let parts = optional.into_iter().map(|part| part_of(&mut decider, part)).collect();
    Ok(Detected { places, choices, parts, aside: decider.outline.aside, findings })
}

/// Leaves out what is no content, and sets apart what there is to choose and what may be left out.
fn begin<'a>(
    mut outline: Outline<'a>,
    game_matches: &'a GameMatches,
    tree: &dyn GameTree,
    hints: Hints<'a>,
) -> (Decider<'a>, Vec<options::Alternatives>, Vec<options::Optional>) {
    outline.leave_out(game_matches);
    let (alternatives, mut optional) = options::alternatives(&outline, game_matches);
    let mut decider = Decider::new(outline, game_matches, tree, hints.package_name, hints.told_names);
    for (_, node) in alternatives.iter().flat_map(|choice| &choice.options) {
        decider.set_apart(*node);
    }
    optional.extend(options::optional(&decider.outline, game_matches));
    for part in &optional {
        decider.set_apart(part.node);
    }
    (decider, alternatives, optional)
}

/// What is placed by itself: all that a package always adds, or one option.
struct Group {
    top: usize,
    found: Result<Vec<FoundFolder>, Unclear>,
    /// It is certain that this is placed.
    is_wanted: bool,
}

fn part_of(decider: &mut Decider<'_>, part: options::Optional) -> Part {
    let folder = decider.outline.place_text(part.node);
    // A part that can't be placed by itself is placed by whoever wants it.
    let found = decider.place(part.node).unwrap_or_default();
    let places = tell(decider, found, &mut Vec::new());
    let folder = Some(folder).filter(|folder| places.iter().all(|place| place.from != *folder));
    Part { id: part.id, folder, places, ..Part::default() }
}

/// What can be told of a package whose places are given.
pub(super) struct Beside {
    /// Its choices, each option with its folder alone.
    pub choices: Vec<Choice>,
    pub parts: Vec<Part>,
    pub aside: Vec<(usize, LeftOut)>,
}

/// What is no part of what a package adds, and what there is to choose in it.
pub(super) fn beside(
    members: &[Member],
    folders: &[Folder],
    takes_part: &dyn Fn(usize) -> bool,
    tree: &dyn GameTree,
) -> Beside {
    let outline = Outline::new(members, folders, takes_part);
    let game_matches = GameMatches::of(&outline, tree);
    let (mut decider, alternatives, optional) = begin(outline, &game_matches, tree, Hints::default());
    let option = |(name, node): (String, usize)| {
        let folder = Some(decider.outline.place_text(node));
        ChoiceOption { name, folder, ..ChoiceOption::default() }
    };
    let choices = alternatives.into_iter().map(|choice| {
        let options = choice.options.into_iter().map(option).collect();
        Choice { id: choice.id, ask: None, default: None, options }
    });
    let choices = choices.collect();
    let parts = optional.into_iter().map(|part| part_of(&mut decider, part)).collect();
    Beside { choices, parts, aside: decider.outline.aside }
}

/// What is no part of what a package adds.
pub(super) fn aside(
    members: &[Member],
    folders: &[Folder],
    takes_part: &dyn Fn(usize) -> bool,
    tree: &dyn GameTree,
) -> Vec<(usize, LeftOut)> {
    let mut outline = Outline::new(members, folders, takes_part);
    let game_matches = GameMatches::of(&outline, tree);
    outline.leave_out(&game_matches);
    outline.aside
}

/// Whether the member lies in a folder that says it keeps the game's own files.
pub fn is_in_backup(member: &Member) -> bool {
    member.path.parent().parts().any(words::is_backup_folder)
}

/// Whether one of the folders says that it keeps the game's own files.
pub fn holds_backups(folders: &[Folder]) -> bool {
    folders.iter().any(|folder| words::is_backup_folder(folder.path.name()))
}

/// Members that may be copies of the game's own files, each with the addresses of files of its name and
/// size.
pub fn suspected_copies(
    members: &[Member],
    folders: &[Folder],
    tree: &dyn GameTree,
) -> Vec<(usize, Vec<Address>)> {
    let outline = Outline::new(members, folders, |_| true);
    GameMatches::of(&outline, tree).alike(&outline)
}

fn tell(decider: &Decider<'_>, found: Vec<FoundFolder>, findings: &mut Vec<Finding>) -> Vec<Place> {
    let places = found.into_iter().map(|found| {
        let from = decider.outline.place_text(found.node);
        let folder = decider.outline.nodes[found.node].path.to_string();
        let place = Place::new(from, found.to.to_string());
        findings.push(Finding::Found { folder, to: found.to, evidence: found.evidence });
        place
    });
    places.collect()
}

impl Detected {
    /// The rules that say the same without looking at the game.
    pub(super) fn into_rules(self, rules: &Rules) -> Rules {
        Rules { places: self.places, choices: self.choices, parts: self.parts, tidy: true, ..rules.clone() }
    }
}
