//! Telling sections of one name, and keys of one name in a section, apart.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use super::super::align::{Element, Step, align};
use super::read::{BARE, Kind, Pieces};
use super::{Ini, TOLD};
use crate::hash::ContentHash;

fn hashed(meaning: &str) -> String {
    ContentHash::of(meaning.as_bytes()).to_string()[..16].to_owned()
}

/// Whether no section and no key stands several times, and no line is without a value.
pub(super) fn is_plain(pieces: &Pieces) -> bool {
    let mut sections = HashSet::new();
    let mut names = HashSet::new();
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
pub(super) fn tell_keys(documents: &mut [Option<&mut Ini>]) -> Result<(), String> {
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
