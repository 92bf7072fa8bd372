//! From the options that say where files go to what the core wants to know.

use std::collections::BTreeMap;

use odd_stack_core::fit::{Candidate, Effect, FitError, Place, Rank, Rules, Wishes};
use odd_stack_core::game::Game;
use odd_stack_core::jobs::{PlacingRequest, read_sheet};
use odd_stack_core::package::{Limits, NameEncoding};

use crate::args::PlaceArgs;
use crate::errors::{Exit, Failure};
use crate::shell::in_quotes;

impl PlaceArgs {
    /// What is said of where the files go; places have that `rank`. Of several packages `scope` is what the words begin
    /// with that are for this one, such as `lamps.zip!/`; patterns without any are for all.
    pub fn wanted(
        &self,
        game: Option<&Game>,
        rank: Rank,
        scope: Option<&str>,
    ) -> Result<PlacingRequest, Failure> {
        let of_this = |texts: &[String], all: bool| -> Vec<String> {
            let of_this = |text: &String| match scope {
                None => Some(text.clone()),
                Some(scope) => match text.strip_prefix(scope) {
                    Some(rest) => Some(rest.to_owned()),
                    None => (all && !text.contains("!/")).then(|| text.clone()),
                },
            };
            texts.iter().filter_map(of_this).collect()
        };
        let place = |text: &String| {
            let Place { from, to, .. } = Place::parse(text)?;
            let to = match game {
                Some(game) => game.as_address(&to).map_err(FitError::from)?.into_owned(),
                None => to,
            };
            Ok::<_, Failure>(Place { from: in_package(&from), to, rank })
        };
        let places = of_this(&self.place, false).iter().map(place).collect::<Result<_, _>>()?;
        if let Some(label) = self.names.as_deref().filter(|label| NameEncoding::parse(label).is_none()) {
            let message =
                format!("`{label}` is no code page known here: write shift_jis, gbk, big5, 1251 or another");
            return Err(Failure::new(Exit::Usage, "bad_encoding", message));
        }
        let mut chosen = BTreeMap::new();
        for text in &of_this(&self.choose, false) {
            let (id, option) = text.split_once('=').ok_or_else(|| {
                let message = format!("`{text}` is not ID=OPTION, such as `finish=polished` or `extras=on`");
                Failure::new(Exit::Usage, "bad_choice", message)
            })?;
            chosen.insert(id.trim().to_owned(), option.trim().to_owned());
        }
        let rules = Rules {
            places,
            only: of_this(&self.only, true).iter().map(|text| in_package(text)).collect(),
            skip: of_this(&self.skip, true).iter().map(|text| in_package(text)).collect(),
            skip_links: self.skip_links,
            names: self.names.clone(),
            chosen,
            tidy: self.tidy,
            said: Wishes {
                takes_away: self.take_away.clone(),
                keep_signature: self.keep_signature,
                as_members: self.as_members,
                ..Wishes::default()
            },
            ..Rules::default()
        };
        Ok(PlacingRequest { rules, sheet: self.fit.as_deref().map(read_sheet).transpose()? })
    }

    /// How big the package may be.
    pub fn limits(&self) -> Result<Limits, Failure> {
        let mut limits = Limits::default();
        for text in &self.limit {
            limits.set(text).map_err(|message| Failure::new(Exit::Usage, "bad_limit", message))?;
        }
        Ok(limits)
    }
}

/// Packages have their own separator, whatever a person is used to.
fn in_package(text: &str) -> String {
    if cfg!(windows) { text.replace('\\', "/") } else { text.to_owned() }
}

/// What speaks for an answer, and what it would do: `its own file says so; 3 new, 1 replaced, 1 left out`.
pub fn does_words(evidence: &str, effect: Option<Effect>) -> String {
    let Some(Effect { new, over, left_out }) = effect else { return evidence.to_owned() };
    let counts = [(new, "new"), (over, "replaced"), (left_out, "left out")];
    let told = counts.iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!("{count} {what}"));
    format!("{evidence}; {}", told.collect::<Vec<_>>().join(", "))
}

/// The options that say what the candidate says, their words beginning with `scope`.
pub fn options_of(candidate: &Candidate, scope: &str) -> String {
    let places = candidate.places.iter();
    let places =
        places.map(|place| format!("--place {}", in_quotes(&format!("{scope}{}={}", place.from, place.to))));
    let skips =
        candidate.skip.iter().map(|pattern| format!("--skip {}", in_quotes(&format!("{scope}{pattern}"))));
    // What is documents stays out, as it would if the place were found out.
    let tidy = (!candidate.places.is_empty()).then(|| "--tidy".to_owned());
    places.chain(skips).chain(tidy).collect::<Vec<_>>().join(" ")
}
