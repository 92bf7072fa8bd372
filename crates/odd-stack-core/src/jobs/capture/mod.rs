//! Capture: what a program, or a person, changes in the game becomes a layer.
//!
//! Before it begins, all roots are looked through and what was seen is written down in the ledger (`seen`), and the
//! files that could not be had again are protected (`guard`): those of the base that no layer covers, and files of
//! layers that were edited. Then the catalogue notes that a capture is under way, and the program may run. At its end
//! the roots are looked through again; what differs becomes a layer on top (`end`) or is taken back (`cancel`). Both are
//! changes like any other: files that lie there already stay where they are, saved originals go to the originals by
//! rename, and the note that a capture is under way goes in the same transaction. So a stop anywhere leaves the capture
//! under way, to be ended or taken back, or ended.

mod cancel;
mod differences;
mod end;
mod entry;
mod folders;
mod guard;
mod inside;
mod seen;

use std::path::{Path, PathBuf};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::add::request::free_name;
use super::{AddError, AddPlace, Permit};
use crate::change::{ChangeError, ChangeOptions, ChangeRequest, Edits, prepare};
use crate::check::{CheckError, check_and_keep};
use crate::game::{AddressPatterns, PatternError};
use crate::ledger::{Ledger, LedgerError, Lock, Ongoing, OngoingKind, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::stack::{LayerId, Standing};

pub use cancel::{Cancelling, prepare_capture_cancel, prepare_capture_close};
pub use end::{CaptureEnd, Ending, SettingsRow, prepare_capture_end};

/// Why a capture can't begin or end. The game is as it was; a capture that was under way still is.
#[derive(Debug, Error)]
pub enum CaptureError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The change can't be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// The disk can't be looked at.
    #[error(transparent)]
    Check(#[from] CheckError),
    /// A pattern can't be read.
    #[error(transparent)]
    Pattern(#[from] PatternError),
    /// The layer's name can't be used.
    #[error(transparent)]
    Name(Box<AddError>),
    /// None is under way.
    #[error("no capture is under way")]
    NoneUnderWay,
    /// It was cut short before the program could begin.
    #[error("the capture was cut short before it had looked through the game; take it back, and begin again")]
    NotReady,
    /// The whole game would have to be copied first.
    #[error(
        "to be able to take back what the program does, {files} files of {bytes} bytes would have to be copied first, \
         since this disk can't share them"
    )]
    TooMuchToCopy {
        /// How many.
        files: u64,
        /// Their sizes together.
        bytes: u64,
    },
    /// Something was changed that can't be in a layer.
    #[error("{address}: {reason}; take the capture back, or put that right by hand and end it again")]
    CannotCapture {
        /// Where.
        address: String,
        /// Why not.
        reason: &'static str,
    },
}

/// What is to be captured.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CaptureRequest {
    /// The layer's name.
    pub name: String,
    /// Its version.
    pub version: Option<String>,
    /// The layer whose place it takes; it and all above it are lifted meanwhile.
    pub exchange: Option<LayerId>,
    /// The program with its arguments; none when a person works by hand.
    pub command: Option<Vec<String>>,
    /// What the program may write; if anything is said, only originals that meet it are copied.
    pub watch: Vec<String>,
    /// Originals are given a second name instead of being copied: quick, and enough for programs that replace files;
    /// what is written into a file in place is then found out and can't be recovered.
    pub links: bool,
}

/// How a program ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ProgramEnd {
    /// Its exit code; none if a signal ended it.
    pub exit_code: Option<i32>,
    /// How long it ran, in seconds.
    pub seconds: u64,
}

/// How far a capture is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
enum Stage {
    /// Layers may be lifted, and the game is not looked through yet.
    Preparing,
    /// The program may run, or has run.
    Ready,
    /// All that was changed is taken back; layers wait to be laid again.
    TakenBack,
}

/// What is kept of a capture between its commands.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct CaptureUnderWay {
    name: String,
    version: Option<String>,
    exchange: Option<LayerId>,
    command: Option<Vec<String>>,
    stage: Stage,
    /// The stack to come back to, from the bottom to the top.
    arrangement: Vec<(LayerId, bool)>,
    end: Option<ProgramEnd>,
}

impl CaptureUnderWay {
    fn read(ledger: &Ledger) -> Result<(Self, String), CaptureError> {
        let ongoing = ledger.catalogue.ongoing()?.filter(|ongoing| ongoing.kind == OngoingKind::Capture);
        let Ongoing { begun_at, about, .. } = ongoing.ok_or(CaptureError::NoneUnderWay)?;
        let begun = serde_json::from_str(&about).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        Ok((begun, begun_at))
    }

    /// The one under way, of which the program has ended.
    fn ready(ledger: &Ledger) -> Result<(Self, String), CaptureError> {
        let (begun, begun_at) = Self::read(ledger)?;
        match begun.stage {
            Stage::Ready => Ok((begun, begun_at)),
            _ => Err(CaptureError::NotReady),
        }
    }

    fn ongoing(&self, ledger: &Ledger, begun_at: &str) -> Result<Ongoing, LedgerError> {
        let about = serde_json::to_string(self).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        Ok(Ongoing { kind: OngoingKind::Capture, begun_at: begun_at.to_owned(), about })
    }

    /// The stack to come back to.
    fn arrangement(&self) -> crate::stack::Arrangement {
        let standings = self.arrangement.iter().map(|(layer, laid)| Standing { layer: *layer, laid: *laid });
        crate::stack::Arrangement::new(standings.collect())
    }
}

/// How originals are protected.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum GuardMeans {
    /// There was nothing to protect.
    #[default]
    Nothing,
    /// By copies that share the disk's blocks.
    Shared,
    /// By copies.
    Copied,
    /// By a second name.
    Linked,
}

/// What was protected before a capture.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct GuardReport {
    /// How they were protected.
    pub means: GuardMeans,
    /// Files that were protected.
    pub files: u64,
    /// Their sizes together.
    pub bytes: u64,
    /// Files of the game's own that were not, since nobody said that the program may write them.
    pub unprotected_files: u64,
    /// Files that are not what the stack says.
    pub drifted_files: u64,
}

/// A capture that is under way. Having it is the permission to change the game.
#[derive(Debug)]
#[must_use = "a capture is under way until it is ended or cancelled"]
pub struct Capturing {
    lock: Lock,
    /// What was protected.
    pub guarded: GuardReport,
}

impl Capturing {
    /// The permission to end it.
    pub(crate) fn into_permit(self) -> Permit {
        Permit { lock: self.lock }
    }
}

/// Begins a capture: lifts what must be out of the way, looks through the game, and protects originals.
///
/// # Errors
/// [`CaptureError`]; what was lifted for it lies on the game again, or, if that failed too, the capture is under way
/// and can be cancelled.
pub fn begin_capture(
    ledger: &Ledger,
    permit: Permit,
    request: &CaptureRequest,
    now: Moment,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<Capturing, CaptureError> {
    let place = request.exchange.map_or(AddPlace::New { target: None, lifted: false }, AddPlace::Exchange);
    free_name(&ledger.layers()?, &[], request.name.clone(), place)
        .map_err(|error| CaptureError::Name(Box::new(error)))?;
    let watch = AddressPatterns::parse(ledger.game(), &request.watch)?;
    clear(ledger)?;
    let before = ledger.catalogue.arrangement()?;
    let mut begun = CaptureUnderWay {
        name: request.name.clone(),
        version: request.version.clone(),
        exchange: request.exchange,
        command: request.command.clone(),
        stage: Stage::Preparing,
        arrangement: before.standings().iter().map(|standing| (standing.layer, standing.laid)).collect(),
        end: None,
    };
    let mut lock = permit.lock;
    if let Some(old) = request.exchange {
        let from = before.standings().iter().position(|standing| standing.layer == old).unwrap_or(0);
        let above: Vec<LayerId> = before.standings()[from..].iter().map(|standing| standing.layer).collect();
        let after = before.with_laid(&above, false);
        let ongoing = Some(Some(begun.ongoing(ledger, &now.to_string())?));
        let command = format!("capture {}", request.name);
        let mut change = ChangeRequest::new(&command, now, after);
        change.noted.ongoing = ongoing;
        lock = prepare(Transaction::begin(ledger)?, lock, change, options, observer)?
            .apply_and_keep(observer)?
            .1;
    }
    match make_ready(ledger, &mut begun, request, &watch, now, observer) {
        Ok(guarded) => Ok(Capturing { lock, guarded }),
        Err(error) if request.exchange.is_none() => Err(error),
        Err(error) => {
            lay_again(ledger, lock, &begun, now, observer)?;
            Err(error)
        }
    }
}

/// Looks through the game and protects originals; from then on the program may run.
fn make_ready(
    ledger: &Ledger,
    begun: &mut CaptureUnderWay,
    request: &CaptureRequest,
    watch: &AddressPatterns,
    now: Moment,
    observer: &dyn Observer,
) -> Result<GuardReport, CaptureError> {
    let (found, looked) = check_and_keep(ledger, false, observer)?;
    let guarded = guard::protect(ledger, &found.drifted, &looked, watch, request.links, observer)?;
    let report = guarded.report.clone();
    seen::write(ledger, &guarded, looked)?;
    begun.stage = Stage::Ready;
    let ongoing = begun.ongoing(ledger, &now.to_string())?;
    ledger.seam.pass("begin").map_err(LedgerError::io("write to", ledger.folder()))?;
    ledger.catalogue.write_ongoing(Some(&ongoing))?;
    Ok(report)
}

/// Lays again what was lifted for a capture that did not begin.
fn lay_again(
    ledger: &Ledger,
    lock: Lock,
    begun: &CaptureUnderWay,
    now: Moment,
    observer: &dyn Observer,
) -> Result<(), CaptureError> {
    let command = format!("take back capture {}", begun.name);
    let mut request = ChangeRequest::new(&command, now, begun.arrangement());
    request.noted.ongoing = Some(None);
    let options = ChangeOptions { edits: Edits::Keep, despite: true, ..ChangeOptions::default() };
    prepare(Transaction::begin(ledger)?, lock, request, options, observer)?.apply(observer)?;
    Ok(())
}

/// The layer whose place the capture that is under way is to take, if it takes one's.
///
/// # Errors
/// [`CaptureError::NoneUnderWay`].
pub fn capture_exchanges(ledger: &Ledger) -> Result<Option<LayerId>, CaptureError> {
    Ok(CaptureUnderWay::read(ledger)?.0.exchange)
}

/// Notes how the program ended.
///
/// # Errors
/// [`CaptureError`].
pub fn note_program_end(ledger: &Ledger, end: &ProgramEnd) -> Result<(), CaptureError> {
    let (mut begun, begun_at) = CaptureUnderWay::read(ledger)?;
    begun.end = Some(end.clone());
    Ok(ledger.catalogue.write_ongoing(Some(&begun.ongoing(ledger, &begun_at)?))?)
}

/// What starts `program` of a command: itself, or the game's runner with it where it is a program of another system.
pub fn with_runner(ledger: &Ledger, command: &[String]) -> Vec<String> {
    let Some((program, _)) = command.split_first() else { return Vec::new() };
    let command = [opener(program), command.to_vec()].concat();
    let words = ledger.game().runner.as_deref().and_then(shlex::split).unwrap_or_default();
    let ending = Path::new(program).extension().map(|ending| ending.to_string_lossy().to_lowercase());
    let is_windows = matches!(ending.as_deref(), Some("exe" | "msi" | "bat" | "cmd" | "com"));
    if words.is_empty() || is_windows == cfg!(windows) {
        return command;
    }
    words.into_iter().chain(command).collect()
}

/// What opens a file that Windows does not start by itself.
fn opener(program: &str) -> Vec<String> {
    let ending = Path::new(program).extension().map(|ending| ending.to_string_lossy().to_lowercase());
    let words: &[&str] = match ending.as_deref() {
        Some("msi") => &["msiexec", "/i"],
        Some("ps1") if cfg!(windows) => &["powershell", "-ExecutionPolicy", "Bypass", "-File"],
        _ => &[],
    };
    words.iter().map(|word| (*word).to_owned()).collect()
}

/// The folder in the ledger for what was seen.
fn capture_folder(ledger: &Ledger) -> PathBuf {
    ledger.folder().join("capture")
}

/// Removes what an earlier capture has left, if none is under way.
///
/// # Errors
/// [`LedgerError`]; it is tried again the next time.
fn clear(ledger: &Ledger) -> Result<(), LedgerError> {
    guard::remove(ledger)?;
    let folder = capture_folder(ledger);
    crate::change::empty_folder(&folder, &*ledger.seam).map_err(LedgerError::io("empty", &folder))
}

/// As [`clear`], after a capture; what can't be removed now is removed before the next one.
fn clear_after(ledger: &Ledger) {
    let _ = clear(ledger);
}
