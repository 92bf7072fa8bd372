//! Making blended files of what the ledger holds.

use std::cell::{OnceCell, RefCell};
use std::collections::{HashMap, HashSet};
use std::io;
use std::path::PathBuf;
use std::sync::Arc;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::building::Built;
use super::containers::Containers;
use super::unstored::Unstored;
use crate::address::Folding;
use crate::blend::{
    Combined, Culprit, Format, KeyEdit, LastRead, MOST_BLENDED_BYTES, NotBlended, combine, combine_knowing,
    read_edits,
};
use crate::files::read_small;
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{
    Blend, Blended, Column, Entry, EntryKind, Hindrance, LayerId, NotBlendable, Order, PathId, Provider,
    Recipe,
};

/// What blending by a recipe gave, as the catalogue keeps it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum BlendOutcome {
    Made { hash: ContentHash, size_bytes: u64, clashes: Vec<(ContentHash, ContentHash)>, undone: Vec<String> },
    Failed(NotBlendable),
}

/// The contents that go into a blended file.
pub(crate) struct Ingredients {
    pub base: Option<Vec<u8>>,
    pub files: Vec<Vec<u8>>,
    pub edits: Vec<Vec<KeyEdit>>,
}

/// Contents are blended when so many are held.
const MOST_HELD_BYTES: usize = 32 << 20;

/// All that a blended file is made of.
struct Ready {
    format: Format,
    ingredients: Ingredients,
    /// Of the files and the lists of edits.
    inputs: Vec<ContentHash>,
}

impl Ready {
    fn bytes(&self) -> usize {
        self.ingredients.base.iter().chain(&self.ingredients.files).map(Vec::len).sum()
    }

    fn blended(&self, last: &LastRead) -> Result<Combined, NotBlended> {
        let files: Vec<&[u8]> = self.ingredients.files.iter().map(Vec::as_slice).collect();
        let edits: Vec<&[KeyEdit]> = self.ingredients.edits.iter().map(Vec::as_slice).collect();
        let base = self.ingredients.base.as_deref();
        combine_knowing(self.format, base, &files, &edits, last).or_else(|error| match files.as_slice() {
            // What a person sets counts whatever the layers do to each other.
            [.., top] if files.len() > 1 && !edits.is_empty() => {
                let mut combined = combine(self.format, None, &[top], &edits).map_err(|_| error.clone())?;
                let reason = format!(
                    "what layers bring can't be merged, so the topmost file counts, with what is set in it: {}",
                    error.reason
                );
                combined.undone.insert(0, reason);
                let pairs = (0..files.len()).flat_map(|upper| (0..upper).map(move |lower| (lower, upper)));
                combined.clashes = pairs.collect();
                Ok(combined)
            }
            _ => Err(error),
        })
    }
}

/// Reads contents and blends them.
pub(crate) struct Blender<'l> {
    pub(super) ledger: &'l Ledger,
    pub(crate) containers: Containers<'l>,
    /// Contents that are not stored, in a dry run.
    unstored: Arc<Unstored>,
    /// Where files of the base lie that are neither aside nor in their place.
    bases: HashMap<PathId, PathBuf>,
    /// What was made, by recipe.
    made: RefCell<HashMap<ContentHash, Vec<u8>>>,
    /// Whether outcomes are kept in the catalogue.
    keeps: bool,
    /// Addresses at which files blended for what they hold; read when first asked.
    by_content: OnceCell<HashSet<PathId>>,
    /// Contents may be missing, since nothing is stored.
    is_dry_run: bool,
}

impl<'l> Blender<'l> {
    /// One that only looks.
    pub(crate) fn new(ledger: &'l Ledger) -> Self {
        Self {
            ledger,
            containers: Containers::new(ledger),
            unstored: Arc::default(),
            bases: HashMap::new(),
            made: RefCell::default(),
            keeps: false,
            by_content: OnceCell::new(),
            is_dry_run: false,
        }
    }

    /// One inside a change of the catalogue.
    pub(crate) fn in_change(ledger: &'l Ledger, unstored: Arc<Unstored>, is_dry_run: bool) -> Self {
        Self { keeps: true, unstored, is_dry_run, ..Self::new(ledger) }
    }

    /// How spellings of the game's names are compared.
    pub(crate) fn folding(&self) -> Folding {
        self.ledger.game().folding
    }

    /// Says where the base's own file at an address lies for now.
    pub(crate) fn set_base_at(&mut self, path: PathId, file: PathBuf) {
        self.containers.set_base_at(path, file.clone());
        self.bases.insert(path, file);
    }

    /// Learns what each of `columns` gives under `order`, where something blends or members of containers change. In a
    /// change a container is not made for that: what stands for it is named by its composition.
    pub(crate) fn learn(&self, columns: &mut [Column], order: &Order) -> Result<(), LedgerError> {
        self.containers.complete(columns)?;
        self.learn_completed(columns, order, self.keeps)
    }

    /// As [`Blender::learn`], of what lies on disk: containers that nobody remembers are made for it.
    pub(crate) fn learn_as_laid(&self, columns: &mut [Column], order: &Order) -> Result<(), LedgerError> {
        self.containers.complete(columns)?;
        self.learn_completed(columns, order, false)
    }

    fn learn_completed(
        &self,
        columns: &mut [Column],
        order: &Order,
        names_only: bool,
    ) -> Result<(), LedgerError> {
        self.learn_blends(columns, order)?;
        for column in columns.iter_mut().filter(|column| !column.members.is_empty()) {
            self.learn_completed(&mut column.members, order, names_only)?;
            self.learn_container(column, order, names_only)?;
        }
        Ok(())
    }

    /// Learns what changing members gives.
    fn learn_container(
        &self,
        column: &mut Column,
        order: &Order,
        names_only: bool,
    ) -> Result<(), LedgerError> {
        let Some(composition) = column.composition(order) else { return Ok(()) };
        let name = composition.hash();
        let under = column.made_under(name, order);
        if column.blends.iter().any(|blend| blend.made == under) {
            return Ok(());
        }
        let catalogue = &self.ledger.catalogue;
        let known = catalogue.blend(name)?.map(|text| serde_json::from_str(&text)).transpose();
        let known: Option<BlendOutcome> = known.map_err(|error| catalogue.damaged_by(&error))?;
        let made = match known {
            Some(BlendOutcome::Made { hash, size_bytes, .. }) => Ok((hash, size_bytes)),
            _ => match self.building(column, &composition, order)? {
                Err(reason) => Err(reason),
                Ok(_) if names_only => Ok((name, composition.about_bytes())),
                Ok(building) => {
                    let made = building.make(false, |blocks| {
                        blocks.for_each(drop);
                        Ok(())
                    });
                    made.map(|made| (made.hash, made.size_bytes)).map_err(|error| error.to_string())
                }
            },
        };
        let laid = column.laid(order).into_iter();
        let from = laid.filter(|entry| entry.kind == EntryKind::Members).map(|entry| entry.layer);
        let outcome = match made {
            Ok((hash, size_bytes)) => Ok(Blended {
                entry: composition.entry(hash, size_bytes),
                from: from.collect(),
                clashes: Vec::new(),
                undone: Vec::new(),
            }),
            Err(reason) => Err(NotBlendable {
                hindrance: match composition.beneath {
                    Provider::Layer(entry) => Hindrance::Content(entry.hash),
                    _ => Hindrance::Base,
                },
                reason,
            }),
        };
        column.blends.push(Blend { made: under, outcome });
        Ok(())
    }

    /// Keeps what came of making a container, inside a change of the catalogue.
    pub(crate) fn note_built(ledger: &Ledger, name: ContentHash, built: Built) -> Result<(), LedgerError> {
        let Built { hash, size_bytes, tree_beneath, inside } = built;
        if let Some((beneath, tree)) = tree_beneath {
            ledger.catalogue.write_tree(beneath, &tree.to_bytes())?;
        }
        for (name, hash, size_bytes) in inside.into_iter().chain([(name, hash, size_bytes)]) {
            let outcome = BlendOutcome::Made { hash, size_bytes, clashes: Vec::new(), undone: Vec::new() };
            let text =
                serde_json::to_string(&outcome).map_err(|error| ledger.catalogue.damaged_by(&error))?;
            ledger.catalogue.write_blend(name, &text)?;
        }
        Ok(())
    }

    fn learn_blends(&self, columns: &mut [Column], order: &Order) -> Result<(), LedgerError> {
        let mut unknown: Vec<(usize, ContentHash, Ready)> = Vec::new();
        let mut held_bytes = 0;
        for at in 0..columns.len() {
            let column = &columns[at];
            let Some(recipe) = column.recipe(order) else { continue };
            if recipe.format == Format::ByContent && !self.may_be_settings(column, &recipe)? {
                continue;
            }
            let name = recipe.hash();
            let made = column.made_under(name, order);
            if column.blends.iter().any(|blend| blend.made == made) {
                continue;
            }
            if let Some(known) = self.ledger.catalogue.blend(name)? {
                let known = serde_json::from_str(&known);
                let outcome = known.map_err(|error| self.ledger.catalogue.damaged_by(&error))?;
                self.note(&mut columns[at], order, name, outcome)?;
                continue;
            }
            match self.ready(column, &recipe)? {
                Err(why) => self.note_new(&mut columns[at], order, name, BlendOutcome::Failed(why))?,
                Ok(ready) => {
                    held_bytes += ready.bytes();
                    unknown.push((at, name, ready));
                }
            }
            if held_bytes > MOST_HELD_BYTES {
                self.blend_all(std::mem::take(&mut unknown), columns, order)?;
                held_bytes = 0;
            }
        }
        self.blend_all(unknown, columns, order)
    }

    /// Blends what is ready, several at a time.
    fn blend_all(
        &self,
        ready: Vec<(usize, ContentHash, Ready)>,
        columns: &mut [Column],
        order: &Order,
    ) -> Result<(), LedgerError> {
        let last = &self.ledger.last_read;
        let made: Vec<_> = ready.par_iter().map(|(.., ready)| ready.blended(last)).collect();
        for ((at, name, ready), made) in ready.into_iter().zip(made) {
            let outcome = self.outcome(name, &ready, made);
            self.note_new(&mut columns[at], order, name, outcome)?;
        }
        Ok(())
    }

    /// Notes an outcome that was not known, and keeps it if that is wanted.
    fn note_new(
        &self,
        column: &mut Column,
        order: &Order,
        name: ContentHash,
        outcome: BlendOutcome,
    ) -> Result<(), LedgerError> {
        let catalogue = &self.ledger.catalogue;
        let is_lasting =
            !matches!(&outcome, BlendOutcome::Failed(why) if why.hindrance == Hindrance::NotAtHand);
        if self.keeps && is_lasting {
            let text = serde_json::to_string(&outcome).map_err(|error| catalogue.damaged_by(&error))?;
            catalogue.write_blend(name, &text)?;
        }
        self.note(column, order, name, outcome)
    }

    fn note(
        &self,
        column: &mut Column,
        order: &Order,
        name: ContentHash,
        outcome: BlendOutcome,
    ) -> Result<(), LedgerError> {
        let outcome = match outcome {
            // Nobody said that it is settings.
            BlendOutcome::Failed(why) if why.reason.is_empty() => return Ok(()),
            BlendOutcome::Failed(why) => Err(why),
            BlendOutcome::Made { hash, size_bytes, clashes, undone } => {
                let Some(recipe) = column.recipe(order) else { return Ok(()) };
                if self.keeps && recipe.format == Format::ByContent {
                    self.ledger.catalogue.note_settings_by_content(column.path)?;
                }
                let Some(entry) = recipe.entry(hash, size_bytes) else { return Ok(()) };
                Ok(Blended { entry, from: recipe.from(&column.laid(order)), clashes, undone })
            }
        };
        let made = column.made_under(name, order);
        column.blends.push(Blend { made, outcome });
        Ok(())
    }

    /// Whether files at an address whose name tells nothing may blend: where they did before, or in a change, and where the
    /// topmost begins like settings.
    fn may_be_settings(&self, column: &Column, recipe: &Recipe<'_>) -> Result<bool, LedgerError> {
        const HEAD_BYTES: usize = 4096;
        if !self.keeps {
            let known = match self.by_content.get() {
                Some(known) => known,
                None => {
                    let known = self.ledger.catalogue.settings_by_content()?;
                    self.by_content.get_or_init(|| known)
                }
            };
            if !known.contains(&column.path) {
                return Ok(false);
            }
        }
        let Some(top) = recipe.files.last() else { return Ok(true) };
        let head = match self.unstored.get(top.hash, HEAD_BYTES) {
            Some(head) => head,
            // What can't be read is told by who needs it.
            None => self.ledger.stored(top.hash)?.read(HEAD_BYTES as u64).unwrap_or_default(),
        };
        Ok(!head.contains(&0) && head.iter().any(|byte| matches!(byte, b'=' | b'{' | b'<')))
    }

    /// The content of the blended file that `entry` stands for; nothing if it stands for none.
    pub(crate) fn content_of(
        &self,
        column: &Column,
        entry: &Entry,
        order: &Order,
    ) -> Result<Option<Vec<u8>>, LedgerError> {
        let Some(recipe) = column.recipe(order) else { return Ok(None) };
        let name = recipe.hash();
        let made = column.made_under(name, order);
        let is_it = column.blends.iter().any(|blend| {
            blend.made == made && blend.outcome.as_ref().is_ok_and(|blended| blended.entry == *entry)
        });
        if !is_it {
            return Ok(None);
        }
        let is_held = self.made.borrow().contains_key(&name);
        if !is_held && let Ok(ready) = self.ready(column, &recipe)? {
            self.outcome(name, &ready, ready.blended(&self.ledger.last_read));
        }
        Ok(self.made.borrow().get(&name).cloned())
    }

    /// Reads what goes into a blended file; or tells why there is none.
    fn ready(
        &self,
        column: &Column,
        recipe: &Recipe<'_>,
    ) -> Result<Result<Ready, NotBlendable>, LedgerError> {
        let failed = |hindrance, reason: &str| Ok(Err(NotBlendable { hindrance, reason: reason.to_owned() }));
        let sizes = recipe.files.iter().map(|entry| (Hindrance::Content(entry.hash), entry.size_bytes));
        let base_size = recipe.base.map(|base| (Hindrance::Base, base.size_bytes));
        if let Some((hindrance, _)) = sizes.chain(base_size).find(|(_, size)| *size > MOST_BLENDED_BYTES) {
            return failed(hindrance, "it is too big");
        }
        let Some(ingredients) = self.ingredients(column, recipe)? else {
            if recipe.format == Format::ByContent {
                return failed(Hindrance::NotAtHand, "");
            }
            return failed(
                Hindrance::NotAtHand,
                "what it is made of is not all at hand, or the game's own file is not as it was",
            );
        };
        let first = ingredients.base.as_deref().or(ingredients.files.first().map(Vec::as_slice));
        let format = recipe.format.of_content(first.unwrap_or_default());
        if format == Format::ByContent {
            return failed(Hindrance::Together, "");
        }
        let inputs = recipe.files.iter().chain(&recipe.edits).map(|entry| entry.hash).collect();
        Ok(Ok(Ready { format, ingredients, inputs }))
    }

    /// What came of it, whose content is held.
    fn outcome(&self, name: ContentHash, ready: &Ready, made: Result<Combined, NotBlended>) -> BlendOutcome {
        match made {
            Ok(combined) => {
                let inputs = &ready.inputs;
                let clashes = combined.clashes.iter().map(|(one, two)| (inputs[*one], inputs[*two]));
                let outcome = BlendOutcome::Made {
                    hash: ContentHash::of(&combined.content),
                    size_bytes: combined.content.len() as u64,
                    clashes: clashes.collect(),
                    undone: combined.undone,
                };
                self.made.borrow_mut().insert(name, combined.content);
                outcome
            }
            Err(NotBlended { culprit, reason }) => {
                let hindrance = match culprit {
                    Culprit::Base => Hindrance::Base,
                    Culprit::File(file) => Hindrance::Content(ready.inputs[file]),
                    Culprit::Together => Hindrance::Together,
                };
                BlendOutcome::Failed(NotBlendable { hindrance, reason })
            }
        }
    }

    /// Reads what goes into it; nothing if the game's own file can't be had as it was, or in a dry run something is
    /// not stored.
    pub(crate) fn ingredients(
        &self,
        column: &Column,
        recipe: &Recipe<'_>,
    ) -> Result<Option<Ingredients>, LedgerError> {
        let base = match recipe.base {
            None => None,
            Some(base) => {
                let content = self.base_content(column)?;
                match content.filter(|content| Some(ContentHash::of(content)) == base.hash) {
                    Some(content) => Some(content),
                    None => return Ok(None),
                }
            }
        };
        let mut files = Vec::new();
        for entry in &recipe.files {
            let Some(content) = self.stored(entry)? else { return Ok(None) };
            files.push(content);
        }
        let mut edits = Vec::new();
        for entry in &recipe.edits {
            let Some(content) = self.stored(entry)? else { return Ok(None) };
            let list = read_edits(&content);
            edits.push(list.map_err(|error| self.ledger.catalogue.damaged_by(&error))?);
        }
        Ok(Some(Ingredients { base, files, edits }))
    }

    /// The game's own file at the column's address, where it lies aside or still in its place.
    pub(crate) fn base_content(&self, column: &Column) -> Result<Option<Vec<u8>>, LedgerError> {
        let Some(base) = &column.base else { return Ok(None) };
        if column.is_member {
            let Some(hash) = base.hash else { return Ok(None) };
            if self.containers.packed(hash).is_none() {
                self.containers.complete(&mut [column.clone()])?;
            }
            return Ok(self.containers.small(hash));
        }
        let site = self.ledger.site();
        let root = site.root(column.root)?;
        let usual = [site.original(root, column.path), base.spelled.on(&root.folder)];
        for path in self.bases.get(&column.path).cloned().into_iter().chain(usual) {
            match read_small(&path, MOST_BLENDED_BYTES) {
                // What is not as it was known is not the game's own file, and a link leads to another.
                Ok(Some(content)) if base.hash.is_none_or(|hash| ContentHash::of(&content) == hash) => {
                    return Ok(Some(content));
                }
                Ok(_) => {}
                Err(error)
                    if crate::files::is_nothing_there(&error)
                        || error.kind() == io::ErrorKind::InvalidInput => {}
                Err(source) => return Err(LedgerError::io("read", &path)(source)),
            }
        }
        Ok(None)
    }

    /// A stored content; in a dry run it may not be there.
    pub(crate) fn stored(&self, entry: &Entry) -> Result<Option<Vec<u8>>, LedgerError> {
        if let Some(content) = self.unstored.get(entry.hash, usize::MAX) {
            return Ok(Some(content));
        }
        if entry.kind == EntryKind::Packed {
            return Ok(self.containers.small(entry.hash));
        }
        let stored = self.ledger.stored(entry.hash)?;
        match stored.read(entry.size_bytes) {
            Ok(content) if ContentHash::of(&content) == entry.hash => Ok(Some(content)),
            Err(error) if error.kind() == io::ErrorKind::NotFound && self.is_dry_run => Ok(None),
            Err(error) if !matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::UnexpectedEof) => {
                Err(LedgerError::io("read", stored.path())(error))
            }
            _ => {
                let what = format!("a file of {}", self.name_of(entry.layer)?);
                Err(LedgerError::ContentLost { what, path: stored.path() })
            }
        }
    }

    /// A stored content, if it is there.
    pub(crate) fn stored_if_there(&self, entry: &Entry) -> Result<Option<Vec<u8>>, LedgerError> {
        match self.stored(entry) {
            Err(LedgerError::ContentLost { .. }) => Ok(None),
            other => other,
        }
    }

    fn name_of(&self, layer: LayerId) -> Result<String, LedgerError> {
        let names = self.ledger.catalogue.layer_names()?;
        Ok(names.into_iter().find(|(id, _)| *id == layer).map_or("a layer".to_owned(), |(_, name)| name))
    }
}
