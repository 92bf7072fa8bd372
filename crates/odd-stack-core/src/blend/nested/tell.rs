//! Telling the elements of arrays that lie at one place in several files.

use std::collections::{HashMap, HashSet};

use super::super::align::{Element, Step, align, is_telling};
use super::notation::Notation;
use super::pointer::escaped;
use super::value::{Kind, Node, is_bare, mean};
use crate::hash::ContentHash;

/// Tells the elements of all arrays that lie at one place in several documents.
pub(super) fn agree_on<N: Notation>(nodes: &[Option<&Node>], steps: &mut [HashMap<usize, Vec<String>>]) {
    let mut there = nodes.iter().flatten();
    let is_array = |node: &Node| matches!(node.kind, Kind::Array(_));
    let is_empty = |node: &Node| N::is_empty_either() && is_bare(node);
    if there.clone().all(|node| is_array(node) || is_empty(node)) && there.clone().any(|node| is_array(node))
    {
        let lists: Option<Vec<Option<Vec<Element<'_>>>>> =
            nodes.iter().map(|node| elements_of(*node)).collect();
        let Some(told) = lists.and_then(|lists| align(&lists)) else { return };
        let mut by_step: HashMap<&Step, Vec<Option<&Node>>> = HashMap::new();
        let mut in_order = Vec::new();
        for (at, list) in told.iter().enumerate() {
            for (step, element) in list.iter().zip(nodes[at].and_then(Node::elements).unwrap_or_default()) {
                let known = by_step.entry(step).or_insert_with(|| {
                    in_order.push(step);
                    vec![None; nodes.len()]
                });
                known[at] = Some(element);
            }
        }
        for step in in_order.into_iter().filter(|step| !matches!(step, Step::New { .. })) {
            agree_on::<N>(&by_step[step], steps);
        }
        for ((own, list), node) in steps.iter_mut().zip(&told).zip(nodes) {
            if let Some(node) = node {
                own.insert(node.start, list.iter().map(step_name).collect());
            }
        }
        return;
    }
    let mut seen = HashSet::new();
    let names = there.by_ref().filter_map(|node| match &node.kind {
        Kind::Object(properties) => Some(properties.iter().map(|property| property.name.as_str())),
        _ => None,
    });
    let by_name: Vec<HashMap<&str, &Node>> = nodes.iter().map(|node| properties_of(*node)).collect();
    for name in names.flatten().filter(|name| seen.insert(*name)).collect::<Vec<_>>() {
        let below: Vec<Option<&Node>> = by_name.iter().map(|own| own.get(name).copied()).collect();
        agree_on::<N>(&below, steps);
    }
}

fn properties_of(node: Option<&Node>) -> HashMap<&str, &Node> {
    match node.map(|node| &node.kind) {
        Some(Kind::Object(properties)) => {
            properties.iter().map(|property| (property.name.as_str(), &property.value)).collect()
        }
        _ => HashMap::new(),
    }
}

/// The elements of an array as far as they can be told; nothing if it is one value.
fn elements_of(node: Option<&Node>) -> Option<Option<Vec<Element<'_>>>> {
    let Some(node) = node else { return Some(None) };
    let elements = match &node.kind {
        Kind::Array(elements) => elements.as_slice(),
        Kind::Object(properties) if properties.is_empty() => &[],
        _ => return None,
    };
    let is_of = |is: fn(&Node) -> bool| elements.iter().all(is);
    if !is_of(|node| matches!(node.kind, Kind::Object(_)))
        && !is_of(|node| matches!(node.kind, Kind::Text(_)))
    {
        return None;
    }
    Some(Some(elements.iter().map(element).collect()))
}

fn element(node: &Node) -> Element<'_> {
    let mut called = Vec::new();
    if let Kind::Object(properties) = &node.kind {
        for property in properties.iter().filter(|property| is_telling(&property.name)) {
            match &property.value.kind {
                Kind::Text(text) if !text.contains(['\'', '\n']) => {
                    called.push((property.name.clone(), text.clone()));
                }
                Kind::Other(number) if number.starts_with(|c: char| c.is_ascii_digit()) => {
                    called.push((property.name.clone(), number.clone()));
                }
                _ => {}
            }
        }
    }
    Element::new(called, || said(node))
}

/// What a node says, and each of its properties.
fn said(node: &Node) -> (String, Vec<(String, String)>) {
    let mean = |node: &Node| {
        let mut said = String::new();
        mean(node, &mut said);
        said
    };
    let parts = match &node.kind {
        Kind::Object(properties) => {
            properties.iter().map(|property| (property.name.clone(), mean(&property.value))).collect()
        }
        _ => Vec::new(),
    };
    (mean(node), parts)
}

/// How a step is written in a pointer.
fn step_name(step: &Step) -> String {
    match step {
        Step::Called { by, value } => format!("[{}='{}']", escaped(by), escaped(value)),
        Step::At(at) => at.to_string(),
        Step::New { meaning, before } => {
            let hash = ContentHash::of(meaning.as_bytes()).to_string();
            format!("+{}{before}", &hash[..16])
        }
    }
}
