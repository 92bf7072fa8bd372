//! Where the members of a changed container lie.
//!
//! What stays keeps its place wherever that costs little: most bytes of the new file are then at the same places as in the old
//! one, and need be neither moved nor hashed anew. The room of what goes is taken by what comes instead, and what is left of it
//! by a field in the header that follows (APPNOTE 4.6.10), so that programs which read members one after the other, without the
//! directory, find no gap. Where much goes, all moves up instead.

use std::collections::HashMap;

use super::directory::{Directory, Packed};
use super::incoming::Incoming;
use super::plan::Plan;
use super::records::{LEAST_ROOM_BYTES, LOCAL_BYTES, MOST_EXTRA_BYTES, STORED};
use super::spans::Span;

/// One step of writing the new file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Step {
    /// Bytes of the old file that are no member's. Nobody knows what they are.
    Between { start: u64, end: u64 },
    /// Nothing.
    Gap { bytes: u64 },
    /// A member that stays, with so many bytes of room in its header.
    Member { span: usize, padding: u16 },
    /// A content that comes, likewise.
    Put { number: usize, padding: u16 },
}

/// The largest step in which places of stored content are kept: what systems map is in pages of 4 or 16 KiB.
const MOST_ALIGNMENT: u64 = 16 << 10;
const PAGE: u64 = 4096;
/// The share of a container that may be room of what has gone.
const LEAST_OF_IDLE: u64 = 16;
/// What is larger is not read from its beginning to its end for one member: gaps do no harm there.
const MOST_STREAMED_BYTES: u64 = 64 << 20;
/// So much room is in one header without its being full.
const MUCH_ROOM_BYTES: u64 = 60_000;

/// Arranges what stays of a container and what comes, in the order of the new file.
pub(super) fn arranged(
    directory: &Directory,
    spans: &[Span],
    plan: &Plan,
    coming: &[Incoming<'_>],
) -> Vec<Step> {
    let alignment = alignment(directory, spans, plan);
    let steps = || Arranging { directory, spans, plan, coming, alignment, steps: Vec::new(), at: 0 };
    match steps().in_place() {
        Some(in_place) => in_place,
        None => steps().moved_up(),
    }
}

/// In what steps members may move without a stored content's losing its place within a page.
fn alignment(directory: &Directory, spans: &[Span], plan: &Plan) -> u64 {
    let stored = spans.iter().filter(|span| {
        let member = &directory.members[span.member];
        member.method == STORED && member.size_bytes > 0 && plan.stays(span.member)
    });
    let steps = stored.map(|span| 1 << span.data_at.trailing_zeros().min(MOST_ALIGNMENT.trailing_zeros()));
    steps.max().unwrap_or(1)
}

/// The new file as far as it is arranged.
struct Arranging<'c> {
    directory: &'c Directory,
    spans: &'c [Span],
    plan: &'c Plan,
    coming: &'c [Incoming<'c>],
    alignment: u64,
    steps: Vec<Step>,
    at: u64,
}

impl Arranging<'_> {
    /// Everything that stays where it is; nothing if too much goes for that, or would leave a gap where none may be.
    fn in_place(mut self) -> Option<Vec<Step>> {
        let goes = self.spans.iter().filter(|span| !self.plan.stays(span.member));
        let idle_bytes: u64 = goes.map(|span| span.ends_at - span.starts_at).sum();
        if idle_bytes > self.directory.file_bytes / LEAST_OF_IDLE {
            return None;
        }
        let instead: HashMap<usize, usize> = (self.plan.puts.iter().enumerate())
            .filter_map(|(number, put)| Some((put.replaces?, number)))
            .collect();
        let mut is_put = vec![false; self.coming.len()];
        self.begin();
        for number in 0..self.spans.len() {
            let span = &self.spans[number];
            if self.plan.stays(span.member) {
                let idle_bytes = span.starts_at - self.at;
                if !self.member(number, idle_bytes) {
                    self.gap(idle_bytes, false)?;
                    self.member(number, 0);
                }
            } else if let Some(coming) = instead.get(&span.member).copied()
                && let Some(padding) = self.fits(coming, span.ends_at - self.at)
            {
                self.put(coming, padding);
                is_put[coming] = true;
            }
            let (start, end) = self.after(number);
            if start < end {
                self.gap(start - self.at, true)?;
                self.between(start, end);
            }
        }
        Some(self.with_rest(&is_put))
    }

    /// What stays one after the other, as close as its places within pages let it.
    fn moved_up(mut self) -> Vec<Step> {
        self.begin();
        for number in 0..self.spans.len() {
            let span = &self.spans[number];
            if self.plan.stays(span.member) {
                let step = self.alignment;
                let shift = (span.starts_at + step - self.at % step) % step;
                if !self.member(number, with_room(shift, step)) {
                    self.steps.push(Step::Gap { bytes: shift });
                    self.at += shift;
                    self.member(number, 0);
                }
            }
            let (start, end) = self.after(number);
            self.between(start, end);
        }
        let none = vec![false; self.coming.len()];
        self.with_rest(&none)
    }

    /// What lies before all members.
    fn begin(&mut self) {
        let first = self.spans.first().map_or(self.directory.starts_at, |span| span.starts_at);
        self.between(0, first);
    }

    /// What lies between a span and the next.
    fn after(&self, number: usize) -> (u64, u64) {
        let next = self.spans.get(number + 1).map_or(self.directory.starts_at, |next| next.starts_at);
        (self.spans[number].ends_at, next)
    }

    fn between(&mut self, start: u64, end: u64) {
        if start < end {
            self.steps.push(Step::Between { start, end });
            self.at += end - start;
        }
    }

    /// Puts a member with so many bytes of room in its header, if these can be there.
    fn member(&mut self, number: usize, padding: u64) -> bool {
        let span = &self.spans[number];
        let extra_bytes = (span.data_at - span.starts_at).saturating_sub(LOCAL_BYTES as u64);
        let fits = padding == 0 || padding >= LEAST_ROOM_BYTES && extra_bytes + padding <= MOST_EXTRA_BYTES;
        if let (Ok(padding), true) = (u16::try_from(padding), fits) {
            self.steps.push(Step::Member { span: number, padding });
            self.at += span.ends_at - span.starts_at + u64::from(padding);
        }
        fits
    }

    /// Leaves a gap, if one does no harm there: not where the first member must begin.
    fn gap(&mut self, bytes: u64, is_between_anyway: bool) -> Option<()> {
        if bytes == 0 {
            return Some(());
        }
        let has_begun = self.steps.iter().any(|step| matches!(step, Step::Member { .. } | Step::Put { .. }));
        let is_harmless = is_between_anyway || self.directory.file_bytes > MOST_STREAMED_BYTES;
        if !has_begun || !is_harmless {
            return None;
        }
        self.steps.push(Step::Gap { bytes });
        self.at += bytes;
        Some(())
    }

    /// The room that a content leaves in its header when it comes here and may take so many bytes; nothing if it does not fit.
    fn fits(&self, coming: usize, room_bytes: u64) -> Option<u16> {
        let one = &self.coming[coming];
        let left_bytes = room_bytes.checked_sub(one.header_bytes() + one.content.packed_bytes)?;
        if (1..LEAST_ROOM_BYTES).contains(&left_bytes) {
            return None;
        }
        let step = self.step_of(one);
        if step > 1 {
            return (self.at + one.header_bytes()).is_multiple_of(step).then_some(0);
        }
        let is_much = left_bytes > MUCH_ROOM_BYTES + LEAST_ROOM_BYTES;
        u16::try_from(if is_much { MUCH_ROOM_BYTES } else { left_bytes }).ok()
    }

    fn put(&mut self, number: usize, padding: u16) {
        let one = &self.coming[number];
        self.at += one.header_bytes() + u64::from(padding) + one.content.packed_bytes;
        self.steps.push(Step::Put { number, padding });
    }

    /// All contents that have no place yet, after all else.
    fn with_rest(mut self, is_put: &[bool]) -> Vec<Step> {
        for (number, _) in is_put.iter().enumerate().filter(|(_, is_put)| !**is_put) {
            let one = &self.coming[number];
            let step = self.step_of(one);
            let data_at = self.at + one.header_bytes();
            let padding = with_room((step - data_at % step) % step, step);
            self.put(number, u16::try_from(padding).unwrap_or(0));
        }
        self.steps
    }

    /// In what steps the content of one that comes may lie.
    fn step_of(&self, one: &Incoming<'_>) -> u64 {
        let on_page = one.old.is_some_and(|old| old.method == STORED && self.is_on_page(old));
        match one.content.method {
            STORED if on_page => self.alignment.max(PAGE),
            STORED => self.alignment,
            _ => 1,
        }
    }

    fn is_on_page(&self, member: &Packed) -> bool {
        let span = self.spans.binary_search_by_key(&member.header_at, |span| span.starts_at);
        span.is_ok_and(|at| self.spans[at].data_at.is_multiple_of(PAGE))
    }
}

/// So many bytes, or as many steps more as make room for the field that keeps them.
fn with_room(bytes: u64, step: u64) -> u64 {
    match bytes {
        0 => 0,
        _ => bytes + LEAST_ROOM_BYTES.saturating_sub(bytes).div_ceil(step) * step,
    }
}
