//! Where the files of a package lie in the game, where nothing else says where they go.

use std::collections::HashSet;

use super::adopt_elsewhere::{SoughtFile as Lookout, elsewhere};
use super::adopt_looking::look_in_game;
use super::arrival::Arrival;
use super::contents::Contents;
use super::placing::Placer;
use super::placing_request::PlacingRequest;
use crate::address::{Address, INTO};
use crate::fit::{Candidate, Fit, FitError, Place, Rank, Rules};
use crate::jobs::AddError;
use crate::ledger::Ledger;
use crate::observer::Observer;
use crate::package::Package;
use crate::stack::Order;

/// Places the package; where that is not clear, where its files lie says where they go.
pub(super) fn place_as_it_lies(
    ledger: &Ledger,
    wanted: &PlacingRequest,
    arrival: &Arrival,
    contents: &Contents<'_>,
    observer: &dyn Observer,
) -> Result<Fit, AddError> {
    let order = ledger.catalogue.arrangement()?.order();
    let placer = Placer::new(ledger, order.clone(), arrival, contents, observer);
    let answered = |over: Rules| PlacingRequest {
        rules: wanted.rules.clone().with_over(Rules { tidy: true, ..over }),
        sheet: wanted.sheet.clone(),
    };
    match placer.place(wanted, None) {
        Err(error @ AddError::Fit { source: FitError::Unclear(_) | FitError::OnlyPacked { .. }, .. }) => {
            let places = places_by_content(ledger, &order, &arrival.package, contents, observer)?;
            let mut best = (places.len(), answered(Rules { places, ..Rules::default() }));
            if let AddError::Fit { source: FitError::Unclear(unclear), .. } = &error {
                for candidate in unclear.candidates.iter().filter(|it| leads_into_containers(it)) {
                    let (places, skip) = (candidate.places.clone(), candidate.skip.clone());
                    let answer = answered(Rules { places, skip, ..Rules::default() });
                    let Ok(mut placed) = placer.place(&answer, None) else { continue };
                    let found = look_in_game(ledger, &arrival.package, contents, &mut placed, observer)?;
                    if found.alike.len() > best.0 {
                        best = (found.alike.len(), answer);
                    }
                }
            }
            match best {
                (0, _) => Err(error),
                (_, answer) => placer.place(&answer, None),
            }
        }
        placed => placed,
    }
}

/// Whether an answer puts files into containers.
fn leads_into_containers(candidate: &Candidate) -> bool {
    candidate.places.iter().any(|place| place.to.contains(INTO))
}

/// A place for each file of the package that lies in the game, where nothing else says where they go.
fn places_by_content(
    ledger: &Ledger,
    order: &Order,
    package: &Package,
    contents: &Contents<'_>,
    observer: &dyn Observer,
) -> Result<Vec<Place>, AddError> {
    let own = || package.members().iter().filter(|member| member.inner.is_none());
    contents.read(package, &own().map(|member| member.content).collect(), observer)?;
    let wanted: Vec<Lookout<'_>> = own()
        .filter_map(|member| {
            let hash = contents.hash_of(member.content)?;
            Some(Lookout { member: &member.path, at: None, size_bytes: member.size_bytes, hash })
        })
        .collect();
    let places = elsewhere(ledger, order, &wanted, &HashSet::new(), observer)?;
    let place = |(file, to): (&Lookout<'_>, Option<Address>)| {
        Some(Place { from: file.member.to_string(), to: to?.to_string(), rank: Rank::Option })
    };
    Ok(wanted.iter().zip(places).filter_map(place).collect())
}
