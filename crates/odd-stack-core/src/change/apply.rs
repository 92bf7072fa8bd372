//! One change of a game from start to end: decided, shown, applied or abandoned, recovered.

use std::collections::{BTreeSet, HashSet};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use rayon::prelude::*;

use super::decide::decide;
use super::decision::{Decision, Made, Staged};
use super::discarded::{save_changed, save_written};
use super::error::ChangeError;
use super::execute::{self, StepFailed};
use super::fetching::{Fetched, build_again, fetch_again, keep_again};
use super::keeping::Way;
use super::left_folders;
use super::linking::Linking;
use super::options::ChangeOptions;
use super::other_games::{hold_others, others_are_asked};
use super::outcome::{Back, BaseNow, Outcome, Undo, write_outcome};
use super::plan::{Effect, EffectKind, Plan};
use super::private_folders::{make_private_folders, tidy_private_folders};
use super::request::ChangeRequest;
use super::second_copies::SecondCopies;
use super::staging::{build, lay_stored, write_new};
use super::step::StepKind;
use super::steps::Steps;
use crate::check::lost_contents;
use crate::expected::{Blender, Built};
use crate::hash::ContentHash;
use crate::ledger::catalogue::JournalMark;
use crate::ledger::{
    Ledger, LedgerError, Lock, NewContent, Stored, Transaction, check_room, end_intake, ensure_names,
    is_intake_open, keep_reserve, make_private_folder, note_names, sweep,
};
use crate::notice::Notice;
use crate::notice::Recovered;
use crate::observer::{Observer, Work};

/// A change that is decided and not yet made. Dropping it abandons it: nothing is left of it.
#[must_use = "a change does nothing until it is applied"]
pub struct Prepared<'l> {
    /// There until the mark.
    transaction: Option<Transaction<'l>>,
    ledger: &'l Ledger,
    /// There until it is given back.
    lock: Option<Lock>,
    decision: Decision,
    new_contents: Vec<NewContent>,
    /// There until all is staged.
    second_copies: Option<SecondCopies>,
    outcome: Outcome,
    /// Lost contents that were taken from their packages again.
    fetched: Fetched,
    /// What belongs to it once it is made; what fails of it is harmless.
    when_made: Option<fn(&Ledger)>,
    /// Other games that use a folder of this one hold still as long.
    _others_still: Vec<Lock>,
}

impl std::fmt::Debug for Prepared<'_> {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.debug_struct("Prepared").field("plan", &self.decision.plan).finish_non_exhaustive()
    }
}

/// Decides a change inside an open transaction, which it takes over: all goes again when this fails, and when the result is
/// dropped.
pub(crate) fn prepare<'l>(
    transaction: Transaction<'l>,
    lock: Lock,
    request: ChangeRequest,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<Prepared<'l>, ChangeError> {
    let ledger = transaction.ledger();
    let (others, others_still) = hold_others(ledger)?;
    let decided = decide(ledger, &request, options, &others, observer);
    let mut decision = others_are_asked(ledger, decided, options, &others)?;
    let settled = request.stack.settle.iter().filter(|(_, settlement)| settlement.is_some());
    decision.plan.settled = settled.count() as u64;
    let base = decision.base_now.iter().chain(&request.files.accepted).map(BaseNow::of);
    let outcome = Outcome {
        command: request.command,
        made_at: request.made_at,
        arrangement: request.stack.after.standings().iter().map(|s| (s.layer, s.laid)).collect(),
        removed: request.stack.removed,
        tallies: decision
            .tallies
            .iter()
            .map(|(id, t)| (*id, (t.won_files, t.contested_files, t.open_files)))
            .collect(),
        base: base.collect(),
        side_folders: decision.side_folders.clone(),
        handed_on: request.stack.exchanges.iter().map(|exchange| (exchange.old, exchange.new)).collect(),
        settle: request.stack.settle,
        blend_rules: request.stack.blend_rules,
        brought: match request.noted.undo.is_some() || request.noted.ongoing.is_some() {
            true => request.noted.new_contents.iter().map(|content| content.hash).collect(),
            false => Vec::new(),
        },
        ongoing: request.noted.ongoing.map(|ongoing| ongoing.into_iter().collect()),
        undo: request.noted.undo.map(Undo::of),
        restores: request.noted.restores,
        about: request.noted.about,
        did: EffectKind::ALL.map(|kind| decision.plan.count(kind).0),
        lost: decision
            .lost
            .iter()
            .map(|(root, key, spelled)| (*root, key.as_str().to_owned(), spelled.as_str().to_owned()))
            .collect(),
    };
    let (lock, new_contents) = (Some(lock), request.noted.new_contents);
    let second_copies = request.noted.second_copies;
    let transaction = Some(transaction);
    let (when_made, _others_still) = (None, others_still);
    let fetched = Fetched::new();
    Ok(Prepared {
        transaction,
        ledger,
        lock,
        decision,
        new_contents,
        second_copies,
        outcome,
        fetched,
        when_made,
        _others_still,
    })
}

impl Prepared<'_> {
    /// What is to be done as soon as it is made, and does no harm where it fails.
    pub(crate) fn then(mut self, when_made: fn(&Ledger)) -> Self {
        self.when_made = Some(when_made);
        self
    }

    /// What the change will do, address by address.
    pub fn plan(&self) -> &Plan {
        &self.decision.plan
    }

    /// What changes on disk, in order of addresses, for who tells it: there may be very much of it, so the plan has it no
    /// more.
    pub fn take_effects(&mut self) -> Vec<Effect> {
        std::mem::take(&mut self.decision.plan.effects)
    }

    /// Makes the change and gives the number of the new revision.
    ///
    /// # Errors
    /// [`ChangeError`]. Except after [`ChangeError::Stuck`] and [`ChangeError::NotWrittenDown`] the
    /// game is as it was; after these the next command finishes or takes back, and running again is
    /// safe.
    pub fn apply(self, observer: &dyn Observer) -> Result<i64, ChangeError> {
        self.apply_and_keep(observer).map(|(revision, _)| revision)
    }

    /// As [`Prepared::apply`], and gives the permission back for what follows.
    pub(crate) fn apply_and_keep(mut self, observer: &dyn Observer) -> Result<(i64, Lock), ChangeError> {
        self.stage(observer)?;
        if observer.is_cancelled() {
            return Err(ChangeError::Cancelled);
        }
        self.mark()?;
        let ledger = self.ledger;
        let seam = &*ledger.seam;
        let (steps, side_folders) = (&self.decision.steps, &self.outcome.side_folders);
        let placing = steps.count(&[StepKind::TakeOut, StepKind::PutIn]);
        observer.begin(Work::Placing, placing as u64, 0);
        let done = execute::forward(steps, side_folders, None, seam, observer);
        observer.end();
        if let Err(StepFailed { path, source }) = done {
            let side_folders = side_folders.clone();
            take_back(ledger, steps, &side_folders, std::mem::take(&mut self.outcome).into_back(), observer)?;
            return Err(ChangeError::TakenBack { path, source });
        }
        let outcome = std::mem::take(&mut self.outcome);
        let side_folders = outcome.side_folders.clone();
        let not_written = |source| ChangeError::NotWrittenDown { source: Box::new(source) };
        let may_empty = save_changed(ledger, steps, next_revision(ledger).map_err(not_written)?, observer);
        let (revision, left) = finish(ledger, outcome, steps).map_err(not_written)?;
        left_folders::tell(&left, observer);
        // All contents taken in are listed now. A mark that stays is cleared up by the next command.
        let _ = end_intake(ledger.folder(), seam);
        if !self.fetched.is_empty() {
            // What fails of it is lost as before, and told when it is needed.
            let _ = keep_again(ledger, &self.fetched);
        }
        keep_reserve(ledger.folder());
        observer.begin(Work::Clearing, 0, 0);
        if may_empty {
            tidy_private_folders(ledger, &side_folders);
        }
        observer.end();
        self.when_made.into_iter().for_each(|act| act(ledger));
        let lock = self.lock.take().ok_or_else(|| ledger.catalogue.damaged_by(&"the lock was lost"))?;
        Ok((revision, lock))
    }

    /// Copies stored contents beside their destination and makes them durable. What was stored and is not what it
    /// was stops it.
    fn stage(&mut self, observer: &dyn Observer) -> Result<(), ChangeError> {
        let seam = &*self.ledger.seam;
        self.make_folders()?;
        if let Some(second_copies) = self.second_copies.take() {
            let Decision { staged, private_folders, side_folders, .. } = &mut self.decision;
            second_copies.settle(staged, private_folders, side_folders)?;
        }
        let staged = &self.decision.staged;
        let linking = Linking::of(self.ledger, staged)?;
        self.check_room(&linking)?;
        observer.begin(Work::Staging, staged.len() as u64, staged.iter().map(|file| file.size_bytes).sum());
        let lost: Mutex<HashSet<ContentHash>> = Mutex::default();
        let built: Mutex<Vec<(ContentHash, Built)>> = Mutex::default();
        let doubted = self.doubted()?;
        let one = |file: &Staged, stored: Option<&Stored>| {
            if observer.is_cancelled() {
                return Err(ChangeError::Cancelled);
            }
            let content = match (&file.made, stored) {
                (Some(Made::Content(content)), _) => write_new(file, content, seam).map(|()| true),
                (Some(Made::Container(building)), _) => build(file, building, seam).map(|one| {
                    match one {
                        Ok(one) => held(&built).push((building.name, one)),
                        Err(contents) => held(&lost).extend(contents),
                    }
                    true
                }),
                (Some(Made::Before), _) => Ok(true),
                (None, Some(stored)) => {
                    lay_stored((file, stored), doubted.contains(&file.hash), &linking, seam)
                }
                (None, None) => Ok(false),
            };
            if !content? {
                held(&lost).insert(file.hash);
            }
            observer.advance(1, file.size_bytes);
            Ok(())
        };
        let copied = self.each_staged(&one);
        observer.end();
        copied?;
        let (lost, mut built) = (std::mem::take(&mut *held(&lost)), std::mem::take(&mut *held(&built)));
        let linked = linking.into_linked();
        if !lost.is_empty() {
            built.extend(self.fetch(&lost, observer)?);
        }
        let whole = doubted.into_iter().filter(|hash| !self.fetched.contains_key(hash));
        self.ledger.catalogue.note_whole(whole)?;
        self.ledger.catalogue.note_linked(&linked)?;
        built.into_iter().try_for_each(|(name, built)| Blender::note_built(self.ledger, name, built))?;
        for (path, stamp) in &self.decision.restamped {
            seam.stamp(path, *stamp).map_err(|source| ChangeError::Stage { path: path.clone(), source })?;
        }
        self.make_durable()
    }

    /// Does something for each file to be staged, many at once, with where its content is stored. Where contents are is asked
    /// meanwhile: only this thread can.
    fn each_staged<Act>(&self, act: &Act) -> Result<(), ChangeError>
    where
        Act: Fn(&Staged, Option<&Stored>) -> Result<(), ChangeError> + Sync,
    {
        const ASKED_AT_ONCE: usize = 512;
        let failed: Mutex<Option<ChangeError>> = Mutex::default();
        rayon::in_place_scope(|scope| {
            for files in self.decision.staged.chunks(ASKED_AT_ONCE) {
                if held(&failed).is_some() {
                    break;
                }
                let stored =
                    files.iter().map(|file| file.made.is_none().then(|| self.ledger.stored(file.hash)));
                let stored = stored.map(Option::transpose).collect::<Result<Vec<_>, _>>()?;
                let failed = &failed;
                scope.spawn(move |_| {
                    if held(failed).is_some() {
                        return;
                    }
                    let done = files
                        .par_iter()
                        .zip(stored)
                        .try_for_each(|(file, stored)| act(file, stored.as_ref()));
                    if let Err(error) = done {
                        held(failed).get_or_insert(error);
                    }
                });
            }
            Ok::<_, LedgerError>(())
        })?;
        failed.into_inner().unwrap_or_else(PoisonError::into_inner).map_or(Ok(()), Err)
    }

    /// Takes lost contents from their packages, and gives the containers that were made of them.
    fn fetch(
        &mut self,
        lost: &HashSet<ContentHash>,
        observer: &dyn Observer,
    ) -> Result<Vec<(ContentHash, Built)>, ChangeError> {
        let (fetched, notices) = fetch_again(self.ledger, &self.decision.staged, lost, observer)?;
        let still: HashSet<ContentHash> =
            lost.iter().copied().filter(|hash| !fetched.contains_key(hash)).collect();
        if !still.is_empty() {
            return Err(ChangeError::ContentsLost { files: lost_contents(self.ledger, &still)? });
        }
        let built = build_again(&mut self.decision.staged, &fetched, &*self.ledger.seam)?;
        self.fetched = fetched;
        notices.into_iter().for_each(|notice| observer.notice(notice));
        Ok(built)
    }

    /// Makes all durable that must be before the mark.
    fn make_durable(&self) -> Result<(), ChangeError> {
        let (folder, seam) = (self.ledger.folder(), &*self.ledger.seam);
        let staged = &self.decision.staged;
        let names = note_names(self.ledger, &self.decision.covering)?;
        // Many contents lie in one pack.
        let new: BTreeSet<PathBuf> = self.new_contents.iter().map(|content| content.path(folder)).collect();
        let mut touched: Vec<&Path> = staged.iter().map(|file| file.path.as_path()).collect();
        let more = names.iter().chain(&self.decision.private_folders).chain(&new);
        touched.extend(more.map(PathBuf::as_path));
        let volumes = self.outcome.side_folders.iter().map(PathBuf::as_path).chain([folder]);
        let mut synced: Vec<&Path> = Vec::new();
        for volume in volumes {
            if !synced.contains(&volume) {
                seam.make_durable(volume, &touched).map_err(LedgerError::io("write to", volume))?;
                touched.clear();
                synced.push(volume);
            }
        }
        Ok(())
    }

    /// Makes the folders for what is staged.
    fn make_folders(&self) -> Result<(), ChangeError> {
        let seam = &*self.ledger.seam;
        self.outcome.side_folders.iter().try_for_each(|side| make_private_folders(side, seam))?;
        for folder in &self.decision.private_folders {
            make_private_folder(folder, seam)?;
        }
        Ok(())
    }

    /// Makes sure that there is room for what is staged and not there yet.
    fn check_room(&self, linking: &Linking) -> Result<(), ChangeError> {
        for side in &self.outcome.side_folders {
            let here = self.decision.staged.iter().filter(|file| *file.side == **side);
            let copies =
                here.filter(|file| !linking.may_be(file) && !matches!(file.made, Some(Made::Before)));
            check_room(side, copies.map(|file| file.size_bytes).sum())?;
        }
        Ok(())
    }

    /// The contents to be staged that nobody has read since a command was cut short, or that somebody may have written to.
    fn doubted(&self) -> Result<HashSet<ContentHash>, LedgerError> {
        let catalogue = &self.ledger.catalogue;
        let mut doubted = HashSet::new();
        let (has_doubts, has_linked) = (catalogue.has_doubts()?, catalogue.has_linked()?);
        if has_doubts || has_linked {
            for file in self.decision.staged.iter().filter(|file| file.made.is_none()) {
                let is_in_doubt = has_doubts && !catalogue.is_whole_since(file.hash)?;
                if is_in_doubt || has_linked && self.ledger.may_be_written_through(file.hash)? {
                    doubted.insert(file.hash);
                }
            }
        }
        Ok(doubted)
    }

    fn mark(&mut self) -> Result<(), ChangeError> {
        let ledger = self.ledger;
        let outcome =
            serde_json::to_string(&self.outcome).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        let mark = JournalMark {
            backward: false,
            command: self.outcome.command.clone(),
            begun_at: self.outcome.made_at.clone(),
            outcome,
        };
        ledger.catalogue.write_journal(&mark, self.decision.steps.to_journal())?;
        ledger.seam.pass("mark").map_err(LedgerError::io("write to", ledger.folder()))?;
        match self.transaction.take() {
            Some(transaction) => Ok(transaction.commit()?),
            None => Err(ledger.catalogue.damaged_by(&"the change was marked before").into()),
        }
    }
}

impl Drop for Prepared<'_> {
    fn drop(&mut self) {
        // As long as nobody else may change the game.
        drop(self.second_copies.take());
        // Once it is marked the private folders are tidied with what follows.
        if let Some(transaction) = self.transaction.take() {
            drop(transaction);
            tidy_private_folders(self.ledger, &self.outcome.side_folders);
        }
    }
}

fn held<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Puts the outcome into the stack and clears the journal, in one transaction.
fn finish(ledger: &Ledger, outcome: Outcome, steps: &Steps) -> Result<(i64, Vec<PathBuf>), ChangeError> {
    let transaction = Transaction::begin(ledger)?;
    let left = left_folders::note(ledger, steps)?;
    let revision = write_outcome(transaction, outcome)?;
    ledger.read_game_again()?;
    Ok((revision, left))
}

/// The number that the next revision gets.
fn next_revision(ledger: &Ledger) -> Result<i64, ChangeError> {
    Ok(ledger.catalogue.last_revision()? + 1)
}

/// Takes back a marked change, whole; says whether nothing that somebody wrote is left among what goes.
fn take_back(
    ledger: &Ledger,
    steps: &Steps,
    side_folders: &[PathBuf],
    Back { undo, brought, about }: Back,
    observer: &dyn Observer,
) -> Result<bool, ChangeError> {
    let (catalogue, seam) = (&ledger.catalogue, &*ledger.seam);
    let pass = |point| seam.pass(point).map_err(LedgerError::io("write to", ledger.folder()));
    pass("turn back")?;
    catalogue.turn_back()?;
    // The number of the change that is taken back will be another one's.
    let revision = catalogue.last_revision()?;
    let way = Way::new(ledger, steps, revision);
    let taken_back = execute::back(steps, side_folders, &way, seam, observer);
    way.tell(observer);
    taken_back.map_err(|StepFailed { path, source }| ChangeError::Stuck { path, source })?;
    let may_empty = save_written(ledger, steps, revision, observer);
    let transaction = Transaction::begin(ledger)?;
    if let Some(undo) = undo {
        undo.write(ledger)?;
    }
    about.iter().try_for_each(|about| about.write(ledger))?;
    let mut hashes = catalogue.unfinished_contents()?;
    hashes.extend(brought);
    catalogue.drop_unfinished_layers()?;
    catalogue.drop_unused_contents(&hashes)?;
    catalogue.clear_journal()?;
    pass("taken back")?;
    transaction.commit()?;
    ledger.read_game_again()?;
    if may_empty {
        tidy_private_folders(ledger, side_folders);
    }
    Transaction::of_contents(ledger).discard_contents();
    Ok(may_empty)
}

/// Finishes or takes back a change that was cut short, and removes what else it left.
pub(crate) fn recover(ledger: &Ledger, _lock: &Lock, observer: &dyn Observer) -> Result<(), ChangeError> {
    let catalogue = &ledger.catalogue;
    let journal = catalogue.journal()?;
    if journal.is_some() || is_intake_open(ledger.folder()) {
        catalogue.doubt_all()?;
    }
    let mut may_empty = true;
    if let Some(mark) = journal {
        let outcome: Outcome =
            serde_json::from_str(&mark.outcome).map_err(|error| catalogue.damaged_by(&error))?;
        let steps = Steps::from_journal(catalogue.journal_steps()?);
        let steps = steps.ok_or_else(|| catalogue.damaged_by(&"a step of its journal has no meaning"))?;
        let side_folders = outcome.side_folders.clone();
        let way = Way::new(ledger, &steps, next_revision(ledger)?);
        let is_finished = !mark.backward
            && execute::forward(&steps, &side_folders, Some(&way), &*ledger.seam, observer).is_ok();
        way.tell(observer);
        if is_finished {
            may_empty = save_changed(ledger, &steps, next_revision(ledger)?, observer);
            let (_, left) = finish(ledger, outcome, &steps)?;
            left_folders::tell(&left, observer);
        } else {
            may_empty = take_back(ledger, &steps, &side_folders, outcome.into_back(), observer)?;
        }
        let (command, begun_at) = (mark.command, mark.begun_at);
        observer.notice(Notice::Recovered(Recovered { command, begun_at, finished: is_finished }));
    }
    left_folders::drop_again(ledger)?;
    sweep(ledger)?;
    ensure_names(ledger)?;
    let side_folders: Vec<PathBuf> =
        ledger.game().roots.iter().map(|root| ledger.site().side(root)).collect();
    if may_empty {
        tidy_private_folders(ledger, &side_folders);
    }
    Ok(())
}
