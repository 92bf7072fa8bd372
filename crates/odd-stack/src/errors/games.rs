//! What stands against taking games into care, setting them up, or moving their home.

use odd_stack_core::change::ChangeError;
use odd_stack_core::jobs::{CareError, MoveHomeError, SetError};

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
            MoveHomeError::OtherDisk { .. } => Self::of(Exit::Failed, "home_stays", &error).advising(
                "lift all layers, `oddstack game forget` the games and take them into care again with --home",
            ),
        }
    }
}

impl From<CareError> for Failure {
    fn from(error: CareError) -> Self {
        let afresh = "take what lies there as the game's own";
        match &error {
            CareError::LedgerGone { .. } => {
                return Self::of(Exit::Undecided, "ledger_gone", &error)
                    .advising("if the ledger lies elsewhere, say where with `--ledger DIR`")
                    .choice(afresh, "--afresh");
            }
            CareError::RootOfGame { root, .. } => return root_of_game(&error, root),
            CareError::CopyWithLayers { .. } => {
                return Self::of(Exit::Undecided, "copy_with_layers", &error).choice(afresh, "--afresh");
            }
            CareError::Moved { folder, game, .. } => {
                let there = in_quotes(&format!("game={}", folder.display()));
                let set = format!("oddstack game set {} --root {there}", in_quotes(game));
                return Self::of(Exit::Undecided, "moved", &error)
                    .choice("it was moved: say so, and go on with its layers", set)
                    .choice(afresh, "--afresh");
            }
            _ => {}
        }
        let advice = match &error {
            CareError::LedgerRemote { .. } => "give a folder on a disk of this computer with --ledger DIR",
            CareError::OverlapsGame { .. } => "give another folder, or `oddstack game forget` that one first",
            CareError::LedgerInRoot { .. } => {
                "keep what Odd Stack stores elsewhere, with --ledger DIR or --home DIR"
            }
            CareError::LedgerNotEmpty { .. } => "give an empty or new folder to --ledger",
            CareError::OtherHome { .. } => {
                "use that one with `--home`, or let the game go there with `oddstack game forget`"
            }
            CareError::NoVersion { .. } => "state it with --game-version V",
            _ => "",
        };
        let (exit, code) = match error {
            CareError::Ledger(error) => return error.into(),
            CareError::Scan(_) => (Exit::Failed, "scan_failed"),
            CareError::Address(_) => (Exit::Failed, "bad_address"),
            CareError::NoGames { .. } => (Exit::Failed, "no_games_folder"),
            CareError::LedgerRemote { .. } => (Exit::Failed, "ledger_remote"),
            CareError::NotAFolder { .. } => (Exit::Failed, "not_a_folder"),
            CareError::WholeDisk { .. } => (Exit::Failed, "whole_disk"),
            CareError::BadName { .. } => (Exit::Usage, "bad_name"),
            CareError::BadRunner { .. } => (Exit::Usage, "bad_runner"),
            CareError::NameTaken { .. } => (Exit::Failed, "name_taken"),
            CareError::Overlap { .. } => (Exit::Failed, "roots_overlap"),
            CareError::AlreadyInCare { .. } => (Exit::Failed, "already_in_care"),
            CareError::OverlapsGame { .. } => (Exit::Failed, "overlaps_game"),
            CareError::NoRootToShare { .. } => (Exit::Usage, "no_root_to_share"),
            CareError::LedgerInRoot { .. } => (Exit::Failed, "ledger_in_root"),
            CareError::LedgerNotEmpty { .. } => (Exit::Failed, "ledger_not_empty"),
            CareError::OtherLedger { .. } => (Exit::Failed, "other_ledger"),
            CareError::NameOfRoot { .. } => (Exit::Failed, "name_of_root"),
            CareError::FileMissing { .. } => (Exit::Failed, "file_missing"),
            CareError::NoVersion { .. } => (Exit::Failed, "no_version"),
            CareError::OtherHome { .. } => (Exit::Failed, "other_home"),
            CareError::NotText { .. } => (Exit::Failed, "name_no_text"),
            CareError::LedgerGone { .. }
            | CareError::CopyWithLayers { .. }
            | CareError::Moved { .. }
            | CareError::RootOfGame { .. } => (Exit::Undecided, "in_care_before"),
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
            SetError::RootInUse { .. } => Self::of(Exit::Failed, "root_in_use", &error),
            SetError::OtherVolume { .. } => Self::of(Exit::Failed, "other_volume", &error)
                .advising("lift them first with `oddstack lift --all`"),
        }
    }
}
