//! The game's tree as the fit sees it.

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::address::{Address, FoldedKey, Folding, INTO, PrefixName, RelPath};
use crate::fit::{GameTree, NamedThings, ProgramSeen, RootSeen, WantedNames, each_pattern};
use crate::game::imports_of;
use crate::ledger::Ledger;
use crate::stack::{BaseKind, Order, PathId, RootId};

/// Folders and files of the base and of laid layers.
pub(in crate::jobs) struct LedgerTree<'a> {
    ledger: &'a Ledger,
    order: Order,
    /// The last look at all names, since the same is often asked twice.
    last: RefCell<Option<(WantedNames, Rc<NamedThings>)>>,
}

/// Folders by root and folded path, each with its spelling and how many files it directly holds.
type Homes = FxHashMap<(usize, String), (RelPath, u64)>;

impl<'a> LedgerTree<'a> {
    pub(in crate::jobs) fn new(ledger: &'a Ledger, order: Order) -> Self {
        Self { ledger, order, last: RefCell::default() }
    }

    /// The addresses of files that have one of these names, all folded.
    pub(in crate::jobs) fn files_named(
        &self,
        names: &FxHashSet<String>,
    ) -> FxHashSet<(PrefixName, FoldedKey)> {
        let game = self.ledger.game();
        let is_exact = game.folding == Folding::Exact;
        let is_wanted = |key: &str| {
            let name = key.rfind('/').map_or(key, |cut| &key[cut + 1..]);
            if is_exact { names.contains(Folding::Folded.key(name).as_str()) } else { names.contains(name) }
        };
        // A catalogue that fails here fails again, and is reported, when the entries are written.
        let mut found = self.ledger.catalogue.files_like(is_wanted).unwrap_or_default();
        let containers = self.ledger.catalogue.containers().unwrap_or_default();
        found.retain(|(root, key)| !is_in_container(&containers, *root, key));
        let found = found
            .into_iter()
            .filter_map(|(root, key)| Some((game.root(root)?.name.clone(), Folding::Folded.key(&key))));
        found.collect()
    }

    #[expect(
        clippy::too_many_lines,
        reason = "one pass over all names of the game, in which nothing may be done twice"
    )]
    fn look(&self, wanted: &WantedNames) -> NamedThings {
        let game = self.ledger.game();
        let roots: HashMap<RootId, usize> =
            game.roots.iter().enumerate().map(|(number, root)| (root.id, number)).collect();
        let mut named = NamedThings::default();
        let mut endings: FxHashMap<String, Homes> = FxHashMap::default();
        // Files come folder by folder, so the last home is mostly the next.
        let mut last: (usize, String, String, u64) = Default::default();
        let mut patterns: FxHashMap<String, Homes> = FxHashMap::default();
        let mut buffer = String::new();
        let mut seen: FxHashSet<(usize, String)> = FxHashSet::default();
        let containers = self.ledger.catalogue.containers().unwrap_or_default();
        let passed = self.ledger.catalogue.pass_names(|thing| {
            let Some(root) = roots.get(&thing.root).copied() else { return };
            if is_in_container(&containers, thing.root, thing.key) {
                return;
            }
            let folded;
            let key = match game.folding {
                Folding::Folded => thing.key,
                Folding::Exact => {
                    folded = Folding::Folded.key(thing.key);
                    folded.as_str()
                }
            };
            let cut = key.rfind('/');
            let name = cut.map_or(key, |cut| &key[cut + 1..]);
            let path = || RelPath::from_disk(thing.spelled);
            if thing.kind == BaseKind::Folder {
                let above = key[..cut.unwrap_or(0)].rsplit('/').next().unwrap_or_default();
                if wanted.parents.contains(above) {
                    named.children.push((root, path()));
                }
                if wanted.folders.contains(name) && seen.insert((root, key.to_owned())) {
                    named.folders.push((root, path()));
                }
                return;
            }
            let ending = name.rfind('.').map_or("", |dot| &name[dot + 1..]);
            let folder = &key[..cut.unwrap_or(0)];
            if (last.0, last.1.as_str(), last.2.as_str()) == (root, ending, folder) && last.3 > 0 {
                last.3 += 1;
            } else if wanted.endings.contains(ending) {
                add_home(&mut endings, std::mem::take(&mut last));
                let homes = endings.entry(ending.to_owned()).or_default();
                homes.entry((root, folder.to_owned())).or_insert_with(|| (path().parent(), 0));
                last = (root, ending.to_owned(), folder.to_owned(), 1);
            }
            if !wanted.patterns.is_empty() && wanted.endings.contains(ending) {
                each_pattern(name, folder.rsplit('/').next().unwrap_or_default(), &mut buffer, |pattern| {
                    if wanted.patterns.contains(pattern) {
                        let homes = patterns.entry(pattern.to_owned()).or_default();
                        let home = homes.entry((root, folder.to_owned()));
                        home.or_insert_with(|| (path().parent(), 0)).1 += 1;
                    }
                });
            }
            if wanted.files.contains(name) && seen.insert((root, key.to_owned())) {
                named.files.push((root, path(), thing.size_bytes));
            }
        });
        add_home(&mut endings, last);
        // A catalogue that fails here fails again, and is reported, when the entries are written.
        if passed.is_err() {
            return NamedThings::default();
        }
        named.endings = listed(endings);
        named.patterns = listed(patterns);
        named
    }
}

fn listed(all: FxHashMap<String, Homes>) -> FxHashMap<String, Vec<(usize, RelPath, u64)>> {
    let list =
        |homes: Homes| homes.into_iter().map(|((root, _), (path, count))| (root, path, count)).collect();
    all.into_iter().map(|(what, homes)| (what, list(homes))).collect()
}

/// Whether an address is one of a member, which no folder holds.
fn is_in_container(containers: &[(PathId, RootId, FoldedKey)], root: RootId, key: &str) -> bool {
    let is_around = |container: &FoldedKey| {
        key.strip_prefix(container.as_str()).is_some_and(|rest| rest.starts_with(INTO))
    };
    key.contains(INTO) && containers.iter().any(|(_, of, container)| *of == root && is_around(container))
}

/// Adds files counted in a folder to those known of it.
fn add_home(
    endings: &mut FxHashMap<String, Homes>,
    (root, ending, folder, count): (usize, String, String, u64),
) {
    if let Some((_, known)) = endings.get_mut(&ending).and_then(|homes| homes.get_mut(&(root, folder))) {
        *known += count;
    }
}

impl GameTree for LedgerTree<'_> {
    fn has_folder(&self, address: &Address) -> bool {
        let game = self.ledger.game();
        let Some(root) = game.root_named(&address.root) else { return false };
        if address.path.is_root() {
            return true;
        }
        let key = game.folding.key(address.path.as_str());
        // A catalogue that fails here fails again, and is reported, when the entries are written.
        self.ledger.catalogue.folder_source(root.id, &key).is_ok_and(|source| {
            matches!(source.base, Some((_, BaseKind::Folder)))
                || source.needs.iter().any(|need| self.order.rank(need.layer).is_some())
        })
    }

    fn roots(&self) -> Vec<RootSeen> {
        let parts = |path: &std::path::Path| {
            path.iter().map(|part| part.to_string_lossy().into_owned()).collect::<Vec<_>>()
        };
        let roots = self.ledger.game().roots.iter();
        roots.map(|root| RootSeen { name: root.name.clone(), folder: parts(&root.folder) }).collect()
    }

    fn program(&self) -> Option<ProgramSeen> {
        let game = self.ledger.game();
        let address = game.program.clone()?;
        let folder = &game.root_named(&address.root)?.folder;
        let imports = imports_of(&address.path.on(folder)).unwrap_or_default();
        Some(ProgramSeen { address, imports })
    }

    fn named(&self, wanted: &WantedNames) -> Rc<NamedThings> {
        if let Some((asked, named)) = &*self.last.borrow()
            && asked == wanted
        {
            return Rc::clone(named);
        }
        let named = Rc::new(self.look(wanted));
        *self.last.borrow_mut() = Some((wanted.clone(), Rc::clone(&named)));
        named
    }
}
