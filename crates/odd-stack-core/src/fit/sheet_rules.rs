//! What a fit sheet may say.

use super::input::Package;
use super::sheet::{FitSheet, SheetPlace};
use super::sheet_text::{SheetText, Step};
use super::wrapper::wrapper_of;
use super::{FitError, Proof, Start};
use crate::address::{Address, AddressError, PrefixName, RelPath, cut_pattern};
use crate::members::{Folder, Member};

/// Checks what lies `above` says of programs and of how you can tell that it works.
pub(super) fn check_wishes<'s>(
    starts: &[Start],
    proofs: &[Proof],
    above: Vec<Step<'s>>,
    source: &SheetText<'_>,
) -> Result<(), FitError> {
    let wrong = |mut above: Vec<Step<'s>>, below: Vec<Step<'s>>, reason: String| {
        above.extend(below);
        Err(source.mistake_at(&above, reason))
    };
    for (index, start) in starts.iter().enumerate() {
        if let Err(reason) = check_address(&start.program) {
            return wrong(above, vec![Step::Key("start"), Step::At(index), Step::Key("program")], reason);
        }
    }
    for (index, proof) in proofs.iter().enumerate() {
        let address = proof.address().map_or(Ok(()), check_address);
        if let Err(reason) = proof.check().and(address) {
            return wrong(above, vec![Step::Key("proof"), Step::At(index)], reason);
        }
    }
    Ok(())
}

pub(super) fn check_places(
    places: &[SheetPlace],
    above: Vec<Step<'_>>,
    source: &SheetText<'_>,
) -> Result<(), FitError> {
    for (index, place) in places.iter().enumerate() {
        let found = match (check_from(&place.from), check_address(&place.to)) {
            (Err(reason), _) => Some(("from", reason)),
            (_, Err(reason)) => Some(("to", reason)),
            _ => None,
        };
        if let Some((key, reason)) = found {
            let mut steps = above;
            steps.extend([Step::Key("place"), Step::At(index), Step::Key(key)]);
            return Err(source.mistake_at(&steps, reason));
        }
    }
    Ok(())
}

pub(super) fn check_from(from: &str) -> Result<(), String> {
    let text = from.replace('\\', "/");
    let text = text.trim_start_matches("./").trim_end_matches('/');
    if text.is_empty() || text == "." {
        return if from.is_empty() {
            Err("it is empty; `.` is the whole package".to_owned())
        } else {
            Ok(())
        };
    }
    let named = text.split('/').map(|part| if part == "*" { "any" } else { part });
    let named = named.collect::<Vec<_>>().join("/");
    let named = named.strip_suffix("/.").unwrap_or(&named);
    RelPath::parse(named).map(drop).map_err(|problem| format!("`{from}` can't be in a package: {problem}"))
}

/// Whether a text can be an address of some game.
pub(super) fn check_address(text: &str) -> Result<(), String> {
    let (prefix, rest) = match text.split_once(':') {
        Some((prefix, rest)) if prefix.len() >= 2 && !prefix.contains(['/', '\\']) => (Some(prefix), rest),
        _ => (None, text),
    };
    let told = |error: AddressError| error.to_string();
    prefix.map(PrefixName::parse).transpose().map_err(told)?;
    let rest = rest.strip_suffix(['/', '\\']).unwrap_or(rest);
    if rest.is_empty() || rest == "." {
        return if prefix.is_some() {
            Ok(())
        } else {
            Err("it is empty; `game:` is the game's own folder".to_owned())
        };
    }
    RelPath::parse(rest)
        .map(drop)
        .map_err(|problem| told(AddressError::Name { text: text.to_owned(), problem }))
}

/// Checks that all that a sheet places is in the package.
///
/// # Errors
/// [`FitError::BadSheet`], with line and column.
pub fn check_members(
    text: &str,
    sheet: &FitSheet,
    members: &[Member],
    folders: &[Folder],
) -> Result<(), FitError> {
    let package = Package { members, folders, wrapper: wrapper_of(members, folders) };
    for (mut steps, place) in all_places(sheet) {
        // What lies in an archive inside is seen only when that is looked into.
        if !place.from.contains("!/") && package.find(&place.from).is_none() {
            steps.push(Step::Key("from"));
            let reason = package.missing(&place.from).to_string();
            return Err(SheetText { text }.mistake_at(&steps, reason));
        }
    }
    Ok(())
}

/// Checks a sheet's addresses against a game.
///
/// # Errors
/// [`FitError::BadSheet`], with line and column.
pub fn check_addresses(
    text: &str,
    sheet: &FitSheet,
    resolve: &dyn Fn(&str) -> Result<Address, AddressError>,
) -> Result<(), FitError> {
    use Step::{At, Key};
    let source = SheetText { text };
    let check = |steps: Vec<Step<'_>>, address: &str| match resolve(address) {
        Ok(_) => Ok(()),
        Err(error) => Err(source.mistake_at(&steps, error.to_string())),
    };
    for (mut steps, place) in all_places(sheet) {
        steps.push(Key("to"));
        check(steps, &place.to)?;
    }
    for (index, address) in sheet.takes_away.iter().enumerate() {
        check(vec![Key("takes_away"), At(index)], cut_pattern(address).0)?;
    }
    for (index, set) in sheet.set.iter().enumerate() {
        check(vec![Key("set"), At(index), Key("file")], &set.file)?;
    }
    for (index, start) in sheet.start.iter().enumerate() {
        check(vec![Key("start"), At(index), Key("program")], &start.program)?;
    }
    for (index, proof) in sheet.proof.iter().enumerate() {
        if let Some(address) = proof.address() {
            check(vec![Key("proof"), At(index)], address)?;
        }
    }
    Ok(())
}

/// All places of the sheet, those of options and parts included, with the way to each.
pub(super) fn all_places(sheet: &FitSheet) -> Vec<(Vec<Step<'static>>, &SheetPlace)> {
    use Step::{At, Key};
    let mut all: Vec<(Vec<Step<'static>>, &SheetPlace)> = Vec::new();
    for (index, place) in sheet.place.iter().enumerate() {
        all.push((vec![Key("place"), At(index)], place));
    }
    for (index, choice) in sheet.choice.iter().enumerate() {
        for (number, option) in choice.option.iter().enumerate() {
            for (at, place) in option.place.iter().enumerate() {
                let steps = vec![Key("choice"), At(index), Key("option"), At(number), Key("place"), At(at)];
                all.push((steps, place));
            }
        }
    }
    for (index, part) in sheet.part.iter().enumerate() {
        for (at, place) in part.place.iter().enumerate() {
            all.push((vec![Key("part"), At(index), Key("place"), At(at)], place));
        }
    }
    all
}
