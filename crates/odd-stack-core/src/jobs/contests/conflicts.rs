//! Where laid layers want different things.

pub(super) mod odd;
mod teller;

use std::collections::{HashMap, HashSet};
use std::ops::{ControlFlow, RangeInclusive};
use std::sync::Arc;
use std::thread;

use rustc_hash::FxHashMap;
#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use self::teller::Teller;
use super::differs::Differs;
use super::keys::KnownWords;
use crate::address::{FoldedKey, RelPath};
use crate::blend::Format;
use crate::expected::Blender;
use crate::jobs::addresses::{AddressesError, meant};
use crate::jobs::stack::layer_rows;
use crate::ledger::{Catalogue, Ledger, LedgerError, Side};
use crate::stack::{Column, ContestState, Entry, EntryKind, LayerId, Order, PathId, RootId};

pub use odd::{OddKind, OddRow};

/// One address that two laid layers share.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ContestRow {
    /// The address.
    pub address: String,
    /// How the two get along there.
    pub state: ContestState,
    /// The layer that counts at the address, which may be a third one.
    pub winner: String,
    /// It was settled once, and which layer's content has changed since.
    pub changed_since_settled: Option<String>,
    /// Size of the upper layer's file.
    pub upper_bytes: u64,
    /// BLAKE3 hash of the upper layer's file; none when it takes the file away.
    pub upper_hash: Option<String>,
    /// Size of the lower layer's file.
    pub lower_bytes: u64,
    /// BLAKE3 hash of the lower layer's file; none when it takes the file away.
    pub lower_hash: Option<String>,
    /// What differs; none where nothing does.
    pub differs: Option<Differs>,
}

/// Two laid layers with common addresses.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct PairRow {
    /// The layer that lies higher, and so wins against the other unless it was settled otherwise.
    pub upper: String,
    /// The layer that lies lower.
    pub lower: String,
    /// Addresses at which it is open who should win.
    pub open_files: u64,
    /// Addresses at which the one that wins was asked for or settled.
    pub won_files: u64,
    /// Addresses at which both are kept.
    pub blended_files: u64,
    /// Addresses with equal content.
    pub same_files: u64,
    /// Contests, the open ones first: all of them, or those open ones that tell most.
    pub contests: Vec<ContestRow>,
}

/// All contests among the laid layers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ConflictsReport {
    /// Pairs with common addresses, those with most open contests first.
    pub pairs: Vec<PairRow>,
    /// Addresses at which a contest is open, each once.
    pub open_files: u64,
    /// Laid layers that others cover wholly, so that they have no effect.
    pub no_effect: Vec<String>,
    /// What else is odd.
    pub odd: Vec<OddRow>,
    /// All contests are told; otherwise those that tell most.
    pub is_complete: bool,
    /// Addresses of files of layers, laid or lifted, that were asked about; none where all were.
    pub asked_addresses: Option<u64>,
}

/// Which contests to tell.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ConflictsRequest {
    /// Only those of this layer.
    pub layer: Option<LayerId>,
    /// Only those at this address, below this folder, or at addresses that meet this pattern.
    pub at: Option<String>,
    /// All of them, not only those that tell most.
    pub all: bool,
}

/// Contests of a pair that are told unless all are wanted.
const MOST_TOLD: usize = 4;
/// Pairs of which contests are told unless all are wanted.
const MOST_PAIRS: usize = 25;
/// Contests of a pair among which those are chosen that tell most.
const MOST_WEIGHED: usize = 48;

/// What two layers share.
#[derive(Debug, Default)]
struct SharedByPair {
    counts: [u64; 4],
    paths: Vec<(PathId, ContestState)>,
}

/// Contests by pair, and what was seen on the way.
#[derive(Default)]
struct Meetings {
    pairs: FxHashMap<(LayerId, LayerId), SharedByPair>,
    open: HashSet<PathId>,
    /// Addresses at which files blend for what they hold.
    by_content: Arc<HashSet<PathId>>,
    /// Addresses of members in containers that a layer brings whole, which are looked at as a whole.
    in_whole: Arc<HashSet<PathId>>,
    /// Addresses that may blend, which are to be looked at as a whole.
    may_blend: Vec<PathId>,
    /// Addresses with other than equal contents, and where they lie.
    unlike: Vec<(PathId, RootId, FoldedKey)>,
    /// Addresses at which something is taken away, or keys are changed.
    leaning: Vec<PathId>,
}

/// Contests as they are found out.
#[derive(Debug)]
pub enum ConflictsPart<'a> {
    /// All that is known at once: pairs have no contests yet.
    Whole(&'a ConflictsReport),
    /// Contests of this pair follow.
    Pair(&'a PairRow),
    /// A contest of that pair.
    Contest(&'a PairRow, ContestRow),
}

/// Finds contests.
///
/// # Errors
/// [`AddressesError`].
pub fn conflicts(ledger: &Ledger, request: &ConflictsRequest) -> Result<ConflictsReport, AddressesError> {
    let (mut found, mut all) = (None, Vec::new());
    tell_conflicts(ledger, request, &mut |part| {
        match part {
            ConflictsPart::Whole(report) => found = Some(report.clone()),
            ConflictsPart::Pair(_) => all.push(Vec::new()),
            ConflictsPart::Contest(_, contest) => {
                all.last_mut().into_iter().for_each(|all| all.push(contest.clone()))
            }
        }
        ControlFlow::Continue(())
    })?;
    let mut report = found.ok_or_else(|| ledger.catalogue.damaged_by(&"its contests can't be told"))?;
    report.pairs.iter_mut().zip(all).for_each(|(pair, contests)| pair.contests = contests);
    Ok(report)
}

/// Finds contests, and tells them one by one: what differs is read only then. Stops when told to.
///
/// # Errors
/// [`AddressesError`].
pub fn tell_conflicts(
    ledger: &Ledger,
    request: &ConflictsRequest,
    tell: &mut dyn FnMut(ConflictsPart<'_>) -> ControlFlow<()>,
) -> Result<(), AddressesError> {
    let at: Option<HashSet<PathId>> = request
        .at
        .as_deref()
        .map(|text| meant(ledger, text))
        .transpose()?
        .map(|paths| paths.into_iter().collect());
    let asked_addresses = at.as_ref().map(|paths| paths.len() as u64);
    let order = ledger.present_order()?;
    let mut meetings = meet_all(ledger, &order, at.as_ref(), request.all)?;
    meet_blending(ledger, &order, at.as_ref(), &mut meetings, request.all)?;
    let layers = ledger.layers()?;
    let names: HashMap<LayerId, &str> =
        layers.iter().map(|layer| (layer.id, layer.about.name.as_str())).collect();
    let odd = if at.is_none() && request.layer.is_none() {
        odd::find(ledger, &order, &meetings.unlike, &meetings.leaning, &names)?
    } else {
        Vec::new()
    };
    let open_files = match request.layer {
        None => meetings.open.len() as u64,
        Some(layer) => {
            let of_layer = meetings.pairs.iter().filter(|((one, two), _)| *one == layer || *two == layer);
            let open =
                of_layer.flat_map(|(_, met)| &met.paths).filter(|(_, state)| *state == ContestState::Open);
            open.map(|(path, _)| *path).collect::<HashSet<_>>().len() as u64
        }
    };
    let asked = layers.iter().filter(|layer| request.layer.is_none_or(|only| only == layer.id));
    let without_effect = layer_rows(ledger, asked)?.into_iter().filter(|row| row.has_no_effect);
    let words = KnownWords::default();
    let teller = Teller { ledger, order: &order, names: &names, words: &words };
    let pairs = in_order(meetings.pairs, request, &order);
    let report = ConflictsReport {
        asked_addresses,
        pairs: pairs.iter().map(|(pair, met)| teller.pair_row(*pair, met)).collect(),
        open_files,
        no_effect: without_effect.map(|row| row.name).collect(),
        odd,
        is_complete: request.all,
    };
    // That it was told to stop is no news to who told it.
    let _ = tell_pairs(pairs, (&report, request), &teller, tell)?;
    Ok(())
}

type Pair = (LayerId, LayerId);

/// The pairs, those with the most open contests first.
fn in_order(
    pairs: FxHashMap<Pair, SharedByPair>,
    request: &ConflictsRequest,
    order: &Order,
) -> Vec<(Pair, SharedByPair)> {
    let mut pairs: Vec<(Pair, SharedByPair)> = pairs.into_iter().collect();
    pairs.retain(|((lower, upper), _)| request.layer.is_none_or(|layer| layer == *lower || layer == *upper));
    let ranks = |(lower, upper): Pair| (order.rank(lower), order.rank(upper));
    pairs.sort_by_key(|(pair, met)| {
        let [_, _, won, open] = met.counts;
        (std::cmp::Reverse((open, won)), ranks(*pair))
    });
    pairs
}

fn tell_pairs(
    pairs: Vec<(Pair, SharedByPair)>,
    (report, request): (&ConflictsReport, &ConflictsRequest),
    teller: &Teller<'_>,
    tell: &mut dyn FnMut(ConflictsPart<'_>) -> ControlFlow<()>,
) -> Result<ControlFlow<()>, LedgerError> {
    if tell(ConflictsPart::Whole(report)).is_break() {
        return Ok(ControlFlow::Break(()));
    }
    for (index, ((pair, mut met), row)) in pairs.into_iter().zip(&report.pairs).enumerate() {
        if tell(ConflictsPart::Pair(row)).is_break() {
            return Ok(ControlFlow::Break(()));
        }
        let most = match request.all {
            true => usize::MAX,
            false if index < MOST_PAIRS => {
                met.paths.retain(|(_, state)| *state == ContestState::Open);
                met.paths.truncate(MOST_WEIGHED);
                MOST_TOLD
            }
            false => continue,
        };
        let mut each = |contest| tell(ConflictsPart::Contest(row, contest));
        if teller.contests(pair, &met.paths, most, &mut each)?.is_break() {
            return Ok(ControlFlow::Break(()));
        }
    }
    Ok(ControlFlow::Continue(()))
}

/// Addresses from which on two threads share the walk over them.
const WORTH_TWO_THREADS: i64 = 20_000;

/// All pairs at addresses that can be judged by contents alone.
fn meet_all(
    ledger: &Ledger,
    order: &Order,
    at: Option<&HashSet<PathId>>,
    all: bool,
) -> Result<Meetings, LedgerError> {
    let highest = ledger.catalogue.highest_path()?;
    let by_content = Arc::new(ledger.catalogue.settings_by_content()?);
    let in_whole = Arc::new(members_of_whole(ledger, order)?);
    let walk = |catalogue: &Catalogue, numbers: RangeInclusive<i64>| {
        let (by_content, in_whole) = (Arc::clone(&by_content), Arc::clone(&in_whole));
        let mut meetings = Meetings { by_content, in_whole, ..Meetings::default() };
        let mut failed = None;
        let mut column = slim();
        catalogue.pass_meetings_in(numbers, |sides| {
            if failed.is_none() {
                failed = meetings.meet(catalogue, order, at, all, sides, &mut column).err();
            }
        })?;
        failed.map_or(Ok(meetings), Err)
    };
    if highest < WORTH_TWO_THREADS {
        return walk(&ledger.catalogue, 0..=i64::MAX);
    }
    let (middle, folder) = (highest / 2, ledger.folder());
    let (lower, upper) = thread::scope(|scope| {
        // A connection of its own, since one can't be shared.
        let upper = scope.spawn(|| walk(&Catalogue::open(folder)?, middle + 1..=i64::MAX));
        let lower = walk(&ledger.catalogue, 0..=middle);
        (lower, upper.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
    });
    let mut meetings = lower?;
    meetings.add(upper?);
    Ok(meetings)
}

/// A column without names, which serves to judge contents.
fn slim() -> Column {
    let key = FoldedKey::from_stored(String::new());
    Column::empty(PathId(0), RootId(0), key)
}

impl Meetings {
    /// Adds those of other addresses.
    fn add(&mut self, other: Self) {
        for (pair, met) in other.pairs {
            let own = self.pairs.entry(pair).or_default();
            own.counts.iter_mut().zip(met.counts).for_each(|(count, more)| *count += more);
            own.paths.extend(met.paths);
        }
        self.open.extend(other.open);
        self.may_blend.extend(other.may_blend);
        self.unlike.extend(other.unlike);
        self.leaning.extend(other.leaning);
    }

    fn meet(
        &mut self,
        catalogue: &Catalogue,
        order: &Order,
        at: Option<&HashSet<PathId>>,
        all: bool,
        sides: &[Side],
        column: &mut Column,
    ) -> Result<(), LedgerError> {
        let path = sides[0].path;
        if at.is_some_and(|at| !at.contains(&path)) || self.in_whole.contains(&path) {
            return Ok(());
        }
        column.path = path;
        column.entries.clear();
        // What changes members is judged member by member.
        let is_of_interest =
            |side: &&Side| order.rank(side.layer).is_some() && side.kind != EntryKind::Members;
        column.entries.extend(sides.iter().filter(is_of_interest).map(|side| Entry {
            layer: side.layer,
            kind: side.kind,
            spelled: RelPath::root(),
            hash: side.hash,
            size_bytes: 0,
            modified: 0,
            executable: None,
        }));
        let Some(first) = column.entries.first() else { return Ok(()) };
        let is_leaning = |entry: &Entry| entry.takes_away() || entry.kind == EntryKind::Keys;
        if column.entries.iter().any(is_leaning) {
            self.leaning.push(path);
        }
        let is_unlike = column.entries.iter().any(|entry| entry.hash != first.hash);
        if is_unlike {
            let Some((root, key)) = catalogue.key_at(path)? else { return Ok(()) };
            let is_by_lines = column.entries.iter().any(|entry| entry.kind == EntryKind::Lines);
            let blends = match order.blend_rules().may_blend_as(key.as_str(), is_by_lines) {
                Some(Format::ByContent) => self.by_content.contains(&path),
                format => format.is_some(),
            };
            self.unlike.push((path, root, key));
            if blends {
                self.may_blend.push(path);
                return Ok(());
            }
        }
        self.note_pairs(column, order, all);
        Ok(())
    }

    fn note_pairs(&mut self, column: &Column, order: &Order, all: bool) {
        let laid = column.laid(order);
        for (index, lower) in laid.iter().enumerate() {
            for upper in &laid[index + 1..] {
                let state = column.contest(lower, upper, order);
                // A pair is named by how the two lie, whoever wins here.
                let is_raised = order.rank(lower.layer) > order.rank(upper.layer);
                let pair = if is_raised { (upper.layer, lower.layer) } else { (lower.layer, upper.layer) };
                let met = self.pairs.entry(pair).or_default();
                met.counts[state as usize] += 1;
                if state == ContestState::Open {
                    self.open.insert(column.path);
                }
                if all || state != ContestState::Same {
                    met.paths.push((column.path, state));
                }
            }
        }
    }
}

/// Addresses of members in containers that a laid layer brings whole: what that has there is in no list.
fn members_of_whole(ledger: &Ledger, order: &Order) -> Result<HashSet<PathId>, LedgerError> {
    let mut members = HashSet::new();
    for (_, root, key) in ledger.catalogue.containers()? {
        let column = ledger.catalogue.column_alone(root, &key)?;
        if column.is_some_and(|column| column.laid(order).iter().any(|entry| entry.kind.is_file())) {
            let within = ledger.catalogue.columns_within(root, &key)?;
            members.extend(within.iter().map(|column| column.path));
        }
    }
    Ok(members)
}

/// Pairs at addresses that may blend.
fn meet_blending(
    ledger: &Ledger,
    order: &Order,
    at: Option<&HashSet<PathId>>,
    meetings: &mut Meetings,
    all: bool,
) -> Result<(), LedgerError> {
    let in_whole = meetings.in_whole.iter().filter(|path| at.is_none_or(|at| at.contains(path)));
    meetings.may_blend.extend(in_whole);
    if meetings.may_blend.is_empty() {
        return Ok(());
    }
    // A member is judged with all its container's, once.
    let asked: HashSet<PathId> = meetings.may_blend.iter().copied().collect();
    let mut columns = ledger.catalogue.columns_of(&[], &meetings.may_blend)?;
    columns.retain(|column| asked.contains(&column.path));
    Blender::new(ledger).learn(&mut columns, order)?;
    columns.iter().for_each(|column| meetings.note_pairs(column, order, all));
    Ok(())
}
