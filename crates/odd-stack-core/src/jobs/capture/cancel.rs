//! Taking back all that was changed since a capture began.

use super::differences::differences;
use super::{CaptureError, CaptureUnderWay, Stage, clear_after};
use crate::change::{ChangeOptions, ChangeRequest, Direct, Edits, Prepared, prepare};
use crate::jobs::Permit;
use crate::ledger::{Ledger, LedgerError, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::stack::{BaseKind, Provider};

/// A capture about to be taken back.
#[derive(Debug)]
pub struct Cancelling<'l> {
    /// What puts all back; none when nothing was changed.
    pub change: Option<Prepared<'l>>,
    /// Files of the game's own that can't be recovered: they were not protected, or were written in place.
    pub originals_lost: Vec<String>,
}

/// Prepares to take back all that was changed. What lies in the way is saved.
///
/// # Errors
/// [`CaptureError`]; the capture is under way still.
pub fn prepare_capture_cancel<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    now: Moment,
    observer: &dyn Observer,
) -> Result<Cancelling<'l>, CaptureError> {
    let (mut begun, begun_at) = CaptureUnderWay::read(ledger)?;
    if begun.stage != Stage::Ready {
        return Ok(Cancelling { change: None, originals_lost: Vec::new() });
    }
    let order = ledger.present_order()?;
    let found = differences(ledger, &order, observer)?;
    let command = format!("take back capture {}", begun.name);
    let mut request = ChangeRequest::new(&command, now, ledger.catalogue.arrangement()?);
    let mut originals_lost = Vec::new();
    for file in &found.files {
        let path = file.path();
        let was_file = file.before.as_ref().is_some_and(|before| before.item.1 == BaseKind::File);
        match (&file.before, &file.guard, file.column.provider(&order)) {
            (None, ..) => request.files.direct.push(Direct { root: file.root, path, instead: None }),
            (Some(_), Some(guard), _) => {
                request.files.direct.push(Direct { root: file.root, path, instead: Some(guard.clone()) });
            }
            (Some(_), None, Provider::Layer(_)) => request.files.restore.push(file.column.path),
            (Some(_), None, _) if was_file => {
                originals_lost.extend(ledger.game().address(file.root, path).map(|it| it.to_string()));
            }
            (Some(_), None, _) => {}
        }
    }
    for (path, stamp) in &found.alike {
        ledger.seam.stamp(path, *stamp).map_err(LedgerError::io("set the time of", path))?;
    }
    request.files.make_folders.clone_from(&found.folders_gone);
    request.files.drop_folders = found.folders_added.iter().rev().cloned().collect();
    let is_nothing = request.files.direct.is_empty()
        && request.files.restore.is_empty()
        && request.files.make_folders.is_empty()
        && request.files.drop_folders.is_empty();
    if is_nothing {
        return Ok(Cancelling { change: None, originals_lost });
    }
    // Where no layer waits to be laid again, that is the end of it.
    request.noted.ongoing = Some(if begun.arrangement() == request.stack.after {
        None
    } else {
        begun.stage = Stage::TakenBack;
        Some(begun.ongoing(ledger, &begun_at)?)
    });
    let options = ChangeOptions { edits: Edits::Keep, despite: true, ..ChangeOptions::default() };
    let change = prepare(Transaction::begin(ledger)?, permit.lock, request, options, observer)?;
    Ok(Cancelling { change: Some(change), originals_lost })
}

/// Prepares to lay again the layers that were lifted for a capture, once all is put back; ends the capture where none were.
///
/// # Errors
/// [`CaptureError`].
pub fn prepare_capture_close<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    now: Moment,
    observer: &dyn Observer,
) -> Result<Option<Prepared<'l>>, CaptureError> {
    let (begun, _) = match CaptureUnderWay::read(ledger) {
        Err(CaptureError::NoneUnderWay) => {
            clear_after(ledger);
            return Ok(None);
        }
        other => other?,
    };
    let after = begun.arrangement();
    if after == ledger.catalogue.arrangement()? {
        ledger.catalogue.write_ongoing(None)?;
        clear_after(ledger);
        return Ok(None);
    }
    let command = format!("take back capture {}", begun.name);
    let mut request = ChangeRequest::new(&command, now, after);
    request.noted.ongoing = Some(None);
    let options = ChangeOptions { edits: Edits::Keep, despite: true, ..ChangeOptions::default() };
    let change = prepare(Transaction::begin(ledger)?, permit.lock, request, options, observer)?;
    Ok(Some(change.then(clear_after)))
}
