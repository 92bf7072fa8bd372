//! Configuration of the INI kind as lines that keep their form.
//!
//! There is no standard for it; this reads what games' files have in common: sections in brackets or none, a key, `=`
//! (or `:`, or just a blank), a value; `;`, `#` and `//` begin comments. Sections and keys are compared without regard
//! to case, and all that stands behind the separator counts.
//!
//! A key that stands several times in a section is a list, and so are lines of bare words; sections of one name are told
//! apart by a key in them, or by what they say (see [`super::align`]). Files whose lines or sections lie in one another
//! are not understood.

mod read;
mod tell;
mod write;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::hash::{BuildHasher, Hasher};

use foldhash::fast::RandomState;

use self::read::{Kind, Piece, Pieces};
use self::tell::{is_plain, tell_keys, tell_sections};
use super::keyed::{Change, Key, Keyed, Setting, Settings, line_end};

/// Between the parts of a key's id.
const SEPARATOR: char = '\u{1f}';

/// Between the name of a section and what tells it from others of that name.
const TOLD: char = '\u{2}';

/// A whole file.
#[derive(Debug, Clone)]
pub(super) struct Ini {
    pieces: Pieces,
    /// How each section is told, and as people write it.
    told: Vec<(String, String)>,
    settings: Settings,
    /// No section and no key stands several times, and no line is without a value.
    is_plain: bool,
    /// Which piece each setting is; nothing for that of an empty section.
    piece_of: Vec<Option<usize>>,
    end: &'static str,
}

impl Keyed for Ini {
    const IS_BY_LINES: bool = true;

    fn parse(text: &str) -> Result<Self, String> {
        let pieces = Pieces::read(text)?;
        let mut ini = Self {
            told: Vec::new(),
            settings: Settings::default(),
            is_plain: is_plain(&pieces),
            pieces,
            piece_of: Vec::new(),
            end: line_end(text),
        };
        match ini.is_plain {
            true => {
                ini.told =
                    ini.pieces.sections.iter().map(|name| (name.to_lowercase(), name.clone())).collect();
                ini.gather(&HashMap::new());
            }
            false => Self::agree(&mut [Some(&mut ini)])?,
        }
        Ok(ini)
    }

    fn agree(documents: &mut [Option<&mut Self>]) -> Result<(), String> {
        let said = documents.iter().flatten().filter(|document| document.settings_count() > 0);
        let have_words: BTreeSet<bool> = said.map(|document| document.pieces.separator == ' ').collect();
        if have_words.len() > 1 {
            return Err("the files separate keys and values differently".to_owned());
        }
        if documents.iter().flatten().all(|document| document.is_plain) {
            return Ok(());
        }
        tell_sections(documents)?;
        tell_keys(documents)
    }

    fn is_plain(&self) -> bool {
        self.is_plain
    }

    fn says_the_same(&self, other: &Self) -> bool {
        if self.has_lists() || other.has_lists() {
            return self.sense() == other.sense() && self.has_the_lines_of(other);
        }
        let sections =
            |ini: &Self| ini.told.iter().map(|(section, _)| section.clone()).collect::<BTreeSet<_>>();
        let is_there = |setting: &Setting| {
            other.settings.get(&setting.key.id).is_some_and(|other| other.meaning == setting.meaning)
        };
        self.settings.len() == other.settings.len()
            && self.settings.iter().all(is_there)
            && sections(self) == sections(other)
            && self.has_the_lines_of(other)
    }

    fn is_surely_changed_by_keys(&self, base: &Self) -> bool {
        // Each of its lines says a key, a section or nothing; those of keys that do not differ are as they were.
        fn heads(ini: &Ini) -> impl Iterator<Item = &Piece> {
            ini.pieces.list.iter().filter(|piece| piece.kind == Kind::Head)
        }
        let is_alike =
            |one: &Piece, two: &Piece| one.text == two.text || said_in(&one.text).eq(said_in(&two.text));
        let is_changed_or_alike = |(setting, piece): (&Setting, &Option<usize>)| {
            let place = base.settings.position(&setting.key.id);
            let Some(place) = place.filter(|at| base.settings.at(*at).meaning == setting.meaning) else {
                return true;
            };
            match (piece, base.piece_of[place]) {
                (Some(own), Some(other)) => is_alike(&self.pieces.list[*own], &base.pieces.list[other]),
                (own, other) => own.is_none() && other.is_none(),
            }
        };
        !self.has_lists()
            && !base.has_lists()
            && self.pieces.separator == base.pieces.separator
            && heads(self).count() == heads(base).count()
            && heads(self).zip(heads(base)).all(|(own, other)| is_alike(own, other))
            && self.settings.iter().zip(&self.piece_of).all(is_changed_or_alike)
    }

    fn settings(&self) -> &Settings {
        &self.settings
    }

    fn sense(&self) -> String {
        let mut sections: BTreeMap<String, Vec<BTreeMap<String, Vec<String>>>> = BTreeMap::new();
        let mut place: Vec<(String, usize)> = Vec::new();
        for name in &self.pieces.sections {
            let alike = sections.entry(name.to_lowercase()).or_default();
            alike.push(BTreeMap::new());
            place.push((name.to_lowercase(), alike.len() - 1));
        }
        for piece in &self.pieces.list {
            let (name, at) = &place[piece.section];
            if let (Some((key, meaning)), Some(section)) =
                (&piece.said, sections.get_mut(name).and_then(|alike| alike.get_mut(*at)))
            {
                section.entry(key.clone()).or_default().push(meaning.clone());
            }
        }
        format!("{sections:?}")
    }

    fn parts_around(id: &str) -> Vec<&str> {
        let section = section_id(id);
        if section.is_empty() { Vec::new() } else { vec![section] }
    }

    fn is_listed(id: &str) -> bool {
        id.rsplit(SEPARATOR).next().is_some_and(|last| last.starts_with('+'))
    }

    fn by_place<'k>(&self, id: &'k str) -> Option<&'k str> {
        let mut parts = id.split(SEPARATOR);
        let section = parts.next()?;
        if parts.nth(1).is_some_and(|step| !step.starts_with('+')) {
            return Some(id);
        }
        let at = self.told.iter().position(|(told, _)| told == section)?;
        let name = &self.pieces.sections[at];
        let alike = self.pieces.sections.iter().filter(|other| other.eq_ignore_ascii_case(name)).count();
        let is_called = section.split_once(TOLD).is_some_and(|(_, step)| step.contains('='));
        (alike > 1 && !is_called).then_some(section)
    }

    fn is_of_now(&self, id: &str) -> bool {
        self.by_place(id).is_some() || Self::is_listed(id)
    }

    fn part_as_told_in(&self, told: &Self, part: &str) -> Option<String> {
        if part.contains(SEPARATOR) {
            let piece = told.piece_of[told.settings.position(part)?]?;
            let at = self.piece_of.iter().position(|own| *own == Some(piece))?;
            return Some(self.settings.at(at).key.id.clone());
        }
        let at = told.told.iter().position(|(section, _)| section == part)?;
        Some(self.told[at].0.clone())
    }

    fn shown_as(&self, id: &str) -> String {
        let (section, name) = id.split_once(SEPARATOR).unwrap_or(("", id));
        let label = self.told.iter().find(|(told, _)| told == section).map_or(section, |(_, label)| label);
        let (name, step) = name.split_once(SEPARATOR).unwrap_or((name, ""));
        let shown = key(section, label, name).shown;
        match step.strip_prefix('+').and_then(|number| number.parse::<usize>().ok()) {
            // One that comes behind those there.
            Some(number) => format!("{shown}[{}]", self.items(section, name).count() + number),
            None => shown,
        }
    }

    /// What comes with a new line may have a comment behind it.
    fn as_typed(setting: &Setting, is_new: bool) -> String {
        if is_new { setting.meaning.clone() } else { setting.raw.clone() }
    }

    fn key_of(&self, written: &str) -> Result<Key, String> {
        let written = written.trim();
        let found = self.settings.iter().filter(|own| own.key.shown.eq_ignore_ascii_case(written));
        let mut found = found.map(|setting| &setting.key);
        if let Some(key) = found.next() {
            return match found.next() {
                None => Ok(key.clone()),
                Some(_) => Err(format!("`{written}` stands there several times")),
            };
        }
        if let Some(name) = written.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            let (id, shown) =
                (format!("{}{SEPARATOR}", name.trim().to_lowercase()), format!("[{}]", name.trim()));
            return Ok(Key { id, shown });
        }
        let (section, label, name) = self.section_and_name(written);
        let items = |name: &str| -> Vec<&Key> { self.items(&section, name).collect() };
        if let Some((list, place)) = name.strip_suffix(']').and_then(|rest| rest.rsplit_once('['))
            && let Ok(place) = place.parse::<usize>()
            && !items(list).is_empty()
        {
            return match items(list).get(place.wrapping_sub(1)) {
                Some(key) => Ok((*key).clone()),
                None if place > 0 => {
                    let number = place - items(list).len();
                    let id = format!("{section}{SEPARATOR}{}{SEPARATOR}+{number}", list.to_lowercase());
                    Ok(Key { id, shown: written.to_owned() })
                }
                None => Err(format!("`{written}`: the first is `{list}[1]`")),
            };
        }
        let several = items(&name).len();
        if several > 0 {
            return Err(format!(
                "`{written}` stands there several times; write `{written}[1]` to `{written}[{several}]`"
            ));
        }
        let hides = |c: char| c == self.pieces.separator && c != ' ' || c == '\n' || c == '[';
        if name.is_empty() || name.contains(hides) {
            return Err(format!("`{written}` is no key; write Section.key"));
        }
        Ok(key(&section, &label, &name))
    }

    fn changed(&self, changes: &[(Key, Change<'_, Self>)]) -> Result<String, String> {
        self.with_changes(changes)
    }
}

fn key(section: &str, label: &str, name: &str) -> Key {
    let id = format!("{section}{SEPARATOR}{}", name.to_lowercase());
    let shown = if label.is_empty() { name.to_owned() } else { format!("{label}.{name}") };
    Key { id, shown }
}

/// What a line says: blanks and case apart.
fn said_in(line: &str) -> impl Iterator<Item = char> {
    line.split_whitespace().flat_map(str::chars).flat_map(char::to_lowercase)
}

fn section_id(id: &str) -> &str {
    id.split(SEPARATOR).next().unwrap_or_default()
}

impl Ini {
    /// Whether a text is nothing else: keys that look like such, `=` and values in all lines.
    pub(super) fn is_clearly(text: &str) -> bool {
        let Ok(pieces) = Pieces::read(text) else { return false };
        let is_key = |name: &str| {
            name.len() <= 64
                && name.chars().all(|c| c.is_alphanumeric() || "_.-+!:[]/ ".contains(c))
                && !name.contains("  ")
        };
        let mut keys = 0;
        let is_one = pieces.separator == '='
            && pieces.list.iter().all(|piece| match &piece.kind {
                Kind::Value { name, whole, .. } => {
                    keys += 1;
                    is_key(name) && !piece.text[whole.clone()].ends_with(['{', ';'])
                }
                Kind::Bare => false,
                Kind::Plain | Kind::Head => true,
            });
        is_one && keys > 1
    }

    /// Whether it has lists, or is told beside others that have.
    fn has_lists(&self) -> bool {
        let mut ids = self.settings.iter().map(|setting| &setting.key.id);
        !self.is_plain || ids.any(|id| id.contains(TOLD) || id.matches(SEPARATOR).count() > 1)
    }

    /// Whether both have the same lines that say something, however these were read; blanks, case and order apart.
    fn has_the_lines_of(&self, other: &Self) -> bool {
        let state = RandomState::default();
        let hashed = |line: &str| {
            let mut hasher = state.build_hasher();
            said_in(line).for_each(|c| hasher.write_u32(u32::from(c)));
            hasher.finish()
        };
        let lines = |ini: &Self| {
            let pieces = ini.pieces.list.iter().filter(|piece| piece.kind != Kind::Plain);
            let lines = pieces.flat_map(|piece| piece.text.split(['\n', '\r']));
            let mut lines: Vec<u64> = lines.filter(|line| !line.trim().is_empty()).map(hashed).collect();
            lines.sort_unstable();
            lines
        };
        self.pieces.separator != other.pieces.separator || lines(self) == lines(other)
    }

    /// The keys of a name that stands several times in a section.
    fn items(&self, section: &str, name: &str) -> impl Iterator<Item = &Key> {
        let list = format!("{section}{SEPARATOR}{}{SEPARATOR}", name.to_lowercase());
        self.settings.iter().map(|setting| &setting.key).filter(move |key| key.id.starts_with(&list))
    }

    fn settings_count(&self) -> usize {
        self.pieces.list.iter().filter(|piece| piece.said.is_some()).count()
    }

    /// Lists the settings; what is a list is told by these steps, by piece.
    fn gather(&mut self, steps: &HashMap<usize, String>) {
        let mut settings = Vec::new();
        let mut piece_of = Vec::new();
        let mut counts: HashMap<String, usize> = HashMap::new();
        let mut holds = vec![false; self.told.len()];
        for (at, piece) in self.pieces.list.iter().enumerate() {
            let Some((name, meaning)) = &piece.said else { continue };
            holds[piece.section] = true;
            let (section, label) = &self.told[piece.section];
            let (mut own, raw) = match &piece.kind {
                Kind::Value { name, value, .. } => {
                    (key(section, label, name), piece.text[value.clone()].to_owned())
                }
                _ => (
                    Key { id: format!("{section}{SEPARATOR}{name}"), ..key(section, label, meaning) },
                    String::new(),
                ),
            };
            if let Some(step) = steps.get(&at) {
                if piece.kind != Kind::Bare {
                    let number = counts.entry(own.id.clone()).or_default();
                    *number += 1;
                    own.shown = format!("{}[{number}]", own.shown);
                }
                own.id = format!("{}{SEPARATOR}{step}", own.id);
            }
            settings.push(Setting { key: own, raw, meaning: meaning.clone(), is_holder: false });
            piece_of.push(Some(at));
        }
        for ((section, label), _) in self.told.iter().zip(&holds).skip(1).filter(|(_, holds)| !**holds) {
            let key = Key { id: format!("{section}{SEPARATOR}"), shown: format!("[{label}]") };
            settings.push(Setting { key, raw: String::new(), meaning: String::new(), is_holder: true });
            piece_of.push(None);
        }
        self.settings = Settings::new(settings);
        self.piece_of = piece_of;
    }

    /// The section of a key as a person writes it, told and written, and the name in it.
    fn section_and_name(&self, written: &str) -> (String, String, String) {
        // Names of sections may hold dots.
        let known = self.told.iter().filter(|(_, label)| {
            let head = written.get(..label.len());
            !label.is_empty()
                && head.is_some_and(|head| head.eq_ignore_ascii_case(label))
                && written[label.len()..].starts_with('.')
        });
        match known.max_by_key(|(_, label)| label.len()) {
            Some((section, label)) => (section.clone(), label.clone(), written[label.len() + 1..].to_owned()),
            // In files without sections dots are parts of names.
            None if self.told.len() == 1 && self.settings_count() > 0 && self.has_dots() => {
                (String::new(), String::new(), written.to_owned())
            }
            None => {
                let (section, name) = written.rsplit_once('.').unwrap_or(("", written));
                (section.to_lowercase(), section.to_owned(), name.to_owned())
            }
        }
    }

    fn has_dots(&self) -> bool {
        self.settings.iter().any(|setting| setting.key.shown.contains('.'))
    }
}
