//! From the options that say where files go to what the core wants to know.

use std::collections::BTreeMap;

use odd_stack_core::fit::{Candidate, Place, Rank, Rules};
use odd_stack_core::jobs::{Wanted, read_sheet};
use odd_stack_core::package::{Limits, NameEncoding};

use crate::args::PlaceArgs;
use crate::errors::{Exit, Failure};

impl PlaceArgs {
    /// What is said of where the files go; places have that `rank`.
    pub fn wanted(&self, rank: Rank) -> Result<Wanted, Failure> {
        let place = |text: &String| Ok::<_, Failure>(Place { rank, ..Place::parse(text)? });
        let places = self.place.iter().map(place).collect::<Result<_, _>>()?;
        if let Some(label) = self.names.as_deref().filter(|label| NameEncoding::parse(label).is_none()) {
            let message =
                format!("`{label}` is no code page known here: write shift_jis, gbk, big5, 1251 or another");
            return Err(Failure::new(Exit::Usage, "bad_encoding", message));
        }
        let mut chosen = BTreeMap::new();
        for text in &self.choose {
            let (id, option) = text.split_once('=').ok_or_else(|| {
                let message = format!("`{text}` is not ID=OPTION, such as `finish=polished` or `extras=on`");
                Failure::new(Exit::Usage, "bad_choice", message)
            })?;
            chosen.insert(id.trim().to_owned(), option.trim().to_owned());
        }
        let rules = Rules {
            places,
            only: self.only.clone(),
            skip: self.skip.clone(),
            skip_links: self.skip_links,
            names: self.names.clone(),
            chosen,
            tidy: self.tidy,
            ..Rules::default()
        };
        Ok(Wanted { rules, sheet: self.fit.as_deref().map(read_sheet).transpose()? })
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

/// The options that say what the candidate says.
pub fn options_of(candidate: &Candidate) -> String {
    let places = candidate.places.iter().map(|place| format!("--place \"{}={}\"", place.from, place.to));
    let skips = candidate.skip.iter().map(|pattern| format!("--skip \"{pattern}\""));
    // What is only to be read stays out, as it would if the place were found out.
    let tidy = (!candidate.places.is_empty()).then(|| "--tidy".to_owned());
    places.chain(skips).chain(tidy).collect::<Vec<_>>().join(" ")
}
