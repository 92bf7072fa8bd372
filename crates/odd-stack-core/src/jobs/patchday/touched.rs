//! What an update touched of what layers touch.

use std::collections::HashSet;
use std::path::PathBuf;

use crate::ledger::{Ledger, LedgerError};
use crate::stack::PathId;

/// Addresses of layers at which an update changed something.
#[derive(Debug, Default)]
pub(in crate::jobs) struct Touched {
    pub paths: HashSet<PathId>,
    /// New files of the game that lie where layers' should, as long as they are not the base's.
    pub brought: Vec<(PathId, PathBuf)>,
}

impl Touched {
    /// Adds the members of containers that it touched; which of these changed is for the judge.
    pub(super) fn add_members(&mut self, ledger: &Ledger) -> Result<(), LedgerError> {
        for (path, root, key) in ledger.catalogue.containers()? {
            if self.paths.contains(&path) {
                let within = ledger.catalogue.columns_within(root, &key)?;
                self.paths.extend(within.iter().map(|column| column.path));
            }
        }
        Ok(())
    }
}
