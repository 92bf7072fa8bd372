//! Needs of files as they lie beneath a layer: that nobody else changes them, or that they are just those that it was made of.

use crate::address::{FoldedKey, INTO};
use crate::expected::{Blender, Containers, is_base_as_seen};
use crate::files::look_at;
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Arrangement, BaseKind, Column, LayerFacts, LayerId, Provider, RootId, Unmet, UnmetKind};

/// The fewest letters of a hash that tell one file from another here.
const SHORTEST_HASH: usize = 8;

/// Those of `facts` laid under `arrangement` whose needs of files are not met.
pub(super) fn unmet_files(
    ledger: &Ledger,
    facts: &[LayerFacts],
    arrangement: &Arrangement,
) -> Result<Vec<Unmet>, LedgerError> {
    let laid = arrangement.laid();
    let mut found = Vec::new();
    for (height, id) in laid.iter().enumerate() {
        let Some(layer) = facts.iter().find(|facts| facts.id == *id) else { continue };
        for text in &layer.needs.clean {
            found.extend(unmet_clean(ledger, facts, layer, &laid, text)?);
        }
        let mut files: Vec<&str> =
            layer.needs.made_from.iter().filter_map(|text| Some(text.split_once('=')?.0)).collect();
        files.dedup();
        for file in files {
            found.extend(unmet_source(ledger, layer, (arrangement, &laid[..height]), file)?);
        }
    }
    Ok(found)
}

/// The root and the key of what a need names; nothing where the game has no such place.
fn place(ledger: &Ledger, text: &str) -> Option<(RootId, FoldedKey)> {
    let address = ledger.game().meant(text).ok()?;
    let root = ledger.game().root_named(&address.root)?;
    Some((root.id, ledger.game().folding.key(address.path.as_str())))
}

/// Why a file is not as the game has it, where another layer or somebody else changes it.
fn unmet_clean(
    ledger: &Ledger,
    facts: &[LayerFacts],
    layer: &LayerFacts,
    laid: &[LayerId],
    text: &str,
) -> Result<Option<Unmet>, LedgerError> {
    let unmet = |found: String, other: Option<&str>| {
        Unmet::of_file(layer, UnmetKind::FileChanged, format!("clean {text}"), found, other)
    };
    let Some((root, key)) = place(ledger, text) else {
        return Ok(Some(unmet("the game has no such file".to_owned(), None)));
    };
    let mut columns: Vec<Column> = ledger.catalogue.column_alone(root, &key)?.into_iter().collect();
    columns.extend(ledger.catalogue.columns_within(root, &key)?);
    let others = laid.iter().filter(|other| {
        let changes = |column: &Column| column.entries.iter().any(|entry| entry.layer == **other);
        **other != layer.id && columns.iter().any(changes)
    });
    let others: Vec<&str> = others
        .filter_map(|other| facts.iter().find(|facts| facts.id == *other))
        .map(|facts| facts.name.as_str())
        .collect();
    if let [first, ..] = others.as_slice() {
        let verb = if others.len() == 1 { "changes" } else { "change" };
        return Ok(Some(unmet(format!("{} {verb} it", others.join(", ")), Some(first))));
    }
    if key.member().is_some() && Containers::new(ledger).column(root, &key)?.base.is_some() {
        // Of a member the container tells whether it is as it was.
        return Ok(None);
    }
    let Some(base) = ledger.catalogue.base_at(root, &key)? else {
        return Ok(Some(unmet("the game has no such file".to_owned(), None)));
    };
    // Covered, it lies aside as it was.
    let path = base.spelled.on(&ledger.site().root(root)?.folder);
    let is_covered = columns.iter().any(|column| column.entries.iter().any(|it| laid.contains(&it.layer)));
    let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
    let is_as_it_was = is_covered || seen.is_some_and(|seen| is_base_as_seen(&base, &seen));
    Ok((!is_as_it_was)
        .then(|| unmet("it was changed outside Odd Stack: let the game's client repair it".to_owned(), None)))
}

/// Why what lies beneath a layer is none of the files that it was made of.
fn unmet_source(
    ledger: &Ledger,
    layer: &LayerFacts,
    beneath: (&Arrangement, &[LayerId]),
    file: &str,
) -> Result<Option<Unmet>, LedgerError> {
    let wanted: Vec<&str> = layer
        .needs
        .made_from
        .iter()
        .filter_map(|text| text.split_once('='))
        .filter(|(of, _)| *of == file)
        .map(|(_, hash)| hash)
        .collect();
    let hash = match place(ledger, file) {
        Some((root, key)) => hash_beneath(ledger, root, &key, beneath)?,
        None => None,
    };
    let is = hash.map(|hash| hash.to_string());
    let is_one = |wanted: &&str| {
        let wanted = wanted.to_lowercase();
        wanted.len() >= SHORTEST_HASH && is.as_ref().is_some_and(|is| is.starts_with(&wanted))
    };
    if wanted.iter().any(is_one) {
        return Ok(None);
    }
    let short = |hash: &str| hash.chars().take(SHORTEST_HASH).collect::<String>();
    let what = format!(
        "{file} with hash {}",
        wanted.iter().map(|hash| short(hash)).collect::<Vec<_>>().join(" or ")
    );
    let found = match &is {
        Some(is) => format!("it has {}", short(is)),
        None => "there is no such file beneath it".to_owned(),
    };
    Ok(Some(Unmet::of_file(layer, UnmetKind::OtherFile, what, found, None)))
}

/// The hash of what lies at an address with just these layers laid.
fn hash_beneath(
    ledger: &Ledger,
    root: RootId,
    key: &FoldedKey,
    (all, beneath): (&Arrangement, &[LayerId]),
) -> Result<Option<ContentHash>, LedgerError> {
    let standing: Vec<LayerId> = all.standings().iter().map(|standing| standing.layer).collect();
    let only = all.with_laid(&standing, false).with_laid(beneath, true);
    let order = ledger.order(&only, ledger.catalogue.settlements()?)?;
    let blender = Blender::new(ledger);
    let column = match ledger.catalogue.column_alone(root, key)? {
        Some(column) => column,
        None => ledger.column_of_base(root, key)?,
    };
    let mut columns = [column];
    if key.as_str().contains(INTO) {
        blender.containers.mark_member(&mut columns[0])?;
    }
    blender.learn(&mut columns, &order)?;
    let [column] = columns;
    Ok(match column.provider(&order) {
        Provider::Nothing => None,
        Provider::Layer(entry) => Some(entry.hash),
        Provider::Base(base) if base.hash.is_some() || base.kind != BaseKind::File => base.hash,
        Provider::Base(base) => {
            let folder = ledger.site().root(root)?;
            let usual = [ledger.site().original(folder, column.path), base.spelled.on(&folder.folder)];
            usual.iter().find_map(|path| ContentHash::of_file(path).ok())
        }
    })
}
