//! Which element of several files is which.

use std::collections::{HashMap, HashSet};

use super::super::align::{Element as Listed, Step, align};
use super::read::Element;
use super::{Agreed, Told};
use crate::hash::ContentHash;

/// Tells the children of elements that are one in several documents.
pub(super) fn agree_on(texts: &[&str], elements: &[Option<&Element>], agreed: &mut [Agreed]) {
    if elements.iter().flatten().all(|element| element.children.is_empty()) {
        return;
    }
    if let ([text], [Some(only)]) = (texts, elements)
        && is_told_by_names_alone(text, only)
    {
        only.children.iter().for_each(|child| agree_on(texts, &[Some(child)], agreed));
        return;
    }
    match told_row(texts, elements) {
        None => {
            for (element, agreed) in elements.iter().zip(agreed) {
                let Some(element) = element.filter(|element| !element.children.is_empty()) else { continue };
                agreed.as_one.insert(element.tag.start);
                number(element, &mut agreed.told);
            }
        }
        Some(told) => {
            let mut by_step: HashMap<&str, Vec<Option<&Element>>> = HashMap::new();
            let mut in_order = Vec::new();
            for (at, row) in told.iter().enumerate() {
                let children = elements[at].map(|element| element.children.as_slice()).unwrap_or_default();
                for (told, child) in row.iter().zip(children) {
                    let known = by_step.entry(&told.step).or_insert_with(|| {
                        in_order.push(told.step.as_str());
                        vec![None; elements.len()]
                    });
                    known[at] = Some(child);
                }
            }
            for step in in_order {
                if !step.contains("[+") {
                    agree_on(texts, &by_step[step], agreed);
                }
            }
            for ((row, element), agreed) in told.into_iter().zip(elements).zip(agreed) {
                let children = element.map(|element| element.children.as_slice()).unwrap_or_default();
                // Most are told by their name alone.
                let told = children.iter().zip(row).filter(|(child, told)| told.step != child.name);
                agreed.told.extend(told.map(|(child, told)| (child.tag.start, told)));
            }
        }
    }
}

/// Whether no two children of an element have one name, and none has a name of its own.
pub(super) fn is_told_by_names_alone(text: &str, element: &Element) -> bool {
    let mut seen = HashSet::new();
    !element.is_mixed
        && element.children.iter().all(|child| seen.insert(&child.name) && !child.has_name(text))
}

/// Tells all elements in one by their places, for that one is one value.
pub(super) fn number(element: &Element, told_as: &mut HashMap<usize, Told>) {
    let mut counts: HashMap<&str, usize> = HashMap::new();
    for child in &element.children {
        let count = counts.entry(&child.name).or_default();
        if *count > 0 {
            told_as.insert(child.tag.start, told(&child.name, Step::At(*count)));
        }
        *count += 1;
        number(child, told_as);
    }
}

/// How the children are told, of each document in its order; nothing if they are one value.
pub(super) fn told_row<'x>(texts: &[&'x str], elements: &[Option<&'x Element>]) -> Option<Vec<Vec<Told>>> {
    if elements.iter().flatten().any(|element| element.is_mixed) {
        return None;
    }
    let mut rows: Vec<Vec<Option<Told>>> = elements
        .iter()
        .map(|element| vec![None; element.map_or(0, |element| element.children.len())])
        .collect();
    let mut seen = HashSet::new();
    let names =
        elements.iter().flatten().flat_map(|element| &element.children).map(|child| child.name.as_str());
    let mut by_name: Vec<HashMap<&str, Vec<usize>>> = Vec::new();
    for element in elements {
        let mut places: HashMap<&str, Vec<usize>> = HashMap::new();
        for (at, child) in element.iter().flat_map(|element| element.children.iter().enumerate()) {
            places.entry(&child.name).or_default().push(at);
        }
        by_name.push(places);
    }
    for name in names.filter(|name| seen.insert(*name)) {
        let places: Vec<&[usize]> =
            by_name.iter().map(|places| places.get(name).map(Vec::as_slice).unwrap_or_default()).collect();
        let steps = match places.iter().all(|places| places.len() < 2) {
            // The only one of its name is that one.
            true if !is_told_by_name(texts, elements, &places) => {
                places.iter().map(|places| places.iter().map(|_| Step::At(0)).collect()).collect()
            }
            _ => {
                let listed = |(at, element): (usize, &Option<&'x Element>)| {
                    let element = (*element)?;
                    Some(places[at].iter().map(|child| element.children[*child].listed(texts[at])).collect())
                };
                align(&elements.iter().enumerate().map(listed).collect::<Vec<Option<Vec<Listed<'_>>>>>())?
            }
        };
        for ((row, places), steps) in rows.iter_mut().zip(&places).zip(steps) {
            for (place, step) in places.iter().zip(steps) {
                row[*place] = Some(told(name, step));
            }
        }
    }
    let rows: Vec<Vec<Told>> =
        rows.into_iter().map(|row| row.into_iter().collect()).collect::<Option<_>>()?;
    keeps_order(&rows).then_some(rows)
}

/// Whether elements that stand alone have names, such as `<Set name='x'/>`.
pub(super) fn is_told_by_name(texts: &[&str], elements: &[Option<&Element>], places: &[&[usize]]) -> bool {
    let only = elements.iter().enumerate().filter_map(|(at, element)| {
        let child = places[at].first()?;
        Some((*element)?.children[*child].has_name(texts[at]))
    });
    only.clone().next().is_some() && only.into_iter().all(|is_named| is_named)
}

/// Whether what the rows have in common stands in one order in all.
pub(super) fn keeps_order(rows: &[Vec<Told>]) -> bool {
    let Some(first) = rows.iter().find(|row| !row.is_empty()) else { return true };
    let places: HashMap<&str, usize> =
        first.iter().enumerate().map(|(at, told)| (told.step.as_str(), at)).collect();
    rows.iter().all(|row| {
        row.iter().filter_map(|told| places.get(told.step.as_str()).copied()).collect::<Vec<_>>().is_sorted()
    })
}

pub(super) fn told(name: &str, step: Step) -> Told {
    match step {
        Step::Called { by, value } => {
            Told { step: format!("{name}[{by}='{value}']"), by: by.strip_prefix('@').map(str::to_owned) }
        }
        Step::At(0) => Told { step: name.to_owned(), by: None },
        Step::At(at) => Told { step: format!("{name}[{}]", at + 1), by: None },
        Step::New { meaning, before } => {
            let hash = ContentHash::of(meaning.as_bytes()).to_string();
            Told { step: format!("{name}[+{}{before}]", &hash[..16]), by: None }
        }
    }
}
