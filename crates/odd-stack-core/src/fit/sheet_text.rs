//! A sheet as written: where in it something stands.

use toml::de::{DeTable, DeValue};

use super::FitError;

/// One key on the way to a place in a sheet: a name or a number.
#[derive(Clone, Copy)]
pub(super) enum Step<'s> {
    Key(&'s str),
    At(usize),
}

/// A sheet's text, to say of a mistake where it is.
pub(super) struct SheetText<'t> {
    pub(super) text: &'t str,
}

impl SheetText<'_> {
    pub(super) fn mistake(&self, at: usize, reason: String) -> FitError {
        let before = self.text.get(..at).unwrap_or_default();
        FitError::BadSheet {
            line: before.matches('\n').count() + 1,
            column: before.rsplit('\n').next().unwrap_or_default().chars().count() + 1,
            reason,
        }
    }

    /// The mistake at the value that `steps` lead to.
    pub(super) fn mistake_at(&self, steps: &[Step<'_>], reason: String) -> FitError {
        self.mistake(self.start_of(steps).unwrap_or(0), reason)
    }

    fn start_of(&self, steps: &[Step<'_>]) -> Option<usize> {
        let table = DeTable::parse(self.text).ok()?;
        let (first, rest) = steps.split_first()?;
        let Step::Key(key) = first else { return None };
        let (_, mut value) = table.get_ref().iter().find(|(name, _)| name.get_ref() == key)?;
        for step in rest {
            value = match (step, value.get_ref()) {
                (Step::Key(key), DeValue::Table(table)) => {
                    table.iter().find(|(name, _)| name.get_ref() == key)?.1
                }
                (Step::At(index), DeValue::Array(array)) => array.get(*index)?,
                _ => return None,
            };
        }
        Some(value.span().start)
    }
}
