//! Rules of an older version, held against the package of a new one.

use std::collections::BTreeMap;

use super::input::Package;
use super::wrapper::wrapper_of;
use super::{Choice, Place, Rules};
use crate::address::RelPath;
use crate::members::{Folder, Member};

/// A package's files and folders, to find what a `FROM` means in it.
#[derive(Debug, Clone, Copy)]
pub struct Inside<'a> {
    /// Its files.
    pub members: &'a [Member],
    /// Its folders.
    pub folders: &'a [Folder],
}

impl Inside<'_> {
    /// The file or folder that `from` means, if there is one.
    pub fn find(&self, from: &str) -> Option<RelPath> {
        let Self { members, folders } = *self;
        let package = Package { members, folders, wrapper: wrapper_of(members, folders) };
        package.find(from).map(|found| found.path)
    }
}

impl Choice {
    /// The folders and files that belong to each option alone.
    pub fn folders_in(&self, package: Inside<'_>) -> Vec<Vec<RelPath>> {
        let of_option = |option: &super::ChoiceOption| {
            let named = option.folder.iter().chain(option.places.iter().map(|place| &place.from));
            named.filter_map(|from| package.find(from)).filter(|path| !path.is_root()).collect()
        };
        self.options.iter().map(of_option).collect()
    }
}

impl Rules {
    /// The same without anything that says where files go.
    #[must_use]
    pub fn with_nothing_placed(self) -> Rules {
        Rules { places: Vec::new(), choices: Vec::new(), parts: Vec::new(), ..self }
    }

    /// Drops places of an older version that `said` now takes the place of: those of the same folder or file, or of
    /// one in it, and those that the new package has nothing for.
    pub fn drop_replaced(&mut self, said: &[Place], package: Inside<'_>) {
        let said: Vec<RelPath> = said.iter().filter_map(|place| package.find(&place.from)).collect();
        if said.is_empty() {
            return;
        }
        self.places.retain(|place| {
            let path = package.find(&place.from);
            path.is_some_and(|path| !said.iter().any(|folder| path.below(folder).is_some()))
        });
    }

    /// Drops places of an older version that lead into options other than those that are `chosen` now. Choices are
    /// these rules' own and those of `others`.
    pub fn drop_contradicted(
        &mut self,
        chosen: &BTreeMap<String, String>,
        others: &[&Rules],
        package: Inside<'_>,
    ) {
        let choices = others.iter().flat_map(|rules| &rules.choices).chain(&self.choices);
        let mut closed: Vec<RelPath> = Vec::new();
        for choice in choices {
            let Some(name) = chosen.get(&choice.id) else { continue };
            for (option, folders) in choice.options.iter().zip(choice.folders_in(package)) {
                if !option.name.eq_ignore_ascii_case(name) {
                    closed.extend(folders);
                }
            }
        }
        if closed.is_empty() {
            return;
        }
        self.places.retain(|place| {
            let path = package.find(&place.from).filter(|path| !path.is_root());
            path.is_none_or(|path| !closed.iter().any(|folder| path.below(folder).is_some()))
        });
    }
}
