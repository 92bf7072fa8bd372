//! Where one is: each game in one line.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use crate::check::{CheckError, check, roots_are_there};
use crate::expected::game_version_now;
use crate::jobs::stack::stack;
use crate::ledger::Ledger;
use crate::ledger::OngoingKind;
use crate::observer::Observer;

/// So many files are compared without being asked.
const MOST_FILES: u64 = 50_000;

/// One game with what wants attention.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct GameLine {
    /// Its name.
    pub name: String,
    /// The version that its files tell now.
    pub version: Option<String>,
    /// The version that is known, where its client has brought another one since.
    pub updated_from: Option<String>,
    /// Layers on the game.
    pub laid_layers: u64,
    /// Layers kept off it.
    pub lifted_layers: u64,
    /// Addresses at which it is open which layer should win.
    pub open_files: u64,
    /// Files that are not as the stack says; none where that was not looked at.
    pub drifted_files: Option<u64>,
    /// Needs of laid layers that are not met.
    pub unmet_needs: u64,
    /// What was begun and must be ended before the stack can change.
    #[serde(serialize_with = "as_shown")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub under_way: Option<OngoingKind>,
    /// A folder of it is not there.
    pub folder_missing: bool,
}

/// Gives JSON the words.
fn as_shown<S: serde::Serializer>(kind: &Option<OngoingKind>, serializer: S) -> Result<S::Ok, S::Error> {
    kind.map(|kind| kind.to_string()).serialize(serializer)
}

/// What is to be said of one game. Files are compared by size and time, and in big games not at all.
///
/// # Errors
/// [`CheckError`].
pub fn game_line(ledger: &Ledger, observer: &dyn Observer) -> Result<GameLine, CheckError> {
    let report = stack(ledger)?;
    let version = game_version_now(ledger)?;
    let folder_missing = roots_are_there(ledger).is_err();
    let drifted_files = match !folder_missing && ledger.game().seen.0 <= MOST_FILES {
        true => match check(ledger, false, observer) {
            Ok(found) => Some(found.drifted.len() as u64),
            // Another command is at it; that is no matter of this one.
            Err(CheckError::UnderWay) => None,
            Err(error) => return Err(error),
        },
        false => None,
    };
    let laid = report.layers.iter().filter(|layer| layer.laid).count() as u64;
    Ok(GameLine {
        name: report.base.name,
        updated_from: version.known.clone().filter(|_| version.is_changed),
        version: version.version.or(version.known),
        laid_layers: laid,
        lifted_layers: report.layers.len() as u64 - laid,
        open_files: report.layers.iter().map(|layer| layer.open_files).max().unwrap_or_default(),
        drifted_files,
        unmet_needs: report.unmet.iter().filter(|unmet| !unmet.despite).count() as u64,
        under_way: report.under_way.map(|under_way| under_way.kind),
        folder_missing,
    })
}
