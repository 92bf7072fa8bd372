//! Addresses that people give as paths on disk.

use std::borrow::Cow;
use std::path::{Path, PathBuf};

use super::Game;
use crate::address::{Address, AddressError, is_disk_path, plain_path};

impl Game {
    /// What a person means by an address, which may be given as a path on disk that leads into a root.
    ///
    /// # Errors
    /// [`AddressError`].
    pub fn meant(&self, text: &str) -> Result<Address, AddressError> {
        self.address_book().resolve(&self.as_address(text)?)
    }

    /// A text that is an address or a pattern of addresses; one that is given as a path on disk is turned into one.
    ///
    /// # Errors
    /// [`AddressError::OutOfGame`] for a path that leads into none of the roots.
    pub fn as_address<'t>(&self, text: &'t str) -> Result<Cow<'t, str>, AddressError> {
        if !is_disk_path(text) {
            return Ok(if cfg!(windows) { text.replace('\\', "/").into() } else { text.into() });
        }
        // On other systems `\` is a letter of names, but not in an address.
        let text = if cfg!(windows) { Cow::from(text) } else { Cow::from(text.replace('\\', "/")) };
        let path = std::path::absolute(&*text).unwrap_or_else(|_| PathBuf::from(&*text));
        let path = plain_path(&path);
        let below = self.roots.iter().find_map(|root| {
            let below = below(&path, &root.folder)?;
            Some(format!("{}:{}", root.name, below.join("/")))
        });
        match below {
            Some(address) => Ok(address.into()),
            None => Err(AddressError::OutOfGame {
                path: text.into_owned(),
                roots: self.roots.iter().map(|root| root.folder.display().to_string()).collect(),
            }),
        }
    }
}

/// The names of the way from a folder down to a path that lies in it, however both are written.
fn below(path: &Path, folder: &Path) -> Option<Vec<String>> {
    let names = |path: &Path| -> Vec<String> {
        path.components().map(|part| part.as_os_str().to_string_lossy().into_owned()).collect()
    };
    let is_alike = |one: &String, two: &String| match cfg!(windows) {
        true => one.to_lowercase() == two.to_lowercase(),
        false => one == two,
    };
    let within = |path: &Path, folder: &Path| {
        let (path, folder) = (names(path), names(folder));
        let is_in =
            path.len() >= folder.len() && path.iter().zip(&folder).all(|(one, two)| is_alike(one, two));
        is_in.then(|| path[folder.len()..].to_vec())
    };
    within(path, folder).or_else(|| {
        // Through a link, or by a short name; of a pattern just the part before it is there.
        let there = path.ancestors().find(|above| above.exists())?;
        let rest = path.strip_prefix(there).ok()?;
        let real = plain_path(&std::fs::canonicalize(there).ok()?);
        let real = if rest.as_os_str().is_empty() { real } else { real.join(rest) };
        within(&real, &plain_path(&std::fs::canonicalize(folder).ok()?))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::address::{Folding, MAIN_ROOT, PrefixName};
    use crate::game::Root;
    use crate::stack::RootId;

    #[test]
    fn a_path_on_disk_is_an_address_where_it_leads_into_a_root() {
        let folder = tempfile::tempdir().unwrap();
        let game_folder = plain_path(&folder.path().canonicalize().unwrap()).join("Quill Haven");
        std::fs::create_dir_all(game_folder.join("data")).unwrap();
        let root = |id, name, folder: &Path| Root {
            id: RootId(id),
            name: PrefixName::parse(name).unwrap(),
            folder: folder.to_path_buf(),
            has_side_folder: false,
            share: 0,
        };
        let docs = folder.path().join("docs");
        let game = Game {
            folding: Folding::Folded,
            roots: vec![root(1, MAIN_ROOT, &game_folder), root(2, "docs", &docs)],
            ..Game::default()
        };
        let inside = |below: &str| game_folder.join(below).display().to_string();
        let meant = |text: &str| game.meant(text).unwrap().to_string();
        assert_eq!(meant("data/a.ini"), "game:data/a.ini");
        assert_eq!(meant(r"data\a.ini"), "game:data/a.ini");
        assert_eq!(meant(&inside("data/a.ini")), "game:data/a.ini");
        assert_eq!(meant(&inside("")), "game:");
        assert_eq!(meant(&docs.join("prefs.ini").display().to_string()), "docs:prefs.ini");
        assert_eq!(game.as_address(&inside("data/*.ini")).unwrap(), "game:data/*.ini");
        for outside in [folder.path().join("other/a.ini"), PathBuf::from("/"), PathBuf::from("C:")] {
            let outside = outside.display().to_string();
            assert!(matches!(game.meant(&outside), Err(AddressError::OutOfGame { .. })), "{outside}");
        }
        if cfg!(windows) {
            let whole = inside(r"data\a.ini");
            for way in [whole.to_uppercase(), whole.replace('\\', "/"), format!(r"\\?\{whole}")] {
                assert_eq!(meant(&way).to_lowercase(), "game:data/a.ini", "{way}");
            }
            assert_eq!(game.as_address(r"docs:a\*.ini").unwrap(), "docs:a/*.ini");
        }
    }
}
