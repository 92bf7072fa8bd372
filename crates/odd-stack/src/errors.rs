//! What a failure means to a person: its exit code, its words, and what to do now.

mod adding;
mod building;
mod fits;
mod games;
mod history;
mod ledger;
mod needs;
mod packages;
mod sharing;

use std::error::Error;
use std::process::ExitCode;

use odd_stack_core::blend::Clash;
use odd_stack_core::change::{ChangeError, ClashingFile};
use odd_stack_core::check::CheckError;
use odd_stack_core::expected::DriftKind;
use odd_stack_core::front::{NoPermission, Refused};
use odd_stack_core::game::{PatternError, Running};
use odd_stack_core::jobs::{
    AddError, AddressesError, CaptureError, MendError, PatchDayError, PlayError, SelectError, SettleError,
    TraceError, TweakError,
};
use odd_stack_core::ledger::OngoingKind;
use serde_json::{Value, json};
use unicode_width::UnicodeWidthStr;

pub use self::fits::{fit_failure, question_words};
use self::ledger::{contents_lost, originals_lost};
use self::needs::unmet_needs;
use self::sharing::of_other_games;
use crate::shell::{in_quotes, quoted};
use crate::show::safe::one_line;
use crate::show::units;

/// The exit codes of the command contract.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    /// Failed, nothing changed.
    Failed = 1,
    /// Wrong usage.
    Usage = 2,
    /// Looked and found something that wants attention.
    WantsAttention = 3,
    /// A decision is needed first; nothing changed.
    Undecided = 4,
    /// The ledger is damaged.
    Damaged = 5,
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit as u8)
    }
}

/// A way to go on, with the exact option for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Choice {
    pub does: String,
    pub option: String,
}

/// Why a command did not do what it was asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Failure {
    pub exit: Exit,
    /// A word for programs.
    pub code: &'static str,
    pub message: String,
    /// Addresses, links or other things it is about, one a line.
    pub list: Vec<String>,
    pub choices: Vec<Choice>,
}

/// Lines of a list before it is cut short in text; JSON has all.
const MOST_LINES: usize = 20;

impl Failure {
    pub fn new(exit: Exit, code: &'static str, message: impl Into<String>) -> Self {
        Self { exit, code, message: message.into(), list: Vec::new(), choices: Vec::new() }
    }

    /// Takes an error's own words and those of its causes.
    fn of(exit: Exit, code: &'static str, error: &dyn Error) -> Self {
        Self::new(exit, code, with_causes(error))
    }

    /// Adds what to do, where there is anything to say.
    pub fn advising(mut self, advice: &str) -> Self {
        if !advice.is_empty() {
            self.message.push_str("; ");
            self.message.push_str(advice);
        }
        self
    }

    #[must_use]
    pub fn choice(mut self, does: &str, option: impl Into<String>) -> Self {
        self.choices.push(Choice { does: one_line(does), option: option.into() });
        self
    }

    /// Without the choices of that option.
    #[must_use]
    pub fn without_choice(mut self, option: &str) -> Self {
        self.choices.retain(|choice| choice.option.split(' ').next() != Some(option));
        self
    }

    /// Says first which package it is about.
    #[must_use]
    pub fn of_package(mut self, package: &str) -> Self {
        self.message = format!("{package}: {}", self.message);
        self
    }

    #[must_use]
    pub fn about(mut self, list: impl IntoIterator<Item = String>) -> Self {
        self.list.extend(list);
        self
    }

    pub fn to_text(&self) -> String {
        let mut lines = vec![self.message.clone()];
        lines.extend(self.list.iter().take(MOST_LINES).map(|line| format!("  {}", one_line(line))));
        if self.list.len() > MOST_LINES {
            lines.push(format!("  ... and {} more (--json lists all)", self.list.len() - MOST_LINES));
        }
        if !self.choices.is_empty() {
            lines.push("Choose:".to_owned());
            let widest = self.choices.iter().map(|choice| choice.option.width()).max().unwrap_or(0);
            lines.extend(self.choices.iter().map(|choice| {
                let gap = " ".repeat(widest - choice.option.width());
                format!("  {}{gap}  {}", choice.option, choice.does)
            }));
        }
        lines.join("\n")
    }

    pub fn to_json(&self) -> Value {
        let choices: Vec<Value> = self
            .choices
            .iter()
            .map(|choice| json!({ "option": choice.option, "does": choice.does }))
            .collect();
        json!({ "code": self.code, "message": self.message, "list": self.list, "choices": choices })
    }
}

fn with_causes(error: &dyn Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        let words = error.to_string();
        if !text.contains(&words) {
            text.push_str(": ");
            text.push_str(&words);
        }
        cause = error.source();
    }
    text
}

/// The word for a kind of drift, for a person.
pub fn drift_words(kind: DriftKind) -> &'static str {
    match kind {
        DriftKind::Edited => "edited since it was laid",
        DriftKind::Missing => "missing",
        DriftKind::PutBack => "the game's own file lies there again",
        DriftKind::Updated => "changed by an update of the game",
        DriftKind::BaseChanged => "the game's own file, changed since it was last seen",
        DriftKind::BaseTouched => "the game's own file, written again since it was last seen",
        DriftKind::BaseAdded => "new among the game's own files",
        DriftKind::BaseGone => "the game's own file, missing",
        DriftKind::Stray => "a file that Odd Stack did not put there",
        DriftKind::FolderGone => "a folder that is gone",
        DriftKind::OtherSpelling => "beside a layer's file, its name spelled otherwise",
    }
}

/// Each setting that both sides changed, with both values; `new_one` says whose the other is.
pub fn clash_lines(file: &ClashingFile, new_one: &str) -> Vec<String> {
    let value = |value: &Option<String>| match value {
        Some(text) => text.replace('\n', " / "),
        None => "(not there)".to_owned(),
    };
    let line = |clash: &Clash| {
        let (mine, new, old) = (value(&clash.mine), value(&clash.new), value(&clash.old));
        format!("{}  {}: yours {mine}, {new_one} {new} (it was {old})", file.address, clash.what)
    };
    file.clashes.iter().map(line).collect()
}

impl From<ChangeError> for Failure {
    fn from(error: ChangeError) -> Self {
        match error {
            ChangeError::Ledger(error) => error.into(),
            ChangeError::Drifted { ref drifted } => Self::new(
                Exit::Undecided,
                "drifted",
                format!(
                    "{} in the way {} not as Odd Stack left {}; nothing was changed:",
                    crate::show::units::files(drifted.len() as u64),
                    if drifted.len() == 1 { "is" } else { "are" },
                    if drifted.len() == 1 { "it" } else { "them" },
                ),
            )
            .about(drifted.iter().map(|drift| format!("{}  ({})", drift.address, drift_words(drift.kind))))
            .choice("save what is on disk now and go on", "--keep-edits")
            .choice("discard what is on disk now and go on", "--discard-edits"),
            ChangeError::OfOtherGames { ref files } => of_other_games(files),
            ChangeError::NotIntoContainer { .. } => Self::of(Exit::Failed, "into_container", &error)
                .advising("lift the layers that change it, and look at it with `oddstack check --deep`"),
            ChangeError::ContentsLost { ref files } => contents_lost(files),
            ChangeError::OriginalsLost { ref files } => originals_lost(files),
            ChangeError::EditsClash { ref files } => Self::new(
                Exit::Undecided,
                "edits_clash",
                "you and the new version changed the same; nothing was changed:",
            )
            .about(files.iter().flat_map(|file| clash_lines(file, "the new version's")))
            .choice("where both changed something, keep yours", "--both-changed mine")
            .choice("where both changed something, take the new version's", "--both-changed new")
            .choice("save your whole files and take the new version's", "--keep-edits")
            .choice("discard your whole files and take the new version's", "--discard-edits"),
            ChangeError::Unmet { ref unmet } => unmet_needs(unmet, &error),
            ChangeError::UnderWay { ref ongoing } => {
                let mut failure = Self::of(Exit::Undecided, "under_way", &error);
                failure.message.push_str("; end it first");
                match ongoing.kind {
                    OngoingKind::PatchDay => failure
                        .choice("look at the game anew and lay what still fits", "oddstack patchday finish"),
                    OngoingKind::Culprit => failure
                        .choice("the game works with what is laid now", "oddstack culprit --works")
                        .choice("it does not", "oddstack culprit --broken")
                        .choice("give up the search: all layers as they were", "oddstack culprit --cancel"),
                    OngoingKind::Capture => failure
                        .choice("make a layer of what was changed", "oddstack capture --end")
                        .choice("take back all that was changed", "oddstack capture --cancel"),
                }
            }
            ChangeError::Circle { .. } => Self::of(Exit::Undecided, "order_in_a_circle", &error)
                .choice("go on, and let one of these rules be broken", "--despite"),
            ChangeError::FileAgainstFolder { .. } => Self::of(Exit::Failed, "file_against_folder", &error),
            ChangeError::NotAFolder { .. } => Self::of(Exit::Undecided, "link_in_the_way", &error),
            ChangeError::RootMissing { .. } => root_missing(&error),
            ChangeError::Look { .. } | ChangeError::Stage { .. } => {
                Self::of(Exit::Failed, "disk_failed", &error)
            }
            ChangeError::TakenBack { .. } => Self::of(Exit::Failed, "taken_back", &error),
            ChangeError::Stuck { .. } => Self::of(Exit::Failed, "stuck", &error),
            // The change is made.
            ChangeError::NotWrittenDown { .. } => Self::of(Exit::WantsAttention, "not_written_down", &error),
            ChangeError::Cancelled => Self::of(Exit::Failed, "stopped", &error),
        }
    }
}

/// A root that is not where it should be.
fn root_missing(error: &dyn Error) -> Failure {
    let mut failure = Failure::of(Exit::Undecided, "root_missing", error);
    failure.message.push_str(
        " Say where it lies now with `oddstack game set --folder DIR`, a further folder with `--root ID=DIR`; remove a game that is gone for good with \
         `oddstack game forget --leave-layers`",
    );
    failure
}

/// Programs of the game that run, and files that must not change under them.
fn is_running(running: &[Running]) -> Failure {
    let message = "the game is running; close it first, or its files change under it:";
    Failure::new(Exit::Undecided, "game_running", message)
        .about(running.iter().map(|it| format!("{}  (process {})", it.program.display(), it.process)))
        .choice("go on all the same", "--while-running")
}

impl From<NoPermission> for Failure {
    fn from(error: NoPermission) -> Self {
        match error {
            NoPermission::Change(error) => error.into(),
            NoPermission::Running(running) => is_running(&running),
        }
    }
}

impl<E: std::error::Error + Into<Self>> From<Refused<E>> for Failure {
    fn from(error: Refused<E>) -> Self {
        match error {
            Refused::NoPermission(error) => error.into(),
            Refused::Job(error) => error.into(),
        }
    }
}

impl From<AddressesError> for Failure {
    fn from(error: AddressesError) -> Self {
        match error {
            AddressesError::Ledger(error) => error.into(),
            AddressesError::Pattern(error) => error.into(),
        }
    }
}

impl From<PatternError> for Failure {
    fn from(error: PatternError) -> Self {
        match error {
            PatternError::Address(_) => Self::of(Exit::Failed, "bad_address", &error),
            PatternError::Pattern { .. } => Self::of(Exit::Usage, "bad_pattern", &error),
        }
    }
}

impl From<SettleError> for Failure {
    fn from(error: SettleError) -> Self {
        match error {
            SettleError::Addresses(error) => error.into(),
            SettleError::Change(error) => error.into(),
            SettleError::NoContest { .. } => Self::of(Exit::Failed, "no_contest", &error),
            SettleError::NothingSettled { .. } => Self::of(Exit::Failed, "nothing_settled", &error),
            SettleError::NotThere { .. } => Self::of(Exit::Failed, "not_there", &error),
        }
    }
}

impl From<TweakError> for Failure {
    fn from(error: TweakError) -> Self {
        let code = match error {
            TweakError::Change(error) => return error.into(),
            TweakError::Address(_) => "bad_address",
            TweakError::NoFile { .. } => "nothing_there",
            TweakError::NotKeys { .. } => "no_configuration",
            TweakError::BadKey { .. } => "bad_key",
            TweakError::NoEdit { .. } => "no_such_edit",
        };
        let advice = match error {
            TweakError::NotKeys { is_unknown: true, .. } => {
                "`oddstack game set --blend GLOB=FORMAT` says that it is one"
            }
            _ => "",
        };
        Self::of(Exit::Failed, code, &error).advising(advice)
    }
}

impl From<SelectError> for Failure {
    fn from(error: SelectError) -> Self {
        match &error {
            SelectError::Unknown { .. } => Self::of(Exit::Failed, "no_such_layer", &error),
            SelectError::Ambiguous { layers, .. } => {
                let mut failure = Self::of(Exit::Undecided, "ambiguous_layer", &error);
                for layer in layers {
                    failure = failure.choice("this layer", in_quotes(layer));
                }
                failure
            }
        }
    }
}

impl From<TraceError> for Failure {
    fn from(error: TraceError) -> Self {
        match error {
            TraceError::Ledger(error) => error.into(),
            TraceError::Address(_) => Self::of(Exit::Failed, "bad_address", &error),
            TraceError::Folder { .. } => Self::of(Exit::Failed, "is_a_folder", &error),
            TraceError::NoKeys { .. } => Self::of(Exit::Failed, "no_keys", &error),
            TraceError::Nothing { .. } => Self::of(Exit::Failed, "nothing_there", &error),
        }
    }
}

impl From<CheckError> for Failure {
    fn from(error: CheckError) -> Self {
        match error {
            CheckError::Ledger(error) => error.into(),
            CheckError::Look { .. } => Self::of(Exit::Failed, "disk_failed", &error),
            CheckError::RootMissing { .. } => root_missing(&error),
            CheckError::UnderWay => Self::of(Exit::Failed, "busy", &error),
            CheckError::Cancelled => Self::of(Exit::Failed, "stopped", &error),
        }
    }
}

impl From<MendError> for Failure {
    fn from(error: MendError) -> Self {
        let code = match error {
            MendError::Ledger(error) => return error.into(),
            MendError::Pattern(error) => return error.into(),
            MendError::Change(error) => return error.into(),
            MendError::Tweak(error) => return error.into(),
            MendError::Check(error) => return error.into(),
            MendError::OfLayer { .. } => "of_a_layer",
            MendError::Nothing { .. } | MendError::NothingThere { .. } => "nothing_there",
        };
        let advice = match error {
            MendError::Nothing { .. } => "`oddstack check` lists what drifted",
            _ => "",
        };
        Self::of(Exit::Failed, code, &error).advising(advice)
    }
}

fn too_much_to_copy(files: u64, bytes: u64) -> Failure {
    let (files, size) = (units::files(files), units::size(bytes));
    let message = format!(
        "to be able to take back what the program does, {files} ({size}) would have to be copied first, since this disk \
         can't share them"
    );
    Failure::new(Exit::Undecided, "too_much_to_copy", message)
        .advising("say what it may write with `--watch` and patterns")
        .choice("copy all of it first", "--watch \"*\"")
        .choice(
            "only give files a second name: what it writes in place can't be recovered",
            "--link-originals",
        )
}

impl From<CaptureError> for Failure {
    fn from(error: CaptureError) -> Self {
        match error {
            CaptureError::Ledger(error) => error.into(),
            CaptureError::Change(error) => error.into(),
            CaptureError::Check(error) => error.into(),
            CaptureError::Pattern(error) => error.into(),
            CaptureError::Name(error) => match *error {
                AddError::NameTaken { .. } => Self::of(Exit::Undecided, "name_taken", &*error),
                error => error.into(),
            },
            CaptureError::NoneUnderWay => Self::of(Exit::Failed, "no_capture", &error).advising(
                "begin one with `oddstack capture NAME --begin`, or `oddstack capture NAME -- COMMAND`",
            ),
            CaptureError::NotReady => Self::of(Exit::Undecided, "capture_not_ready", &error)
                .choice("take it back, and begin again", "oddstack capture --cancel"),
            CaptureError::TooMuchToCopy { files, bytes } => too_much_to_copy(files, bytes),
            CaptureError::CannotCapture { .. } => Self::of(Exit::Undecided, "cannot_capture", &error)
                .choice("take back all that was changed", "oddstack capture --cancel"),
        }
    }
}

impl From<PatchDayError> for Failure {
    fn from(error: PatchDayError) -> Self {
        match error {
            PatchDayError::Ledger(error) => error.into(),
            PatchDayError::Change(error) => error.into(),
            PatchDayError::Check(error) => error.into(),
            PatchDayError::Tweak(error) => error.into(),
        }
    }
}

impl From<PlayError> for Failure {
    fn from(error: PlayError) -> Self {
        let code = match error {
            PlayError::Ledger(error) => return error.into(),
            PlayError::Check(error) => return error.into(),
            PlayError::Change(error) => return error.into(),
            PlayError::Address { .. } => "bad_address",
            PlayError::NoProgram => "no_program",
            PlayError::NoSuchStart { .. } => "no_such_start",
            PlayError::NotBuilt { .. } => "not_finished",
            PlayError::ProgramMissing { .. } => "program_missing",
            PlayError::ProgramOutside { .. } => "program_outside",
        };
        let advice = match &error {
            PlayError::NoProgram => "name it with `oddstack game set --exe PATH`".to_owned(),
            PlayError::NotBuilt { lineup } => format!("`oddstack lineup build {}` goes on", quoted(lineup)),
            _ => String::new(),
        };
        Self::of(Exit::Failed, code, &error).advising(&advice)
    }
}
