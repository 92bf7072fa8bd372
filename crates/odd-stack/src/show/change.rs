//! A change as text.

use odd_stack_core::change::EffectKind;
use odd_stack_core::jobs::Direction;
use odd_stack_core::jobs::{ChangeReport, DifferenceRow, EffectRow, KeptRow, MeetingRow, ReplacedRow};

use super::style::{BOLD, DIM, GOOD, WARN, paint};
use super::table::{Look, cell, long_table, table};
use super::units::{counted, files, number, size};

/// `3 new files, 2 over the game's own, 1 identical; 12 KB to write`.
pub fn meeting(meeting: &MeetingRow) -> String {
    let mut parts = Vec::new();
    if meeting.new_files > 0 {
        parts.push(counted(meeting.new_files, "new file", "new files"));
    }
    if meeting.over_base > 0 {
        parts.push(format!("{} over the game's own", number(meeting.over_base)));
    }
    let over: u64 = meeting.over_layers.iter().map(|row| row.files).sum();
    if over > 0 {
        let by_layer: Vec<String> =
            meeting.over_layers.iter().map(|row| format!("{} {}", row.layer, number(row.files))).collect();
        parts.push(format!("{} over other layers ({})", number(over), by_layer.join(", ")));
    }
    if meeting.identical > 0 {
        parts.push(format!("{} identical to what is there", number(meeting.identical)));
    }
    if meeting.blended > 0 {
        parts.push(format!("{} merged with other layers", number(meeting.blended)));
    }
    if meeting.covered > 0 {
        parts.push(format!("{} covered by layers above", number(meeting.covered)));
    }
    if parts.is_empty() {
        return "no files".to_owned();
    }
    format!("{}; {} to write", parts.join(", "), size(meeting.written_bytes))
}

/// Files that run code that are named before the rest is counted.
const MOST_THAT_RUN: usize = 6;

/// Lines on programs, libraries and scripts, since these can do harm: each with whether it replaces
/// something.
pub fn runs_code<'a>(code: impl Iterator<Item = (&'a str, bool)>, verbose: bool) -> String {
    let most = if verbose { usize::MAX } else { MOST_THAT_RUN };
    let (replaced, brought): (Vec<_>, Vec<_>) = code.partition(|(_, replaces)| *replaces);
    let line = |what: &str, files: Vec<(&str, bool)>| {
        let shown: Vec<&str> = files.iter().take(most).map(|(path, _)| *path).collect();
        let more = files.len() - shown.len();
        let more = if more > 0 { format!(", and {more} more (-v lists them)") } else { String::new() };
        let line = format!("  {what}: {}{more}\n", shown.join(", "));
        if shown.is_empty() { String::new() } else { paint(WARN, &line) }
    };
    line("brings files that run code", brought) + &line("replaces files that run code", replaced)
}

/// `adds 3 files, overwrites 2, restores 1, deletes 4`, or that nothing changes.
pub fn summary(report: &ChangeReport) -> String {
    let mut parts = Vec::new();
    let verbs = if report.dry_run || report.revision.is_none() {
        ["adds", "overwrites", "restores", "deletes"]
    } else {
        ["added", "overwrote", "restored", "deleted"]
    };
    let counts = [report.added, report.overwritten, report.restored, report.deleted];
    for (verb, count) in verbs.into_iter().zip(counts) {
        if count.files > 0 {
            parts.push(format!("{verb} {} ({})", files(count.files), size(count.bytes)));
        }
    }
    if parts.is_empty() { "no file changes on disk".to_owned() } else { parts.join(", ") }
}

fn effect_word(kind: EffectKind) -> &'static str {
    match kind {
        EffectKind::Add => "add",
        EffectKind::Overwrite => "overwrite",
        EffectKind::Restore => "restore",
        EffectKind::Delete => "delete",
    }
}

/// The addresses that change, each with what happens to it; cut after `most`.
pub fn effects(report: &ChangeReport, most: usize) -> String {
    let rows = report.effects.iter().take(most).map(|effect| {
        let look = match effect.kind {
            EffectKind::Add => Look::Good,
            EffectKind::Restore => Look::Name,
            _ => Look::Warn,
        };
        [
            (effect_word(effect.kind).to_owned(), look),
            (effect.address.to_string(), Look::Plain),
            (size(effect.size_bytes), Look::Right),
            (effect_words(effect), Look::Dim),
        ]
    });
    let mut text = long_table(rows);
    if report.effects.len() > most && most > 0 {
        let more = number((report.effects.len() - most) as u64);
        text.push_str(&paint(DIM, &format!("  ... and {more} more (-v lists all)\n")));
    }
    text.push_str(&folders("makes", &report.folders_made, most));
    text.push_str(&folders("drops", &report.folders_dropped, most));
    text
}

/// How a new version differs from the one whose place it takes.
pub fn difference(
    told: &DifferenceRow,
    replaces: Option<&ReplacedRow>,
    version: Option<&str>,
    most: usize,
) -> String {
    let was = replaces.and_then(|replaced| replaced.version.as_deref());
    let way = match replaces.map(|replaced| replaced.direction) {
        Some(Direction::Older) => "  going back",
        Some(Direction::Same) => "  the same version again",
        _ => "  the new version",
    };
    let between = match (was, version) {
        (Some(was), Some(is)) if was != is => format!(", from {was} to {is}"),
        _ => String::new(),
    };
    let counts = [
        (told.added.len(), "added"),
        (told.changed.len(), "changed"),
        (told.respelled.len(), "spelled otherwise"),
        (told.gone.len(), "gone"),
        (usize::try_from(told.unchanged_files).unwrap_or(usize::MAX), "unchanged"),
    ];
    let counts: Vec<String> = counts
        .iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, word)| format!("{} {word}", number(*count as u64)))
        .collect();
    let counts = if counts.is_empty() { "no files".to_owned() } else { counts.join(", ") };
    let mut text = format!("{}: {counts}\n", paint(BOLD, &format!("{way}{between}")));
    let lists = [
        ("added", Look::Good, &told.added),
        ("changed", Look::Warn, &told.changed),
        ("respelled", Look::Name, &told.respelled),
        ("gone", Look::Warn, &told.gone),
    ];
    let rows: Vec<_> = lists
        .into_iter()
        .flat_map(|(word, look, list)| {
            list.iter().map(move |address| vec![cell(word, look), cell(address.clone(), Look::Plain)])
        })
        .collect();
    let all = rows.len();
    text.push_str(&table(&[], rows.into_iter().take(most).collect()));
    if all > most && most > 0 {
        text.push_str(&paint(
            DIM,
            &format!("  ... and {} more (-v lists all)\n", number((all - most) as u64)),
        ));
    }
    let contested = |words: &str, list: &[String]| {
        let shown = list.iter().take(most.clamp(1, 6)).map(String::as_str).collect::<Vec<_>>().join(", ");
        let more = list.len().saturating_sub(most.clamp(1, 6));
        let more = if more > 0 { format!(", and {more} more") } else { String::new() };
        if list.is_empty() { String::new() } else { paint(WARN, &format!("  {words}: {shown}{more}\n")) }
    };
    text.push_str(&contested("newly contested", &told.newly_contested));
    text.push_str(&contested("no longer contested", &told.no_longer_contested));
    text
}

fn folders(verb: &str, folders: &[String], most: usize) -> String {
    let shown = folders.iter().take(most).map(|folder| format!("  {verb} the folder {folder}\n"));
    let mut text: String = shown.collect();
    if folders.len() > most && most > 0 {
        let more = counted((folders.len() - most) as u64, "more folder", "more folders");
        text.push_str(&format!("  {verb} {more}\n"));
    }
    if text.is_empty() { text } else { paint(DIM, &text) }
}

fn effect_words(effect: &EffectRow) -> String {
    let over = || effect.over.as_deref().unwrap_or("the game's own");
    match (effect.kind, &effect.layer) {
        _ if effect.blended => "merged from several layers' settings".to_owned(),
        (EffectKind::Add, _) => String::new(),
        (EffectKind::Overwrite, _) => format!("over {}", over()),
        (EffectKind::Restore, Some(layer)) if Some(layer) == effect.over.as_ref() => {
            format!("as {layer} has it")
        }
        (EffectKind::Restore, Some(layer)) => format!("from {layer}, in place of {}", over()),
        (EffectKind::Restore, None) if effect.of_others => "as it was".to_owned(),
        (EffectKind::Restore, None) if effect.over.is_none() => "the game's own".to_owned(),
        (EffectKind::Restore, None) => format!("the game's own, in place of {}", over()),
        (_, _) if effect.of_others => "neither the game nor a layer has it".to_owned(),
        (_, _) => format!("of {}", over()),
    }
}

/// What became of drifted files in the way: of each kind `most`, and never less than a few.
pub fn edits(report: &ChangeReport, most: usize) -> String {
    const FEW: usize = 6;
    let most = most.max(FEW);
    let mut text = String::new();
    let (kept, keeps) =
        if report.dry_run { ("would be saved", "would count") } else { ("is saved", "counts") };
    let (of_game, saved): (Vec<&KeptRow>, Vec<&KeptRow>) =
        report.kept.iter().partition(|row| row.is_base_now);
    let of_game = of_game.iter().map(|row| {
        warned(&format!("{} as it is on disk {keeps} as the game's own from now on", row.address))
    });
    let saved =
        saved.iter().map(|row| warned(&format!("{} as it was on disk {kept} at {}", row.address, row.path)));
    let carried = report.carried.iter().map(|row| {
        let verb = if row.changes.len() == 1 { "is carried over" } else { "are carried over" };
        let line = format!("your own {} {verb} in {}", row.changes.join(", "), row.address);
        let saved = format!("    (the file as it was {kept} at {})\n", row.saved_at);
        format!("  {}\n{}", paint(GOOD, &line), paint(DIM, &saved))
    });
    text.push_str(&some(of_game, most));
    text.push_str(&some(saved, most));
    text.push_str(&some(carried, most));
    if !report.originals_lost.is_empty() {
        let count = report.originals_lost.len() as u64;
        let head = counted(count, "file of the game's own stays", "files of the game's own stay");
        let lost = if count == 1 { "it" } else { "them" };
        let head = format!("{head} missing, since the ledger has lost {lost}");
        text.push_str(&format!("{}:\n", paint(WARN, &head)));
        text.push_str(&some(report.originals_lost.iter().map(|address| format!("  {address}\n")), most));
        text.push_str(&format!(
            "  Let the game's client repair {lost}, then run `oddstack mend ADDRESS --accept`.\n"
        ));
    }
    if !report.originals_missing.is_empty() {
        let count = report.originals_missing.len() as u64;
        let count = counted(count, "file of the game's own", "files of the game's own");
        text.push_str(&warned(&format!(
            "{count} may be missing now: {}\n  the layer was adopted, so these are not known here; let the game's \
             client repair its files, then run `oddstack mend --accept`",
            named(&report.originals_missing, most)
        )));
    }
    if !report.originals_old.is_empty() {
        let count = report.originals_old.len() as u64;
        let count = counted(count, "file of the game's own is", "files of the game's own are");
        text.push_str(&warned(&format!(
            "{count} back as before the update: {}\n  let the game's client repair its files, then run `oddstack \
             patchday finish` or `oddstack mend --accept`",
            named(&report.originals_old, most)
        )));
    }
    let discarded =
        report.discarded.iter().map(|address| warned(&format!("{address} as it is on disk is discarded")));
    text.push_str(&some(discarded, most));
    text
}

fn warned(line: &str) -> String {
    format!("  {}\n", paint(WARN, line))
}

/// The first `most` lines, and how many more there are.
fn some(lines: impl ExactSizeIterator<Item = String>, most: usize) -> String {
    let more = lines.len().saturating_sub(most);
    let mut text: String = lines.take(most).collect();
    if more > 0 {
        text.push_str(&paint(DIM, &format!("  ... and {} more (-v lists all)\n", number(more as u64))));
    }
    text
}

fn named(addresses: &[String], most: usize) -> String {
    let shown: Vec<&str> = addresses.iter().take(most).map(String::as_str).collect();
    let more = addresses.len() - shown.len();
    let more = if more > 0 { format!(", and {more} more") } else { String::new() };
    format!("{}{more}", shown.join(", "))
}

/// The last line: what became of it.
pub fn verdict(report: &ChangeReport, done: &str) -> String {
    match report.revision {
        _ if report.dry_run => format!("{}\n", paint(BOLD, "Dry run: nothing was changed.")),
        Some(revision) => {
            format!("{} {}\n", paint(BOLD, done), paint(DIM, &format!("(revision {revision})")))
        }
        None => format!("{}\n", paint(BOLD, "Nothing to do: the stack is so already.")),
    }
}
