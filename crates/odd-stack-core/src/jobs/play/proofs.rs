//! Whether one sees that layers work: what their fit sheets say of that, held to the disk.

use std::io::{Read, Seek, SeekFrom};
use std::path::Path;
use std::time::{Duration, SystemTime};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

use crate::blend::Text;
use crate::files::{look_at, open_below};
use crate::fit::Proof;
use crate::game::version_of_file;
use crate::jobs::add::remembered::remembered_rules;
use crate::ledger::{Ledger, LedgerError};
use crate::version_range::VersionRange;

/// So much of a log is read, from its end.
const MOST_LOG_BYTES: u64 = 8 << 20;

/// One proof of one layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ProofRow {
    /// The layer.
    pub layer: String,
    /// What is proved, in words.
    pub says: String,
    /// Whether it holds.
    pub holds: bool,
    /// What was found.
    pub found: String,
}

/// What a log must not be older than.
#[derive(Clone, Copy)]
struct Since {
    changed_at: Option<OffsetDateTime>,
    started: Option<OffsetDateTime>,
}

/// The proofs of all laid layers, from the top to the bottom. A log that was written before the game was `started` proves
/// nothing.
///
/// # Errors
/// [`LedgerError`].
pub fn proofs(ledger: &Ledger, started: Option<SystemTime>) -> Result<Vec<ProofRow>, LedgerError> {
    // The coarsest disks keep every other second.
    const COARSE: Duration = Duration::from_secs(2);
    let changed_at = ledger.catalogue.last_changed_at()?;
    let changed_at = changed_at.and_then(|text| OffsetDateTime::parse(&text, &Rfc3339).ok());
    let since = Since { changed_at, started: started.map(|started| OffsetDateTime::from(started - COARSE)) };
    let mut rows = Vec::new();
    for layer in ledger.layers()?.into_iter().rev().filter(|layer| layer.laid) {
        for proof in remembered_rules(ledger, &layer)?.proofs() {
            let (holds, found) = judge(ledger, &proof, since);
            let says = proof.says.clone().unwrap_or_else(|| words(&proof));
            rows.push(ProofRow { layer: layer.about.name.clone(), says, holds, found });
        }
    }
    Ok(rows)
}

fn words(proof: &Proof) -> String {
    let address = proof.address().unwrap_or_default();
    match (&proof.contains, &proof.is) {
        (Some(contains), _) => format!("{address} contains \"{contains}\""),
        (_, Some(range)) => format!("{address} is {range}"),
        _ => format!("{address} is there"),
    }
}

/// Whether a proof holds, and what was found.
fn judge(ledger: &Ledger, proof: &Proof, since: Since) -> (bool, String) {
    let address = match ledger.game().address_book().resolve(proof.address().unwrap_or_default()) {
        Ok(address) => address,
        Err(error) => return (false, error.to_string()),
    };
    let Some(root) = ledger.game().root_named(&address.root) else {
        return (false, format!("the game has no folder `{}`", address.root));
    };
    let path = address.path.on(&root.folder);
    let seen = match look_at(&path) {
        Ok(Some(seen)) => seen,
        Ok(None) => return (false, "it is not there".to_owned()),
        Err(error) => return (false, error.to_string()),
    };
    if let Some(pattern) = &proof.contains {
        let written = OffsetDateTime::from_unix_timestamp_nanos(i128::from(seen.modified_ns)).ok();
        let is_older = |than: Option<OffsetDateTime>| written.zip(than).is_some_and(|(it, than)| it < than);
        if is_older(since.started) {
            return (false, "it was written before this start".to_owned());
        }
        if is_older(since.changed_at) {
            return (false, "it was written before the last change of the stack; play once more".to_owned());
        }
        return match line_with(&root.folder, &path, pattern) {
            Ok(Some(line)) => (true, line),
            Ok(None) => (false, "no line of it does".to_owned()),
            Err(error) => (false, error.to_string()),
        };
    }
    if let Some(range) = &proof.is {
        return match version_of_file(&root.folder, &path, None) {
            Ok(Some(version)) => (
                VersionRange::parse(range).is_ok_and(|range| range.contains(&version)),
                format!("it is {version}"),
            ),
            Ok(None) => (false, "it tells no version".to_owned()),
            Err(error) => (false, error.to_string()),
        };
    }
    (true, "it is".to_owned())
}

/// The last line of a log that meets the pattern.
fn line_with(root: &Path, path: &Path, pattern: &str) -> std::io::Result<Option<String>> {
    let mut file = open_below(root, path)?;
    let size_bytes = file.metadata()?.len();
    file.seek(SeekFrom::Start(size_bytes.saturating_sub(MOST_LOG_BYTES)))?;
    let mut bytes = Vec::new();
    file.take(MOST_LOG_BYTES).read_to_end(&mut bytes)?;
    let text = Text::decode(&bytes).map(|text| text.text);
    let text = text.unwrap_or_else(|| String::from_utf8_lossy(&bytes).into_owned());
    Ok(text.lines().rev().find(|line| meets(line, pattern)).map(|line| line.trim().to_owned()))
}

/// Whether a line contains the pattern, in which `*` is any text; case does not matter.
fn meets(line: &str, pattern: &str) -> bool {
    let (mut rest, pattern) = (line.to_lowercase(), pattern.to_lowercase());
    pattern.split('*').all(|part| match rest.find(part) {
        Some(at) => {
            rest = rest[at + part.len()..].to_owned();
            true
        }
        None => false,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_met_by_parts_in_order() {
        assert!(meets("[12:00] Lamps 1.2: 40 LIT", "lamps * lit"));
        assert!(meets("loader ready", "READY"));
        assert!(!meets("lit lamps", "lamps*lit"));
        assert!(!meets("", "x") && meets("anything", "*"));
    }
}
