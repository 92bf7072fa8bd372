//! Writing a fit sheet down, and checking one.

use std::collections::BTreeMap;
use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::arrival::{Arrival, Opening};
use super::contents::Contents;
use super::placing::{Placer, read_sheet_bytes};
use super::placing_request::{PlacingRequest, sheet_text};
use super::report::findings_of;
use super::start_wishes::missing_starts;
use crate::fit::LeftOut;
use crate::fit::{Finding, FitError, FitSheet, Rules, check_addresses, check_members};
use crate::jobs::AddError;
use crate::ledger::Ledger;
use crate::observer::Observer;
use crate::package::Limits;

/// A fit sheet that says how a package would be placed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct DraftReport {
    /// The sheet.
    pub sheet: FitSheet,
    /// What decided, in words.
    pub findings: Vec<String>,
    /// For each place of the sheet, what speaks for it.
    pub evidence: Vec<Option<String>>,
}

/// Writes down how the package at `path` would be placed onto the game. Changes nothing.
///
/// # Errors
/// [`AddError`].
pub fn draft_sheet(
    ledger: &Ledger,
    path: &Path,
    wanted: &PlacingRequest,
    limits: &Limits,
    observer: &dyn Observer,
) -> Result<DraftReport, AddError> {
    let contents = Contents::new(ledger, false);
    let opening = Opening { wanted, remembered: None, limits, unasked: false, inside: &[] };
    let arrival = Arrival::open(path, &opening, Some(&contents), observer)?;
    let placer = Placer::new(ledger, ledger.present_order()?, &arrival, &contents, observer);
    let drafted = placer.draft(wanted)?;
    let evidence = drafted.rules.places.iter().enumerate().map(|(index, _)| {
        // What was found out is told in the order of its places.
        let found = drafted.findings.get(index)?;
        if let Finding::Found { evidence, .. } = found { Some(evidence.clone()) } else { None }
    });
    let evidence = evidence.collect();
    let parts = &arrival.told.parts;
    Ok(DraftReport {
        sheet: FitSheet {
            name: Some(parts.name.clone()),
            version: parts.version.clone(),
            variant: parts.variant.clone(),
            ..FitSheet::of(&drafted.rules)
        },
        findings: findings_of(&drafted.findings),
        evidence,
    })
}

/// Files left out for one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LeftOutCount {
    /// Why.
    pub reason: LeftOut,
    /// How many.
    pub files: u64,
}

/// One way to choose, tried.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct TriedRow {
    /// What was chosen, by id.
    pub chosen: BTreeMap<String, String>,
    /// Files that are placed.
    pub placed_files: u64,
    /// Files that are left out.
    pub left_out: Vec<LeftOutCount>,
    /// Programs that it wants started and that are not there, in words.
    pub missing: Vec<String>,
}

/// A fit sheet without a mistake.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct SheetCheck {
    /// The sheet's file, or the package it lies in.
    pub checked: String,
    /// Its addresses were looked up in a game.
    pub with_game: bool,
    /// How many places it has, those of options and parts included.
    pub places: u64,
    /// Its choices with their options.
    pub choices: BTreeMap<String, Vec<String>>,
    /// Its parts.
    pub parts: Vec<String>,
    /// Each option and part tried on the package; empty without a package or a game.
    pub tried: Vec<TriedRow>,
}

/// Checks the fit sheet at `path`: a sheet by itself, or a package with its sheet or the one at `given`, in which all
/// that the sheet names must be found and each option and part can be placed.
///
/// # Errors
/// [`AddError`]; of a mistake in the sheet with line and column.
pub fn check_sheet(
    ledger: Option<&Ledger>,
    path: &Path,
    given: Option<&Path>,
    limits: &Limits,
    observer: &dyn Observer,
) -> Result<SheetCheck, AddError> {
    let checked = given.unwrap_or(path);
    let misfit = |source| AddError::Fit { package: checked.display().to_string(), source };
    let is_sheet_file =
        path.is_file() && path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("toml"));
    let (sheet, text, arrival) = if is_sheet_file {
        let text = sheet_text(read_sheet_bytes(path)?).map_err(misfit)?;
        (FitSheet::parse(&text).map_err(misfit)?, Some(text), None)
    } else {
        let none = PlacingRequest::default();
        let opening = Opening { wanted: &none, remembered: None, limits, unasked: false, inside: &[] };
        let arrival = Arrival::open(path, &opening, None, observer)?;
        let (sheet, text) = match given {
            Some(given) => {
                let text = sheet_text(read_sheet_bytes(given)?).map_err(misfit)?;
                (FitSheet::parse(&text).map_err(misfit)?, Some(text))
            }
            None => {
                let sheet = arrival.told.sheet.clone().ok_or_else(|| misfit(FitError::NoSheet))?;
                (sheet, arrival.told.text.clone())
            }
        };
        if let Some(text) = &text {
            let package = &arrival.package;
            check_members(text, &sheet, package.members(), package.folders()).map_err(misfit)?;
        }
        (sheet, text, Some(arrival))
    };
    if let (Some(ledger), Some(text)) = (ledger, &text) {
        let book = ledger.game().address_book();
        check_addresses(text, &sheet, &|address| book.resolve(address)).map_err(misfit)?;
    }
    let tried = match (ledger, &arrival) {
        (Some(ledger), Some(arrival)) => {
            try_each(ledger, arrival, &sheet, given.is_some().then_some(&sheet), observer)?
        }
        _ => Vec::new(),
    };
    let of_options =
        sheet.choice.iter().flat_map(|choice| choice.option.iter().map(|option| option.place.len()));
    let places = sheet.place.len() + of_options.sum::<usize>();
    let places = places + sheet.part.iter().map(|part| part.place.len()).sum::<usize>();
    let options = sheet.choice.iter().map(|choice| {
        (choice.id.clone(), choice.option.iter().map(|option| option.name.clone()).collect::<Vec<_>>())
    });
    Ok(SheetCheck {
        checked: checked.display().to_string(),
        with_game: ledger.is_some(),
        places: places as u64,
        choices: options.collect(),
        parts: sheet.part.iter().map(|part| part.id.clone()).collect(),
        tried,
    })
}

/// Places the package by each way to choose; `given` is the sheet when it is not the package's own.
fn try_each(
    ledger: &Ledger,
    arrival: &Arrival,
    sheet: &FitSheet,
    given: Option<&FitSheet>,
    observer: &dyn Observer,
) -> Result<Vec<TriedRow>, AddError> {
    let contents = Contents::new(ledger, false);
    let placer = Placer::new(ledger, ledger.present_order()?, arrival, &contents, observer);
    let mut tried = Vec::new();
    for chosen in ways_to_choose(sheet) {
        let rules = Rules { chosen: chosen.clone(), ..Rules::default() };
        let placed = placer.place(&PlacingRequest { rules, sheet: given.cloned() }, None)?;
        let missing =
            missing_starts(ledger, &ledger.present_order()?, &placed.rules.starts(), &placed.placements)?;
        let mut counts: BTreeMap<LeftOut, u64> = BTreeMap::new();
        for (_, reason) in &placed.left_out {
            *counts.entry(*reason).or_default() += 1;
        }
        let count = |(reason, files)| LeftOutCount { reason, files };
        tried.push(TriedRow {
            chosen,
            placed_files: placed.placements.len() as u64,
            left_out: counts.into_iter().map(count).collect(),
            missing,
        });
    }
    Ok(tried)
}

/// Enough ways to choose that every option and every part is taken once.
fn ways_to_choose(sheet: &FitSheet) -> Vec<BTreeMap<String, String>> {
    let most = sheet.choice.iter().map(|choice| choice.option.len()).max().unwrap_or(1);
    let mut ways: Vec<BTreeMap<String, String>> = (0..most)
        .map(|number| {
            let option = |choice: &crate::fit::SheetChoice| {
                choice.option[number.min(choice.option.len() - 1)].name.clone()
            };
            sheet.choice.iter().map(|choice| (choice.id.clone(), option(choice))).collect()
        })
        .collect();
    for part in &sheet.part {
        let mut way = ways.first().cloned().unwrap_or_default();
        way.insert(part.id.clone(), "on".to_owned());
        ways.push(way);
    }
    ways
}
