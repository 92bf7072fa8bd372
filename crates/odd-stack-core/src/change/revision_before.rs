//! What a change alters beside the order of the layers, as it was: kept with its revision, so that one can go back.

use serde::{Deserialize, Serialize};

use crate::blend::BlendRule;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{LayerId, PathId, Settlement};

/// What was known of a layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct AboutBefore {
    pub layer: LayerId,
    pub name: String,
    pub version: Option<String>,
    pub variant: Option<String>,
    /// Its rules, as the catalogue keeps them.
    pub fit: String,
    /// What it needs, likewise.
    pub needs: Option<String>,
}

impl AboutBefore {
    /// As it is now.
    pub(crate) fn of(ledger: &Ledger, layer: LayerId) -> Result<Option<Self>, LedgerError> {
        ledger.catalogue.about(layer).map(|row| {
            row.map(|(name, version, variant, fit, needs)| Self { layer, name, version, variant, fit, needs })
        })
    }

    /// Writes it again.
    pub(crate) fn write(&self, ledger: &Ledger) -> Result<(), LedgerError> {
        let Self { layer, name, version, variant, fit, needs } = self;
        ledger.catalogue.write_about(*layer, name, version.as_deref(), variant.as_deref(), fit)?;
        ledger.catalogue.set_needs(*layer, needs.as_deref())
    }
}

/// What a revision changed beside the order, as it was before it.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct RevisionBefore {
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub settled: Vec<(PathId, Option<Settlement>)>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub blend_rules: Option<Vec<BlendRule>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub about: Vec<AboutBefore>,
    /// Files of the game's own are not what they were since.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub base: bool,
}

impl RevisionBefore {
    /// Adds what an earlier revision changed: what was before that counts.
    pub(crate) fn beneath(&mut self, earlier: Self) {
        for (path, settlement) in earlier.settled {
            self.settled.retain(|(known, _)| *known != path);
            self.settled.push((path, settlement));
        }
        self.blend_rules = earlier.blend_rules.or(self.blend_rules.take());
        for about in earlier.about {
            self.about.retain(|known| known.layer != about.layer);
            self.about.push(about);
        }
        self.base |= earlier.base;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_before_the_earliest_change_counts() {
        let settlement = |winner| Settlement { sides: Vec::new(), winner: Some(LayerId(winner)) };
        let about = |layer, name: &str| AboutBefore {
            layer: LayerId(layer),
            name: name.to_owned(),
            version: None,
            variant: None,
            fit: String::new(),
            needs: None,
        };
        let mut merged = RevisionBefore {
            settled: vec![(PathId(1), None), (PathId(2), Some(settlement(7)))],
            about: vec![about(1, "mist")],
            ..RevisionBefore::default()
        };
        merged.beneath(RevisionBefore {
            settled: vec![(PathId(1), Some(settlement(8))), (PathId(3), None)],
            blend_rules: Some(Vec::new()),
            about: vec![about(1, "fog"), about(2, "lamps")],
            base: true,
        });
        let mut settled = merged.settled.clone();
        settled.sort_by_key(|(path, _)| *path);
        assert_eq!(
            settled,
            [(PathId(1), Some(settlement(8))), (PathId(2), Some(settlement(7))), (PathId(3), None)]
        );
        assert_eq!(merged.about, [about(1, "fog"), about(2, "lamps")]);
        assert!(merged.base && merged.blend_rules.is_some());
        // An earlier one that changed no rules leaves them.
        merged.beneath(RevisionBefore::default());
        assert!(merged.base && merged.blend_rules.is_some());
        // What is kept is small where little changed, and what earlier formats did not keep is nothing.
        assert_eq!(serde_json::to_string(&RevisionBefore::default()).unwrap(), "{}");
        assert!(serde_json::from_str::<RevisionBefore>("{}").is_ok());
    }
}
