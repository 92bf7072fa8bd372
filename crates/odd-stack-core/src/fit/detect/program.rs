//! The main program: what goes beside it.

use super::decider::{Decider, FoundFolder, Weighed};
use super::game_matches::{Spot, below};
use super::outline::folded;
use super::words;
use crate::address::Address;
use crate::fit::{Place, Unclear};

impl Decider<'_> {
    pub(super) fn program_address(&self) -> Option<&Address> {
        self.program.as_ref().map(|program| &program.address)
    }

    pub(super) fn program_folder(&self) -> Option<(Address, Spot)> {
        let address = &self.program.as_ref()?.address;
        let folder = Address { root: address.root.clone(), path: address.path.parent() };
        let root = self.game_matches.root_number(&folder.root)?;
        Some((folder.clone(), (root, folded(folder.path.as_str()))))
    }

    /// Libraries directly in the folder.
    pub(super) fn libraries(&self, node: usize) -> Vec<usize> {
        let files = self.outline.nodes[node].files.iter().copied();
        files.filter(|file| words::is_library_ending(&words::ending(self.outline.file_name(*file)))).collect()
    }

    /// The library that the main program itself asks for, if one is among them.
    fn imported(&self, libraries: &[usize]) -> Option<String> {
        let program = self.program.as_ref()?;
        let names = libraries.iter().map(|file| self.outline.file_name(*file).to_owned());
        names.into_iter().find(|name| program.imports.contains(&name.to_lowercase()))
    }

    fn beside_evidence(&self, libraries: &[usize]) -> String {
        let program = self.program.as_ref().map(|program| program.address.to_string()).unwrap_or_default();
        match self.imported(libraries) {
            Some(name) => format!("the main program {program} loads `{name}`"),
            None => format!("libraries go beside the main program {program}"),
        }
    }

    /// Loose libraries go to the folder of the main program, with what comes with them.
    pub(super) fn beside_program(&self, bottom: usize) -> Option<FoundFolder> {
        let libraries = self.libraries(bottom);
        let (to, spot) = self.program_folder().filter(|_| !libraries.is_empty())?;
        // A library of that name elsewhere in the game speaks against it, unless the program loads it.
        let is_elsewhere = libraries.iter().any(|file| {
            let places = self.game_matches.places_of_file(self.outline.file_name(*file));
            places
                .iter()
                .any(|(root, key)| (*root, key.rfind('/').map_or("", |cut| &key[..cut])) != (spot.0, &spot.1))
        });
        // So does a folder that gathers such libraries.
        let is_gathered = libraries.iter().any(|file| {
            let homes = self.game_matches.homes_of_ending(&words::ending(self.outline.file_name(*file)));
            homes.iter().any(|((_, key), _)| words::is_collection(key.rsplit('/').next().unwrap_or(key)))
        });
        if (is_elsewhere || is_gathered) && self.imported(&libraries).is_none() {
            return None;
        }
        Some(FoundFolder { node: bottom, to, evidence: self.beside_evidence(&libraries) })
    }

    /// When loose libraries would come to lie elsewhere than beside the main program.
    pub(super) fn libraries_elsewhere(&self, bottom: usize, best: &Weighed) -> Option<Unclear> {
        let libraries = self.libraries(bottom);
        let (to, spot) = self.program_folder()?;
        let there = self.spot_of(&best.mapping, bottom);
        if libraries.is_empty() || there == spot || best.mapping.node != bottom {
            return None;
        }
        let is_met = |file: &usize| {
            self.game_matches.has_file(&(there.0, below(&there.1, &folded(self.outline.file_name(*file)))))
        };
        if best.agreement.met == 0 && libraries.iter().any(is_met) || libraries.iter().all(is_met) {
            return None;
        }
        let together = self.candidate(
            &[(best.mapping.node, self.game_matches.address(&best.mapping.to))],
            self.words(&best.agreement),
        );
        let mut apart = together.clone();
        for file in &self.outline.nodes[bottom].files {
            let from = below(&self.place_text_inside(bottom), self.outline.file_name(*file));
            apart.places.push(Place::new(from, format!("{to}/")));
        }
        apart.evidence = format!("{}, the rest as before", self.beside_evidence(&libraries));
        let alone = self.candidate(&[(bottom, to)], self.beside_evidence(&libraries));
        let question = "its loose libraries may belong beside the main program".to_owned();
        Some(Unclear { question, candidates: vec![apart, together, alone], ..Unclear::default() })
    }
}
