//! Telling sections of one name, and keys of one name in a section, apart.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::super::align::{Element, Step, align, is_telling};
use super::read::{BARE, Kind, Pieces};
use super::{Ini, TOLD};
use crate::hash::ContentHash;

fn hashed(meaning: &str) -> String {
    ContentHash::of(meaning.as_bytes()).to_string()[..16].to_owned()
}

/// Whether no section and no key stands several times, and no line is without a value.
pub(super) fn is_plain(pieces: &Pieces) -> bool {
    let mut sections = foldhash::HashSet::default();
    let mut names = foldhash::HashSet::default();
    pieces.sections.iter().all(|name| sections.insert(name.to_lowercase()))
        && pieces.list.iter().all(|piece| match &piece.said {
            Some((name, _)) => piece.kind != Kind::Bare && names.insert((piece.section, name.as_str())),
            None => true,
        })
}

/// Tells sections of one name apart.
pub(super) fn tell_sections(documents: &mut [Option<&mut Ini>]) -> Result<(), String> {
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
    let said: Vec<Vec<SectionSaid>> =
        documents.iter().map(|document| said_in_sections(document.as_deref())).collect();
    for name in several {
        let listed = |(at, places): (usize, &BTreeMap<String, Vec<usize>>)| {
            documents[at].as_ref()?;
            let places = places.get(name).map(Vec::as_slice).unwrap_or_default();
            Some(places.iter().map(|place| said[at][*place].element()).collect())
        };
        let lists: Vec<Option<Vec<Element<'_>>>> = places.iter().enumerate().map(listed).collect();
        let told = align(&lists).ok_or_else(|| format!("its sections `{name}` can't be told apart"))?;
        for ((document, places), steps) in documents.iter_mut().zip(&places).zip(told) {
            let (Some(document), Some(places)) = (document, places.get(name)) else { continue };
            for ((number, place), step) in places.iter().enumerate().zip(steps) {
                let (step, label) = match step {
                    Step::Called { by, value } => {
                        (format!("{name}{TOLD}{by}={}", value.to_lowercase()), format!("[{by}='{value}']"))
                    }
                    Step::At(0) => (name.clone(), String::new()),
                    Step::At(at) => (format!("{name}{TOLD}{at}"), format!("[{}]", at + 1)),
                    Step::New { meaning, before } => {
                        (format!("{name}{TOLD}+{}{before}", hashed(&meaning)), format!("[{}]", number + 1))
                    }
                };
                document.told[*place] = (step, format!("{}{label}", document.pieces.sections[*place]));
            }
        }
    }
    Ok(())
}

/// What a section says.
#[derive(Clone, Default)]
struct SectionSaid {
    meaning: String,
    parts: Vec<(String, String)>,
    called: Vec<(String, String)>,
}

impl SectionSaid {
    fn element(&self) -> Element<'_> {
        Element::new(self.called.clone(), || (self.meaning.clone(), self.parts.clone()))
    }
}

/// What each section of a file says.
fn said_in_sections(document: Option<&Ini>) -> Vec<SectionSaid> {
    let Some(document) = document else { return Vec::new() };
    let mut sections = vec![SectionSaid::default(); document.pieces.sections.len()];
    for piece in &document.pieces.list {
        if let (Some((name, meaning)), Some(section)) = (&piece.said, sections.get_mut(piece.section)) {
            section.meaning.push_str(&format!("{name}\u{1f}{meaning}\u{1e}"));
            let is_value = matches!(piece.kind, Kind::Value { .. });
            if is_value && is_telling(name) && !meaning.contains(['\'', '\n']) {
                section.called.push((name.clone(), meaning.clone()));
            }
            section.parts.push((name.clone(), meaning.clone()));
        }
    }
    sections
}

/// The pieces of each key of each section, with what they say.
type Lists = BTreeMap<(String, String), Vec<(usize, String)>>;

/// Lists the settings, those of one name in a section told apart.
pub(super) fn tell_keys(documents: &mut [Option<&mut Ini>]) -> Result<(), String> {
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
        let told = if documents.len() > 1 && documents[0].is_none() {
            // Each value stands for itself.
            lists.iter().map(|lists| each_new(lists.get(name).map_or(&[], Vec::as_slice))).collect()
        } else {
            let all: Vec<Option<Vec<Element<'_>>>> = documents
                .iter()
                .zip(&lists)
                .map(|(document, lists)| document.as_ref().map(|_| elements(lists, name)))
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

fn elements<'l>(lists: &'l Lists, name: &(String, String)) -> Vec<Element<'l>> {
    let list = lists.get(name).map(Vec::as_slice).unwrap_or_default();
    list.iter().map(|(_, meaning)| Element::bare(meaning)).collect()
}

fn each_new(values: &[(usize, String)]) -> Vec<Step> {
    let mut counts: HashMap<&str, usize> = HashMap::new();
    let mut steps = Vec::with_capacity(values.len());
    for (_, meaning) in values {
        let count = counts.entry(meaning).or_default();
        *count += 1;
        steps.push(Step::New { meaning: meaning.clone(), before: *count - 1 });
    }
    steps
}
