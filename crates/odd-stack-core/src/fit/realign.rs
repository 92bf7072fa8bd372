//! Places of an older version in a package that is built otherwise: with another wrapper, without one, or with an
//! archive inside under its next name.
//!
//! What the older version had at each address is known, so the folder that a place means now is the one whose files
//! lie in it as they lay below the place's address.

use std::collections::{HashMap, HashSet};

use super::input::Package;
use super::resolve::FromFound;
use super::wrapper::wrapper_of;
use super::{Finding, Place, Rules};
use crate::address::{Address, AddressBook, FoldedKey, Folding, PrefixName, RelPath};
use crate::members::{Folder, Member};
use crate::version::name_without_version;

/// Addresses of the older version, by root.
pub type OldAddresses = HashMap<PrefixName, HashSet<FoldedKey>>;

/// A package of a new version, and where the older one had its files.
#[derive(Clone, Copy)]
pub struct Realigning<'a> {
    /// Its files.
    pub members: &'a [Member],
    /// Its folders.
    pub folders: &'a [Folder],
    /// The older version's addresses.
    pub old: &'a OldAddresses,
    /// The names that addresses may begin with.
    pub book: &'a AddressBook,
    /// How spellings are compared.
    pub folding: Folding,
}

impl Realigning<'_> {
    /// The rules with each place beginning where the package has now what lay below its address, and what is to be
    /// said of that; nothing if all begin there already.
    pub fn realign(&self, rules: &Rules) -> Option<(Rules, Vec<Finding>)> {
        let wrapper = wrapper_of(self.members, self.folders);
        let package = Package { members: self.members, folders: self.folders, wrapper };
        let mut rules = rules.clone();
        let mut findings = Vec::new();
        let around = around_all(&rules);
        let around = around.as_deref();
        for place in &mut rules.places {
            findings.extend(self.realign_place(place, false, around, &package));
        }
        let options = rules.choices.iter_mut().flat_map(|choice| &mut choice.options);
        let parts = rules.parts.iter_mut().map(|part| &mut part.places);
        for place in options.map(|option| &mut option.places).chain(parts).flatten() {
            // Of several makes one looks like the other, so only one of the same name is it.
            findings.extend(self.realign_place(place, true, around, &package));
        }
        (!findings.is_empty()).then_some((rules, findings))
    }

    /// `around` is the folder that the older version had around everything, as far as its places tell.
    fn realign_place(
        &self,
        place: &mut Place,
        same_name: bool,
        around: Option<&str>,
        package: &Package<'_>,
    ) -> Option<Finding> {
        let to = self.book.resolve(&place.to).ok()?;
        let found = package.find(&place.from);
        let from = place.from.replace('\\', "/");
        let name = RelPath::from_disk(from.rsplit('/').next().unwrap_or(&from));
        let into = Address { root: to.root.clone(), path: to.path.join(&name) };
        let now = if self.was_file(&to) || self.was_file(&into) {
            self.file_now(name.as_str(), found.as_ref(), package)
        } else {
            self.folder_now(place, &to, found.as_ref(), same_name)
        };
        let below_another =
            || around.filter(|_| found.is_none()).and_then(|around| below_another(&from, around, package));
        let now = now.or_else(below_another)?;
        let text = package.text_of(&now);
        let was = std::mem::replace(&mut place.from, text);
        (was != place.from).then(|| Finding::Realigned { was, now: now.to_string(), to })
    }

    /// Whether the older version had a file just at the address.
    fn was_file(&self, to: &Address) -> bool {
        let key = self.folding.key(to.path.as_str());
        self.old.get(&to.root).is_some_and(|keys| keys.contains(&key))
    }

    /// The file that a place for one file means, where it is not there under its name.
    fn file_now(&self, name: &str, found: Option<&FromFound>, package: &Package<'_>) -> Option<RelPath> {
        if found.is_some() {
            return None;
        }
        let name = name.to_lowercase();
        let plain = name_without_version(&name);
        let own = package.members.iter().filter(|member| member.inner.is_none()).map(|member| &member.path);
        let only = |is_it: &dyn Fn(&str) -> bool| {
            let mut like = own.clone().filter(|path| is_it(&path.name().to_lowercase()));
            like.next().filter(|_| like.next().is_none()).cloned()
        };
        only(&|other| other == name).or_else(|| only(&|other| name_without_version(other) == plain))
    }

    /// The folder whose files lie in it as the older version's lay below `to`, where that is another one than was
    /// found and agrees far better.
    fn folder_now(
        &self,
        place: &Place,
        to: &Address,
        found: Option<&FromFound>,
        same_name: bool,
    ) -> Option<RelPath> {
        let keys = self.old.get(&to.root)?;
        let above = self.folding.key(to.path.as_str());
        let below: HashSet<&str> = keys
            .iter()
            .filter_map(|key| match above.as_str() {
                "" => Some(key.as_str()),
                above => key.as_str().strip_prefix(above)?.strip_prefix('/'),
            })
            .collect();
        let leads_inside = place.from.contains('!');
        let mut counts: HashMap<&str, usize> = HashMap::new();
        for member in self.members.iter().filter(|member| leads_inside || member.inner.is_none()) {
            let path = member.path.as_str();
            let key = self.folding.key(path);
            // Folding keeps the number of folders, and may change their lengths.
            let ends = std::iter::once("").chain(member.path.ancestors());
            let begins = std::iter::once(0).chain(key.as_str().match_indices('/').map(|(cut, _)| cut + 1));
            for (folder, begin) in ends.zip(begins) {
                if below.contains(&key.as_str()[begin..]) {
                    *counts.entry(folder).or_default() += 1;
                }
            }
        }
        let plain = |text: &str| self.folding.key(text.rsplit('/').next().unwrap_or(text));
        let name = plain(&place.from.replace('\\', "/"));
        let found_count =
            found.map_or(0, |found| counts.get(found.path.as_str()).copied().unwrap_or_default());
        let rank = |(folder, count): &(&str, usize)| (*count, plain(folder) == name);
        let mut ranked: Vec<(&str, usize)> = counts
            .into_iter()
            .filter(|(folder, count)| *count > found_count * 2 && (!same_name || plain(folder) == name))
            .collect();
        ranked.sort_by_key(|it| std::cmp::Reverse(rank(it)));
        let best = *ranked.first()?;
        let is_alone = ranked.get(1).is_none_or(|second| rank(second) < rank(&best));
        is_alone.then(|| RelPath::from_disk(best.0))
    }
}

/// The folder at the top in which all places begin that name one.
fn around_all(rules: &Rules) -> Option<String> {
    let of_options =
        rules.choices.iter().flat_map(|choice| &choice.options).flat_map(|option| &option.places);
    let of_parts = rules.parts.iter().flat_map(|part| &part.places);
    let mut tops = rules.places.iter().chain(of_options).chain(of_parts).map(|place| {
        let from = place.from.replace('\\', "/");
        let from = from.trim_start_matches("./").trim_end_matches('/');
        from.split('/').next().unwrap_or_default().to_owned()
    });
    let first = tops.next().filter(|top| !matches!(top.as_str(), "" | "." | "*"))?;
    tops.all(|top| top == first).then_some(first)
}

/// What `from` means below the one folder around everything that the package has in place of `around`, or below
/// none.
fn below_another(from: &str, around: &str, package: &Package<'_>) -> Option<RelPath> {
    let rest = from.trim_start_matches("./").strip_prefix(around)?.trim_matches('/');
    match (package.wrapper, rest) {
        (Some(wrapper), "") => Some(wrapper.clone()),
        (None, "") => None,
        (_, rest) => package.find(rest).map(|found| found.path),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fit::tests::game::package;

    /// The `from` of a place in the new package, when the old version had these addresses.
    fn now(place: &str, old: &[&str], new: &[&str]) -> Option<String> {
        let root = |name: &str| PrefixName::parse(name).unwrap();
        let book = AddressBook { roots: vec![root("game"), root("mods")], ..AddressBook::default() };
        let mut addresses = OldAddresses::new();
        for text in old {
            let address = book.resolve(text).unwrap();
            let key = Folding::Folded.key(address.path.as_str());
            addresses.entry(address.root).or_default().insert(key);
        }
        let (members, folders) = package(new);
        let realigning = Realigning {
            members: &members,
            folders: &folders,
            old: &addresses,
            book: &book,
            folding: Folding::Folded,
        };
        let rules = Rules { places: vec![Place::parse(place).unwrap()], ..Rules::default() };
        realigning.realign(&rules).map(|(rules, _)| rules.places[0].from.clone())
    }

    #[test]
    fn a_place_begins_where_its_files_are_now() {
        let gulls = ["mods:Gulls/a.lua", "mods:Gulls/snd/b.ogg"];
        let wrapped = ["gulls-main-7f3a/Gulls/a.lua", "gulls-main-7f3a/Gulls/snd/b.ogg", "gulls-main-7f3a/x"];
        for from in [".", "*", "Gulls"] {
            let found = now(&format!("{from}=mods:Gulls"), &gulls, &wrapped);
            let wanted = if from == "Gulls" { None } else { Some("*/*".to_owned()) };
            assert_eq!(found, wanted, "{from}");
        }
        let flat = ["a.lua", "snd/b.ogg"];
        assert_eq!(now("*=mods:Gulls", &gulls, &flat).as_deref(), Some("."), "`*` is `snd` there");
        assert_eq!(now("old-1.0=mods:Gulls", &gulls, &flat).as_deref(), Some("."));
        // Other files, or the same number of them in two folders, tell nothing.
        assert_eq!(now(".=mods:Gulls", &gulls, &["b/x.lua", "c/y.lua"]), None);
        assert_eq!(now("a=mods:Gulls", &gulls, &["b/a.lua", "c/a.lua"]), None);
        assert_eq!(now("q/b=mods:Gulls", &gulls, &["b/a.lua", "c/a.lua"]).as_deref(), Some("b"));
        // A wrapper of another name is the wrapper, whatever is in it.
        assert_eq!(now("Old 1=mods:Gulls", &gulls, &["New/x.lua", "New/d/y.lua"]).as_deref(), Some("*"));
        assert_eq!(now("Old 1/d=mods:Gulls", &gulls, &["New/x.lua", "New/d/y.lua"]).as_deref(), Some("*/*"));
        assert_eq!(now("Old 1/d=mods:Gulls", &gulls, &["e/x.lua", "d/y.lua"]).as_deref(), Some("d"));
        assert_eq!(now("Old 1/d=mods:Gulls", &gulls, &["New/x.lua", "New/e/y.lua"]), None);
    }

    #[test]
    fn an_archive_inside_and_a_file_are_found_under_their_next_names() {
        let old = ["game:bin/hook.dll", "game:bin/hook.ini"];
        let new = ["w/Pack_0.7.8.7z", "w/Pack_0.7.8.7z!/hook.dll", "w/Pack_0.7.8.7z!/hook.ini"];
        let found = now("Pack_0.7.7.7z!/.=game:bin", &old, &new);
        assert_eq!(found.as_deref(), Some("*/Pack_0.7.8.7z!"));
        let skin = now("skin_v4.dds=game:bin/hook.dll", &old, &["w/skin_v5.dds", "w/other.dds"]);
        assert_eq!(skin.as_deref(), Some("*/skin_v5.dds"));
    }
}
