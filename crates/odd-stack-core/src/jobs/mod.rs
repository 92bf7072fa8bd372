//! One file a use: what a face calls to ask and to change.
//!
//! Every change goes the same way: a [`Permit`] is taken (which finishes what was cut short before),
//! a job prepares the change as a [`Prepared`](crate::change::Prepared) value, the face shows its plan,
//! and applies or drops it. A dry run is a change that is dropped.

mod add;
mod addresses;
mod capture;
mod contests;
mod facts;
mod game;
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

pub use add::adopt::{AdoptReport, AdoptRequest, Adopting, LyingRow, Originals, prepare_adopt};
pub use add::adopt_elsewhere::RenamedRow;
pub use add::arriving::{Adding, Arriving, prepare_add};
pub use add::error::AddError;
pub use add::fit_sheet::{DraftReport, LeftOutCount, SheetCheck, TriedRow, check_sheet, draft_sheet};
pub use add::inspect::{CandidateRow, InspectReport, LinkRow, MemberRow, MemberTarget, UnopenedRow, inspect};
pub use add::placing::read_sheet;
pub use add::placing_request::Wanted;
pub use add::remembered::remembered_rules;
pub use add::report::{AddReport, ChoiceRow, CopiedLinkRow, LeftOutRow, PartRow, ReplacedRow};
pub use add::request::{AddPlace, AddRequest, Patch};
pub use add::start_wishes::{ClearRow, StartRow};
pub use addresses::AddressesError;
pub use capture::{
    Cancelling, CaptureEnd, CaptureError, CaptureRequest, Capturing, Ending, GuardReport, ProgramEnd,
    SettingsRow, begin_capture, capture_exchanges, note_program_end, prepare_capture_cancel,
    prepare_capture_end, with_runner,
};
pub use contests::blend_rules::prepare_blend_rules;
pub use contests::conflicts::{
    ConflictsReport, ConflictsRequest, ContestRow, OddKind, OddRow, PairRow, conflicts,
};
pub use contests::differs::{Differs, KeyClashRow};
pub use contests::keys::{KeySetter, KeyTraceRow};
pub use contests::settle::{Ruling, SettleError, SettledRow, Settling, prepare_settle};
pub use contests::trace::{OnDisk, TraceError, TraceReport, TraceRow, trace};
pub use facts::{FactKind, FactsReport, FactsRequest, Saying, check_facts, is_own_edits, prepare_facts};
pub use game::find::{FoundGame, find_games};
pub use game::forget::{Forgotten, forget};
pub use game::learn_program::{Learnt, learn_program};
pub use game::move_home::{MoveHomeError, move_home};
pub use game::overview::{GameLine, game_line};
pub use game::register::{CareError, CareReport, CareRequest, default_ledger_folder, take_into_care};
pub use game::settings::{SetError, SetRequest, change_settings};
pub use made_by::MadeBy;
pub use needs::doubtful_needs;
pub use order::{Reorder, prepare_reorder};
pub use own::mend::{
    MendError, MendFile, MendRow, Mending, MendingPlan, drifted_files, prepare_mend, refuse_to_accept,
    unknown_originals,
};
pub use own::tweak::{OWN_EDITS, Tweak, TweakError, TweakRow, Tweaking, prepare_tweak, tweaks};
pub use patchday::error::PatchDayError;
pub use patchday::patch_day::{
    Finishing, PatchDayStatus, patchday_status, prepare_patchday_begin, prepare_patchday_finish,
};
pub use patchday::report::{FateRow, PatchDayReport};
pub(crate) use permit::heal;
pub use permit::{Permit, running};
pub use play::clearing::{
    GivingBack, LayerClears, agree, is_start_unagreed, note_cleared, prepare_clearing, prepare_giving_back,
    unagreed_clearing, wanted_clearing,
};
pub use play::playing::{Glance, Launch, PlayError, Written, glance, launch, written_since};
pub use play::proofs::{ProofRow, proofs};
pub use report::{
    CarriedRow, ChangeReport, CheckSummary, Count, DRIFT_KINDS, DifferenceRow, DriftCount, DriftRow,
    EffectRow, KeptRow, MeetingRow, OverRow, RecoveredRow, StoredSummary, UpdateRow, change_report,
    check_report,
};
pub use select::{SelectError, select, select_all, select_game};
pub use show::{EntryRow, ShowReport, show};
pub use stack::{
    BaseRow, GameReport, LayerRow, RootRow, SpotRow, StackReport, UnderWayRow, game_report, is_under_way,
    stack,
};
pub use stored::originals::OriginalRow;
pub use stored::renew::{DamageRow, RenewError, RenewReport, renew};
pub use stored::rescue::{
    Condition, OriginalFate, RescueDone, RescueError, RescueReport, RescueRequest, ledger_meant, list_again,
    rescue,
};
