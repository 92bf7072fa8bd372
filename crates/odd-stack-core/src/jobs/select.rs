//! Finding the layer that a person means.

use thiserror::Error;

use crate::ledger::{Layer, Registered};

pub(super) use crate::stack::plain_name as plain;

/// Why no layer could be told.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum SelectError {
    /// No layer of that name.
    #[error("there is no layer `{wanted}`{}", if layers.is_empty() { "; the stack is empty".to_owned() } else { format!(" (there are: {})", layers.join(", ")) })]
    Unknown {
        /// What was given.
        wanted: String,
        /// The names of all layers.
        layers: Vec<String>,
    },
    /// Several layers begin like that.
    #[error("`{wanted}` can mean several layers: {}", layers.join(", "))]
    Ambiguous {
        /// What was given.
        wanted: String,
        /// The names of those it can mean.
        layers: Vec<String>,
    },
}

/// What a text means among names: one of them by its index, or several.
enum Meant {
    One(usize),
    Several(Vec<usize>),
}

/// A whole name goes before a number, and that before a beginning.
fn find(names: &[&str], numbers: &[u64], wanted: &str) -> Meant {
    let looked_for = plain(wanted);
    if let Some(whole) = names.iter().position(|name| plain(name) == looked_for) {
        return Meant::One(whole);
    }
    let number = wanted.trim_start_matches('#').parse::<u64>();
    if let Some(numbered) = number.ok().and_then(|number| numbers.iter().position(|other| *other == number)) {
        return Meant::One(numbered);
    }
    let begins = |name: &str| !looked_for.is_empty() && plain(name).starts_with(&looked_for);
    let beginning: Vec<usize> = (0..names.len()).filter(|index| begins(names[*index])).collect();
    if let [only] = beginning[..] { Meant::One(only) } else { Meant::Several(beginning) }
}

/// The layer that `wanted` names: its whole name, its number in the stack, or a beginning that only
/// one name has; names are compared without regard to case and `-`, `_` and space.
///
/// # Errors
/// [`SelectError`].
pub fn select<'l>(layers: &'l [Layer], wanted: &str) -> Result<&'l Layer, SelectError> {
    let names: Vec<&str> = layers.iter().map(|layer| layer.about.name.as_str()).collect();
    let numbers: Vec<u64> = layers.iter().map(|layer| layer.position).collect();
    Ok(&layers[select_among(&names, &numbers, wanted)?])
}

/// The index of the layer that `wanted` names, among `names` with their numbers in the stack.
///
/// # Errors
/// [`SelectError`].
pub(super) fn select_among(names: &[&str], numbers: &[u64], wanted: &str) -> Result<usize, SelectError> {
    let owned = |chosen: &[usize]| chosen.iter().map(|index| names[*index].to_owned()).collect();
    match find(names, numbers, wanted) {
        Meant::One(index) => Ok(index),
        Meant::Several(none) if none.is_empty() => {
            let layers = names.iter().map(|name| (*name).to_owned()).collect();
            Err(SelectError::Unknown { wanted: wanted.to_owned(), layers })
        }
        Meant::Several(some) => {
            Err(SelectError::Ambiguous { wanted: wanted.to_owned(), layers: owned(&some) })
        }
    }
}

/// The game that `wanted` names, as with layers but without numbers.
///
/// # Errors
/// The names that it can mean: all, when none begins like that.
pub fn select_game<'g>(games: &'g [Registered], wanted: &str) -> Result<&'g Registered, Vec<String>> {
    let names: Vec<&str> = games.iter().map(|game| game.name.as_str()).collect();
    match find(&names, &[], wanted) {
        Meant::One(index) => Ok(&games[index]),
        Meant::Several(chosen) => {
            let can_mean = |index: &usize| chosen.is_empty() || chosen.contains(index);
            Err((0..names.len()).filter(can_mean).map(|index| names[index].to_owned()).collect())
        }
    }
}

/// The layers that several texts name, each once, in the order given.
///
/// # Errors
/// That of the first text that names none.
pub fn select_all<'l>(layers: &'l [Layer], wanted: &[String]) -> Result<Vec<&'l Layer>, SelectError> {
    let mut found: Vec<&Layer> = Vec::new();
    for text in wanted {
        let layer = select(layers, text)?;
        if !found.iter().any(|known| known.id == layer.id) {
            found.push(layer);
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ledger::NewLayer;
    use crate::stack::{LayerId, Tally};

    #[test]
    fn by_name_number_and_beginning() {
        let layer = |position: u64, name: &str| Layer {
            id: LayerId(position.cast_signed()),
            position,
            laid: true,
            about: NewLayer {
                name: name.to_owned(),
                version: None,
                variant: None,
                source: String::new(),
                source_kind: String::new(),
                added_at: String::new(),
                fit: String::new(),
                files: 0,
                bytes: 0,
            },
            tally: Tally::default(),
        };
        let layers =
            [layer(1, "brass-lamps"), layer(2, "Brass Bells"), layer(3, "2024 charts"), layer(4, "lamp")];
        let found = |wanted| select(&layers, wanted).map(|layer| layer.position);
        assert_eq!(found("BRASS_lamps"), Ok(1));
        assert_eq!(found("#2"), Ok(2));
        assert_eq!(found("brassb"), Ok(2));
        assert_eq!(found("2024charts"), Ok(3), "a name goes before a number");
        assert_eq!(found("lamp"), Ok(4), "a whole name goes before a beginning");
        assert!(matches!(found("brass"), Err(SelectError::Ambiguous { layers, .. }) if layers.len() == 2));
        assert!(matches!(found("9"), Err(SelectError::Unknown { .. })));
        assert!(matches!(found("-"), Err(SelectError::Unknown { .. })));
        let twice = select_all(&layers, &["lamp".into(), "4".into()]).unwrap();
        assert_eq!(twice.len(), 1);
    }
}
