//! The stack and the game as they are shown.

use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::Count;
use super::needs::unmet_under;
use super::taken_away::TakenAway;
use crate::address::Folding;
use crate::blend::Format;
use crate::expected::{GameVersionNow, game_version_now};
use crate::files::may_share_blocks;
use crate::game::BigFiles;
use crate::game::Game;
use crate::jobs::add::game_containers::game_containers;
use crate::ledger::OngoingKind;
use crate::ledger::{Layer, Ledger, LedgerError, games_sharing};
use crate::stack::Unmet;

/// One layer as a row of the stack.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LayerRow {
    /// Place in the stack, from 1 at the bottom.
    pub number: u64,
    /// Its name.
    pub name: String,
    /// Its version as its author writes it.
    pub version: Option<String>,
    /// Which of several variants of its package it is.
    pub variant: Option<String>,
    /// On the game; otherwise lifted.
    pub laid: bool,
    /// Its files, once for each address.
    pub files: u64,
    /// Their sizes together.
    pub bytes: u64,
    /// Files of the game or of other layers that it takes away, once for each address.
    pub takes_away: u64,
    /// Addresses at which its file is the one that counts; 0 while it is lifted.
    pub wins_files: u64,
    /// Addresses at which another laid layer has other content.
    pub contested_files: u64,
    /// Those of them at which it is open who should win.
    pub open_files: u64,
    /// It is laid, and other layers cover all of it.
    pub has_no_effect: bool,
    /// When it was added, RFC 3339.
    pub added_at: String,
}

/// The rows for some layers of the stack.
///
/// # Errors
/// [`LedgerError`].
pub fn layer_rows<'a>(
    ledger: &Ledger,
    layers: impl IntoIterator<Item = &'a Layer>,
) -> Result<Vec<LayerRow>, LedgerError> {
    let taken = TakenAway::of(ledger)?;
    Ok(layers.into_iter().map(|layer| LayerRow::of(layer, &taken)).collect())
}

impl LayerRow {
    pub(super) fn of(layer: &Layer, taken: &TakenAway) -> Self {
        let won = layer.tally.won_files.unsigned_abs();
        let takes_away = taken.all(layer.id);
        Self {
            number: layer.position,
            name: layer.about.name.clone(),
            version: layer.about.version.clone(),
            variant: layer.about.variant.clone(),
            laid: layer.laid,
            files: layer.about.files,
            bytes: layer.about.bytes,
            takes_away,
            wins_files: won.saturating_sub(taken.won(layer.id)),
            contested_files: layer.tally.contested_files.unsigned_abs(),
            open_files: layer.tally.open_files.unsigned_abs(),
            has_no_effect: layer.laid && won == 0 && layer.about.files + takes_away > 0,
            added_at: layer.about.added_at.clone(),
        }
    }
}

/// The game's own files, beneath all layers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct BaseRow {
    /// The game's name.
    pub name: String,
    /// Its version, where it is known.
    pub version: Option<String>,
    /// The version that its files tell now, where that is another one.
    pub version_now: Option<String>,
    /// The layer whose file tells it, where it is a layer's.
    pub version_by: Option<String>,
    /// It is another one since somebody has changed that file: the game was updated, and that is not taken in yet.
    pub updated: bool,
    /// What was seen when it was added.
    pub seen: Count,
}

/// The whole stack.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct StackReport {
    /// All layers from the top to the bottom.
    pub layers: Vec<LayerRow>,
    /// What lies beneath them.
    pub base: BaseRow,
    /// Needs of laid layers that are not met.
    pub unmet: Vec<Unmet>,
    /// What was begun and must be ended before the stack can change, if something was.
    pub under_way: Option<UnderWayRow>,
    /// The number of this state of the stack, 0 before the first change.
    pub revision: i64,
}

/// Something under way between two commands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct UnderWayRow {
    /// What.
    #[serde(serialize_with = "as_shown")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub kind: OngoingKind,
    /// Since when, RFC 3339.
    pub begun_at: String,
}

/// Gives JSON the words.
fn as_shown<S: serde::Serializer>(kind: &OngoingKind, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(kind)
}

/// Whether something was begun that must be ended before the stack can change.
///
/// # Errors
/// [`LedgerError`].
pub fn is_under_way(ledger: &Ledger) -> Result<bool, LedgerError> {
    Ok(ledger.catalogue.ongoing()?.is_some())
}

/// What the layers of the stack take on the disk beside the game.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct StoredUse {
    /// What the ledger keeps for them.
    pub kept_bytes: u64,
    /// What of it is one with files in the game, and takes room once.
    pub shared: Count,
    /// The disk can keep what is alike once, however many files have it.
    pub may_share_blocks: bool,
}

/// What the layers of `stack` take on the disk.
///
/// # Errors
/// [`LedgerError`].
pub fn stored_use(ledger: &Ledger, stack: &StackReport) -> Result<StoredUse, LedgerError> {
    let kept_bytes = stack.layers.iter().map(|layer| layer.bytes).sum();
    let shared = Count::of_sizes(&ledger.shared_contents()?);
    Ok(StoredUse { kept_bytes, shared, may_share_blocks: may_share_blocks(ledger.folder()) })
}

/// The stack from the top to the base. Reads no more than one row a layer, and what layers take away.
///
/// # Errors
/// [`LedgerError`].
pub fn stack(ledger: &Ledger) -> Result<StackReport, LedgerError> {
    let layers = ledger.layers()?;
    Ok(StackReport {
        layers: layer_rows(ledger, layers.iter().rev())?,
        base: base_row(ledger)?,
        unmet: unmet_under(ledger, &ledger.catalogue.facts()?, &ledger.catalogue.arrangement()?)?,
        under_way: ledger
            .catalogue
            .ongoing()?
            .map(|ongoing| UnderWayRow { kind: ongoing.kind, begun_at: ongoing.begun_at }),
        revision: ledger.catalogue.last_revision()?,
    })
}

fn base_row(ledger: &Ledger) -> Result<BaseRow, LedgerError> {
    let game = ledger.game();
    let GameVersionNow { known, version, layer, is_changed } = game_version_now(ledger)?;
    let version_by = layer.map(|layer| ledger.catalogue.layer_name(layer)).transpose()?;
    let version_now = version.filter(|version| Some(version) != known.as_ref());
    let version_by = version_by.filter(|_| version_now.is_some());
    Ok(BaseRow {
        name: game.name.clone(),
        version: known,
        version_now,
        version_by,
        updated: is_changed,
        seen: game.seen.into(),
    })
}

/// A root of a game.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct RootRow {
    /// Its name in addresses.
    pub name: String,
    /// Where it lies.
    pub folder: String,
    /// Whether the folder is there.
    pub is_there: bool,
    /// Other games that use it, too.
    pub shared_with: Vec<String>,
}

/// A short name for a folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct SpotRow {
    /// The short name.
    pub name: String,
    /// What it stands for.
    pub address: String,
}

/// One game.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct GameReport {
    /// The user's name for it.
    pub name: String,
    /// Its version, where it is known.
    pub version: Option<String>,
    /// The address of the file that the version was read from; none when the user stated it.
    pub version_read_from: Option<String>,
    /// The pattern by which it was read there, if one was given.
    pub version_pattern: Option<String>,
    /// Which files blend beyond what their names say: `GLOB=FORMAT`, or `GLOB=no`.
    pub blend: Vec<String>,
    /// Where the game writes by itself, and is left alone.
    pub volatile: Vec<String>,
    /// Patterns of containers of which a later one wins, member by member.
    pub later_wins: Vec<String>,
    /// What starts programs of another system, with its arguments.
    pub runner: Option<String>,
    /// How big files of layers are laid.
    pub big_files: BigFiles,
    /// The address of the main program.
    pub program: Option<String>,
    /// Spellings that differ in case are different addresses.
    pub exact_case: bool,
    /// Its folders, the main one first.
    pub roots: Vec<RootRow>,
    /// Short names for folders.
    pub spots: Vec<SpotRow>,
    /// Where its ledger lies.
    pub ledger: String,
    /// What was seen when it was added.
    pub seen: Count,
    /// When that was, RFC 3339.
    pub added_at: String,
    /// Layers on the game.
    pub laid_layers: u64,
    /// Layers kept off it.
    pub lifted_layers: u64,
    /// Its zip-based containers, into which layers can go; none where they were not counted.
    pub containers: Option<ContainersRow>,
}

/// How many containers a game has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ContainersRow {
    /// How many there are.
    pub count: u64,
    /// Their members together.
    pub members: u64,
}

/// The game with its roots, spots and settings.
///
/// # Errors
/// [`LedgerError`].
pub fn game_report(ledger: &Ledger) -> Result<GameReport, LedgerError> {
    let layers = ledger.layers()?;
    let laid = layers.iter().filter(|layer| layer.laid).count() as u64;
    Ok(game_rows(ledger.game(), ledger.folder(), laid, layers.len() as u64 - laid))
}

/// As [`game_report`], with its containers counted: each file that may be one is opened.
///
/// # Errors
/// [`LedgerError`].
pub fn game_report_with_containers(ledger: &Ledger) -> Result<GameReport, LedgerError> {
    let seen = game_containers(ledger)?;
    let members = seen.iter().map(|container| container.members.len() as u64).sum();
    let containers = Some(ContainersRow { count: seen.len() as u64, members });
    Ok(GameReport { containers, ..game_report(ledger)? })
}

pub(super) fn game_rows(game: &Game, ledger: &Path, laid_layers: u64, lifted_layers: u64) -> GameReport {
    let roots = game.roots.iter().map(|root| RootRow {
        name: root.name.to_string(),
        folder: root.folder.display().to_string(),
        is_there: root.folder.is_dir(),
        shared_with: games_sharing(root, ledger),
    });
    let spots =
        game.spots.iter().map(|(name, to)| SpotRow { name: name.to_string(), address: to.to_string() });
    GameReport {
        name: game.name.clone(),
        version: game.version.as_ref().map(|version| version.version.clone()),
        version_read_from: game.version.as_ref().and_then(|version| version.read_from.clone()),
        version_pattern: game.version.as_ref().and_then(|version| version.pattern.clone()),
        blend: game
            .blend_rules
            .iter()
            .map(|rule| format!("{}={}", rule.pattern, rule.format.map_or("no", Format::name)))
            .collect(),
        volatile: game.volatile.clone(),
        later_wins: game.later_wins.clone(),
        runner: game.runner.clone(),
        big_files: game.big_files,
        program: game.program.as_ref().map(ToString::to_string),
        exact_case: game.folding == Folding::Exact,
        roots: roots.collect(),
        spots: spots.collect(),
        ledger: ledger.display().to_string(),
        seen: game.seen.into(),
        added_at: game.added_at.clone(),
        laid_layers,
        lifted_layers,
        containers: None,
    }
}
