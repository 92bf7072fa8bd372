//! Which files of a package lie in the game already, as they are, edited, under other names, or in containers.

use std::collections::{BTreeSet, HashMap, HashSet};

use super::adopt_elsewhere::{RenamedRow, SoughtFile as Lookout, elsewhere};
use super::adopt_inside::{
    container_of, covered_containers, is_made_by_layers, true_originals, why_not_within,
};
use super::adopt_originals::{Originals, taken_originals};
use super::content_at::key_of;
use super::contents::Contents;
use super::why_not::WhyNot;
use crate::address::{Address, FoldedKey, RelPath};
use crate::blend::{Format, MOST_BLENDED_BYTES, edits_between};
use crate::expected::Containers;
use crate::files::{Seen, look_at, read_small};
use crate::fit::{Fit, Place, Placement, Rank};
use crate::hash::ContentHash;
use crate::jobs::AddError;
use crate::jobs::stored::originals::{Covered, FoundOriginal, find_originals};
use crate::ledger::{Ledger, LedgerError};
use crate::observer::{Observer, Work};
use crate::package::Package;
use crate::stack::{BaseFile, BaseKind, Order, RootId};
use std::path::Path;

/// What lies at a placement's address.
enum LiesThere {
    /// The package's very file, and what the base is known to have there.
    Alike {
        seen: Seen,
        base: Option<BaseFile>,
        spelled: RelPath,
    },
    /// The package's very file is a member of a container.
    Within,
    Not(WhyNot),
}

/// Where a file of the package would go, its size, and its hash.
pub(super) type Sized = (Placement, u64, Option<ContentHash>);

/// What of the package lies in the game.
#[derive(Default)]
pub(super) struct FoundInGame {
    pub alike: Vec<Placement>,
    pub not_there: Vec<(Sized, WhyNot)>,
    /// Times on disk, in seconds since 1970.
    pub times: HashMap<Address, i64>,
    /// Where each file of the layer lies.
    pub at: Vec<(RootId, FoldedKey, RelPath)>,
    /// Those of them where the base has a file.
    pub covered: Vec<Covered>,
    /// Those of them of which somebody has edited the settings.
    pub edited: HashSet<(RootId, FoldedKey)>,
    pub edited_shown: Vec<String>,
    /// Those that lie under other names.
    pub renamed: Vec<RenamedRow>,
}

impl FoundInGame {
    /// The originals that are taken. Files in containers whose original is not are left out.
    pub(super) fn take_originals(
        &mut self,
        ledger: &Ledger,
        (package, contents): (&Package, &Contents<'_>),
        said: Option<Originals>,
        observer: &dyn Observer,
    ) -> Result<Vec<FoundOriginal>, AddError> {
        let order = ledger.present_order()?;
        let containers = covered_containers(ledger, &order, &self.alike)?;
        let hash_of = |placement: &Placement| contents.hash_of(package.members()[placement.member].content);
        let hashed: Vec<(Placement, ContentHash)> =
            self.alike.iter().filter_map(|it| Some((it.clone(), hash_of(it)?))).collect();
        let covered: Vec<Covered> = self.covered.iter().chain(&containers).cloned().collect();
        let found = find_originals(ledger, &covered, observer)?;
        let taken = taken_originals(said, true_originals(ledger, &containers, &hashed, found)?)?;
        let is_taken = |it: &&Covered| taken.iter().any(|own| (own.root, &own.key) == (it.root, &it.key));
        let known: HashSet<(RootId, FoldedKey)> =
            containers.iter().filter(is_taken).map(|it| (it.root, it.key.clone())).collect();
        for placement in std::mem::take(&mut self.alike) {
            let is_known = match container_of(&placement.to) {
                None => true,
                Some(container) => {
                    let at = key_of(ledger, &container)?;
                    known.contains(&at) || is_made_by_layers(ledger, &order, &at)?
                }
            };
            if is_known {
                self.alike.push(placement);
            } else {
                let (size_bytes, hash) =
                    (package.members()[placement.member].size_bytes, hash_of(&placement));
                self.not_there.push(((placement, size_bytes, hash), WhyNot::NoOriginal));
            }
        }
        Ok(taken)
    }

    /// # Errors
    /// [`AddError`], when nothing of the package lies there that can be adopted.
    pub(super) fn must_have_something(&self, package: &Path) -> Result<(), AddError> {
        if !self.alike.is_empty() {
            return Ok(());
        }
        let package = package.display().to_string();
        let without = self.not_there.iter().find(|(_, state)| *state == WhyNot::NoOriginal);
        let container = without.and_then(|((placement, ..), _)| container_of(&placement.to));
        Err(match container {
            Some(container) => AddError::NoOriginal { package, container: container.to_string() },
            None => AddError::NothingLies { package },
        })
    }
}

/// Looks which of the placed files lie in the game, also edited, and under other names; takes the placements.
pub(super) fn look_in_game(
    ledger: &Ledger,
    package: &Package,
    contents: &Contents<'_>,
    placed: &mut Fit,
    observer: &dyn Observer,
) -> Result<FoundInGame, AddError> {
    let order = ledger.catalogue.arrangement()?.order();
    let members = package.members();
    let wanted: BTreeSet<usize> =
        placed.placements.iter().map(|placement| members[placement.member].content).collect();
    contents.read(package, &wanted, observer)?;
    let sized = std::mem::take(&mut placed.placements).into_iter().map(|placement| {
        let member = &members[placement.member];
        (placement, member.size_bytes, contents.hash_of(member.content))
    });
    let mut found = look(ledger, &order, sized.collect(), observer)?;
    found.edited_shown = find_edited(ledger, package, contents, &mut found, observer)?;
    found.renamed = find_renamed(ledger, &order, package, &mut found, observer)?;
    for row in &found.renamed {
        // A later version of the file goes where this one lies.
        let place = Place { from: row.member.clone(), to: row.address.clone(), rank: Rank::Option };
        placed.rules.places.push(place);
    }
    Ok(found)
}

/// Tells files of settings that lie there edited, and adds them to what was found.
fn find_edited(
    ledger: &Ledger,
    package: &Package,
    contents: &Contents<'_>,
    found: &mut FoundInGame,
    observer: &dyn Observer,
) -> Result<Vec<String>, AddError> {
    let order = ledger.present_order()?;
    let mut edited = Vec::new();
    let mut rest = Vec::new();
    for (sized, state) in std::mem::take(&mut found.not_there) {
        let (placement, size_bytes, _) = &sized;
        let (root, key) = key_of(ledger, &placement.to)?;
        let format = order.blend_rules().format_of(key.as_str());
        let base = ledger.catalogue.base_at(root, &key)?;
        let spelled = base.as_ref().map_or_else(|| placement.to.path.clone(), |base| base.spelled.clone());
        let path = spelled.on(&ledger.site().root(root)?.folder);
        let is_one = match format
            .filter(|_| state == WhyNot::OtherContent && *size_bytes <= MOST_BLENDED_BYTES)
            .filter(|_| container_of(&placement.to).is_none())
        {
            Some(format) => {
                let member = &package.members()[placement.member];
                let own = contents.read_small(package, &[member], MOST_BLENDED_BYTES, observer)?;
                let own = own.into_iter().next().unwrap_or_default();
                let mine = read_small(&path, MOST_BLENDED_BYTES).map_err(LedgerError::io("read", &path))?;
                mine.is_some_and(|mine| is_edited(&own, &mine, format))
            }
            None => false,
        };
        if !is_one {
            rest.push((sized, state));
            continue;
        }
        // Never the time on disk: of two of one size a look must show that this is another.
        let modified = look_at(&path).map_err(LedgerError::io("look at", &path))?;
        let modified = modified.map_or(0, |seen| seen.modified_ns.div_euclid(1_000_000_000) & !1);
        found.times.insert(placement.to.clone(), modified - 10);
        edited.push(placement.to.to_string());
        found.at.push((root, key.clone(), spelled));
        found.edited.insert((root, key));
        found.alike.push(sized.0);
    }
    found.not_there = rest;
    Ok(edited)
}

/// Whether `mine` are the same settings, some of them changed: both can be read, and most lines are the same.
fn is_edited(own: &[u8], mine: &[u8], format: Format) -> bool {
    let lines = |bytes: &[u8]| -> HashSet<String> {
        let text = String::from_utf8_lossy(bytes);
        text.lines().map(|line| line.trim().to_owned()).filter(|line| !line.is_empty()).collect()
    };
    let (of_own, of_mine) = (lines(own), lines(mine));
    let alike = of_own.intersection(&of_mine).count();
    alike * 2 >= of_own.len()
        && edits_between(format.of_content(own), own, mine).is_ok_and(|edits| !edits.is_empty())
}

/// Finds by content what does not lie under its own name, and adds it to what was found.
fn find_renamed(
    ledger: &Ledger,
    order: &Order,
    package: &Package,
    found: &mut FoundInGame,
    observer: &dyn Observer,
) -> Result<Vec<RenamedRow>, AddError> {
    let members = package.members();
    let (open, rest): (Vec<_>, Vec<_>) =
        std::mem::take(&mut found.not_there).into_iter().partition(|((placement, _, hash), state)| {
            hash.is_some() && *state != WhyNot::OfALayer && container_of(&placement.to).is_none()
        });
    found.not_there = rest;
    let wanted: Vec<Lookout<'_>> = open
        .iter()
        .filter_map(|((placement, size_bytes, hash), _)| {
            let member = &members[placement.member].path;
            Some(Lookout { member, at: Some(&placement.to), size_bytes: *size_bytes, hash: (*hash)? })
        })
        .collect();
    if wanted.is_empty() {
        return Ok(Vec::new());
    }
    let taken = found.at.iter().map(|(root, key, _)| (*root, key.clone())).collect();
    let places = elsewhere(ledger, order, &wanted, &taken, observer)?;
    let (mut renamed, mut again) = (Vec::new(), Vec::new());
    for (((placement, size_bytes, hash), state), place) in open.into_iter().zip(places) {
        match place {
            Some(to) => {
                let member = members[placement.member].path.to_string();
                renamed.push(RenamedRow { member, address: to.to_string() });
                again.push((Placement { to, ..placement }, size_bytes, hash));
            }
            None => found.not_there.push(((placement, size_bytes, hash), state)),
        }
    }
    let more = look(ledger, order, again, observer)?;
    found.alike.extend(more.alike);
    found.not_there.extend(more.not_there);
    found.times.extend(more.times);
    found.at.extend(more.at);
    found.covered.extend(more.covered);
    Ok(renamed)
}

/// Looks at where each file would go.
fn look(
    ledger: &Ledger,
    order: &Order,
    placements: Vec<Sized>,
    observer: &dyn Observer,
) -> Result<FoundInGame, LedgerError> {
    let mut found = FoundInGame::default();
    let containers = Containers::new(ledger);
    observer.begin(Work::Comparing, placements.len() as u64, 0);
    for (placement, size_bytes, hash) in placements {
        let lies_there = match container_of(&placement.to) {
            Some(_) => {
                let why_not = why_not_within(ledger, &containers, order, &placement, hash)?;
                why_not.map_or(LiesThere::Within, LiesThere::Not)
            }
            None => look_there(ledger, order, &placement, size_bytes, hash)?,
        };
        observer.advance(1, 0);
        match (lies_there, hash) {
            (LiesThere::Alike { seen, base, spelled }, Some(hash)) => {
                let (root, key) = key_of(ledger, &placement.to)?;
                found.times.insert(placement.to.clone(), seen.modified_ns.div_euclid(1_000_000_000));
                found.at.push((root, key.clone(), spelled));
                if let Some(base) = base {
                    let is_changed =
                        (base.size_bytes, base.modified_ns) != (seen.size_bytes, seen.modified_ns);
                    found.covered.push(Covered { root, key, base, hash, is_changed });
                }
                found.alike.push(placement);
            }
            (LiesThere::Within, _) => found.alike.push(placement),
            (LiesThere::Alike { .. }, None) => {}
            (LiesThere::Not(state), hash) => found.not_there.push(((placement, size_bytes, hash), state)),
        }
    }
    observer.end();
    Ok(found)
}

fn look_there(
    ledger: &Ledger,
    order: &Order,
    placement: &Placement,
    size_bytes: u64,
    hash: Option<ContentHash>,
) -> Result<LiesThere, LedgerError> {
    let (root_id, key) = key_of(ledger, &placement.to)?;
    let root = ledger.site().root(root_id)?;
    let column = ledger.catalogue.column_at(root_id, &key)?;
    if column.as_ref().is_some_and(|column| !column.laid(order).is_empty()) {
        return Ok(LiesThere::Not(WhyNot::OfALayer));
    }
    let base = match &column {
        Some(column) => column.base.as_deref().cloned(),
        None => ledger.catalogue.base_at(root_id, &key)?,
    };
    let spelled = base.as_ref().map_or_else(|| placement.to.path.clone(), |base| base.spelled.clone());
    let path = spelled.on(&root.folder);
    let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
    let Some(seen) = seen else { return Ok(LiesThere::Not(WhyNot::Missing)) };
    if seen.kind != BaseKind::File || seen.size_bytes != size_bytes {
        return Ok(LiesThere::Not(WhyNot::OtherContent));
    }
    let now = ContentHash::of_file(&path).map_err(LedgerError::io("read", &path))?;
    if Some(now) != hash {
        return Ok(LiesThere::Not(WhyNot::OtherContent));
    }
    Ok(LiesThere::Alike { seen, base, spelled })
}
