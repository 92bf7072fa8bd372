//! What a program changed in a container, member by member.

use std::io::Read;

use super::differences::Difference;
use super::entry::CapturedEntry;
use crate::address::{Address, INTO, RelPath};
use crate::blend::{KeyEdit, MOST_BLENDED_BYTES, edits_between, write_edits};
use crate::change::ForeignFile;
use crate::check::{Inside, MemberDrift, MemberTurn, inside_member, inside_over};
use crate::container::signature_of;
use crate::expected::Blender;
use crate::hash::ContentHash;
use crate::ledger::{Intake, Ledger, LedgerError};
use crate::stack::{Column, Entry, EntryKind, LayerId, Order, Provider};

/// Entries for a container that was changed, and what is told of each member.
pub(super) struct InsideCaptured {
    pub drafts: Vec<CapturedEntry>,
    pub told: Vec<(String, MemberTurn)>,
    /// Contents that are not stored, where nothing is.
    pub small: Vec<(ContentHash, Vec<u8>)>,
}

/// Takes in what was changed in a container; nothing where the file is none now or was none before, or how it was is not
/// known.
pub(super) fn captured_inside(
    ledger: &Ledger,
    intake: &Intake<'_>,
    order: &Order,
    file: &Difference,
) -> Result<Option<InsideCaptured>, LedgerError> {
    let (Some(_), Some((path, seen))) = (&file.before, &file.now) else { return Ok(None) };
    let root = ledger.site().root(file.root)?;
    let mut blender = Blender::new(ledger);
    let is_base = matches!(file.column.provider(order), Provider::Base(_));
    match (&file.guard, is_base) {
        (Some(guard), true) => blender.set_base_at(file.column.path, guard.clone()),
        (None, false) => {}
        // A person's edits lay there, or nobody knows what did.
        _ => return Ok(None),
    }
    let mut columns = [file.column.clone()];
    blender.learn(&mut columns, order)?;
    let [column] = columns;
    let beneath = match (&file.guard, column.whole_provider(order)) {
        (Some(guard), _) => blender.containers.at(guard),
        (None, Provider::Base(_)) => blender.containers.of_base(&column)?,
        (None, Provider::Layer(entry)) => blender.containers.of_entry(entry)?,
        (None, Provider::Nothing) => return Ok(None),
    };
    let Ok(beneath) = beneath else { return Ok(None) };
    let Some(inside) = inside_over(&blender, &column, order, &beneath, &path.on(&root.folder)) else {
        return Ok(None);
    };
    let container = Address { root: root.name.clone(), path: path.clone() };
    let mut taken = InsideCaptured { drafts: Vec::new(), told: Vec::new(), small: Vec::new() };
    let time = seen.modified_ns.div_euclid(1_000_000_000);
    let entry = taken.container(ledger, intake, (&blender, order), (&container, &inside), time)?;
    let original = file.guard.clone().filter(|_| is_base);
    let foreign = Some(ForeignFile::Captured { at: Some(path.clone()), original, edited: false });
    taken.drafts.push(CapturedEntry {
        root: file.root,
        key: file.key.clone(),
        entry,
        foreign,
        over: Vec::new(),
        is_member: false,
    });
    Ok(Some(taken))
}

impl InsideCaptured {
    /// Takes in what was changed in one container, and in those in it; gives its list of members.
    fn container(
        &mut self,
        ledger: &Ledger,
        intake: &Intake<'_>,
        (blender, order): (&Blender<'_>, &Order),
        (container, inside): (&Address, &Inside),
        time: i64,
    ) -> Result<Entry, LedgerError> {
        let before = self.told.len();
        for member in &inside.members {
            let (at, column) = self.column(ledger, (blender, order), container, &member.path)?;
            let deeper = match member.turn {
                MemberTurn::Changed => inside_member(blender, &column, order, inside)?,
                _ => None,
            };
            let draft = match deeper {
                Some(deeper) => {
                    let entry = self.container(ledger, intake, (blender, order), (&at, &deeper), time)?;
                    let (root, key) = (column.root, column.key);
                    CapturedEntry { root, key, entry, foreign: None, over: Vec::new(), is_member: true }
                }
                None => self.member(ledger, intake, (blender, order), (container, inside), member, time)?,
            };
            self.drafts.push(draft);
        }
        // The signature does not hold any more, whether the program saw to that or not.
        let signature = signature_of(&inside.beneath.directory);
        let is_told = |path: &RelPath| inside.members.iter().any(|member| member.path == *path);
        for path in signature.iter().filter(|path| !is_told(path)) {
            let gone = MemberDrift { path: path.clone(), turn: MemberTurn::Gone };
            let entry = self.member(ledger, intake, (blender, order), (container, inside), &gone, time)?;
            self.drafts.push(entry);
        }
        let list: Vec<&str> = self.told[before..].iter().map(|(path, _)| path.as_str()).collect();
        let bytes = serde_json::to_vec(&list).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        let size_bytes = bytes.len() as u64;
        let hash = intake.take(&mut bytes.as_slice(), size_bytes)?;
        self.small.push((hash, bytes));
        let (kind, spelled) = (EntryKind::Members, container.path.clone());
        Ok(Entry { layer: LayerId(0), kind, spelled, hash, size_bytes, modified: time, executable: None })
    }

    /// The address of a member, and what layers have there.
    fn column(
        &self,
        ledger: &Ledger,
        (blender, order): (&Blender<'_>, &Order),
        container: &Address,
        path: &RelPath,
    ) -> Result<(Address, Column), LedgerError> {
        let spelled = RelPath::from_disk(format!("{}{INTO}{path}", container.path));
        let root = ledger.game().root_named(&container.root).map(|root| root.id);
        let root = root.ok_or_else(|| ledger.catalogue.damaged_by(&"a root is gone"))?;
        let mut columns = [ledger.column(root, &ledger.game().folding.key(spelled.as_str()))?];
        blender.containers.mark_member(&mut columns[0])?;
        blender.learn(&mut columns, order)?;
        let [column] = columns;
        Ok((Address { root: container.root.clone(), path: spelled }, column))
    }

    fn member(
        &mut self,
        ledger: &Ledger,
        intake: &Intake<'_>,
        (blender, order): (&Blender<'_>, &Order),
        (container, inside): (&Address, &Inside),
        MemberDrift { path, turn }: &MemberDrift,
        time: i64,
    ) -> Result<CapturedEntry, LedgerError> {
        let (at, column) = self.column(ledger, (blender, order), container, path)?;
        self.told.push((at.to_string(), *turn));
        let (folding, spelled) = (ledger.game().folding, at.path);
        let (root, key) = (column.root, column.key.clone());
        let over = column.provider(order).entry().map(|entry| entry.layer).into_iter().collect();
        let (mut kind, mut hash, mut size_bytes) = (EntryKind::File, ContentHash::NOTHING, 0);
        let found = inside.opened.directory.find(&folding.key(path.as_str()));
        if let Some(found) = found.filter(|_| *turn != MemberTurn::Gone) {
            let failed = LedgerError::io("read a member of", ledger.folder());
            let edits = match order.blend_rules().format_of(key.as_str()) {
                Some(_) if found.size_bytes <= MOST_BLENDED_BYTES => {
                    let mut now = Vec::new();
                    inside
                        .opened
                        .member(found)
                        .and_then(|mut it| it.read_to_end(&mut now))
                        .map_err(failed)?;
                    edits_of(blender, &column, order, &now)?
                }
                _ => Vec::new(),
            };
            if edits.is_empty() {
                let failed = LedgerError::io("read a member of", ledger.folder());
                let mut content = inside.opened.member(found).map_err(failed)?;
                (hash, size_bytes) = (intake.take(&mut content, found.size_bytes)?, found.size_bytes);
            } else {
                let list = write_edits(&edits).map_err(|error| ledger.catalogue.damaged_by(&error))?;
                (kind, size_bytes) = (EntryKind::Keys, list.len() as u64);
                hash = intake.take(&mut list.as_slice(), size_bytes)?;
                self.small.push((hash, list));
            }
        }
        let entry =
            Entry { layer: LayerId(0), kind, spelled, hash, size_bytes, modified: time, executable: None };
        Ok(CapturedEntry { root, key, entry, foreign: None, over, is_member: true })
    }
}

/// The keys that were changed in settings in a container; none where that can't be told.
fn edits_of(
    blender: &Blender<'_>,
    column: &Column,
    order: &Order,
    now: &[u8],
) -> Result<Vec<KeyEdit>, LedgerError> {
    let before = match column.provider(order) {
        Provider::Nothing => None,
        Provider::Base(_) => blender.base_content(column)?,
        Provider::Layer(entry) => match blender.content_of(column, entry, order)? {
            Some(made) => Some(made),
            None => blender.stored_if_there(entry)?,
        },
    };
    let Some(format) = order.blend_rules().format_of(column.key.as_str()) else { return Ok(Vec::new()) };
    let edits = before.and_then(|before| edits_between(format.of_content(&before), &before, now).ok());
    Ok(edits.unwrap_or_default())
}
