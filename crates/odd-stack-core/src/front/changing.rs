//! What changes a game. Each takes the permission, and gives it back with what it has prepared.

use std::path::PathBuf;

use super::{NoPermission, OpenGame, Refused, WhileRunning};
use crate::blend::{BlendRule, Prefer};
use crate::change::{ChangeError, ChangeOptions, Prepared};
use crate::jobs::{
    AddError, AddRequest, Adding, AdoptRequest, Adopting, Arriving, BackRequest, BuildError, BuildReport,
    BuildRequest, Cancelling, CaptureError, CaptureRequest, Capturing, ChangeReport, CulpritError,
    CulpritStep, Ending, FactsRequest, Finishing, Forgotten, GameReport, GivingBack, GoingBack, HistoryError,
    Launch, LayerClears, Learnt, LineupError, MendError, MendFile, Mending, MendingPlan, Outfitting,
    PatchDayError, Permit, PlayError, ProgramEnd, RenewError, RenewReport, Reorder, Ruling, Saying,
    Searching, SetError, SetRequest, SettleError, Settling, Switching, TidyReport, TidyRequest, Tweak,
    TweakError, Tweaking, agree, begin_capture, change_report, change_settings, drifted_files, drop_lineup,
    forget, learn_program, name_state, note_cleared, note_program_end, prepare_adopt, prepare_blend_rules,
    prepare_build, prepare_capture_cancel, prepare_capture_close, prepare_capture_end, prepare_clearing,
    prepare_culprit, prepare_facts, prepare_giving_back, prepare_going_back, prepare_mend,
    prepare_patchday_begin, prepare_patchday_finish, prepare_reorder, prepare_settle, prepare_switch,
    prepare_tweak, refuse_to_accept, rename_lineup, renew, save_lineup, tidy,
};
use crate::ledger::{Layer, LedgerError, OngoingKind};

/// Gives the job's own error.
fn job<E: std::error::Error>(error: E) -> Refused<E> {
    Refused::Job(error)
}

impl OpenGame {
    /// What a prepared change does, to be shown before and after it is made.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn report_of(&self, change: &mut Prepared<'_>, dry_run: bool) -> Result<ChangeReport, LedgerError> {
        change_report(&self.ledger, change, dry_run)
    }

    /// Makes a change that was prepared, and gives the number of its revision.
    ///
    /// # Errors
    /// As [`Prepared::apply`].
    pub fn apply(&self, change: Prepared<'_>) -> Result<i64, ChangeError> {
        change.apply(self.observer())
    }

    /// Holds the game for packages that are to become layers in one change, however often a person is asked meanwhile.
    ///
    /// # Errors
    /// [`NoPermission`].
    pub fn arriving(&self, dry_run: bool) -> Result<Arriving<'_>, NoPermission> {
        Ok(Arriving::new(&self.ledger, self.permit(None, dry_run)?, dry_run))
    }

    /// Prepares the one change that puts the packages into the stack, the first one lowest. It can be tried again with
    /// other requests for the same packages when it fails.
    ///
    /// # Errors
    /// [`AddError`]; nothing was changed.
    pub fn prepare_arrival<'g>(
        &'g self,
        arriving: &mut Arriving<'g>,
        requests: &[AddRequest],
        options: ChangeOptions,
    ) -> Result<Adding<'g>, AddError> {
        arriving.prepare(requests, self.door.now(), options, self.observer())
    }

    /// Prepares to make a layer of a package and to put it into the stack.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn add(&self, request: &AddRequest, options: ChangeOptions) -> Result<Adding<'_>, Refused<AddError>> {
        let mut arriving = self.arriving(false)?;
        self.prepare_arrival(&mut arriving, std::slice::from_ref(request), options).map_err(job)
    }

    /// Prepares to make a layer of what lies in the game of a package that was put there by hand.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn adopt(&self, request: &AdoptRequest, dry_run: bool) -> Result<Adopting<'_>, Refused<AddError>> {
        let permit = self.permit(None, dry_run)?;
        prepare_adopt(&self.ledger, permit, request, self.door.now(), dry_run, self.observer()).map_err(job)
    }

    /// Prepares to lay, lift, move or remove layers; nothing where all is so already.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn reorder(
        &self,
        reorder: &Reorder,
        command: &str,
        options: ChangeOptions,
        dry_run: bool,
    ) -> Result<Option<Prepared<'_>>, Refused<ChangeError>> {
        let permit = self.permit(None, dry_run)?;
        let now = self.door.now();
        prepare_reorder(&self.ledger, permit, reorder, command, now, options, self.observer()).map_err(job)
    }

    /// Prepares to settle contests.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn settle(
        &self,
        rulings: &[(String, Ruling)],
        command: &str,
        options: ChangeOptions,
        dry_run: bool,
    ) -> Result<Settling<'_>, Refused<SettleError>> {
        let permit = self.permit(None, dry_run)?;
        let now = self.door.now();
        prepare_settle(&self.ledger, permit, rulings, command, now, options, self.observer()).map_err(job)
    }

    /// Prepares to bring back the stack of an earlier revision.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn go_back(
        &self,
        request: &BackRequest,
        options: ChangeOptions,
        dry_run: bool,
    ) -> Result<GoingBack<'_>, Refused<HistoryError>> {
        let permit = self.permit(None, dry_run)?;
        let now = self.door.now();
        prepare_going_back(&self.ledger, permit, request, now, options, self.observer()).map_err(job)
    }

    /// Gives the present state a name, or takes a name away; says whether the name stood for another state before.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn name_state(&self, name: &str, drop: bool) -> Result<bool, Refused<HistoryError>> {
        let permit = self.permit(None, true)?;
        name_state(&self.ledger, &permit, name, drop).map_err(job)
    }

    /// Saves the stack as it is as a lineup; says whether there was one of that name before.
    ///
    /// # Errors
    /// [`Refused`].
    pub fn save_lineup(&self, name: &str) -> Result<bool, Refused<LineupError>> {
        let permit = self.permit(None, true)?;
        save_lineup(&self.ledger, &permit, name, self.door.now()).map_err(job)
    }

    /// Forgets a lineup.
    ///
    /// # Errors
    /// [`Refused`].
    pub fn drop_lineup(&self, name: &str) -> Result<(), Refused<LineupError>> {
        let permit = self.permit(None, true)?;
        drop_lineup(&self.ledger, &permit, name).map_err(job)
    }

    /// Gives a lineup another name.
    ///
    /// # Errors
    /// [`Refused`].
    pub fn rename_lineup(&self, old: &str, new: &str) -> Result<(), Refused<LineupError>> {
        let permit = self.permit(None, true)?;
        rename_lineup(&self.ledger, &permit, old, new).map_err(job)
    }

    /// Prepares to switch to a lineup.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn switch_lineup(
        &self,
        name: &str,
        prefer: Option<Prefer>,
        options: ChangeOptions,
        dry_run: bool,
    ) -> Result<Switching<'_>, Refused<LineupError>> {
        let permit = self.permit(None, dry_run)?;
        prepare_switch(&self.ledger, permit, (name, prefer), self.door.now(), options, self.observer())
            .map_err(job)
    }

    /// Looks what a second folder needs to be as its lineup has it.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn prepare_build(&self, request: &BuildRequest) -> Result<Outfitting<'_>, Refused<BuildError>> {
        // Nothing of the game itself changes, so that it may run.
        let permit = self.permit(None, true)?;
        let may_run = request.dry_run || self.door.while_running == WhileRunning::GoOn;
        prepare_build(&self.ledger, permit, request, may_run, self.observer()).map_err(job)
    }

    /// Builds a second folder, or brings it up to date.
    ///
    /// # Errors
    /// [`BuildError`].
    pub fn build(&self, outfitting: Outfitting<'_>) -> Result<BuildReport, BuildError> {
        outfitting.make(self.door.now(), self.observer())
    }

    /// Prepares a step of the search for the layer that breaks the game.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn search_culprit(
        &self,
        step: CulpritStep,
        options: ChangeOptions,
    ) -> Result<Searching<'_>, Refused<CulpritError>> {
        let permit = self.permit(Some(OngoingKind::Culprit), false)?;
        prepare_culprit(&self.ledger, permit, step, self.door.now(), options, self.observer()).map_err(job)
    }

    /// Prepares to note what a person says of a layer.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn set_facts(
        &self,
        layer: &Layer,
        request: &FactsRequest,
        dry_run: bool,
    ) -> Result<Saying<'_>, Refused<AddError>> {
        let permit = self.permit(None, dry_run)?;
        let now = self.door.now();
        prepare_facts(&self.ledger, permit, layer, request, now, dry_run, self.observer()).map_err(job)
    }

    /// Prepares to change keys of settings as the user's own.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn tweak(
        &self,
        tweak: &Tweak,
        command: &str,
        options: ChangeOptions,
        dry_run: bool,
    ) -> Result<Tweaking<'_>, Refused<TweakError>> {
        let permit = self.permit(None, dry_run)?;
        let now = self.door.now();
        prepare_tweak(&self.ledger, permit, tweak, command, now, options, self.observer()).map_err(job)
    }

    /// Holds the game for mending, while it is looked at and a person is asked.
    ///
    /// # Errors
    /// [`NoPermission`].
    pub fn mender(&self, dry_run: bool) -> Result<Mender<'_>, NoPermission> {
        Ok(Mender { game: self, permit: self.permit(None, dry_run)? })
    }

    /// Stores again what the ledger has lost, from packages and from the game, or only says what could be. No file of
    /// the game changes.
    ///
    /// # Errors
    /// [`Refused`]; what was put again stays.
    pub fn renew(&self, packages: &[PathBuf], dry_run: bool) -> Result<RenewReport, Refused<RenewError>> {
        let permit = self.permit(None, true)?;
        renew(&self.ledger, &permit, packages, dry_run, self.observer()).map_err(job)
    }

    /// Says what the ledger uses, and drops what is not to be kept of it. Nothing of the game changes.
    ///
    /// # Errors
    /// [`Refused`]; nothing was dropped, or the next command goes on with it.
    pub fn tidy(&self, request: &TidyRequest) -> Result<TidyReport, Refused<LedgerError>> {
        let permit = self.permit(None, true)?;
        tidy(&self.ledger, &permit, request, self.observer()).map_err(job)
    }

    /// Prepares to change what blends, with the files that this concerns.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn set_blend_rules(
        &self,
        rules: Vec<BlendRule>,
        command: &str,
        options: ChangeOptions,
        dry_run: bool,
    ) -> Result<Prepared<'_>, Refused<ChangeError>> {
        let permit = self.permit(None, dry_run)?;
        let now = self.door.now();
        prepare_blend_rules(&self.ledger, permit, rules, command, now, options, self.observer()).map_err(job)
    }

    /// Changes what is known of the game, or only says what would be. No file of it changes.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn set(&self, request: &SetRequest, dry_run: bool) -> Result<GameReport, Refused<SetError>> {
        let permit = self.permit(None, true)?;
        let home = &self.door.home;
        change_settings(home, &self.ledger, permit, &self.listed_name, request, dry_run, self.observer())
            .map_err(job)
    }

    /// Notes the game's main program where it has none yet and one is found; no file of it changes.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn learn_program(&self) -> Result<Option<Learnt>, LedgerError> {
        learn_program(&self.ledger, &self.door.command)
    }

    /// Lets the game go. What lies in its folders stays as it is.
    ///
    /// # Errors
    /// [`Refused`]; the game is in the list still.
    pub fn forget(self) -> Result<Forgotten, Refused<LedgerError>> {
        let permit = self.permit(None, true)?;
        forget(&self.door.home, self.ledger, permit, &self.listed_name).map_err(job)
    }

    /// Prepares to lift everything for an official update.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn begin_patchday(
        &self,
        options: ChangeOptions,
        dry_run: bool,
    ) -> Result<Prepared<'_>, Refused<ChangeError>> {
        let permit = self.permit(None, dry_run)?;
        prepare_patchday_begin(&self.ledger, permit, self.door.now(), options, self.observer()).map_err(job)
    }

    /// Looks at the updated game, judges the layers, and prepares to lay what still fits. `stated` is the new version as
    /// the user says it, where no file tells it.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn finish_patchday(
        &self,
        stated: Option<&str>,
        dry_run: bool,
    ) -> Result<Finishing<'_>, Refused<PatchDayError>> {
        let permit = self.permit(Some(OngoingKind::PatchDay), dry_run)?;
        prepare_patchday_finish(&self.ledger, permit, stated, self.door.now(), self.observer()).map_err(job)
    }

    /// Begins a capture: what a program or a person changes from now on is to become a layer.
    ///
    /// # Errors
    /// [`Refused`]; the game is as it was, or the capture is under way and can be cancelled.
    pub fn begin_capture(
        &self,
        request: &CaptureRequest,
        options: ChangeOptions,
    ) -> Result<Capturing, Refused<CaptureError>> {
        let permit = self.permit(None, false)?;
        begin_capture(&self.ledger, permit, request, self.door.now(), options, self.observer()).map_err(job)
    }

    /// Notes how the program of a capture ended.
    ///
    /// # Errors
    /// [`CaptureError`].
    pub fn note_program_end(&self, _held: &Capturing, end: &ProgramEnd) -> Result<(), CaptureError> {
        note_program_end(&self.ledger, end)
    }

    /// The permission to end a capture: the one with which it was begun, where that is `held` still.
    fn permit_of_capture(&self, held: Option<Capturing>, dry_run: bool) -> Result<Permit, NoPermission> {
        match held {
            Some(capturing) => Ok(capturing.into_permit()),
            None => self.permit(Some(OngoingKind::Capture), dry_run),
        }
    }

    /// Prepares to make a layer of what was changed, without what meets the patterns in `skip`. Where nothing was
    /// changed the capture is over with it.
    ///
    /// # Errors
    /// [`Refused`]; the capture is under way still.
    pub fn end_capture(
        &self,
        held: Option<Capturing>,
        skip: &[String],
        dry_run: bool,
    ) -> Result<Ending<'_>, Refused<CaptureError>> {
        let permit = self.permit_of_capture(held, dry_run)?;
        prepare_capture_end(&self.ledger, permit, skip, self.door.now(), dry_run, self.observer())
            .map_err(job)
    }

    /// Prepares to take back all that was changed since a capture began. When that is made, and where nothing is to be
    /// taken back, [`OpenGame::close_cancelled_capture`] ends it.
    ///
    /// # Errors
    /// [`Refused`]; the capture is under way still.
    pub fn cancel_capture(
        &self,
        held: Option<Capturing>,
        dry_run: bool,
    ) -> Result<Cancelling<'_>, Refused<CaptureError>> {
        let permit = self.permit_of_capture(held, dry_run)?;
        prepare_capture_cancel(&self.ledger, permit, self.door.now(), self.observer()).map_err(job)
    }

    /// Ends a capture that is taken back: prepares to lay again what was lifted for it, where anything was.
    ///
    /// # Errors
    /// [`Refused`]; the capture is under way still.
    pub fn close_cancelled_capture(&self) -> Result<Option<Prepared<'_>>, Refused<CaptureError>> {
        let permit = self.permit(Some(OngoingKind::Capture), true)?;
        prepare_capture_close(&self.ledger, permit, self.door.now(), self.observer()).map_err(job)
    }

    /// Notes that a person agrees to all that layers want started and cleared.
    ///
    /// # Errors
    /// [`Refused`].
    pub fn agree(&self, launch: &Launch, wanted: &[LayerClears]) -> Result<(), Refused<LedgerError>> {
        let permit = self.permit(None, false)?;
        agree(&self.ledger, &permit, launch, wanted, self.door.now()).map_err(job)
    }

    /// Prepares to clear what layers want cleared; none when that is nothing.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn clear(&self, wanted: &[LayerClears]) -> Result<Option<Prepared<'_>>, Refused<PlayError>> {
        let permit = self.permit(None, false)?;
        let change = prepare_clearing(&self.ledger, permit, wanted, self.door.now(), self.observer());
        let change = change.map_err(job)?;
        if change.is_none() {
            note_cleared(&self.ledger).map_err(|error| job(error.into()))?;
        }
        Ok(change)
    }

    /// Prepares to put back what was cleared last.
    ///
    /// # Errors
    /// [`Refused`]; nothing was changed.
    pub fn give_back(&self, dry_run: bool) -> Result<GivingBack<'_>, Refused<PlayError>> {
        let permit = self.permit(None, dry_run)?;
        prepare_giving_back(&self.ledger, permit, self.door.now(), self.observer()).map_err(job)
    }
}

/// A game held for mending. Dropping it leaves all as it is.
#[derive(Debug)]
#[must_use = "nothing is mended until a change is prepared and applied"]
pub struct Mender<'g> {
    game: &'g OpenGame,
    permit: Permit,
}

impl<'g> Mender<'g> {
    /// The files that are not as the stack says, at addresses, folders and patterns, or everywhere.
    ///
    /// # Errors
    /// [`MendError`].
    pub fn drifted_files(&self, texts: &[String]) -> Result<Vec<MendFile>, MendError> {
        drifted_files(&self.game.ledger, texts, self.game.observer())
    }

    /// Whether what lies at these addresses may be taken as the game's own.
    ///
    /// # Errors
    /// [`MendError`] when a layer's file lies there as it should.
    pub fn refuse_to_accept(&self, texts: &[String]) -> Result<(), MendError> {
        refuse_to_accept(&self.game.ledger, texts)
    }

    /// Prepares to put right those files.
    ///
    /// # Errors
    /// [`MendError`]; nothing was changed.
    pub fn prepare(self, files: &[(MendFile, Mending)], command: &str) -> Result<MendingPlan<'g>, MendError> {
        let OpenGame { ledger, door, .. } = self.game;
        prepare_mend(ledger, self.permit, files, command, door.now(), self.game.observer())
    }
}
