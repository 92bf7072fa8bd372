//! The JSON Schema of every command's output, kept in `docs/json/` and held to the code here.

use std::fs;
use std::path::PathBuf;

use odd_stack_core::fit::FitSheet;
use odd_stack_core::jobs::{
    AddressHistory, AdoptReport, BuildReport, BuiltCheck, CaptureEnd, CheckSummary, ConflictsReport,
    DraftReport, FactsReport, GameReport, HistoryDifference, HistoryReport, InspectReport, LayerThen,
    LineupDifference, PastStack, PatchDayStatus, RegisterReport, SheetCheck, ShowReport, TraceReport,
};
use schemars::{Schema, schema_for};

use crate::commands::adding::AddedReport;
use crate::commands::capture::{CaptureBegun, CaptureCancelled};
use crate::commands::culprit::CulpritAnswer;
use crate::commands::game::{ForgetReport, FoundGames, GameList, HomeMoved};
use crate::commands::going_back::BackReport;
use crate::commands::lineup::{LineupList, SwitchReport};
use crate::commands::mark::MarkReport;
use crate::commands::mend::MendReport;
use crate::commands::open::OpenReport;
use crate::commands::overview::Overview;
use crate::commands::patchday::PatchDayBegun;
use crate::commands::patchday::PatchDayFinished;
use crate::commands::play::PlayReport;
use crate::commands::rescue::RescueAnswer;
use crate::commands::settle::SettleReport;
use crate::commands::stack::StackAnswer;
use crate::commands::standing::StandingReport;
use crate::commands::tidy::TidyAnswer;
use crate::commands::tweak::{TweakList, TweakReport};

/// The shape of `data` for each command, and that of fit sheets.
fn schemas() -> Vec<(&'static str, Schema)> {
    vec![
        ("add", schema_for!(AddedReport)),
        ("adopt", schema_for!(AdoptReport)),
        ("check", schema_for!(CheckSummary)),
        ("conflicts", schema_for!(ConflictsReport)),
        ("fit", schema_for!(DraftReport)),
        ("fit-check", schema_for!(SheetCheck)),
        ("game-add", schema_for!(RegisterReport)),
        ("game-forget", schema_for!(ForgetReport)),
        ("game-list", schema_for!(GameList)),
        ("game-show", schema_for!(GameReport)),
        ("history", schema_for!(HistoryReport)),
        ("history-diff", schema_for!(HistoryDifference)),
        ("undo", schema_for!(BackReport)),
        ("mark", schema_for!(MarkReport)),
        ("trace-history", schema_for!(AddressHistory)),
        ("culprit", schema_for!(CulpritAnswer)),
        ("lineup-list", schema_for!(LineupList)),
        ("lineup-switch", schema_for!(SwitchReport)),
        ("lineup-build", schema_for!(BuildReport)),
        ("check-lineup", schema_for!(BuiltCheck)),
        ("lineup-compare", schema_for!(LineupDifference)),
        ("stack-at", schema_for!(PastStack)),
        ("show-at", schema_for!(LayerThen)),
        ("inspect", schema_for!(InspectReport)),
        ("lay", schema_for!(StandingReport)),
        ("mend", schema_for!(MendReport)),
        ("rescue", schema_for!(RescueAnswer)),
        ("capture", schema_for!(CaptureEnd)),
        ("capture-begin", schema_for!(CaptureBegun)),
        ("capture-cancel", schema_for!(CaptureCancelled)),
        ("game-find", schema_for!(FoundGames)),
        ("game-move-home", schema_for!(HomeMoved)),
        ("play", schema_for!(PlayReport)),
        ("patchday-begin", schema_for!(PatchDayBegun)),
        ("patchday-finish", schema_for!(PatchDayFinished)),
        ("patchday-status", schema_for!(PatchDayStatus)),
        ("oddfit", schema_for!(FitSheet)),
        ("open", schema_for!(OpenReport)),
        ("tidy", schema_for!(TidyAnswer)),
        ("overview", schema_for!(Overview)),
        ("set", schema_for!(FactsReport)),
        ("settle", schema_for!(SettleReport)),
        ("show", schema_for!(ShowReport)),
        ("stack", schema_for!(StackAnswer)),
        ("trace", schema_for!(TraceReport)),
        ("tweak", schema_for!(TweakReport)),
        ("tweak-list", schema_for!(TweakList)),
    ]
}

#[test]
fn documented_shapes_are_those_of_the_code() {
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/json");
    for (name, schema) in schemas() {
        let path = folder.join(format!("{name}.schema.json"));
        let mut now = serde_json::to_string_pretty(&schema).unwrap();
        now.push('\n');
        if std::env::var_os("ODDSTACK_WRITE_SCHEMAS").is_some() {
            fs::create_dir_all(&folder).unwrap();
            fs::write(&path, &now).unwrap();
        }
        let written = fs::read_to_string(&path).unwrap_or_default().replace("\r\n", "\n");
        assert!(
            written == now,
            "{} is not up to date: run the tests with ODDSTACK_WRITE_SCHEMAS=1",
            path.display()
        );
    }
}
