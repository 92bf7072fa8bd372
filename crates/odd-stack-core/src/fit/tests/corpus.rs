//! Detection held to a table: made-up layouts of packages times made-up games of different build.
//!
//! Each layout is written with names of the game at hand, and says where its files belong. A package that is
//! placed must be placed so; one that is asked about must not be one that is plain, and the right answer must
//! be among the candidates where there is one.

use std::collections::BTreeMap;

use super::game::fit_onto;
use super::kinds::{Kind, kinds};
use super::layouts::{Layout, Right};
use crate::fit::{Fit, FitError, Rules, Unclear};

enum Ended {
    Right,
    Asked,
    Wrong(String),
}

fn placed_of(fit: &Fit, files: &[&str]) -> BTreeMap<String, String> {
    let placed = fit.placements.iter();
    placed
        .map(|placement| (files[placement.member].to_owned(), placement.to.to_string().to_lowercase()))
        .collect()
}

fn run(kind: &Kind, layout: &Layout) -> Ended {
    let files: Vec<&str> = layout.files.iter().map(|(path, _)| path.as_str()).collect();
    let copies: Vec<&str> = layout.copies.iter().map(String::as_str).collect();
    let full = |to: &str| {
        if to.starts_with("docs:") { to.to_lowercase() } else { format!("game:{to}").to_lowercase() }
    };
    let wanted: BTreeMap<String, String> = layout
        .files
        .iter()
        .filter(|(_, to)| !to.is_empty())
        .map(|(path, to)| (path.clone(), full(to)))
        .collect();
    let chosen = layout.choose.and_then(|choice| choice.split_once('=')).into_iter();
    let chosen = chosen.map(|(id, option)| (id.to_owned(), option.to_owned())).collect();
    let rules = Rules { chosen, ..Rules::default() };
    match fit_onto(&kind.game, &files, &rules, &copies) {
        Ok(fit) => {
            let placed = placed_of(&fit, &files);
            if placed == wanted {
                Ended::Right
            } else {
                Ended::Wrong(format!("placed {placed:?}, by {:?}", fit.findings))
            }
        }
        Err(FitError::Unclear(Unclear { question, candidates, .. })) => {
            let is_right = candidates.iter().any(|candidate| {
                let rules = Rules { places: candidate.places.clone(), tidy: true, ..Rules::default() };
                let fit = fit_onto(&kind.game, &files, &rules, &copies);
                fit.is_ok_and(|fit| placed_of(&fit, &files) == wanted)
            });
            if is_right || layout.right == Right::Ask {
                Ended::Asked
            } else {
                Ended::Wrong(format!("asked ({question}) without the right answer: {candidates:?}"))
            }
        }
        Err(error) => Ended::Wrong(format!("failed: {error}")),
    }
}

#[test]
fn no_layout_is_placed_wrongly_and_plain_ones_are_placed() {
    let mut faults = Vec::new();
    let (mut placed, mut all) = (0, 0);
    let mut layouts = 0;
    for kind in kinds() {
        let table = kind.layouts();
        layouts = layouts.max(table.len());
        for layout in table {
            all += 1;
            let says = format!("{} / {}", kind.name, layout.says);
            match (run(&kind, &layout), layout.right) {
                (Ended::Right, Right::Ask) => faults.push(format!("{says}: was not asked about")),
                (Ended::Right, _) => placed += 1,
                (Ended::Asked, Right::Place) => faults.push(format!("{says}: was asked about")),
                (Ended::Asked, _) => {}
                (Ended::Wrong(what), _) => faults.push(format!("{says}: {what}")),
            }
        }
    }
    assert!(faults.is_empty(), "{} of {all} are not right:\n{}", faults.len(), faults.join("\n"));
    assert!(layouts >= 40 && all >= 240, "{layouts} layouts, {all} in all");
    assert!(placed * 4 >= all * 3, "only {placed} of {all} are placed without a question");
}
