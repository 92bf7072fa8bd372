//! Finding the layer that breaks the game: some of the layers are laid, a person or a program says whether it works, and what
//! is left is tried again. What was answered is kept in the ledger, so that it can go on another day.

use std::collections::{BTreeSet, HashMap};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::change::{ChangeError, ChangeOptions, ChangeRequest, Prepared, prepare};
use crate::jobs::Permit;
use crate::jobs::history::past::history_of;
use crate::ledger::{Ledger, LedgerError, Ongoing, OngoingKind, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::stack::{Arrangement, Hunt, LayerFacts, LayerId, Standing, hunt, most_tries, plain_name};
use crate::version_range::cut_name_and_range;

/// Why it can't be searched. Nothing was changed.
#[derive(Debug, thiserror::Error)]
pub enum CulpritError {
    /// The change can't be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// No search was begun.
    #[error("no search for the layer that breaks the game is under way")]
    NoneUnderWay,
    /// There is nothing to search among.
    #[error("no layer is laid, so none can break the game")]
    NothingLaid,
}

impl From<LedgerError> for CulpritError {
    fn from(error: LedgerError) -> Self {
        Self::Change(error.into())
    }
}

/// What somebody says, or wants.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CulpritStep {
    /// Begin: with all layers that are laid now it is broken.
    Begin,
    /// With the layers that are laid now it works.
    Works,
    /// With the layers that are laid now it is broken.
    Broken,
    /// Give up: all layers as they were.
    Cancel,
}

/// How the search stands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct CulpritReport {
    /// Which try this is, from 1; 0 when nothing is to be tried any more.
    pub tries: u64,
    /// How many tries it takes at most when one layer alone breaks it.
    pub most_tries: u64,
    /// Layers laid for this try, from the bottom to the top.
    pub laid: Vec<String>,
    /// Layers that are off the game for this try.
    pub lifted: Vec<String>,
    /// What was found: each a layer, or layers that need each other. Together they break it; without any one of them it works.
    pub found: Vec<Vec<String>>,
    /// It is broken without any of the layers.
    pub none_of_them: bool,
    /// The search is over, and all layers are as they were.
    pub is_over: bool,
}

/// One step of the search, about to be done.
#[derive(Debug)]
pub struct Searching<'l> {
    /// How it stands then.
    pub report: CulpritReport,
    /// The change.
    pub change: Prepared<'l>,
}

/// What is kept between two steps.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct Search {
    /// The stack to come back to, from the bottom to the top.
    arrangement: Vec<(LayerId, bool)>,
    /// What is tried together: layers that need each other.
    units: Vec<Vec<LayerId>>,
    /// Of each try whether it was broken.
    answers: Vec<bool>,
    /// The revision to come back to.
    revision: i64,
}

impl Search {
    fn of(ledger: &Ledger, ongoing: &Ongoing) -> Result<Self, LedgerError> {
        serde_json::from_str(&ongoing.about).map_err(|error| ledger.catalogue.damaged_by(&error))
    }

    /// One among all layers that are laid.
    fn begun(ledger: &Ledger) -> Result<Self, CulpritError> {
        let arrangement = ledger.catalogue.arrangement()?;
        let laid = arrangement.laid();
        if laid.is_empty() {
            return Err(CulpritError::NothingLaid);
        }
        let facts = ledger.catalogue.facts()?;
        Ok(Self {
            arrangement: arrangement.standings().iter().map(|it| (it.layer, it.laid)).collect(),
            units: units(&laid, &facts),
            answers: Vec::new(),
            revision: history_of(&ledger.catalogue.revisions()?).position(),
        })
    }

    /// The stack with just these of what is searched.
    fn with(&self, units: &BTreeSet<usize>) -> Arrangement {
        let laid: Vec<LayerId> = units.iter().flat_map(|unit| &self.units[*unit]).copied().collect();
        let standing =
            |(layer, was): &(LayerId, bool)| Standing { layer: *layer, laid: *was && laid.contains(layer) };
        Arrangement::new(self.arrangement.iter().map(standing).collect())
    }

    fn whole(&self) -> Arrangement {
        let standings = self.arrangement.iter().map(|(layer, laid)| Standing { layer: *layer, laid: *laid });
        Arrangement::new(standings.collect())
    }
}

/// Layers that need each other, however far around, each group in their order; the groups by their lowest layer.
fn units(laid: &[LayerId], facts: &[LayerFacts]) -> Vec<Vec<LayerId>> {
    let mut group_of: HashMap<LayerId, usize> =
        laid.iter().enumerate().map(|(at, layer)| (*layer, at)).collect();
    for layer in facts.iter().filter(|layer| laid.contains(&layer.id)) {
        for need in &layer.needs.layers {
            let name = plain_name(cut_name_and_range(need).0);
            for other in
                facts.iter().filter(|other| laid.contains(&other.id) && plain_name(&other.name) == name)
            {
                let (one, two) = (group_of[&layer.id], group_of[&other.id]);
                let (low, high) = (one.min(two), one.max(two));
                group_of.values_mut().filter(|group| **group == high).for_each(|group| *group = low);
            }
        }
    }
    let of_group =
        |group: usize| laid.iter().copied().filter(|layer| group_of[layer] == group).collect::<Vec<_>>();
    (0..laid.len()).map(of_group).filter(|unit| !unit.is_empty()).collect()
}

/// How the search that is under way stands; none when none is.
///
/// # Errors
/// [`LedgerError`].
pub fn culprit_status(ledger: &Ledger) -> Result<Option<CulpritReport>, LedgerError> {
    let ongoing = ledger.catalogue.ongoing()?.filter(|ongoing| ongoing.kind == OngoingKind::Culprit);
    let Some(ongoing) = ongoing else { return Ok(None) };
    let search = Search::of(ledger, &ongoing)?;
    let next = hunt(search.units.len(), &search.answers);
    report(ledger, &search, &next).map(Some)
}

fn report(ledger: &Ledger, search: &Search, next: &Hunt) -> Result<CulpritReport, LedgerError> {
    let name = |layer: &LayerId| ledger.catalogue.layer_name(*layer);
    let names = |layers: &[LayerId]| layers.iter().map(name).collect::<Result<Vec<String>, LedgerError>>();
    let laid = match next {
        Hunt::Try(units) => search.with(units).laid(),
        Hunt::Found(_) | Hunt::NoneOfThem => search.whole().laid(),
    };
    let lifted: Vec<LayerId> =
        search.whole().laid().into_iter().filter(|layer| !laid.contains(layer)).collect();
    let found = match next {
        Hunt::Found(units) => {
            units.iter().map(|unit| names(&search.units[*unit])).collect::<Result<_, _>>()?
        }
        Hunt::Try(_) | Hunt::NoneOfThem => Vec::new(),
    };
    let is_over = !matches!(next, Hunt::Try(_));
    Ok(CulpritReport {
        tries: if is_over { 0 } else { search.answers.len() as u64 + 1 },
        most_tries: u64::from(most_tries(search.units.len())),
        laid: names(&laid)?,
        lifted: names(&lifted)?,
        found,
        none_of_them: *next == Hunt::NoneOfThem,
        is_over,
    })
}

/// Prepares one step of the search: the layers of the next try are laid alone, or, when it is over, all as they were.
///
/// # Errors
/// [`CulpritError`]; nothing was changed.
pub fn prepare_culprit<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    step: CulpritStep,
    now: Moment,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<Searching<'l>, CulpritError> {
    let ongoing = ledger.catalogue.ongoing()?.filter(|ongoing| ongoing.kind == OngoingKind::Culprit);
    let mut search = match (&ongoing, step) {
        (Some(ongoing), _) => Search::of(ledger, ongoing)?,
        (None, CulpritStep::Begin) => Search::begun(ledger)?,
        (None, _) => return Err(CulpritError::NoneUnderWay),
    };
    match step {
        CulpritStep::Works => search.answers.push(false),
        CulpritStep::Broken => search.answers.push(true),
        CulpritStep::Begin | CulpritStep::Cancel => {}
    }
    let next = hunt(search.units.len(), &search.answers);
    let mut report = report(ledger, &search, &next)?;
    let after = match &next {
        Hunt::Try(units) if step != CulpritStep::Cancel => search.with(units),
        _ => search.whole(),
    };
    let is_over = step == CulpritStep::Cancel || report.is_over;
    let command = match is_over {
        true => "culprit: all as it was".to_owned(),
        false => format!("culprit: try {}", report.tries),
    };
    let mut request = ChangeRequest::new(&command, now, after);
    request.noted.ongoing = Some(match is_over {
        true => None,
        false => {
            let about =
                serde_json::to_string(&search).map_err(|error| ledger.catalogue.damaged_by(&error))?;
            let begun_at = ongoing.map_or_else(|| now.to_string(), |ongoing| ongoing.begun_at);
            Some(Ongoing { kind: OngoingKind::Culprit, begun_at, about })
        }
    });
    // In the end it is as it was: the tries are nothing that could be taken back.
    request.noted.restores = Some(search.revision);
    if step == CulpritStep::Cancel {
        (report.tries, report.laid, report.lifted) = (0, Vec::new(), Vec::new());
        report.is_over = true;
    }
    let change = prepare(Transaction::begin(ledger)?, permit.lock, request, options, observer)?;
    Ok(Searching { report, change })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stack::Needs;

    #[test]
    fn layers_that_need_each_other_are_tried_together() {
        let layer = |id, name: &str, needs: &[&str]| LayerFacts {
            id: LayerId(id),
            name: name.to_owned(),
            version: None,
            needs: Needs {
                layers: needs.iter().map(|need| (*need).to_owned()).collect(),
                ..Needs::default()
            },
        };
        let facts = [
            layer(1, "Core", &[]),
            layer(2, "lamps", &[]),
            layer(3, "extras", &["core >=1"]),
            layer(4, "fog", &["not there"]),
            layer(5, "more", &["Extras"]),
        ];
        let laid: Vec<LayerId> = [1, 2, 3, 4, 5].map(LayerId).into();
        let ids = |units: Vec<Vec<LayerId>>| -> Vec<Vec<i64>> {
            units.into_iter().map(|unit| unit.into_iter().map(|layer| layer.0).collect()).collect()
        };
        assert_eq!(ids(units(&laid, &facts)), [vec![1, 3, 5], vec![2], vec![4]]);
        // A lifted one holds nothing together.
        assert_eq!(ids(units(&laid[1..], &facts)), [vec![2], vec![3, 5], vec![4]]);
    }
}
