//! One file a use: what a face calls to ask and to change.
//!
//! Every change goes the same way: a [`Permit`] is taken (which finishes what was cut short before),
//! a job prepares the change as a [`Prepared`](crate::change::Prepared) value, the face shows its plan,
//! and applies or drops it. A dry run is a change that is dropped.

mod add;
mod add_error;
mod add_report;
mod add_request;
mod addresses;
mod adopt;
mod adopt_elsewhere;
mod answered;
mod arrival;
mod away;
mod blend_rules;
mod capture;
mod care;
mod clearing;
mod conflicts;
mod content_at;
mod contents;
mod differs;
mod facts;
mod find;
mod forget;
mod game_links;
mod inspect;
mod keys;
mod learn_program;
mod made_by;
mod mend;
mod move_home;
mod needs;
mod new_layer;
mod order;
mod originals;
mod overview;
mod patchday;
mod patchday_base;
mod patchday_error;
mod patchday_judge;
mod patchday_report;
mod patchday_settings;
mod patchday_unplanned;
mod permit;
mod placing;
mod placing_again;
mod placing_request;
mod play;
mod proofs;
mod remembered;
mod renew;
mod report;
mod rescue;
mod roots;
mod runs_code;
mod select;
mod set;
mod settle;
mod sheet;
mod show;
mod stack;
mod take_in;
mod trace;
mod tree;
mod tweak;
mod wishes;

pub use add::Adding;
pub use add::Arriving;
pub use add::prepare_add;
pub use add_error::AddError;
pub use add_report::{AddReport, ChoiceRow, CopiedLinkRow, LeftOutRow, PartRow, ReplacedRow};
pub use add_request::AddPlace;
pub use add_request::AddRequest;
pub use add_request::Patch;
pub use addresses::AddressesError;
pub use adopt::{AdoptReport, AdoptRequest, Adopting, LyingRow, Originals, prepare_adopt};
pub use adopt_elsewhere::RenamedRow;
pub use blend_rules::prepare_blend_rules;
pub use capture::Cancelling;
pub use capture::CaptureEnd;
pub use capture::CaptureError;
pub use capture::CaptureRequest;
pub use capture::Capturing;
pub use capture::Ending;
pub use capture::GuardReport;
pub use capture::ProgramEnd;
pub use capture::SettingsRow;
pub use capture::begin_capture;
pub use capture::capture_exchanges;
pub use capture::note_program_end;
pub use capture::prepare_capture_cancel;
pub use capture::prepare_capture_end;
pub use capture::with_runner;
pub use care::{CareError, CareReport, CareRequest, default_ledger_folder, take_into_care};
pub use clearing::{
    GivingBack, LayerClears, agree, is_start_unagreed, note_cleared, prepare_clearing, prepare_giving_back,
    unagreed_clearing, wanted_clearing,
};
pub use conflicts::{ConflictsReport, ConflictsRequest, ContestRow, OddKind, OddRow, PairRow, conflicts};
pub use differs::{Differs, KeyClashRow};
pub use facts::{FactKind, FactsReport, FactsRequest, Saying, check_facts, is_own_edits, prepare_facts};
pub use find::{FoundGame, find_games};
pub use forget::{Forgotten, forget};
pub use inspect::{CandidateRow, InspectReport, LinkRow, MemberRow, MemberTarget, UnopenedRow, inspect};
pub use keys::{KeySetter, KeyTraceRow};
pub use learn_program::{Learnt, learn_program};
pub use made_by::MadeBy;
pub use mend::{
    MendError, MendFile, MendRow, Mending, MendingPlan, drifted_files, prepare_mend, refuse_to_accept,
    unknown_originals,
};
pub use move_home::{MoveHomeError, move_home};
pub use needs::doubtful_needs;
pub use order::{Reorder, prepare_reorder};
pub use originals::OriginalRow;
pub use overview::{GameLine, game_line};
pub use patchday::Finishing;
pub use patchday::PatchDayStatus;
pub use patchday::patchday_status;
pub use patchday::prepare_patchday_begin;
pub use patchday::prepare_patchday_finish;
pub use patchday_error::PatchDayError;
pub use patchday_report::FateRow;
pub use patchday_report::PatchDayReport;
pub use permit::{Permit, heal, running};
pub use placing::read_sheet;
pub use placing_request::Wanted;
pub use play::{Glance, Launch, PlayError, Written, glance, launch, written_since};
pub use proofs::{ProofRow, proofs};
pub use remembered::remembered_rules;
pub use renew::{DamageRow, RenewError, RenewReport, renew};
pub use report::{
    CarriedRow, ChangeReport, CheckSummary, Count, DRIFT_KINDS, DifferenceRow, DriftCount, DriftRow,
    EffectRow, KeptRow, MeetingRow, OverRow, RecoveredRow, StoredSummary, UpdateRow, change_report,
    check_report,
};
pub use rescue::{
    Condition, OriginalFate, RescueDone, RescueError, RescueReport, RescueRequest, ledger_meant, list_again,
    rescue,
};
pub use select::{SelectError, select, select_all, select_game};
pub use set::{SetError, SetRequest, change_settings};
pub use settle::{Ruling, SettleError, SettledRow, Settling, prepare_settle};
pub use sheet::{DraftReport, LeftOutCount, SheetCheck, TriedRow, check_sheet, draft_sheet};
pub use show::EntryRow;
pub use show::ShowReport;
pub use show::show;
pub use stack::{
    BaseRow, GameReport, LayerRow, RootRow, SpotRow, StackReport, UnderWayRow, game_report, is_under_way,
    stack,
};
pub use trace::{OnDisk, TraceError, TraceReport, TraceRow, trace};
pub use tweak::{OWN_EDITS, Tweak, TweakError, TweakRow, Tweaking, prepare_tweak, tweaks};
pub use wishes::{ClearRow, StartRow};
