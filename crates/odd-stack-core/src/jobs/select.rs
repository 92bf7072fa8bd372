//! Finding the layer that a person means.

use thiserror::Error;

use crate::ledger::Layer;

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

/// How names are compared: without regard to case, and to `-`, `_` and space.
pub(super) fn plain(name: &str) -> String {
    name.chars().filter(|c| !matches!(c, '-' | '_' | ' ')).flat_map(char::to_lowercase).collect()
}

/// The layer that `wanted` names: its whole name, its number in the stack, or a beginning that only
/// one name has; names are compared without regard to case and `-`, `_` and space.
///
/// # Errors
/// [`SelectError`].
pub fn select<'l>(layers: &'l [Layer], wanted: &str) -> Result<&'l Layer, SelectError> {
    let looked_for = plain(wanted);
    if let Some(whole) = layers.iter().find(|layer| plain(&layer.about.name) == looked_for) {
        return Ok(whole);
    }
    let number = wanted.trim_start_matches('#').parse::<u64>();
    if let Some(numbered) =
        number.ok().and_then(|number| layers.iter().find(|layer| layer.position == number))
    {
        return Ok(numbered);
    }
    let names = |layers: &[&Layer]| layers.iter().map(|layer| layer.about.name.clone()).collect::<Vec<_>>();
    let beginning: Vec<&Layer> = layers
        .iter()
        .filter(|layer| !looked_for.is_empty() && plain(&layer.about.name).starts_with(&looked_for))
        .collect();
    match beginning.as_slice() {
        [only] => Ok(only),
        [] => Err(SelectError::Unknown {
            wanted: wanted.to_owned(),
            layers: names(&layers.iter().collect::<Vec<_>>()),
        }),
        several => Err(SelectError::Ambiguous { wanted: wanted.to_owned(), layers: names(several) }),
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
