//! One change of a ledger as a value.

use super::blobs::sweep;
use super::{Ledger, LedgerError};
use crate::game::Game;

/// What is written into the catalogue, and taken in of contents, for one change. All of it goes again when this is dropped
/// before it was committed: nobody has to remember it.
#[derive(Debug)]
#[must_use = "what was written goes again when this is dropped"]
pub(crate) struct Transaction<'l> {
    ledger: &'l Ledger,
    is_over: bool,
}

impl<'l> Transaction<'l> {
    /// One in which contents are taken in, while the catalogue stays free for others.
    pub(crate) fn of_contents(ledger: &'l Ledger) -> Self {
        Self { ledger, is_over: false }
    }

    /// One in which the catalogue is written to.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub(crate) fn begin(ledger: &'l Ledger) -> Result<Self, LedgerError> {
        let begun = Self::of_contents(ledger);
        begun.open()?;
        Ok(begun)
    }

    /// Goes on to write to the catalogue.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub(crate) fn open(&self) -> Result<(), LedgerError> {
        self.ledger.catalogue.begin()
    }

    /// The ledger that it is of.
    pub(crate) fn ledger(&self) -> &'l Ledger {
        self.ledger
    }

    /// Changes what is known of the game. The open ledger has it so from now on, and as before when this is dropped.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub(crate) fn write_game(&self, game: Game) -> Result<(), LedgerError> {
        self.ledger.catalogue.write_game(&game)?;
        self.ledger.suppose_game(game);
        Ok(())
    }

    /// Forgets what was written to the catalogue and keeps the contents, for another try.
    pub(crate) fn roll_back(&self) {
        self.ledger.catalogue.roll_back();
        self.ledger.drop_supposed_game();
    }

    /// Removes contents that nothing in the catalogue wants. What can't be removed now is swept by the next command.
    pub(crate) fn discard_contents(&self) {
        let _ = sweep(self.ledger);
    }

    /// Makes all of it last.
    ///
    /// # Errors
    /// [`LedgerError`]; it goes again then.
    pub(crate) fn commit(mut self) -> Result<(), LedgerError> {
        self.ledger.catalogue.commit()?;
        self.ledger.keep_supposed_game();
        self.is_over = true;
        Ok(())
    }
}

impl Drop for Transaction<'_> {
    fn drop(&mut self) {
        if !self.is_over {
            self.roll_back();
            self.discard_contents();
        }
    }
}
