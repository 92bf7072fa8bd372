//! From the options that say where files go to the core's rules.

use odd_stack_core::fit::{Place, Rules};
use odd_stack_core::package::{Limits, NameEncoding};

use crate::args::PlaceArgs;
use crate::errors::{Exit, Failure};

impl PlaceArgs {
    /// The fit's rules.
    pub fn rules(&self) -> Result<Rules, Failure> {
        let places = self.place.iter().map(|text| Place::parse(text)).collect::<Result<_, _>>()?;
        if let Some(label) = self.names.as_deref().filter(|label| NameEncoding::parse(label).is_none()) {
            let message =
                format!("`{label}` is no code page known here: write shift_jis, gbk, big5, 1251 or another");
            return Err(Failure::new(Exit::Usage, "bad_encoding", message));
        }
        Ok(Rules {
            places,
            only: self.only.clone(),
            skip: self.skip.clone(),
            skip_links: self.skip_links,
            names: self.names.clone(),
        })
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
