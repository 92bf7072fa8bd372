//! What a person keeps of what they changed in files: keys of settings, members of containers, else whole files.

use std::path::Path;

use super::mend::{AtFile, MendError, Noted, left};
use super::tweak::KeptWhole;
use crate::address::{Address, FoldedKey, INTO, RelPath};
use crate::blend::{KeyEdit, MOST_BLENDED_BYTES, edits_between};
use crate::check::{Inside, MemberDrift, MemberTurn, inside, inside_member};
use crate::expected::Blender;
use crate::files::read_small;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Column, Entry, Order, Provider};

/// Edits that are to be the user's own, gathered file by file.
#[derive(Default)]
pub(super) struct KeptEdits {
    /// Keys of settings, by address.
    pub(super) set: Vec<(String, Vec<KeyEdit>)>,
    pub(super) whole: Vec<KeptWhole>,
    /// Members of containers as files, as long as they are needed.
    unpacked: Option<tempfile::TempDir>,
}

impl KeptEdits {
    /// Keeps what was changed in a layer's file: of settings the keys, else the whole file.
    pub(super) fn keep_edited(&mut self, at: AtFile<'_>, address: Address) -> Result<Noted, MendError> {
        let AtFile { ledger, order, column, path, .. } = at;
        let Provider::Layer(entry) = column.provider(order) else {
            return left("no layer's file lies there");
        };
        let found = match is_own_as_a_whole(ledger, &column)? {
            true => None,
            false => inside(ledger, &column, order, &path)?,
        };
        if let Some(found) = found {
            let details = self.keep_members((ledger, order), &column, &address, "", &found)?;
            return if details.is_empty() {
                left("no member of it differs, only its form")
            } else {
                Ok(Ok(details))
            };
        }
        let edits = match order.blend_rules().format_of(column.key.as_str()) {
            Some(_) => edits_of(ledger, &column, entry, order, &path)?,
            None => Err(String::new()),
        };
        match edits {
            Ok(edits) if edits.is_empty() => left("no setting differs, only its form"),
            Ok(edits) => {
                let keys = edits.iter().map(|edit| edit.key.clone()).collect();
                self.set.push((address.to_string(), edits));
                Ok(Ok(keys))
            }
            Err(reason) => {
                self.whole.push(KeptWhole { address, path: Some(path) });
                let whole = "as a whole file".to_owned();
                Ok(Ok(if reason.is_empty() { vec![whole] } else { vec![whole, reason] }))
            }
        }
    }

    /// Keeps what was changed in a container, member by member: of settings the keys, of a container in it what was changed in
    /// that, else whole members. Says what, by the paths `within` the outer one.
    fn keep_members(
        &mut self,
        (ledger, order): (&Ledger, &Order),
        container: &Column,
        address: &Address,
        within: &str,
        found: &Inside,
    ) -> Result<Vec<String>, MendError> {
        let folder = match &self.unpacked {
            Some(folder) => folder.path().to_owned(),
            None => {
                let made = tempfile::tempdir().map_err(LedgerError::io("create", &std::env::temp_dir()))?;
                self.unpacked.insert(made).path().to_owned()
            }
        };
        let mut details = Vec::new();
        for MemberDrift { path: member, turn } in &found.members {
            let whole = RelPath::from_disk(format!("{}{INTO}{member}", address.path));
            let at = Address { root: address.root.clone(), path: whole };
            let shown = format!("{within}{member}");
            let key = ledger.game().folding.key(at.path.as_str());
            if *turn == MemberTurn::Gone {
                details.push(format!("that {shown} is gone"));
                self.whole.push(KeptWhole { address: at, path: None });
                continue;
            }
            let mut columns = [ledger.column(container.root, &key)?];
            let blender = Blender::new(ledger);
            blender.containers.mark_member(&mut columns[0])?;
            blender.learn(&mut columns, order)?;
            if *turn == MemberTurn::Changed
                && !is_own_as_a_whole(ledger, &columns[0])?
                && let Some(deeper) = inside_member(&blender, &columns[0], order, found)?
            {
                let within = format!("{shown}{INTO}");
                details.extend(self.keep_members((ledger, order), &columns[0], &at, &within, &deeper)?);
                continue;
            }
            let file = folder.join(format!("{}", self.whole.len() + self.set.len()));
            unpack(found, &ledger.game().folding.key(member.as_str()), &file)?;
            let is_settings = order.blend_rules().format_of(key.as_str()).is_some();
            let edits = match columns[0].provider(order) {
                Provider::Layer(entry) if is_settings => {
                    edits_of(ledger, &columns[0], entry, order, &file)?.unwrap_or_default()
                }
                Provider::Base(_) if is_settings => {
                    let own = blender.base_content(&columns[0])?.unwrap_or_default();
                    edits_over(&own, order, &key, &file)?
                }
                _ => Vec::new(),
            };
            if edits.is_empty() {
                details.push(shown);
                self.whole.push(KeptWhole { address: at, path: Some(file) });
            } else {
                details.extend(edits.iter().map(|edit| format!("{} in {shown}", edit.key)));
                self.set.push((at.to_string(), edits));
            }
        }
        Ok(details)
    }
}

/// Whether the user's own is all of the container: then it stays all of it.
fn is_own_as_a_whole(ledger: &Ledger, column: &Column) -> Result<bool, LedgerError> {
    let own = ledger.catalogue.own_edits()?;
    Ok(column.entries.iter().any(|entry| Some(entry.layer) == own && entry.kind.is_file()))
}

/// Unpacks a member of a container to a file of its own, which gets the container's own time.
fn unpack(inside: &Inside, member: &FoldedKey, to: &Path) -> Result<(), MendError> {
    let Some(found) = inside.opened.directory.find(member) else { return Ok(()) };
    let written = inside.opened.member(found).and_then(|mut content| {
        let mut file = std::fs::File::create(to)?;
        std::io::copy(&mut content, &mut file).map(drop)
    });
    Ok(written.map_err(LedgerError::io("unpack a member to", to))?)
}

/// What a file changes in `own`, key by key; nothing where that can't be told.
fn edits_over(own: &[u8], order: &Order, key: &FoldedKey, file: &Path) -> Result<Vec<KeyEdit>, MendError> {
    let Some(format) = order.blend_rules().format_of(key.as_str()) else { return Ok(Vec::new()) };
    let mine = read_small(file, MOST_BLENDED_BYTES).map_err(LedgerError::io("read", file))?;
    Ok(mine.and_then(|mine| edits_between(format.of_content(own), own, &mine).ok()).unwrap_or_default())
}

/// What a person changed in a file of settings, key by key; or why that can't be said.
fn edits_of(
    ledger: &Ledger,
    column: &Column,
    entry: &Entry,
    order: &Order,
    path: &Path,
) -> Result<Result<Vec<KeyEdit>, String>, MendError> {
    let Some(format) = order.blend_rules().format_of(column.key.as_str()) else {
        return Ok(Err("it is no settings file".to_owned()));
    };
    let mine = match read_small(path, MOST_BLENDED_BYTES) {
        Ok(Some(mine)) => mine,
        Ok(None) => return Ok(Err("it is too big to be compared key by key".to_owned())),
        Err(error) if crate::files::is_nothing_there(&error) => return Ok(Err("it is gone".to_owned())),
        Err(source) => return Err(LedgerError::io("read", path)(source).into()),
    };
    let blender = Blender::new(ledger);
    let laid = match blender.content_of(column, entry, order)? {
        Some(made) => Some(made),
        None => blender.stored(entry)?,
    };
    let laid = laid.unwrap_or_default();
    Ok(edits_between(format.of_content(&laid), &laid, &mine))
}
