//! Changing which files of a game blend.

use crate::blend::{BlendRule, BlendRules};
use crate::change::{ChangeError, ChangeOptions, ChangeRequest, Prepared, prepare};
use crate::jobs::Permit;
use crate::ledger::{Ledger, LedgerError, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::stack::PathId;

/// Prepares the change to other rules of what blends; what lies on disk follows. `command` is what the history will
/// say. The rules' patterns must have been checked.
///
/// # Errors
/// [`ChangeError`]; nothing was changed.
pub fn prepare_blend_rules<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    rules: Vec<BlendRule>,
    command: &str,
    now: Moment,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<Prepared<'l>, ChangeError> {
    let also_touched = touched_by_rules(ledger, &rules)?;
    let arrangement = ledger.catalogue.arrangement()?;
    let mut request = ChangeRequest::new(command, now, arrangement);
    request.stack.blend_rules = Some(rules);
    request.stack.also_touched = also_touched;
    prepare(Transaction::begin(ledger)?, permit.lock, request, options, observer)
}

/// Addresses of which other rules decide otherwise whether they blend.
pub(in crate::jobs) fn touched_by_rules(
    ledger: &Ledger,
    rules: &[BlendRule],
) -> Result<Vec<PathId>, LedgerError> {
    let compiled = |rules: &[BlendRule]| -> Result<BlendRules, LedgerError> {
        BlendRules::new(rules).map_err(|error| ledger.catalogue.damaged_by(&error))
    };
    let (before, after) = (compiled(&ledger.game().blend_rules)?, compiled(rules)?);
    let mut met = Vec::new();
    ledger.catalogue.pass_meetings(|sides| met.push(sides[0].path))?;
    let mut also_touched = Vec::new();
    for path in met {
        let Some((_, key)) = ledger.catalogue.key_at(path)? else { continue };
        let changes = |by_lines| {
            before.may_blend_as(key.as_str(), by_lines) != after.may_blend_as(key.as_str(), by_lines)
        };
        if changes(false) || changes(true) {
            also_touched.push(path);
        }
    }
    Ok(also_touched)
}
