//! What drifted files together tell. Pure.

use crate::address::Address;
use crate::compare_versions;

/// What speaks for an official update of the game since its base was last looked at.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct UpdateSigns {
    /// The version that is known.
    pub known_version: Option<String>,
    /// The version that the game's files tell now.
    pub version_now: Option<String>,
    /// Files of the base, no settings among them, that have other content. Those that only went tell nothing, since
    /// people delete whole folders; nor do those that only have another time, as a copied game has.
    pub base_changed_files: u64,
    /// Files of the base when it was last looked at as a whole.
    pub base_files: u64,
}

impl UpdateSigns {
    /// Whether the game tells another version than is known.
    pub fn tells_another_version(&self) -> bool {
        match (&self.known_version, &self.version_now) {
            (Some(known), Some(now)) => compare_versions(known, now).is_ne(),
            _ => false,
        }
    }

    /// Whether the game was most likely updated: it tells another version, or many of its files changed. A person
    /// changes a few files; so many at once, or a fifth of them, are an update's.
    pub fn look_like_an_update(&self) -> bool {
        const MANY: u64 = 10;
        const FEW: u64 = 3;
        let changed = self.base_changed_files;
        self.tells_another_version() || changed >= MANY || (changed >= FEW && changed * 5 >= self.base_files)
    }
}

/// Folders and patterns of what looks written by the game itself, read off the names of what changed: the topmost
/// folder whose name says so, else the ending.
pub(crate) fn volatile_proposals<'a>(changed: impl Iterator<Item = &'a Address>) -> Vec<String> {
    const FOLDERS: [&str; 8] =
        ["save", "log", "cache", "screenshot", "crash", "dump", "autosave", "shadercache"];
    const ENDINGS: [&str; 4] = ["log", "dmp", "tmp", "mdmp"];
    let mut proposals: Vec<String> = Vec::new();
    for address in changed {
        let parts: Vec<&str> = address.path.parts().collect();
        let says_so = |part: &&str| {
            let name = part.to_lowercase();
            let words = name.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty());
            let mut words = words.map(|word| word.strip_suffix('s').unwrap_or(word));
            words.any(|word| FOLDERS.iter().any(|known| *known == word || word == format!("{known}d")))
                || name.replace(['-', '_', ' '], "").starts_with("savegame")
        };
        let folders = &parts[..parts.len().saturating_sub(1)];
        let ending = address.path.name().rsplit_once('.').map(|(_, ending)| ending.to_lowercase());
        let proposal = match folders.iter().position(says_so) {
            Some(at) => format!("{}:{}/**", address.root, parts[..=at].join("/")),
            None => match ending.filter(|ending| ENDINGS.contains(&ending.as_str())) {
                Some(ending) => format!("{}:*.{ending}", address.root),
                None => continue,
            },
        };
        if !proposals.contains(&proposal) {
            proposals.push(proposal);
        }
    }
    proposals
}

/// Whether an address lies in a folder that by its name holds what the game can make anew at any time. Saves, logs and
/// pictures it can't.
pub(crate) fn lies_in_cache(address: &Address) -> bool {
    let parts: Vec<&str> = address.path.parts().collect();
    let is_cache = |part: &&str| {
        let name = part.to_lowercase();
        name.split(|c: char| !c.is_alphanumeric()).any(|word| {
            ["cache", "caches"].iter().any(|cache| word.ends_with(cache)) || matches!(word, "temp" | "tmp")
        })
    };
    parts[..parts.len().saturating_sub(1)].iter().any(is_cache)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::address::{PrefixName, RelPath};

    #[test]
    fn what_a_game_writes_is_told_by_its_name() {
        let addresses: Vec<Address> = [
            "saves/slot1.dat",
            "Saved Games/a.sav",
            "engine/ShaderCache/x/1.bin",
            "engine/shader_cache/2.bin",
            "bin/quill.log",
            "logs/day.txt",
            "data/logic/rules.txt",
            "data/catalogue.txt",
            "SaveGames/x",
            "data/savings.txt",
        ]
        .iter()
        .map(|path| Address { root: PrefixName::parse("game").unwrap(), path: RelPath::parse(path).unwrap() })
        .collect();
        assert_eq!(
            volatile_proposals(addresses.iter()),
            [
                "game:saves/**",
                "game:Saved Games/**",
                "game:engine/ShaderCache/**",
                "game:engine/shader_cache/**",
                "game:*.log",
                "game:logs/**",
                "game:SaveGames/**"
            ]
        );
    }

    #[test]
    fn a_cache_is_told_by_its_name() {
        for (path, is_one) in [
            ("cache/a.bin", true),
            ("engine/ShaderCache/x/1.bin", true),
            ("engine/shader_cache/2.bin", true),
            ("temp/x", true),
            ("saves/slot1.sav", false),
            ("logs/day.log", false),
            ("screenshots/cache.png", false),
            ("data/template/a", false),
        ] {
            let path = RelPath::parse(path).unwrap();
            let address = Address { root: PrefixName::parse("game").unwrap(), path };
            assert_eq!(lies_in_cache(&address), is_one, "{address}");
        }
    }

    #[test]
    fn an_update_shows_in_the_version_or_in_many_files() {
        let signs = |known: &str, now: Option<&str>, changed, files| UpdateSigns {
            known_version: Some(known.to_owned()),
            version_now: now.map(str::to_owned),
            base_changed_files: changed,
            base_files: files,
        };
        assert!(signs("1.7", Some("1.8"), 0, 100).look_like_an_update());
        assert!(!signs("1.7", Some("1.7.0"), 2, 100).look_like_an_update());
        assert!(!signs("1.7", None, 9, 100).look_like_an_update());
        assert!(signs("1.7", None, 10, 10_000).look_like_an_update());
        assert!(signs("1.7", None, 3, 15).look_like_an_update());
        assert!(!signs("1.7", None, 2, 2).look_like_an_update());
    }
}
