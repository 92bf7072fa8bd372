//! What files change against the game's own, key by key, and whose word counts where several change the same.

use std::collections::HashSet;

use super::keyed::{Change, Key, Keyed, Map};
use super::text::Text;
use super::{Culprit, NotBlended};

/// Keys by their id that a file changes, and the meaning of their values; nothing where a key goes.
pub(super) type Difference = Map<String, Option<String>>;

/// Whose word counts on each key, by its id: the number of the file.
pub(super) type LastWords<'c> = Map<&'c str, usize>;

/// The files as they were read, and what each changes.
#[derive(Clone)]
pub(super) struct Compared<D> {
    pub base: Option<(Text, D)>,
    pub files: Vec<(Text, D)>,
    /// Of each file, against the base.
    pub differences: Vec<Difference>,
}

/// Reads a whole file.
pub(super) fn parse<D: Keyed>(content: &[u8]) -> Result<(Text, D), String> {
    let text = Text::decode(content).ok_or("it is no text")?;
    let document = D::parse(&text.text)?;
    Ok((text, document))
}

pub(super) fn meanings<D: Keyed>(document: &D) -> Map<&str, &str> {
    let settings = document.settings().iter();
    settings.map(|setting| (setting.key.id.as_str(), setting.meaning.as_str())).collect()
}

pub(super) fn difference(old: &Map<&str, &str>, new: &Map<&str, &str>) -> Difference {
    let changed = new.iter().filter(|(id, value)| old.get(*id) != Some(value));
    let changed = changed.map(|(id, value)| ((*id).to_owned(), Some((*value).to_owned())));
    let gone = old.keys().filter(|id| !new.contains_key(*id)).map(|id| ((*id).to_owned(), None));
    changed.chain(gone).collect()
}

impl<D: Keyed> Compared<D> {
    pub(super) fn new(base: Option<&[u8]>, files: &[&[u8]]) -> Result<Self, NotBlended> {
        Self::read(base, files)?.agreed().map_err(|reason| NotBlended { culprit: Culprit::Together, reason })
    }

    /// The files alone, not yet compared.
    pub(super) fn read(base: Option<&[u8]>, files: &[&[u8]]) -> Result<Self, NotBlended> {
        let read = |culprit: Culprit, content: &[u8]| {
            parse::<D>(content).map_err(|reason| NotBlended { culprit, reason })
        };
        let base = base.map(|content| read(Culprit::Base, content)).transpose()?;
        let files = files.iter().enumerate().map(|(index, content)| read(Culprit::File(index), content));
        let files = files.collect::<Result<Vec<_>, _>>()?;
        Ok(Self { base, files, differences: Vec::new() })
    }

    /// With what the files agree on, and their differences.
    pub(super) fn agreed(mut self) -> Result<Self, String> {
        if self.files.is_empty() {
            // One alone was told when it was read.
            return Ok(self);
        }
        let base = self.base.as_mut().map(|(_, document)| document);
        let mut all: Vec<Option<&mut D>> = vec![base];
        all.extend(self.files.iter_mut().map(|(_, document)| Some(document)));
        D::agree(&mut all)?;
        let own = self.base.as_ref().map(|(_, document)| meanings(document)).unwrap_or_default();
        self.differences =
            self.files.iter().map(|(_, document)| difference(&own, &meanings(document))).collect();
        Ok(self)
    }

    /// A file that drops most of the game's own settings: it does not change these, it takes their place.
    pub(super) fn replacement(&self) -> Option<usize> {
        let is_held = |(_, document): &(Text, D), id: &str| {
            document.settings().get(id).is_some_and(|setting| !setting.is_holder)
        };
        let base = self.base.as_ref()?;
        let own = base.1.settings().iter().filter(|setting| !setting.is_holder).count();
        self.differences.iter().position(|difference| {
            let dropped =
                difference.iter().filter(|(id, value)| value.is_none() && is_held(base, id)).count();
            own > 3 && dropped * 2 > own
        })
    }

    pub(super) fn document(&self, file: usize) -> &D {
        &self.files[file].1
    }

    /// Whether a file says anything else than the game's own.
    pub(super) fn is_changed(&self, file: usize) -> bool {
        let sense_differs = |(_, base): &(Text, D)| !base.says_the_same(self.document(file));
        !self.differences[file].is_empty() || self.base.as_ref().is_some_and(sense_differs)
    }

    /// Whose word counts on each key that `files`, the lower first, change: the uppermost's. Of a key with a value and those
    /// beneath it, which can't be there both, the upper's; and where one takes a part out in which another sets something,
    /// the part is as the upper has it. With the pairs of files that meet so.
    pub(super) fn last_words(&self, files: &[usize]) -> (LastWords<'_>, Vec<(usize, usize)>) {
        let mut last = LastWords::default();
        for file in files {
            last.extend(self.differences[*file].keys().map(|id| (id.as_str(), *file)));
        }
        let mut meetings = Meetings { compared: self, last: &last, met: Vec::new(), lost: HashSet::new() };
        meetings.find_values_above();
        meetings.find_parts_gone(files);
        let Meetings { mut met, lost, .. } = meetings;
        let last = last.iter().filter(|(id, file)| !lost.contains(&(**id, **file)));
        let last = last.map(|(id, file)| (*id, *file)).collect();
        met.sort_unstable();
        met.dedup();
        (last, met)
    }

    /// The parts of the base that a file does not have any more.
    fn parts_gone(&self, file: usize) -> HashSet<&str> {
        fn parts<D: Keyed>(document: &D) -> HashSet<&str> {
            let ids = document.settings().iter().map(|setting| setting.key.id.as_str());
            ids.flat_map(|id| D::parts_around(id).into_iter().chain([id])).collect()
        }
        let Some((_, base)) = &self.base else { return HashSet::new() };
        let own = parts(self.document(file));
        parts(base).into_iter().filter(|part| !own.contains(part)).collect()
    }

    /// The changes that make of the settings of `skeleton` what those who have the last word say: what goes, then what
    /// comes, in the order of `files`; elements of lists last, in the order of the layers.
    pub(super) fn changes<'c>(
        &'c self,
        skeleton: &'c D,
        last: &LastWords<'c>,
        files: &[usize],
    ) -> Vec<(Key, Change<'c, D>)> {
        let own = meanings(skeleton);
        let gone = skeleton.settings().iter().map(|setting| &setting.key).filter(|key| {
            last.get(key.id.as_str()).is_some_and(|file| self.differences[*file][&key.id].is_none())
        });
        let mut changes: Vec<(Key, Change<'c, D>)> = gone.map(|key| (key.clone(), Change::Remove)).collect();
        let come = |file: usize, is_listed: bool| {
            let document = self.document(file);
            let own = &own;
            let theirs = document.settings().iter().filter(move |setting| {
                let id = setting.key.id.as_str();
                last.get(id) == Some(&file)
                    && own.get(id) != Some(&setting.meaning.as_str())
                    && D::is_listed(id) == is_listed
            });
            theirs.map(move |setting| (setting.key.clone(), Change::From(document)))
        };
        files.iter().for_each(|file| changes.extend(come(*file, false)));
        let mut in_layers: Vec<usize> = files.to_vec();
        in_layers.sort_unstable();
        in_layers.into_iter().for_each(|file| changes.extend(come(file, true)));
        changes
    }

    /// Makes sure that a file is the game's own with its difference, and nothing else.
    ///
    /// # Errors
    /// That it is not: something in it is no setting.
    pub(super) fn check_explained(&self, file: usize) -> Result<(), String> {
        let Some((_, base)) = &self.base else { return Ok(()) };
        if self.document(file).is_surely_changed_by_keys(base) {
            return Ok(());
        }
        let (last, _) = self.last_words(&[file]);
        let alone = base.changed(&self.changes(base, &last, &[file]))?;
        match D::parse(&alone)?.says_the_same(self.document(file)) {
            true => Ok(()),
            false => Err("what it changes can't all be told by keys".to_owned()),
        }
    }

    /// Makes sure that each key in `content` is what those who have the last word on it say, and that all else is as in
    /// the game's own file. Where `content` can't be held against the files key by key, for the lists in it were changed
    /// by several, all values must be there.
    ///
    /// # Errors
    /// That it is not so.
    pub(super) fn check_made(&self, content: &[u8], files: &[usize]) -> Result<(), String>
    where
        D: Clone,
    {
        let made = parse::<D>(content)?;
        match self.has_all_keys(&made, files) || self.has_all_values(&made.1, files) {
            true => Ok(()),
            false => Err("what they change can't be put into one file without doubt".to_owned()),
        }
    }

    /// Whether `made` can be held against the files key by key, and is what they say.
    pub(super) fn has_all_keys(&self, made: &(Text, D), files: &[usize]) -> bool
    where
        D: Clone,
    {
        let is_plain = self.files.iter().chain(&self.base).all(|(_, document)| document.is_plain());
        if is_plain && made.1.is_plain() {
            return self.is_as_said(&made.1, files);
        }
        let mut all = self.clone();
        all.files.push(made.clone());
        all.agreed().is_ok_and(|all| all.is_as_said(all.document(self.files.len()), files))
    }

    /// Whether `made`, which has agreed with all, is what they say.
    fn is_as_said(&self, made: &D, files: &[usize]) -> bool {
        let (last, _) = self.last_words(files);
        let base = self.base.as_ref().map(|(_, document)| meanings(document)).unwrap_or_default();
        let found = meanings(made);
        let holders: HashSet<&str> = (self.files.iter().chain(&self.base).map(|(_, document)| document))
            .chain([made])
            .flat_map(|document| document.settings().iter())
            .filter(|setting| setting.is_holder)
            .map(|setting| setting.key.id.as_str())
            .collect();
        let mut ids = base.keys().chain(found.keys()).chain(last.keys()).filter(|id| !holders.contains(**id));
        ids.all(|id| {
            let wanted = match last.get(id) {
                Some(file) => self.differences[*file][*id].as_deref(),
                None => base.get(id).copied(),
            };
            found.get(id).copied() == wanted
        })
    }

    fn has_all_values(&self, made: &D, files: &[usize]) -> bool {
        let (last, _) = self.last_words(files);
        let values = |document: &D, is_wanted: &dyn Fn(&str) -> bool| {
            let settings = document.settings().iter().filter(|setting| is_wanted(&setting.key.id));
            settings.flat_map(|setting| document.values_in(setting)).collect::<Vec<_>>()
        };
        let own = self.base.iter().flat_map(|(_, base)| values(base, &|id| !last.contains_key(id)));
        let theirs =
            files.iter().flat_map(|file| values(self.document(*file), &|id| last.get(id) == Some(file)));
        let mut wanted: Vec<(String, String)> = own.chain(theirs).collect();
        let mut found = values(made, &|_| true);
        wanted.sort_unstable();
        found.sort_unstable();
        wanted == found
    }
}

/// Where files meet otherwise than in one key.
struct Meetings<'l, 'c, D> {
    compared: &'c Compared<D>,
    last: &'l LastWords<'c>,
    /// The lower and the upper of each.
    met: Vec<(usize, usize)>,
    /// Words that do not count after all.
    lost: HashSet<(&'c str, usize)>,
}

impl<'c, D: Keyed> Meetings<'_, 'c, D> {
    fn sets(&self, file: usize, id: &str) -> bool {
        matches!(self.compared.differences[file].get(id), Some(Some(_)))
    }

    /// A key with a value, and others beneath it.
    fn find_values_above(&mut self) {
        let is_holder = |file: usize, id: &str| {
            self.compared.document(file).settings().get(id).is_some_and(|setting| setting.is_holder)
        };
        let (mut met, mut lost) = (Vec::new(), HashSet::new());
        for (id, file) in self.last.iter().filter(|(id, file)| self.sets(**file, id)) {
            for above in D::above(id) {
                let Some((above, other)) = self.last.get_key_value(above) else { continue };
                if other == file || !self.sets(*other, above) || is_holder(*other, above) {
                    continue;
                }
                met.push((*file.min(other), *file.max(other)));
                lost.insert(if file < other { (*id, *file) } else { (*above, *other) });
            }
        }
        // What goes because something takes its place stays with it.
        let stays = self.last.iter().filter(|(id, file)| {
            self.compared.differences[**file][**id].is_none()
                && D::above(id).iter().any(|above| lost.contains(&(*above, **file)))
        });
        let stays: Vec<(&str, usize)> = stays.map(|(id, file)| (*id, *file)).collect();
        self.met.extend(met);
        self.lost.extend(lost.into_iter().chain(stays));
    }

    /// A part that one takes out, and in which another sets something.
    fn find_parts_gone(&mut self, files: &[usize]) {
        let takes_any = |file: &&usize| self.compared.differences[**file].values().any(Option::is_none);
        let gone: Vec<(usize, HashSet<&str>)> = files
            .iter()
            .filter(takes_any)
            .map(|file| (*file, self.compared.parts_gone(*file)))
            .filter(|(_, gone)| !gone.is_empty())
            .collect();
        if gone.is_empty() {
            return;
        }
        let mut stay: HashSet<(&str, usize)> = HashSet::new();
        for setter in files {
            let set = self.compared.differences[*setter].iter().filter(|(_, value)| value.is_some());
            for (id, _) in set {
                for part in D::parts_around(id) {
                    for (taker, _) in
                        gone.iter().filter(|(taker, gone)| taker != setter && gone.contains(part))
                    {
                        self.met.push((*setter.min(taker), *setter.max(taker)));
                        match setter < taker {
                            true => drop(self.lost.insert((id, *setter))),
                            false => drop(stay.insert((part, *taker))),
                        }
                    }
                }
            }
        }
        let is_in = |id: &str, file: usize| {
            stay.contains(&(id, file))
                || D::parts_around(id).into_iter().any(|part| stay.contains(&(part, file)))
        };
        self.lost
            .extend(self.last.iter().filter(|(id, file)| is_in(id, **file)).map(|(id, file)| (*id, *file)));
    }
}
