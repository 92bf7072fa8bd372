//! All steps of a change, in little room: there may be one for each of very many files. They are kept so in memory, and
//! so in the journal.
//!
//! A step is a byte for its kind, then its private end, if it has one, and its public one. Steps follow the order of
//! addresses, so an end is told by how many bytes it has in common with the same end of the step before, how many
//! follow, and these. Of a file that is thrown away come its kind, size, time and mode as they were seen;
//! the time as how much it is beyond that of the file thrown away before, as a number of 64 bits that wraps.
//! Numbers are unsigned LEB128 (DWARF 5, 7.6).

use std::path::{Path, PathBuf};

use super::step::{Step, StepKind};
use crate::files::Seen;
use crate::ledger::catalogue::JournalSteps;
use crate::stack::BaseKind;

/// In a step's first byte: it throws away a file that was seen.
const IS_THROWN: u8 = 0x80;

/// A piece of so many bytes gets no more steps.
const PIECE_BYTES: usize = 64 << 10;

/// The steps of a change, in order.
#[derive(Debug, Clone, Default)]
pub(crate) struct Steps {
    /// Each step is whole in one of them. Lists that grow step by step end up twice as long, so there are several.
    pieces: Vec<Vec<u8>>,
    count: usize,
    last: Last,
}

/// What the next step is told by: both ends of the last step met, as bytes, and the time of the last file thrown away.
#[derive(Debug, Clone, Default)]
struct Last {
    private: Vec<u8>,
    public: Vec<u8>,
    modified_ns: u64,
}

impl Steps {
    pub(super) fn push(&mut self, step: &Step) {
        let thrown = match step {
            Step::TakeOut { thrown, .. } => *thrown,
            _ => None,
        };
        if self.pieces.last().is_none_or(|piece| piece.len() >= PIECE_BYTES) {
            self.pieces.push(Vec::with_capacity(PIECE_BYTES + PIECE_BYTES / 16));
        }
        let Some(bytes) = self.pieces.last_mut() else { return };
        bytes.push(step.kind() as u8 | if thrown.is_some() { IS_THROWN } else { 0 });
        let (private, public) = step.ends();
        if let Some(private) = private {
            write_end(bytes, &mut self.last.private, private);
        }
        write_end(bytes, &mut self.last.public, public);
        if let Some(seen) = thrown {
            let modified_ns = seen.modified_ns.cast_unsigned();
            let later_ns =
                modified_ns.wrapping_sub(std::mem::replace(&mut self.last.modified_ns, modified_ns));
            let numbers = [kind_number(seen.kind), seen.size_bytes, later_ns, u64::from(seen.mode)];
            numbers.into_iter().for_each(|number| write_number(bytes, number));
        }
        self.count += 1;
    }

    /// How many there are.
    pub(super) fn len(&self) -> usize {
        self.count
    }

    /// How many there are of these kinds.
    pub(super) fn count(&self, kinds: &[StepKind]) -> usize {
        let mut walk = self.walk();
        std::iter::from_fn(|| walk.next()).filter(|met| kinds.contains(&met.kind)).count()
    }

    /// Those of these kinds, in order.
    pub(super) fn of<'s>(&'s self, kinds: &'s [StepKind]) -> impl Iterator<Item = Step> + 's {
        let mut walk = self.walk();
        std::iter::from_fn(move || {
            loop {
                let met = walk.next()?;
                if kinds.contains(&met.kind) {
                    return walk.step(met);
                }
            }
        })
    }

    fn walk(&self) -> Walk<'_> {
        Walk::over(&self.pieces)
    }

    /// As the journal keeps them.
    pub(super) fn to_journal(&self) -> &[Vec<u8>] {
        &self.pieces
    }

    /// From the journal; `None` for what [`Steps::to_journal`] never gives.
    pub(super) fn from_journal(journal: JournalSteps) -> Option<Self> {
        match journal {
            JournalSteps::Pieces(pieces) => {
                let mut walk = Walk::over(&pieces);
                let mut count = 0;
                while !walk.is_at_end() {
                    let met = walk.next()?;
                    walk.step(met)?;
                    count += 1;
                }
                let last = walk.last;
                Some(Self { pieces, count, last })
            }
            JournalSteps::Rows(rows) => {
                let mut steps = Self::default();
                for row in rows {
                    let kind = StepKind::of_number(row.kind.try_into().ok()?)?;
                    steps.push(&Step::of(kind, row.private.map(PathBuf::from), row.public.into())?);
                }
                Some(steps)
            }
        }
    }
}

/// A step without its ends, which are the walk's.
struct Met {
    kind: StepKind,
    thrown: Option<Seen>,
}

/// Goes over steps one by one. What is damaged ends it.
struct Walk<'s> {
    pieces: std::slice::Iter<'s, Vec<u8>>,
    rest: &'s [u8],
    last: Last,
}

impl<'s> Walk<'s> {
    fn over(pieces: &'s [Vec<u8>]) -> Self {
        Self { pieces: pieces.iter(), rest: &[], last: Last::default() }
    }

    fn is_at_end(&mut self) -> bool {
        while self.rest.is_empty() {
            match self.pieces.next() {
                Some(piece) => self.rest = piece,
                None => return true,
            }
        }
        false
    }

    fn next(&mut self) -> Option<Met> {
        if self.is_at_end() {
            return None;
        }
        let (first, rest) = self.rest.split_first()?;
        self.rest = rest;
        let kind = StepKind::of_number(first & !IS_THROWN)?;
        if kind.has_private() {
            read_end(&mut self.rest, &mut self.last.private)?;
        }
        read_end(&mut self.rest, &mut self.last.public)?;
        let thrown = match first & IS_THROWN {
            0 => None,
            _ if kind == StepKind::TakeOut => Some(self.thrown()?),
            _ => return None,
        };
        Some(Met { kind, thrown })
    }

    fn thrown(&mut self) -> Option<Seen> {
        let mut number = || read_number(&mut self.rest);
        let kind = kind_of_number(number()?)?;
        let (size_bytes, later_ns) = (number()?, number()?);
        let mode = number()?.try_into().ok()?;
        self.last.modified_ns = self.last.modified_ns.wrapping_add(later_ns);
        // When anything of it changed is no part of what is compared.
        let (modified_ns, changed_ns) = (self.last.modified_ns.cast_signed(), 0);
        Some(Seen { kind, size_bytes, modified_ns, changed_ns, mode })
    }

    /// The step that was met last.
    fn step(&self, met: Met) -> Option<Step> {
        let private = match met.kind.has_private() {
            true => Some(path_of(&self.last.private)?),
            false => None,
        };
        let mut step = Step::of(met.kind, private, path_of(&self.last.public)?)?;
        if let Step::TakeOut { thrown, .. } = &mut step {
            *thrown = met.thrown;
        }
        Some(step)
    }
}

fn kind_number(kind: BaseKind) -> u64 {
    match kind {
        BaseKind::File => 0,
        BaseKind::Folder => 1,
        BaseKind::Link => 2,
        BaseKind::Other => 3,
    }
}

fn kind_of_number(number: u64) -> Option<BaseKind> {
    let all = [BaseKind::File, BaseKind::Folder, BaseKind::Link, BaseKind::Other];
    all.get(usize::try_from(number).ok()?).copied()
}

fn write_end(bytes: &mut Vec<u8>, last: &mut Vec<u8>, path: &Path) {
    let path = bytes_of(path);
    let common = path.iter().zip(last.iter()).take_while(|(one, two)| one == two).count();
    let (_, new) = path.split_at(common);
    write_number(bytes, common as u64);
    write_number(bytes, new.len() as u64);
    bytes.extend_from_slice(new);
    last.truncate(common);
    last.extend_from_slice(new);
}

fn read_end(rest: &mut &[u8], last: &mut Vec<u8>) -> Option<()> {
    let common = usize::try_from(read_number(rest)?).ok().filter(|common| *common <= last.len())?;
    let new = usize::try_from(read_number(rest)?).ok()?;
    let (new, behind) = rest.split_at_checked(new)?;
    *rest = behind;
    last.truncate(common);
    last.extend_from_slice(new);
    Some(())
}

fn write_number(bytes: &mut Vec<u8>, mut number: u64) {
    while number >= 0x80 {
        bytes.push(number as u8 | 0x80);
        number >>= 7;
    }
    bytes.push(number as u8);
}

fn read_number(rest: &mut &[u8]) -> Option<u64> {
    let mut number = 0;
    for shift in (0..u64::BITS).step_by(7) {
        let (byte, behind) = rest.split_first()?;
        *rest = behind;
        let part = u64::from(byte & 0x7f);
        if part << shift >> shift != part {
            return None;
        }
        number |= part << shift;
        if byte & 0x80 == 0 {
            return Some(number);
        }
    }
    None
}

/// A path as bytes, just so.
#[cfg(unix)]
fn bytes_of(path: &Path) -> &[u8] {
    std::os::unix::ffi::OsStrExt::as_bytes(path.as_os_str())
}

#[cfg(unix)]
#[expect(clippy::unnecessary_wraps, reason = "elsewhere not all bytes are a path")]
fn path_of(bytes: &[u8]) -> Option<PathBuf> {
    let path: &std::ffi::OsStr = std::os::unix::ffi::OsStrExt::from_bytes(bytes);
    Some(PathBuf::from(path))
}

/// A path as bytes, just so: in units of 16 bits, not all of which need to be text.
#[cfg(windows)]
fn bytes_of(path: &Path) -> Vec<u8> {
    let units = std::os::windows::ffi::OsStrExt::encode_wide(path.as_os_str());
    units.flat_map(u16::to_le_bytes).collect()
}

#[cfg(windows)]
fn path_of(bytes: &[u8]) -> Option<PathBuf> {
    let (units, []) = bytes.as_chunks() else { return None };
    let units: Vec<u16> = units.iter().map(|unit| u16::from_le_bytes(*unit)).collect();
    let path: std::ffi::OsString = std::os::windows::ffi::OsStringExt::from_wide(&units);
    Some(PathBuf::from(path))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::ledger::catalogue::JournalStep;

    fn path() -> impl Strategy<Value = PathBuf> {
        proptest::collection::vec("[a-bé]{0,3}|data|[a-z0-9 .]{1,9}", 0..5)
            .prop_map(|parts| PathBuf::from(format!("/game/{}", parts.join("/"))))
    }

    fn thrown() -> impl Strategy<Value = Option<Seen>> {
        let seen = (0..4u64, any::<u64>(), any::<i64>(), any::<u32>());
        proptest::option::of(seen.prop_map(|(kind, size_bytes, modified_ns, mode)| {
            let kind = kind_of_number(kind).unwrap();
            Seen { kind, size_bytes, modified_ns, changed_ns: 0, mode }
        }))
    }

    fn step() -> impl Strategy<Value = Step> {
        let made = |(kind, private, public, thrown_now): (u8, PathBuf, PathBuf, Option<Seen>)| {
            let kind = StepKind::of_number(kind).unwrap();
            let mut step = Step::of(kind, kind.has_private().then_some(private), public).unwrap();
            if let Step::TakeOut { thrown, .. } = &mut step {
                *thrown = thrown_now;
            }
            step
        };
        (0..6u8, path(), path(), thrown()).prop_map(made)
    }

    fn steps_of(list: &[Step]) -> Steps {
        let mut steps = Steps::default();
        list.iter().for_each(|step| steps.push(step));
        steps
    }

    proptest! {
        #[test]
        fn what_is_pushed_comes_out_of_memory_and_journal(
            list in proptest::collection::vec(step(), 0..20),
            kinds in proptest::sample::subsequence(&StepKind::ALL, 0..6),
            more in step(),
        ) {
            let steps = steps_of(&list);
            prop_assert_eq!(steps.len(), list.len());
            let of_kinds: Vec<Step> = list.iter().filter(|step| kinds.contains(&step.kind())).cloned().collect();
            prop_assert_eq!(steps.count(&kinds), of_kinds.len());
            prop_assert_eq!(steps.of(&kinds).collect::<Vec<_>>(), of_kinds);
            let mut again = Steps::from_journal(JournalSteps::Pieces(steps.to_journal().to_vec())).unwrap();
            prop_assert_eq!(again.of(&StepKind::ALL).collect::<Vec<_>>(), list.clone());
            again.push(&more);
            prop_assert_eq!(again.of(&StepKind::ALL).last(), Some(more));
            // As earlier formats kept them.
            let row = |step: &Step| {
                let (private, public) = step.ends();
                let text = |path: &Path| path.to_str().unwrap().to_owned();
                JournalStep { kind: step.kind() as i64, private: private.map(text), public: text(public) }
            };
            let rows = Steps::from_journal(JournalSteps::Rows(list.iter().map(row).collect())).unwrap();
            let ends = |steps: &Steps| {
                let of = |step: Step| (step.kind() as u8, step.ends().0.map(PathBuf::from), step.ends().1.to_owned());
                steps.of(&StepKind::ALL).map(of).collect::<Vec<_>>()
            };
            prop_assert_eq!(ends(&rows), ends(&steps));
        }

        /// Whatever the journal holds, nothing is made up of what is cut short.
        #[test]
        fn what_is_damaged_is_nothing(
            list in proptest::collection::vec(step(), 1..6),
            at in any::<proptest::sample::Index>(),
            bytes in proptest::collection::vec(any::<u8>(), 0..40),
        ) {
            let steps = steps_of(&list);
            let [whole] = steps.to_journal() else { panic!("they fit into one piece") };
            let cut = whole[..at.index(whole.len())].to_vec();
            if let Some(left) = Steps::from_journal(JournalSteps::Pieces(vec![cut])) {
                let left: Vec<Step> = left.of(&StepKind::ALL).collect();
                prop_assert_eq!(&left[..], &list[..left.len()]);
            }
            // Anything at all is read, or refused, and ends.
            if let Some(read) = Steps::from_journal(JournalSteps::Pieces(vec![bytes])) {
                prop_assert_eq!(read.of(&StepKind::ALL).count(), read.len());
            }
        }
    }

    #[test]
    fn very_many_come_out_of_several_pieces() {
        let step = |number: u32| {
            let public = PathBuf::from(format!("/game/data/part{}/asset_{number}.dat", number % 7));
            Step::TakeOut { public, private: format!("/ledger/trash/1-{number}").into(), thrown: None }
        };
        let list: Vec<Step> = (0..20_000).map(step).collect();
        let steps = steps_of(&list);
        assert!(steps.to_journal().len() > 2);
        let each = if cfg!(windows) { 60 } else { 30 };
        assert!(steps.to_journal().iter().map(Vec::len).sum::<usize>() < each * list.len());
        let again = Steps::from_journal(JournalSteps::Pieces(steps.to_journal().to_vec())).unwrap();
        assert_eq!(again.of(&StepKind::ALL).collect::<Vec<_>>(), list);
    }

    #[cfg(unix)]
    #[test]
    fn a_path_that_is_no_text_stays_as_it_is() {
        use std::os::unix::ffi::OsStrExt;
        let path = PathBuf::from(std::ffi::OsStr::from_bytes(b"/ga\xffme/a"));
        let step = Step::MakeFolder { path };
        let steps = steps_of(std::slice::from_ref(&step));
        assert_eq!(steps.of(&StepKind::ALL).next(), Some(step));
    }

    #[test]
    fn rows_that_no_format_wrote_are_nothing() {
        let row = |kind, private: Option<&str>| JournalStep {
            kind,
            private: private.map(str::to_owned),
            public: "/game/a".into(),
        };
        for row in [row(9, None), row(0, None), row(-1, Some("/b")), row(2, Some("/b")), row(256, Some("/b"))]
        {
            assert!(Steps::from_journal(JournalSteps::Rows(vec![row])).is_none());
        }
    }
}
