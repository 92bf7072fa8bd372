//! What is asked of a game. Nothing of it changes.

use std::ops::ControlFlow;
use std::path::Path;
use std::time::SystemTime;

use super::{OddStack, OpenGame};
use crate::check::{CheckError, check, check_stored, roots_are_there};
use crate::expected::{GameVersionNow, game_version_now};
use crate::fit::Wishes;
use crate::game::{Game, Running};
use crate::jobs::{
    AddError, AddressHistory, AddressHistoryError, AddressesError, BuildError, BuiltCheck, CaptureError,
    CheckSummary, ConflictsPart, ConflictsReport, ConflictsRequest, CulpritReport, DoubtfulNeed, DraftReport,
    GameLine, GameReport, Glance, HistoryDifference, HistoryError, HistoryReport, InspectReport, Launch,
    LayerClears, LayerRow, LayerThen, LineupDifference, LineupError, LineupRow, LoadedRow, MendError,
    PastStack, PatchDayStatus, PlacingRequest, PlayError, ProofRow, SheetCheck, ShowReport, StackReport,
    StoredSummary, StoredUse, TraceError, TraceReport, TweakError, TweakRow, VerifyReport, Written,
    address_history, built_around, capture_exchanges, check_built, check_facts, check_report, check_sheet,
    compare_lineups, conflicts, culprit_status, doubtful_needs, draft_sheet, game_line,
    game_report_with_containers, glance, history, history_difference, inspect, is_own_edits,
    is_start_unagreed, is_under_way, launch, launch_built, layer_at, layer_rows, lineups, patchday_status,
    proofs, running, running_in_built, show, stack, stack_at, stored_use, tell_conflicts, trace,
    trace_loaded, tweaks, unagreed_clearing, unknown_originals, verify_stored, wanted_clearing, with_runner,
    written_since,
};
use crate::ledger::{Layer, LedgerError};
use crate::package::Limits;
use crate::stack::LayerId;

impl OddStack {
    /// What is in a package, and where its files would go in a game, if one is given.
    ///
    /// # Errors
    /// [`AddError`].
    pub fn inspect(
        &self,
        game: Option<&OpenGame>,
        package: &Path,
        wanted: &PlacingRequest,
        limits: &Limits,
    ) -> Result<InspectReport, AddError> {
        inspect(package, wanted, limits, game.map(|game| &game.ledger), &*self.observer)
    }

    /// Whether a fit sheet is one, and what it makes of its package in a game, if one is given.
    ///
    /// # Errors
    /// [`AddError`].
    pub fn check_sheet(
        &self,
        game: Option<&OpenGame>,
        path: &Path,
        given: Option<&Path>,
        limits: &Limits,
    ) -> Result<SheetCheck, AddError> {
        check_sheet(game.map(|game| &game.ledger), path, given, limits, &*self.observer)
    }
}

impl OpenGame {
    /// What is known of the game.
    pub fn about(&self) -> &Game {
        self.ledger.game()
    }

    /// All that was done, the last first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn history(&self) -> Result<HistoryReport, LedgerError> {
        history(&self.ledger)
    }

    /// A layer as it was after a revision.
    ///
    /// # Errors
    /// [`HistoryError`].
    pub fn layer_at(&self, revision: i64, wanted: &str) -> Result<LayerThen, HistoryError> {
        layer_at(&self.ledger, revision, wanted)
    }

    /// The stack as it was after a revision.
    ///
    /// # Errors
    /// [`HistoryError`].
    pub fn stack_at(&self, revision: i64) -> Result<PastStack, HistoryError> {
        stack_at(&self.ledger, revision)
    }

    /// How the stacks after two revisions differ.
    ///
    /// # Errors
    /// [`HistoryError`].
    pub fn history_difference(&self, from: i64, to: i64) -> Result<HistoryDifference, HistoryError> {
        history_difference(&self.ledger, from, to)
    }

    /// All lineups, by name.
    ///
    /// # Errors
    /// [`LineupError`].
    pub fn lineups(&self) -> Result<Vec<LineupRow>, LineupError> {
        lineups(&self.ledger)
    }

    /// The bytes of all contents of which files in the game were made further names.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn linked_bytes(&self) -> Result<u64, LedgerError> {
        self.ledger.catalogue.linked_bytes()
    }

    /// How a lineup differs from another one, or from the stack as it is.
    ///
    /// # Errors
    /// [`LineupError`].
    pub fn compare_lineups(&self, from: Option<&str>, to: &str) -> Result<LineupDifference, LineupError> {
        compare_lineups(&self.ledger, from, to)
    }

    /// How the search for the layer that breaks the game stands; none when none is under way.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn culprit_status(&self) -> Result<Option<CulpritReport>, LedgerError> {
        culprit_status(&self.ledger)
    }

    /// Which layers had something at what people write as an address, and when that changed.
    ///
    /// # Errors
    /// [`AddressHistoryError`].
    pub fn address_history(&self, text: &str) -> Result<AddressHistory, AddressHistoryError> {
        address_history(&self.ledger, text)
    }

    /// The folder of all that is known and stored of it.
    pub fn ledger_folder(&self) -> &Path {
        self.ledger.folder()
    }

    /// The stack from the bottom to the top.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn layers(&self) -> Result<Vec<Layer>, LedgerError> {
        self.ledger.layers()
    }

    /// The layers from the top to the base, with what of each counts.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn stack(&self) -> Result<StackReport, LedgerError> {
        stack(&self.ledger)
    }

    /// Some layers as rows of the stack, as they are now.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn layer_rows(&self, layers: &[&Layer]) -> Result<Vec<LayerRow>, LedgerError> {
        layer_rows(&self.ledger, layers.iter().copied())
    }

    /// What the layers of that stack take on the disk.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn stored_use(&self, stack: &StackReport) -> Result<StoredUse, LedgerError> {
        stored_use(&self.ledger, stack)
    }

    /// All that is known of the game itself.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn report(&self) -> Result<GameReport, LedgerError> {
        game_report_with_containers(&self.ledger)
    }

    /// How the game stands, in one line.
    ///
    /// # Errors
    /// [`CheckError`].
    pub fn line(&self) -> Result<GameLine, CheckError> {
        game_line(&self.ledger, self.observer())
    }

    /// One layer with its files.
    ///
    /// # Errors
    /// [`CheckError`].
    pub fn show(&self, layer: LayerId) -> Result<ShowReport, CheckError> {
        show(&self.ledger, layer, self.observer())
    }

    /// Where layers disagree.
    ///
    /// # Errors
    /// [`AddressesError`].
    pub fn conflicts(&self, request: &ConflictsRequest) -> Result<ConflictsReport, AddressesError> {
        conflicts(&self.ledger, request)
    }

    /// Where layers disagree, told as it is found out.
    ///
    /// # Errors
    /// [`AddressesError`].
    pub fn tell_conflicts(
        &self,
        request: &ConflictsRequest,
        tell: &mut dyn FnMut(ConflictsPart<'_>) -> ControlFlow<()>,
    ) -> Result<(), AddressesError> {
        tell_conflicts(&self.ledger, request, tell)
    }

    /// Who supplies an address, and what lies beneath.
    ///
    /// # Errors
    /// [`TraceError`].
    pub fn trace(&self, address: &str, wants_keys: bool) -> Result<TraceReport, TraceError> {
        trace(&self.ledger, address, wants_keys)
    }

    /// A member in all containers that a pattern means, as the game loads them; nothing where the text means no such thing.
    ///
    /// # Errors
    /// [`AddressesError`].
    pub fn trace_loaded(&self, text: &str) -> Result<Option<Vec<LoadedRow>>, AddressesError> {
        trace_loaded(&self.ledger, text)
    }

    /// Whether the game's folders are there.
    ///
    /// # Errors
    /// [`CheckError`] when one is not.
    pub fn roots_are_there(&self) -> Result<(), CheckError> {
        roots_are_there(&self.ledger)
    }

    /// Compares what lies on disk with the stack: sizes and times, or `deep` contents.
    ///
    /// # Errors
    /// [`CheckError`].
    pub fn check(&self, deep: bool) -> Result<CheckSummary, CheckError> {
        let found = check(&self.ledger, deep, self.observer())?;
        Ok(check_report(&self.ledger, &found, deep)?)
    }

    /// Compares all that the ledger stores with its hashes.
    ///
    /// # Errors
    /// [`CheckError`].
    pub fn check_stored(&self) -> Result<StoredSummary, CheckError> {
        self.ledger.verify()?;
        Ok(StoredSummary::of(&check_stored(&self.ledger, self.observer())?))
    }

    /// Compares all that the ledger stores with its hashes, also what only the history needs.
    ///
    /// # Errors
    /// [`CheckError`].
    pub fn verify_stored(&self) -> Result<VerifyReport, CheckError> {
        self.ledger.verify()?;
        verify_stored(&self.ledger, self.observer())
    }

    /// The game's version as it is known, and as its files tell it now.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn version_now(&self) -> Result<GameVersionNow, LedgerError> {
        game_version_now(&self.ledger)
    }

    /// Whether a patch day or a capture is under way.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn is_under_way(&self) -> Result<bool, LedgerError> {
        is_under_way(&self.ledger)
    }

    /// The needs of which it is doubtful whether they are met.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn doubtful_needs(&self) -> Result<Vec<DoubtfulNeed>, LedgerError> {
        doubtful_needs(&self.ledger)
    }

    /// The game's programs that run right now.
    pub fn running(&self) -> Vec<Running> {
        running(&self.ledger)
    }

    /// A fit sheet for a package, as far as its placement is found out.
    ///
    /// # Errors
    /// [`AddError`].
    pub fn draft_sheet(
        &self,
        package: &Path,
        wanted: &PlacingRequest,
        limits: &Limits,
    ) -> Result<DraftReport, AddError> {
        draft_sheet(&self.ledger, package, wanted, limits, self.observer())
    }

    /// Whether what a person says of a layer can be so in this game.
    ///
    /// # Errors
    /// [`AddError`].
    pub fn check_facts(&self, wishes: &Wishes) -> Result<(), AddError> {
        check_facts(&self.ledger, wishes)
    }

    /// Whether that layer is the one of the user's own edits.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn is_own_edits(&self, layer: LayerId) -> Result<bool, LedgerError> {
        is_own_edits(&self.ledger, layer)
    }

    /// The user's own changes of keys.
    ///
    /// # Errors
    /// [`TweakError`].
    pub fn tweaks(&self) -> Result<Vec<TweakRow>, TweakError> {
        tweaks(&self.ledger)
    }

    /// Addresses whose original is not known.
    ///
    /// # Errors
    /// [`MendError`].
    pub fn unknown_originals(&self) -> Result<Vec<String>, MendError> {
        unknown_originals(&self.ledger)
    }

    /// Where the patch day stands.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn patchday_status(&self) -> Result<PatchDayStatus, LedgerError> {
        patchday_status(&self.ledger)
    }

    /// The layer whose place the capture that is under way is to take, if it takes one's.
    ///
    /// # Errors
    /// [`CaptureError::NoneUnderWay`].
    pub fn capture_exchanges(&self) -> Result<Option<LayerId>, CaptureError> {
        capture_exchanges(&self.ledger)
    }

    /// The words that start a command, with the game's runner where the program is one of another system.
    pub fn with_runner(&self, command: &[String]) -> Vec<String> {
        with_runner(&self.ledger, command)
    }

    /// How the game in the second folder of a lineup is started; nothing if none of that name was built.
    ///
    /// # Errors
    /// [`PlayError`].
    pub fn launch_built(&self, lineup: &str) -> Result<Option<Launch>, PlayError> {
        launch_built(&self.ledger, lineup)
    }

    /// The programs in the second folder of a lineup that run right now.
    #[must_use]
    pub fn running_in_built(&self, lineup: &str) -> Vec<Running> {
        running_in_built(&self.ledger, lineup)
    }

    /// Compares the second folder of a lineup with what was put there.
    ///
    /// # Errors
    /// [`BuildError`].
    pub fn check_built(&self, lineup: &str, deep: bool) -> Result<BuiltCheck, BuildError> {
        check_built(&self.ledger, lineup, deep, self.observer())
    }

    /// The lineup whose second folder lies around a path.
    ///
    /// # Errors
    /// [`BuildError`].
    pub fn built_around(&self, path: &Path) -> Result<Option<String>, BuildError> {
        built_around(&self.ledger, path)
    }

    /// How the game, or what is named, is started.
    ///
    /// # Errors
    /// [`PlayError`].
    pub fn launch(&self, named: Option<&str>) -> Result<Launch, PlayError> {
        launch(&self.ledger, named)
    }

    /// What the laid layers want cleared before the next start.
    ///
    /// # Errors
    /// [`PlayError`].
    pub fn wanted_clearing(&self) -> Result<Vec<LayerClears>, PlayError> {
        wanted_clearing(&self.ledger, self.observer())
    }

    /// Whether a layer wants something started that nobody has agreed to.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn is_start_unagreed(&self, launch: &Launch) -> Result<bool, LedgerError> {
        is_start_unagreed(&self.ledger, launch)
    }

    /// Those of what layers want cleared that nobody has agreed to.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn unagreed_clearing<'w>(
        &self,
        wanted: &'w [LayerClears],
    ) -> Result<Vec<&'w LayerClears>, LedgerError> {
        unagreed_clearing(&self.ledger, wanted)
    }

    /// A look at the game's folders, for [`OpenGame::written_since`].
    ///
    /// # Errors
    /// [`CheckError`].
    pub fn glance(&self) -> Result<Glance, CheckError> {
        glance(&self.ledger, self.observer())
    }

    /// What was written in the game's folders since that look.
    ///
    /// # Errors
    /// [`CheckError`].
    pub fn written_since(&self, before: Glance) -> Result<Written, CheckError> {
        written_since(&self.ledger, before, self.observer())
    }

    /// Whether one sees that the layers work.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn proofs(&self, started: Option<SystemTime>) -> Result<Vec<ProofRow>, LedgerError> {
        proofs(&self.ledger, started)
    }
}
