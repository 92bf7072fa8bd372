//! What happens at each address, told with the steps that do it.

use super::decider::{Decider, Move};
use super::error::ChangeError;
use super::plan::{Effect, EffectKind};
use crate::address::Address;
use crate::expected::file_name;
use crate::stack::{Column, Entry, EntryKind, Provider};

impl Decider<'_> {
    /// Notes what happens at the address; unless what should lie there `is_there`, nothing goes.
    pub(super) fn note_effect(&mut self, address: Address, at: &Move<'_>, is_there: bool) {
        let from = if is_there { at.from } else { Provider::Nothing };
        self.note_turn(address, at.column, from, at.to);
    }

    /// Notes what happens to the members of a container that moves; says whether that is all that happens to it.
    pub(super) fn note_member_effects(&mut self, at: &Move<'_>) -> Result<bool, ChangeError> {
        let (before, after) = (&self.stack.before, &self.stack.after);
        let is_made = at.column.composition(before).is_some() || at.column.composition(after).is_some();
        let beneath = (at.column.whole_provider(before), at.column.whole_provider(after));
        if !is_made || !beneath.0.is_same_file(beneath.1) {
            return Ok(false);
        }
        let turns: Vec<(Address, &Column, Provider<'_>, Provider<'_>)> = at
            .column
            .all_members()
            .into_iter()
            .filter_map(|member| {
                let (from, to) = (member.provider(before), member.provider(after));
                let spelled = member.base.as_ref().map(|base| &base.spelled);
                let entry = to.entry().or(from.entry()).map(|entry| &entry.spelled);
                let path = spelled.or(entry)?.clone();
                let address = self.address(member.root, &path).ok()?;
                (from.hash() != to.hash()).then_some((address, member, from, to))
            })
            .collect();
        let is_any = !turns.is_empty();
        for (address, member, from, to) in turns {
            self.note_turn(address, member, from, to);
        }
        Ok(is_any)
    }

    fn note_turn(&mut self, address: Address, column: &Column, from: Provider<'_>, to: Provider<'_>) {
        if let (Provider::Nothing, Provider::Nothing) = (from, to) {
            return;
        }
        let blend = column.blend(&self.stack.after).and_then(|blend| blend.outcome.as_ref().ok());
        let blended = blend.is_some_and(|blended| Some(&blended.entry) == to.entry());
        let kind = match (from, to) {
            (_, Provider::Nothing) => EffectKind::Delete,
            (_, Provider::Base(_)) => EffectKind::Restore,
            (Provider::Nothing, Provider::Layer(_)) => EffectKind::Add,
            (_, Provider::Layer(entry)) if self.stack.changed.contains(&entry.layer) => EffectKind::Overwrite,
            (_, Provider::Layer(_)) => EffectKind::Restore,
        };
        let size_bytes = if kind == EffectKind::Delete { from.size_bytes() } else { to.size_bytes() };
        let layer = to.entry().map(|entry| entry.layer);
        let over = from.entry().map(|entry| entry.layer);
        self.decision.plan.effects.push(Effect {
            address,
            kind,
            size_bytes,
            layer,
            over,
            blended,
            is_of_others: false,
        });
    }

    /// Counts how an entry of a newly laid layer meets what is there.
    pub(super) fn meet(&mut self, column: &Column, from: Provider<'_>, to: Provider<'_>) {
        let meeting = &mut self.decision.plan.meeting;
        let winner = column.winner(&self.stack.after);
        let blended = column.blend(&self.stack.after).and_then(|blend| blend.outcome.as_ref().ok());
        for entry in &column.entries {
            let is_new = self.stack.changed.contains(&entry.layer)
                && self.stack.before.rank(entry.layer).is_none()
                && self.stack.after.rank(entry.layer).is_some();
            if !is_new || entry.takes_away() || !is_told(entry) {
                continue;
            }
            if blended.is_some_and(|blended| blended.from.contains(&entry.layer)) {
                meeting.blended += 1;
                meeting.written_bytes += if is_same_on_disk(column, from, to) { 0 } else { to.size_bytes() };
                continue;
            }
            if winner != Some(entry) {
                meeting.covered += 1;
                continue;
            }
            match (from, column.winner(&self.stack.before)) {
                (Provider::Nothing, _) => meeting.new_files += 1,
                (from, _) if from.hash() == Some(entry.hash) => meeting.identical += 1,
                (_, Some(lower)) => *meeting.over_layers.entry(lower.layer).or_default() += 1,
                (_, None) => meeting.over_base += 1,
            }
            if !is_same_on_disk(column, from, to) {
                meeting.written_bytes += to.size_bytes();
            }
        }
    }
}

/// Whether an entry is told as a file of its layer.
fn is_told(entry: &Entry) -> bool {
    !matches!(entry.kind, EntryKind::Members | EntryKind::Packed)
}

/// Whether both providers leave the very same file, name, time and mode at the address.
pub(super) fn is_same_on_disk(column: &Column, from: Provider<'_>, to: Provider<'_>) -> bool {
    match (from, to) {
        (Provider::Layer(one), Provider::Layer(two)) => {
            one.hash == two.hash
                && one.modified == two.modified
                && column.mode_for(one) == column.mode_for(two)
                && file_name(column, one) == file_name(column, two)
        }
        (from, to) => from.is_same_file(to),
    }
}
