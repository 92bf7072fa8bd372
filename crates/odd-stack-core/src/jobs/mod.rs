//! One file a use: what a face calls to ask and to change.
//!
//! Every change goes the same way: a [`Permit`] is taken (which finishes what was cut short before),
//! a job prepares the change as a [`Prepared`](crate::change::Prepared) value, the face shows its plan,
//! and applies or drops it. A dry run is a change that is dropped.

mod add;
mod addresses;
mod built;
mod capture;
mod contests;
mod facts;
mod file_needs;
mod game;
mod history;
mod made_by;
mod needs;
mod order;
mod own;
mod patchday;
mod permit;
mod play;
mod report;
mod select;
mod show;
mod stack;
mod stored;
mod taken_away;

pub use add::adopt::{AdoptReport, AdoptRequest, Adopting};
pub use add::adopt_elsewhere::RenamedRow;
pub use add::adopt_inside::OtherwiseChangedRow;
pub use add::adopt_originals::Originals;
pub use add::arriving::{Adding, Arriving};
pub use add::error::AddError;
pub use add::fit_sheet::{DraftReport, LeftOutCount, SheetCheck, TriedRow};
pub use add::inspect::{CandidateRow, InspectReport, LinkRow, MemberRow, MemberTarget, UnopenedRow};
pub use add::placing::read_sheet;
pub use add::placing_request::PlacingRequest;
pub use add::report::{
    AddReport, ChoiceRow, ContainerRow, CopiedLinkRow, Direction, InItsPlace, LeftOutRow, PartRow,
    ReplacedRow, WholeContainerRow,
};
pub use add::request::{AddPlace, AddRequest, Patch};
pub use add::start_wishes::{ClearRow, StartRow};
pub use add::why_not::{NotAdoptedRow, WhyNot};
pub use addresses::AddressesError;
pub use built::checking::{BuiltCheck, BuiltDrift, BuiltDriftRow};
pub use built::error::{BuildError, OpenRoot};
pub use built::plan::{BuildReport, BuiltRootRow, Outfitting, SavedRow};
pub use built::request::BuildRequest;
pub use capture::{
    Cancelling, CaptureEnd, CaptureError, CaptureRequest, Capturing, Ending, GuardMeans, GuardReport,
    ProgramEnd, SettingsRow,
};
pub use contests::conflicts::{
    ConflictsPart, ConflictsReport, ConflictsRequest, ContestRow, OddKind, OddRow, PairRow,
};
pub use contests::differs::{Differs, KeyClashRow};
pub use contests::keys::{KeySetter, KeyTraceRow};
pub use contests::load_order::LoadedRow;
pub use contests::settle::{Ruling, SettleError, SettledRow, Settling};
pub use contests::trace::{OnDisk, TraceError, TraceReport, TraceRow};
pub use facts::{FactKind, FactsReport, FactsRequest, Saying};
pub use game::find::FoundGame;
pub use game::forget::Forgotten;
pub use game::learn_program::Learnt;
pub use game::move_home::MoveHomeError;
pub use game::move_ledger::MoveLedgerError;
pub use game::overview::GameLine;
pub use game::register::{RegisterError, RegisterReport, RegisterRequest};
pub use game::settings::{SetError, SetRequest};
pub use history::HistoryError;
pub use history::address::{AddressHistory, AddressHistoryError, AddressPast, PastSupplier};
pub use history::differing::FileDifference;
pub use history::going_back::{BackRequest, GoTo, GoingBack, GoneReport};
pub use history::layer::{LayerThen, PastFile};
pub use history::lineups::{LineupDifference, LineupError, LineupRow, Switching};
pub use history::past::{
    DidRow, HistoryDifference, HistoryReport, LayersDifference, PastLayer, PastStack, ReplacedLayer,
    RevisionRow,
};
pub use made_by::MadeBy;
pub use needs::DoubtfulNeed;
pub use order::Reorder;
pub use own::mend::{MendError, MendFile, MendRow, Mended, Mending, MendingPlan};
pub use own::tweak::{OWN_EDITS, OwnEdit, Tweak, TweakError, TweakRow, Tweaking};
pub use patchday::error::PatchDayError;
pub use patchday::patch_day::{Finishing, PatchDayStatus};
pub use patchday::report::{Fate, FateRow, Help, PatchDayReport};
pub use permit::Permit;
pub use play::clearing::{GivingBack, LayerClears};
pub use play::culprit::{CulpritError, CulpritReport, CulpritStep, Searching};
pub use play::playing::{Glance, Launch, PlayError, Written};
pub use play::proofs::ProofRow;
pub use report::{
    CarriedRow, ChangeReport, CheckSummary, Count, DifferenceRow, DriftCount, DriftRow, EffectRow, KeptRow,
    MeetingRow, MemberDriftRow, OverRow, Owner, OwnerCount, StoredSummary, UpdateRow,
};
pub use select::{SelectError, select, select_all, select_game};
pub use show::{EntryRow, ShowReport};
pub use stack::{
    BaseRow, ContainersRow, GameReport, LayerRow, RootRow, SpotRow, StackReport, StoredUse, UnderWayRow,
};
pub use stored::originals::{FoundBy, OriginalRow};
pub use stored::renew::{DamageRow, RenewError, RenewReport, StoredState};
pub use stored::rescue::{Condition, OriginalFate, RescueDone, RescueError, RescueReport, RescueRequest};
pub use stored::tidy::{LayerUseRow, TidyReport, TidyRequest, VerifyReport};

pub(crate) use permit::heal;
pub(crate) use steps::*;

/// Each job as a function of a ledger and a permission, for tests that stop one at any step. Faces go through the front door.
#[doc(hidden)]
pub mod steps {
    pub use super::add::adopt::prepare_adopt;
    pub use super::add::arriving::prepare_add;
    pub use super::add::fit_sheet::{check_sheet, draft_sheet};
    pub use super::add::inspect::inspect;
    pub use super::add::remembered::remembered_rules;
    pub use super::built::checking::{built_around, check_built};
    pub use super::built::plan::prepare_build;
    pub use super::built::playing::{launch_built, running_in_built};
    pub use super::capture::{
        begin_capture, capture_exchanges, note_program_end, prepare_capture_cancel, prepare_capture_close,
        prepare_capture_end, with_runner,
    };
    pub use super::contests::blend_rules::prepare_blend_rules;
    pub use super::contests::conflicts::{conflicts, tell_conflicts};
    pub use super::contests::load_order::trace_loaded;
    pub use super::contests::settle::prepare_settle;
    pub use super::contests::trace::trace;
    pub use super::facts::{check_facts, is_own_edits, prepare_facts};
    pub use super::game::find::{find_games, game_in};
    pub use super::game::forget::forget;
    pub use super::game::learn_program::learn_program;
    pub use super::game::move_home::move_home;
    pub use super::game::move_ledger::move_ledger;
    pub use super::game::overview::game_line;
    pub use super::game::register::{default_ledger_folder, register_game};
    pub use super::game::settings::change_settings;
    pub use super::history::address::address_history;
    pub use super::history::going_back::prepare_going_back;
    pub use super::history::layer::layer_at;
    pub use super::history::lineups::{
        compare_lineups, drop_lineup, lineups, prepare_switch, rename_lineup, save_lineup,
    };
    pub use super::history::past::{history, history_difference, name_state, stack_at};
    pub use super::needs::doubtful_needs;
    pub use super::order::prepare_reorder;
    pub use super::own::mend::{drifted_files, prepare_mend, refuse_to_accept, unknown_originals};
    pub use super::own::tweak::{prepare_tweak, tweaks};
    pub use super::patchday::patch_day::{patchday_status, prepare_patchday_begin, prepare_patchday_finish};
    pub use super::permit::running;
    pub use super::play::clearing::{
        agree, is_start_unagreed, note_cleared, prepare_clearing, prepare_giving_back, unagreed_clearing,
        wanted_clearing,
    };
    pub use super::play::culprit::{culprit_status, prepare_culprit};
    pub use super::play::playing::{glance, launch, written_since};
    pub use super::play::proofs::proofs;
    pub use super::report::{change_report, check_report};
    pub use super::show::show;
    pub use super::stack::{
        game_report, game_report_with_containers, is_under_way, layer_rows, stack, stored_use,
    };
    pub use super::stored::renew::renew;
    pub use super::stored::rescue::{ledger_meant, list_again, rescue};
    pub use super::stored::tidy::{tidy, verify_stored};
}
