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

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use self::read::{BARE, Kind, Piece, Pieces, is_comment};
use super::align::{Element, Step, align};
use super::keyed::{Change, Key, Keyed, Setting, Settings, line_end, with_ends};
use crate::hash::ContentHash;

/// Between the parts of a key's id.
const SEPARATOR: char = '\u{1f}';

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
        if !self.is_plain || !other.is_plain {
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
        let items = |name: &str| -> Vec<&Key> {
            let list = format!("{section}{SEPARATOR}{}{SEPARATOR}", name.to_lowercase());
            self.settings.iter().map(|setting| &setting.key).filter(|key| key.id.starts_with(&list)).collect()
        };
        if let Some((list, place)) = name.strip_suffix(']').and_then(|rest| rest.rsplit_once('['))
            && let Ok(place) = place.parse::<usize>()
            && !items(list).is_empty()
        {
            return match items(list).get(place.wrapping_sub(1)) {
                Some(key) => Ok((*key).clone()),
                None if place > 0 => {
                    let id = format!("{section}{SEPARATOR}{}{SEPARATOR}+{place}", list.to_lowercase());
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
        let mut edit = Edit::default();
        for (key, change) in changes {
            let place = self.settings.position(&key.id);
            match (place.map(|place| self.piece_of[place]), self.written(key, change)?) {
                (_, Written::AsItIs) => {}
                (Some(Some(piece)), Written::Gone) => drop(edit.values.insert(piece, None)),
                (_, Written::Gone) => drop(edit.dropped.insert(section_id(&key.id).to_owned())),
                (_, Written::Section { name, lead }) => {
                    edit.kept.insert(section_id(&key.id).to_owned());
                    edit.section(key, name, lead);
                }
                (Some(Some(piece)), Written::Is { part, value, .. }) => {
                    drop(edit.values.insert(piece, Some((part, value))));
                }
                (_, Written::Is { line, section, lead, behind, .. }) => {
                    // What stands behind something new comes where that comes.
                    let slot = match behind {
                        Behind::Nothing => self.first_slot(section_id(&key.id)),
                        Behind::Last => None,
                        Behind::Key(behind) => match self.settings.position(&behind) {
                            Some(place) => self.piece_of[place].map(|piece| piece + 1),
                            None => edit.slots.get(&behind).copied().flatten(),
                        },
                    };
                    edit.slots.insert(key.id.clone(), slot);
                    edit.section(key, section, lead).push((slot, line));
                }
            }
        }
        Ok(self.write(&edit))
    }
}

/// Which part of a key's line is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Part {
    /// The value without a comment behind it.
    Value,
    /// All behind the separator.
    Whole,
    /// All of the line.
    Line,
}

/// What becomes of one key.
enum Written {
    Gone,
    AsItIs,
    /// Its section is there, whatever it holds.
    Section {
        name: String,
        lead: String,
    },
    /// It has a value; as a line of its own, where it has none yet, in the section of that spelling.
    Is {
        part: Part,
        value: String,
        line: String,
        section: String,
        lead: String,
        behind: Behind,
    },
}

/// What a new line comes behind.
enum Behind {
    /// It is the first of its section.
    Nothing,
    /// The key of that id.
    Key(String),
    /// All of its section.
    Last,
}

/// Lines that come into a section, each before the piece of that number, or behind all.
struct NewLines {
    id: String,
    section: String,
    /// The comments above the section, where it is new.
    lead: String,
    lines: Vec<(Option<usize>, String)>,
}

/// All changes of a file.
#[derive(Default)]
struct Edit {
    /// By piece; nothing for one that goes.
    values: HashMap<usize, Option<(Part, String)>>,
    /// What comes into each section, in the order in which sections come first.
    new: Vec<NewLines>,
    /// The piece before which each new key comes, by its id; nothing where it comes behind all of its section.
    slots: HashMap<String, Option<usize>>,
    /// Sections that stay although all goes that they hold.
    kept: HashSet<String>,
    /// Empty sections that go.
    dropped: HashSet<String>,
}

impl Edit {
    fn section(&mut self, key: &Key, section: String, lead: String) -> &mut Vec<(Option<usize>, String)> {
        let id = section_id(&key.id);
        let at = self.new.iter().position(|new| new.id == id).unwrap_or_else(|| {
            self.new.push(NewLines { id: id.to_owned(), section, lead, lines: Vec::new() });
            self.new.len() - 1
        });
        &mut self.new[at].lines
    }
}

fn key(section: &str, label: &str, name: &str) -> Key {
    let id = format!("{section}{SEPARATOR}{}", name.to_lowercase());
    let shown = if label.is_empty() { name.to_owned() } else { format!("{label}.{name}") };
    Key { id, shown }
}

fn section_id(id: &str) -> &str {
    id.split(SEPARATOR).next().unwrap_or_default()
}

fn hashed(meaning: &str) -> String {
    ContentHash::of(meaning.as_bytes()).to_string()[..16].to_owned()
}

fn is_plain(pieces: &Pieces) -> bool {
    let mut sections = HashSet::new();
    let mut names = HashSet::new();
    pieces.sections.iter().all(|name| sections.insert(name.to_lowercase()))
        && pieces.list.iter().all(|piece| match &piece.said {
            Some((name, _)) => piece.kind != Kind::Bare && names.insert((piece.section, name.as_str())),
            None => true,
        })
}

/// Tells sections of one name apart.
fn tell_sections(documents: &mut [Option<&mut Ini>]) -> Result<(), String> {
    let named = |document: &Option<&mut Ini>| {
        let mut named: BTreeMap<String, Vec<usize>> = BTreeMap::new();
        for (at, name) in document.iter().flat_map(|document| document.pieces.sections.iter().enumerate()) {
            named.entry(name.to_lowercase()).or_default().push(at);
        }
        named
    };
    let places: Vec<BTreeMap<String, Vec<usize>>> = documents.iter().map(named).collect();
    for document in documents.iter_mut().flatten() {
        document.told =
            document.pieces.sections.iter().map(|name| (name.to_lowercase(), name.clone())).collect();
    }
    let several: BTreeSet<&String> =
        places.iter().flatten().filter(|(_, places)| places.len() > 1).map(|(name, _)| name).collect();
    if several.is_empty() {
        return Ok(());
    }
    let elements: Vec<Vec<Element>> =
        documents.iter().map(|document| section_elements(document.as_deref())).collect();
    for name in several {
        let listed = |(at, places): (usize, &BTreeMap<String, Vec<usize>>)| {
            documents[at].as_ref()?;
            let places = places.get(name).map(Vec::as_slice).unwrap_or_default();
            Some(places.iter().map(|place| elements[at][*place].clone()).collect())
        };
        let lists: Vec<Option<Vec<Element>>> = places.iter().enumerate().map(listed).collect();
        let told = align(&lists).ok_or_else(|| format!("its sections `{name}` can't be told apart"))?;
        for ((document, places), steps) in documents.iter_mut().zip(&places).zip(told) {
            let (Some(document), Some(places)) = (document, places.get(name)) else { continue };
            for ((number, place), step) in places.iter().enumerate().zip(steps) {
                let (step, label) = match step {
                    Step::Called { by, value } => {
                        (format!("{name}\u{2}{by}={}", value.to_lowercase()), format!("[{by}='{value}']"))
                    }
                    Step::At(0) => (name.clone(), String::new()),
                    Step::At(at) => (format!("{name}\u{2}{at}"), format!("[{}]", at + 1)),
                    Step::New { meaning, before } => {
                        (format!("{name}\u{2}+{}{before}", hashed(&meaning)), format!("[{}]", number + 1))
                    }
                };
                document.told[*place] = (step, format!("{}{label}", document.pieces.sections[*place]));
            }
        }
    }
    Ok(())
}

/// What each section of a file says.
fn section_elements(document: Option<&Ini>) -> Vec<Element> {
    let Some(document) = document else { return Vec::new() };
    let mut elements = vec![Element::default(); document.pieces.sections.len()];
    for piece in &document.pieces.list {
        if let (Some((name, meaning)), Some(element)) = (&piece.said, elements.get_mut(piece.section)) {
            element.meaning.push_str(&format!("{name}\u{1f}{meaning}\u{1e}"));
            if matches!(piece.kind, Kind::Value { .. }) && !meaning.contains(['\'', '\n']) {
                element.called.push((name.clone(), meaning.clone()));
            }
            element.parts.push((name.clone(), meaning.clone()));
        }
    }
    elements
}

/// Lists the settings, those of one name in a section told apart.
fn tell_keys(documents: &mut [Option<&mut Ini>]) -> Result<(), String> {
    type Lists = BTreeMap<(String, String), Vec<(usize, String)>>;
    let gathered = |document: &Option<&mut Ini>| {
        let mut lists = Lists::new();
        let pieces = document
            .iter()
            .flat_map(|document| document.pieces.list.iter().enumerate().map(move |piece| (document, piece)));
        for (document, (at, piece)) in pieces {
            if let Some((name, meaning)) = &piece.said {
                let key = (document.told[piece.section].0.clone(), name.clone());
                lists.entry(key).or_default().push((at, meaning.clone()));
            }
        }
        lists
    };
    let lists: Vec<Lists> = documents.iter().map(gathered).collect();
    let is_list = |key: &&(String, String)| {
        key.1 == BARE || lists.iter().any(|lists| lists.get(*key).is_some_and(|places| places.len() > 1))
    };
    let names: BTreeSet<&(String, String)> = lists.iter().flat_map(BTreeMap::keys).filter(is_list).collect();
    let mut steps: Vec<HashMap<usize, String>> = vec![HashMap::new(); documents.len()];
    for name in names {
        let element =
            |(_, meaning): &(usize, String)| Element { meaning: meaning.clone(), ..Element::default() };
        let elements = |lists: &Lists| {
            lists.get(name).map(|list| list.iter().map(element).collect()).unwrap_or_default()
        };
        let told = if documents.len() > 1 && documents[0].is_none() {
            // Each value stands for itself.
            lists.iter().map(|lists| each_new(elements(lists))).collect()
        } else {
            let all: Vec<Option<Vec<Element>>> = documents
                .iter()
                .zip(&lists)
                .map(|(document, lists)| document.as_ref().map(|_| elements(lists)))
                .collect();
            align(&all).ok_or_else(|| match name.1.as_str() {
                BARE => "lines without a value were put in another order".to_owned(),
                name => format!("the values of `{name}` were put in another order"),
            })?
        };
        for ((lists, told), steps) in lists.iter().zip(told).zip(&mut steps) {
            for ((piece, _), step) in lists.get(name).into_iter().flatten().zip(told) {
                let step = match step {
                    Step::At(at) => format!("{at:08}"),
                    Step::New { meaning, before } => format!("+{}{before}", hashed(&meaning)),
                    Step::Called { value, .. } => value,
                };
                steps.insert(*piece, step);
            }
        }
    }
    for (document, steps) in documents.iter_mut().zip(steps) {
        if let Some(document) = document {
            document.gather(&steps);
        }
    }
    Ok(())
}

fn each_new(elements: Vec<Element>) -> Vec<Step> {
    let mut counts: HashMap<String, usize> = HashMap::new();
    let step = |element: Element| {
        let count = counts.entry(element.meaning.clone()).or_default();
        *count += 1;
        Step::New { meaning: element.meaning, before: *count - 1 }
    };
    elements.into_iter().map(step).collect()
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

    /// Whether both have the same lines that say something, however these were read; blanks, case and order apart.
    fn has_the_lines_of(&self, other: &Self) -> bool {
        let lines = |ini: &Self| {
            let pieces = ini.pieces.list.iter().filter(|piece| piece.kind != Kind::Plain);
            let lines = pieces.flat_map(|piece| piece.text.split(['\n', '\r']));
            let bare = lines.map(|line| {
                line.split_whitespace().flat_map(str::chars).flat_map(char::to_lowercase).collect()
            });
            let mut lines: Vec<String> = bare.filter(|line: &String| !line.is_empty()).collect();
            lines.sort_unstable();
            lines
        };
        self.pieces.separator != other.pieces.separator || lines(self) == lines(other)
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

    /// What a change makes of a key.
    fn written(&self, key: &Key, change: &Change<'_, Self>) -> Result<Written, String> {
        let place = self.settings.position(&key.id);
        let is_section = key.id.ends_with(SEPARATOR);
        match change {
            Change::Remove => Ok(Written::Gone),
            Change::Typed(_) if is_section => {
                let name = key.shown.trim_matches(['[', ']']).to_owned();
                Ok(Written::Section { name, lead: String::new() })
            }
            Change::Typed(text) if text.contains(['\n', '\r']) => {
                Err(format!("a value of `{}` must be one line", key.shown))
            }
            Change::Typed(_) if key.id.split(SEPARATOR).nth(1) == Some(BARE) => {
                Err(format!("`{}` is a line without a value; it can only be taken out", key.shown))
            }
            Change::Typed(text) => {
                let old = place.map_or("", |place| self.settings.at(place).raw.as_str());
                let was_quoted = old.len() > 1 && old.starts_with('"') && old.ends_with('"');
                let must_quote = was_quoted && !text.starts_with('"');
                let value = if must_quote { format!("\"{text}\"") } else { (*text).to_owned() };
                let (section, name) = self.parts(key);
                self.refuse_unreadable(&name, &value)?;
                let line = format!("{name}{}{value}", self.between());
                let section = section.to_owned();
                Ok(Written::Is {
                    part: Part::Value,
                    value,
                    line,
                    section,
                    lead: String::new(),
                    behind: Behind::Last,
                })
            }
            Change::From(other) => {
                let Some(found) = other.settings.position(&key.id) else { return Ok(Written::AsItIs) };
                let Some(at) = other.piece_of[found] else {
                    let told = other.told.iter().position(|(section, _)| *section == section_id(&key.id));
                    let name = told.map(|told| other.pieces.sections[told].clone()).unwrap_or_default();
                    let lead = told.map(|told| other.lead_of_section(told)).unwrap_or_default();
                    return Ok(Written::Section { name, lead });
                };
                let piece = &other.pieces.list[at];
                let section = other.pieces.sections[piece.section].clone();
                let before = found.checked_sub(1).map(|before| &other.settings.at(before).key.id);
                let behind = match before.filter(|id| section_id(id) == section_id(&key.id)) {
                    Some(before) => Behind::Key(before.clone()),
                    None => Behind::Nothing,
                };
                let is_new = !self.told.iter().any(|(own, _)| own == section_id(&key.id));
                let lead = if is_new { other.lead_of_section(piece.section) } else { String::new() };
                let own_line = with_ends(piece.text.trim_end_matches(['\r', '\n']), self.end);
                let (part, value, line) = match &piece.kind {
                    Kind::Value { name, whole, .. } => {
                        let value = with_ends(&piece.text[whole.clone()], self.end);
                        if other.pieces.separator == self.pieces.separator {
                            (Part::Whole, value, own_line)
                        } else {
                            self.refuse_unreadable(name, &value)?;
                            let line = format!("{name}{}{value}", self.between());
                            (Part::Whole, value, line)
                        }
                    }
                    _ => (Part::Line, own_line.trim().to_owned(), own_line),
                };
                let line = other.comments_above(at, self.end) + &line;
                Ok(Written::Is { part, value, line, section, lead, behind })
            }
        }
    }

    /// The section and the name of a key that a person writes, as they are spelled.
    fn parts<'k>(&self, key: &'k Key) -> (&'k str, String) {
        let (section, label, name) = self.section_and_name(&key.shown);
        let spelled = self.told.iter().position(|(own, _)| *own == section);
        let name = match key.id.split(SEPARATOR).nth(2).and(name.rsplit_once('[')) {
            Some((list, _)) => list.to_owned(),
            None => name,
        };
        match spelled {
            Some(_) => ("", name),
            None => (key.shown.get(..label.len()).unwrap_or_default(), name),
        }
    }

    /// Comments on lines directly above a piece, which belong to it.
    fn comments_above(&self, at: usize, end: &str) -> String {
        let above = self.pieces.list[..at]
            .iter()
            .rev()
            .take_while(|piece| piece.kind == Kind::Plain && is_comment(&piece.text));
        // What stands at the very beginning is of the file.
        let mut lines: Vec<&str> = above.map(|piece| piece.text.as_str()).collect();
        if lines.len() == at {
            lines.clear();
        }
        lines.reverse();
        lines
            .into_iter()
            .map(|line| with_ends(&format!("{}\n", line.trim_end_matches(['\r', '\n'])), end))
            .collect()
    }

    /// Comments and a blank line above a section.
    fn lead_of_section(&self, section: usize) -> String {
        let is_head = |piece: &Piece| piece.section == section && piece.kind == Kind::Head;
        self.pieces
            .list
            .iter()
            .position(is_head)
            .map(|at| self.comments_above(at, self.end))
            .unwrap_or_default()
    }

    /// The piece before which the first key of a section comes; nothing if nothing of it is there.
    fn first_slot(&self, section: &str) -> Option<usize> {
        let section = self.told.iter().position(|(own, _)| own == section)?;
        let first = self
            .pieces
            .list
            .iter()
            .position(|piece| piece.section == section && piece.kind != Kind::Plain)?;
        Some(first + usize::from(self.pieces.list[first].kind == Kind::Head))
    }

    /// Refuses what would be read as another key, or would have the whole file read otherwise.
    fn refuse_unreadable(&self, name: &str, value: &str) -> Result<(), String> {
        let separator = self.pieces.separator;
        let is_hidden = match separator {
            ' ' => name.contains('=') || value.starts_with('=') || value.is_empty(),
            ':' => name.contains(':') || name.contains('=') || value.contains('='),
            other => name.contains(other),
        };
        match is_hidden {
            false => Ok(()),
            true => Err(format!(
                "`{name}` with the value `{value}` can't be set in a file that has `{separator}` between keys and values"
            )),
        }
    }

    /// What stands between a key and its value here.
    fn between(&self) -> String {
        let separator = self.pieces.separator;
        let first = self.pieces.list.iter().find_map(|piece| match &piece.kind {
            Kind::Value { whole, .. } if !whole.is_empty() => {
                let cut = piece.text[..whole.start].rfind(separator)?;
                Some((piece.text[..cut].ends_with(' '), whole.start > cut + 1))
            }
            _ => None,
        });
        match first.filter(|_| separator != ' ') {
            Some((before, after)) => {
                let space = |there| if there { " " } else { "" };
                format!("{}{separator}{}", space(before), space(after))
            }
            None => separator.to_string(),
        }
    }

    fn write(&self, edit: &Edit) -> String {
        let push = |text: &mut String, line: &str| {
            if !text.is_empty() && !text.ends_with('\n') {
                text.push_str(self.end);
            }
            text.push_str(line);
            text.push_str(self.end);
        };
        let pieces = &self.pieces.list;
        let place_of = |id: &str| self.told.iter().position(|(own, _)| own == id);
        // New lines come where they stood, else behind the last key of their section.
        let mut slots: HashMap<usize, Vec<&str>> = HashMap::new();
        for new in &edit.new {
            let Some(section) = place_of(&new.id) else { continue };
            let is_last = |piece: &Piece| piece.section == section && piece.kind != Kind::Plain;
            let last = pieces.iter().rposition(is_last).map_or(0, |last| last + 1);
            for (slot, line) in &new.lines {
                slots.entry(slot.unwrap_or(last)).or_default().push(line);
            }
        }
        // A section of which all went goes, unless something comes.
        let mut stays = vec![false; self.told.len()];
        let mut was_empty = vec![true; self.told.len()];
        for (at, piece) in pieces.iter().enumerate().filter(|(_, piece)| piece.said.is_some()) {
            was_empty[piece.section] = false;
            stays[piece.section] |= !matches!(edit.values.get(&at), Some(None));
        }
        for (section, (id, _)) in self.told.iter().enumerate() {
            let has_new = edit.new.iter().any(|new| new.id == *id && !new.lines.is_empty());
            stays[section] |=
                has_new || edit.kept.contains(id) || (was_empty[section] && !edit.dropped.contains(id));
        }
        let mut text = String::new();
        let put_new = |text: &mut String, slot: usize| {
            slots.get(&slot).into_iter().flatten().for_each(|line| push(text, line));
        };
        for (at, piece) in pieces.iter().enumerate() {
            put_new(&mut text, at);
            match (edit.values.get(&at), &piece.kind) {
                (Some(None), _) => {}
                (Some(Some((part, new))), kind) => {
                    let range = match (part, kind) {
                        (Part::Value, Kind::Value { value, .. }) => value.clone(),
                        (Part::Whole, Kind::Value { whole, .. }) => whole.clone(),
                        _ => {
                            let start = piece.text.len() - piece.text.trim_start().len();
                            start..piece.text.trim_end().len()
                        }
                    };
                    text.push_str(&piece.text[..range.start]);
                    text.push_str(new);
                    text.push_str(&piece.text[range.end..]);
                }
                (None, Kind::Head) if !stays[piece.section] => {}
                (None, _) => text.push_str(&piece.text),
            }
        }
        put_new(&mut text, pieces.len());
        for NewLines { id, section, lead, lines } in &edit.new {
            if place_of(id).is_none() {
                if !lead.is_empty() {
                    push(&mut text, with_ends(lead, self.end).trim_end_matches(['\r', '\n']));
                }
                push(&mut text, &format!("[{section}]"));
                lines.iter().for_each(|(_, line)| push(&mut text, line));
            }
        }
        text
    }
}
