//! Games that use one folder, such as two installs with the same documents: what the others have laid there. They are
//! known by the marks in the folder; one whose ledger can't be opened, as on a disk that is not plugged in, can't be
//! asked.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use super::{CATALOGUE_FILE, GameMark, Ledger, LedgerError, Lock};
use crate::address::FoldedKey;
use crate::files::{RealDisk, is_one_folder};
use crate::game::{Game, Root};
use crate::hash::ContentHash;
use crate::stack::{BaseFile, Provider, RootId};

/// Whose file lies in a shared folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SharedWith {
    /// The other game's name.
    pub game: String,
    /// Its layer that has the file.
    pub layer: String,
    /// Just the same file is also this game's, as a layer of its own has laid it.
    pub is_both: bool,
}

/// A file that another game's layer has laid, and that game's own file beneath it.
#[derive(Debug)]
struct Held {
    whose: SharedWith,
    hash: ContentHash,
    beneath: Option<BaseFile>,
}

/// What other games have laid in folders of this one.
#[derive(Debug, Default)]
pub(crate) struct OtherGames {
    files: HashMap<(RootId, FoldedKey), Held>,
    /// Folders that are there only for these files.
    folders: HashSet<(RootId, FoldedKey)>,
    ledgers: BTreeSet<PathBuf>,
}

impl Ledger {
    /// What other games have laid in folders that they share with this one.
    pub(crate) fn other_games(&self) -> Result<OtherGames, LedgerError> {
        OtherGames::of(self.game(), &self.folder)
    }
}

/// Marks of other games in a root of the game whose ledger lies in `ledger`.
fn marks_of_others(root: &Root, ledger: &Path) -> Vec<GameMark> {
    let marks = GameMark::all_in(&root.folder).into_iter().filter(|(share, mark)| {
        // Where nobody said that it is shared, a mark is one of this game's own, from an earlier time.
        let is_shared = root.share > 0 || *share > 0;
        is_shared && mark.ledger != ledger && mark.ledger.join(CATALOGUE_FILE).is_file()
    });
    marks.map(|(_, mark)| mark).collect()
}

/// The names of the other games that use a root, too.
pub(crate) fn games_sharing(root: &Root, ledger: &Path) -> Vec<String> {
    marks_of_others(root, ledger).into_iter().map(|mark| mark.game).collect()
}

impl OtherGames {
    /// Looks at the marks in the folders of `game`, whose own ledger lies in `ledger` or will.
    pub(crate) fn of(game: &Game, ledger: &Path) -> Result<Self, LedgerError> {
        let mut found = Self::default();
        for root in &game.roots {
            for mark in marks_of_others(root, ledger) {
                // A seam of its own, for each is fenced in by the folders of one game.
                let Ok(theirs) = Ledger::open(&mark.ledger, Arc::new(RealDisk::default())) else { continue };
                let same = theirs.game().roots.iter().find(|other| {
                    other.name.as_str() == mark.root && is_one_folder(&other.folder, &root.folder)
                });
                if let Some(same) = same {
                    found.ask(&theirs, same, root, game)?;
                    found.ledgers.insert(mark.ledger);
                }
            }
        }
        Ok(found)
    }

    fn ask(&mut self, theirs: &Ledger, same: &Root, root: &Root, game: &Game) -> Result<(), LedgerError> {
        let laid = theirs.catalogue.arrangement()?.laid();
        let order = theirs.present_order()?;
        let names: HashMap<_, _> = theirs.catalogue.layer_names()?.into_iter().collect();
        for column in theirs.catalogue.columns_of_all(&laid)? {
            let (Provider::Layer(entry), true) = (column.provider(&order), column.root == same.id) else {
                continue;
            };
            let spelled = column.spelled().map_or(column.key.as_str(), |spelled| spelled.as_str());
            let key = game.folding.key(spelled);
            let layer = names.get(&entry.layer).cloned().unwrap_or_default();
            let whose = SharedWith { game: theirs.game().name.clone(), layer, is_both: false };
            let hash = entry.hash;
            let held = Held { whose, hash, beneath: theirs.catalogue.base_at(same.id, &column.key)? };
            self.files.insert((root.id, key), held);
        }
        for (id, key) in theirs.catalogue.folders_of(&laid)? {
            if id == same.id && theirs.catalogue.base_at(id, &key)?.is_none() {
                self.folders.insert((root.id, game.folding.key(key.as_str())));
            }
        }
        Ok(())
    }

    /// Whose file lies, or should lie, at an address.
    pub(crate) fn whose(&self, root: RootId, key: &FoldedKey) -> Option<&SharedWith> {
        // Mostly nobody shares anything.
        if self.files.is_empty() {
            return None;
        }
        self.files.get(&(root, key.clone())).map(|held| &held.whose)
    }

    /// Whether another game's file at an address has that content.
    pub(crate) fn has_content(&self, root: RootId, key: &FoldedKey, content: ContentHash) -> bool {
        self.files.get(&(root, key.clone())).is_some_and(|held| held.hash == content)
    }

    /// Makes what was found in a root the game's own: without what layers of others have put there, and with what lies
    /// beneath these.
    pub(crate) fn own_of(
        &self,
        root: RootId,
        found: Vec<(FoldedKey, BaseFile)>,
    ) -> Vec<(FoldedKey, BaseFile)> {
        if self.files.is_empty() && self.folders.is_empty() {
            return found;
        }
        let own = |(key, file): (FoldedKey, BaseFile)| {
            let at = (root, key);
            match self.files.get(&at) {
                Some(held) => held.beneath.clone().map(|beneath| (at.1, beneath)),
                None if self.folders.contains(&at) => None,
                None => Some((at.1, file)),
            }
        };
        found.into_iter().filter_map(own).collect()
    }

    /// Whether nobody else uses a folder of this game.
    pub(crate) fn is_nobody(&self) -> bool {
        self.ledgers.is_empty()
    }

    /// Holds the other games still while this one changes.
    pub(crate) fn hold_still(&self, wait: Duration) -> Result<Vec<Lock>, LedgerError> {
        self.ledgers.iter().map(|ledger| Lock::take_silently(ledger, wait)).collect()
    }
}
