//! What stands against adding games, setting them up, or moving their home.

use odd_stack_core::change::ChangeError;
use odd_stack_core::front::NoPermission;
use odd_stack_core::jobs::{MoveHomeError, MoveLedgerError, RegisterError, SetError};

use super::sharing::root_of_game;
use super::{Exit, Failure};
use crate::shell::in_quotes;

impl From<MoveHomeError> for Failure {
    fn from(error: MoveHomeError) -> Self {
        match error {
            MoveHomeError::Ledger(error) => error.into(),
            MoveHomeError::InUse { source, .. } if !matches!(*source, ChangeError::UnderWay { .. }) => {
                (*source).into()
            }
            MoveHomeError::InUse { .. } => Self::of(Exit::Undecided, "under_way", &error),
            MoveHomeError::Nothing { .. } | MoveHomeError::NotEmpty { .. } => {
                Self::of(Exit::Failed, "home_stays", &error)
            }
            MoveHomeError::OtherDisk { .. } => Self::of(Exit::Failed, "home_stays", &error)
                .advising("lift all layers, `oddstack game forget` the games and add them again with --home"),
        }
    }
}

impl From<MoveLedgerError> for Failure {
    fn from(error: MoveLedgerError) -> Self {
        match error {
            MoveLedgerError::Change(error) => error.into(),
            MoveLedgerError::Place(error) => error.into(),
            MoveLedgerError::Running(programs) => NoPermission::Running(programs).into(),
            MoveLedgerError::IsThere { .. } | MoveLedgerError::NotEmpty { .. } => {
                Self::of(Exit::Failed, "ledger_stays", &error)
            }
        }
    }
}

impl From<RegisterError> for Failure {
    #[expect(clippy::too_many_lines, reason = "one arm for each error")]
    fn from(error: RegisterError) -> Self {
        let afresh = "take what lies there as the game's own";
        match &error {
            RegisterError::LedgerGone { .. } => {
                return Self::of(Exit::Undecided, "ledger_gone", &error)
                    .advising("if the ledger lies elsewhere, say where with `--ledger DIR`")
                    .choice(afresh, "--afresh");
            }
            RegisterError::RootOfGame { root, .. } => return root_of_game(&error, root),
            RegisterError::CopyWithLayers { .. } => {
                return Self::of(Exit::Undecided, "copy_with_layers", &error).choice(afresh, "--afresh");
            }
            RegisterError::Moved { folder, game, .. } => {
                let there = in_quotes(&format!("game={}", folder.display()));
                let set = format!("oddstack game set {} --root {there}", in_quotes(game));
                return Self::of(Exit::Undecided, "moved", &error)
                    .choice("it was moved: say so, and go on with its layers", set)
                    .choice(afresh, "--afresh");
            }
            _ => {}
        }
        let advice = match &error {
            RegisterError::LedgerRemote { .. } => {
                "give a folder on a disk of this computer with --ledger DIR"
            }
            RegisterError::OverlapsGame { .. } => {
                "give another folder, or `oddstack game forget` that one first"
            }
            RegisterError::LedgerInRoot { .. } => {
                "keep what Odd Stack stores elsewhere, with --ledger DIR or --home DIR"
            }
            RegisterError::LedgerNotEmpty { .. } => "give an empty or new folder to --ledger",
            RegisterError::OtherHome { .. } => {
                "use that one with `--home`, or forget the game there with `oddstack game forget`"
            }
            RegisterError::NoVersion { .. } => "state it with --game-version V",
            _ => "",
        };
        let (exit, code) = match error {
            RegisterError::Ledger(error) => return error.into(),
            RegisterError::Scan(_) => (Exit::Failed, "scan_failed"),
            RegisterError::Address(_) => (Exit::Failed, "bad_address"),
            RegisterError::NoGames { .. } => (Exit::Failed, "no_games_folder"),
            RegisterError::LedgerRemote { .. } => (Exit::Failed, "ledger_remote"),
            RegisterError::NotAFolder { .. } => (Exit::Failed, "not_a_folder"),
            RegisterError::WholeDisk { .. } => (Exit::Failed, "whole_disk"),
            RegisterError::BadName { .. } => (Exit::Usage, "bad_name"),
            RegisterError::BadRunner { .. } => (Exit::Usage, "bad_runner"),
            RegisterError::NameTaken { .. } => (Exit::Failed, "name_taken"),
            RegisterError::Overlap { .. } => (Exit::Failed, "roots_overlap"),
            RegisterError::AlreadyInCare { .. } => (Exit::Failed, "already_in_care"),
            RegisterError::OverlapsGame { .. } => (Exit::Failed, "overlaps_game"),
            RegisterError::NoRootToShare { .. } => (Exit::Usage, "no_root_to_share"),
            RegisterError::LedgerInRoot { .. } => (Exit::Failed, "ledger_in_root"),
            RegisterError::LedgerNotEmpty { .. } => (Exit::Failed, "ledger_not_empty"),
            RegisterError::OtherLedger { .. } => (Exit::Failed, "other_ledger"),
            RegisterError::NameOfRoot { .. } => (Exit::Failed, "name_of_root"),
            RegisterError::FileMissing { .. } => (Exit::Failed, "file_missing"),
            RegisterError::NoVersion { .. } => (Exit::Failed, "no_version"),
            RegisterError::OtherHome { .. } => (Exit::Failed, "other_home"),
            RegisterError::NotText { .. } => (Exit::Failed, "name_no_text"),
            RegisterError::LedgerGone { .. }
            | RegisterError::CopyWithLayers { .. }
            | RegisterError::Moved { .. }
            | RegisterError::RootOfGame { .. } => (Exit::Undecided, "in_care_before"),
        };
        Self::of(exit, code, &error).advising(advice)
    }
}

impl From<SetError> for Failure {
    fn from(error: SetError) -> Self {
        match error {
            SetError::Care(error) => error.into(),
            SetError::Pattern(error) => error.into(),
            SetError::Unknown { .. } => Self::of(Exit::Failed, "unknown_name", &error),
            SetError::NotIt { .. } => {
                let mut failure = Self::of(Exit::Failed, "not_it", &error);
                failure.message.push_str(
                    "; nothing was changed. Give the folder that holds the game, or put it there first",
                );
                failure
            }
            SetError::RootInUse { .. } => Self::of(Exit::Failed, "root_in_use", &error),
            SetError::OtherVolume { .. } => Self::of(Exit::Failed, "other_volume", &error)
                .advising("lift them first with `oddstack lift --all`"),
        }
    }
}
