//! A package as it arrives: opened as far as the rules lead into it, with what it tells of itself.

use std::path::Path;

use super::contents::Contents;
use super::placing_request::{PlacingRequest, sheet_text};
use crate::fit::{FitSheet, MOST_SHEET_BYTES, Rank, Rules, is_sheet, wrapper_of};
use crate::jobs::AddError;
use crate::observer::Observer;
use crate::package::{Inner, Limits, NameEncoding, OpenOptions, Package, is_named_like_an_archive};
use crate::version::FileNameParts;

/// What a package tells of itself.
#[derive(Debug)]
pub(in crate::jobs) struct Told {
    /// Name, version and variant: what its fit sheet says, else what its file name tells.
    pub parts: FileNameParts,
    /// Its fit sheet.
    pub sheet: Option<FitSheet>,
    /// The sheet's text.
    pub text: Option<String>,
}

/// An opened package.
#[derive(Debug)]
pub(in crate::jobs) struct Arrival {
    pub package: Package,
    pub told: Told,
    /// Archives inside that were looked into.
    inner: Inner,
}

/// How far a package is opened.
#[derive(Debug, Clone, Copy)]
pub(in crate::jobs) struct Opening<'a> {
    /// What is said of where its files go.
    pub wanted: &'a PlacingRequest,
    /// The rules of the layer whose place it takes.
    pub remembered: Option<&'a Rules>,
    pub limits: &'a Limits,
    /// Every archive inside is looked into.
    pub unasked: bool,
    /// Paths that lead into archives that are looked into as well.
    pub inside: &'a [String],
}

impl Arrival {
    /// Opens the package at `path`, with `contents` taking what can only be listed by unpacking it.
    ///
    /// # Errors
    /// [`AddError`].
    pub(in crate::jobs) fn open(
        path: &Path,
        opening: &Opening<'_>,
        contents: Option<&Contents<'_>>,
        observer: &dyn Observer,
    ) -> Result<Self, AddError> {
        let Opening { wanted, remembered, limits, unasked, inside } = *opening;
        let of_sheet = wanted.sheet.as_ref().map(|sheet| sheet.rules(Rank::Sheet)).unwrap_or_default();
        let mut named = leading_inside(&[&wanted.rules, &of_sheet]);
        named.extend(inside.iter().cloned());
        let mut inner = Inner {
            unasked,
            named,
            once_named: remembered.map(|rules| leading_inside(&[rules])).unwrap_or_default(),
        };
        loop {
            let names = wanted.rules.names.as_deref().and_then(NameEncoding::parse);
            let open = OpenOptions { limits: *limits, inner: inner.clone(), names };
            let package = match contents {
                Some(contents) => contents.open(path, &open, observer)?,
                None => Package::open(path, &open, observer)?,
            };
            let told = told_of(&package, contents, observer)?;
            let own = told.sheet.as_ref().map(|sheet| sheet.rules(Rank::Package)).unwrap_or_default();
            let own = leading_inside(&[&own]);
            let is_opened = package.members().iter().any(|member| member.inner.is_some());
            if own.iter().any(|from| !inner.named.contains(from)) {
                inner.named.extend(own);
            } else if !inner.once_named.is_empty() && !is_opened && !inner.unasked {
                // The archive inside has quite another name now.
                inner.unasked = true;
            } else {
                return Ok(Self { package, told, inner });
            }
        }
    }

    /// Whether there are archives inside that were not looked into.
    pub(in crate::jobs) fn holds_unread_archives(&self) -> bool {
        let mut own = self.package.members().iter().filter(|member| member.inner.is_none());
        !self.inner.unasked && own.any(|member| is_named_like_an_archive(member.path.name()))
    }

    /// Whether it is open as far as `opening` wants it.
    pub(in crate::jobs) fn is_open_for(&self, opening: &Opening<'_>) -> bool {
        let of_sheet =
            opening.wanted.sheet.as_ref().map(|sheet| sheet.rules(Rank::Sheet)).unwrap_or_default();
        let named = leading_inside(&[&opening.wanted.rules, &of_sheet]);
        let once = opening.remembered.map(|rules| leading_inside(&[rules])).unwrap_or_default();
        let is_inside = opening.inside.iter().all(|from| self.inner.named.contains(from));
        is_inside && self.inner.unasked
            || is_inside
                && !opening.unasked
                && self.inner.once_named == once
                && named.iter().all(|from| self.inner.named.contains(from))
    }
}

/// The beginnings of all places that lead into an archive inside.
fn leading_inside(rules: &[&Rules]) -> Vec<String> {
    let all = rules.iter().flat_map(|rules| {
        let options = rules.choices.iter().flat_map(|choice| &choice.options);
        let of_options = options.flat_map(|option| &option.places);
        let of_parts = rules.parts.iter().flat_map(|part| &part.places);
        rules.places.iter().chain(of_options).chain(of_parts).map(|place| place.from.as_str())
    });
    Inner::leading_inside(all)
}

/// Reads what the package tells of itself.
fn told_of(
    package: &Package,
    contents: Option<&Contents<'_>>,
    observer: &dyn Observer,
) -> Result<Told, AddError> {
    let mut parts = package.file_name_parts();
    let wrapper = wrapper_of(package.members(), package.folders());
    let sheet = package.members().iter().find(|member| is_sheet(&member.path, wrapper));
    let Some(member) = sheet else { return Ok(Told { parts, sheet: None, text: None }) };
    let read = match contents {
        Some(contents) => contents.read_small(package, &[member], MOST_SHEET_BYTES, observer)?,
        None => package.read_small(&[member], MOST_SHEET_BYTES, observer)?,
    };
    let misfit = |source| AddError::Fit {
        package: format!("{} in {}", member.path, package.path().display()),
        source,
    };
    let text = sheet_text(read.into_iter().next().unwrap_or_default()).map_err(misfit)?;
    let mut sheet = FitSheet::parse(&text).map_err(misfit)?;
    if !member.path.parent().is_root() {
        sheet.leave_out_wrapper();
    }
    if let Some(name) = &sheet.name {
        parts.name.clone_from(name);
    }
    parts.version = sheet.version.clone().or(parts.version);
    parts.variant = sheet.variant.clone().or(parts.variant);
    Ok(Told { parts, sheet: Some(sheet), text: Some(text) })
}
