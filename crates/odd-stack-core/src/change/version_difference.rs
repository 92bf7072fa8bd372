//! Telling how the two versions of an exchanged layer differ.

use super::decider::Decider;
use super::error::ChangeError;
use super::plan::Difference;
use super::request::Exchange;
use crate::stack::{EntryKind, LayerId, Turn, is_open, turn};

impl Decider<'_> {
    /// Tells of the part that is being decided how the two versions of each exchanged layer differ.
    pub(super) fn note_differences(&mut self) -> Result<(), ChangeError> {
        let mut differences = std::mem::take(&mut self.decision.plan.differences);
        for (Exchange { old, new, .. }, (_, difference)) in self.stack.exchanges.iter().zip(&mut differences)
        {
            self.note_difference(*old, *new, difference)?;
        }
        self.decision.plan.differences = differences;
        Ok(())
    }

    fn note_difference(
        &self,
        old: LayerId,
        new: LayerId,
        difference: &mut Difference,
    ) -> Result<(), ChangeError> {
        for column in &self.stack.columns {
            if column.entries.iter().any(|entry| entry.kind == EntryKind::Members) {
                continue;
            }
            let Some(turn) = turn(column, old, new) else { continue };
            let own = |layer: LayerId| column.entries.iter().find(|entry| entry.layer == layer);
            let spelled = column.base.as_ref().map(|base| &base.spelled);
            let spelled = spelled.or_else(|| own(new).or_else(|| own(old)).map(|entry| &entry.spelled));
            let address = self.address(column.root, &spelled.cloned().unwrap_or_default())?;
            let was = is_open(column, old, &self.stack.before);
            let is = is_open(column, new, &self.stack.after);
            match (was, is) {
                (false, true) => difference.newly_contested.push(address.clone()),
                (true, false) => difference.no_longer_contested.push(address.clone()),
                _ => {}
            }
            match turn {
                Turn::Added => difference.added.push(address),
                Turn::Changed => difference.changed.push(address),
                Turn::Respelled => difference.respelled.push(address),
                Turn::Gone => difference.gone.push(address),
                Turn::Unchanged => difference.unchanged_files += 1,
            }
        }
        Ok(())
    }
}

impl Difference {
    /// Puts all lists in order.
    pub(super) fn sort(&mut self) {
        let lists = [
            &mut self.added,
            &mut self.changed,
            &mut self.respelled,
            &mut self.gone,
            &mut self.newly_contested,
            &mut self.no_longer_contested,
        ];
        lists.into_iter().for_each(|list| list.sort());
    }
}
