//! `oddstack check`

use super::lineup_build;
use super::play::proof_rows;
use crate::Ended;
use crate::errors::Failure;
use crate::session::Session;
use crate::shell::in_quotes;
use crate::show::style::{BOLD, DIM, GOOD, WARN, paint};
use crate::show::table::{Look, Row, cell, table};
use crate::show::units::{counted, files, number, size};
use clap::Args;
use odd_stack_core::check::MemberTurn;
use odd_stack_core::expected::DriftKind;
use odd_stack_core::jobs::{
    CheckSummary, DamageRow, DriftCount, DriftRow, Owner, StoredState, StoredSummary,
};

#[derive(Debug, Args)]
pub struct CheckArgs {
    /// Compare contents, not only sizes and times, and everything that the ledger stores
    #[arg(long)]
    pub deep: bool,
    /// Also say whether one sees that layers work, as far as their fit sheets say how
    #[arg(long)]
    pub proofs: bool,
    /// Check the second folder that was built of this lineup; in that folder it is meant anyway
    #[arg(long, value_name = "NAME", conflicts_with = "proofs")]
    pub lineup: Option<String>,
}

/// Drifted files that are listed before the rest is folded.
const MOST_FILES: usize = 40;

pub fn run(session: &mut Session, args: &CheckArgs) -> Result<Ended, Failure> {
    let game = session.open_or_second()?;
    let built = match &args.lineup {
        Some(lineup) => Some(lineup.clone()),
        None => session.built_here(&game)?,
    };
    if let Some(lineup) = built {
        return lineup_build::check(session, &game, &lineup, args.deep);
    }
    let mut report = game.check(args.deep)?;
    let most = if session.out.verbose { usize::MAX } else { MOST_FILES };
    let mut text = text(&report, most);
    if args.deep {
        let stored = game.check_stored()?;
        text.push_str(&stored_text(&stored, most));
        report.stored = Some(stored);
    }
    if args.proofs {
        let found = game.proofs(None)?;
        text.push_str(&proof_rows(&found));
        if found.is_empty() {
            text.push_str("No laid layer says how you can tell that it works.\n");
        }
        report.proofs = Some(found);
    }
    text.push_str(&left_text(&report.folders_left));
    session.out.result(Some(&game.about().name), &report, &text);
    let damaged = report.stored.as_ref().map_or(&[][..], |stored| &stored.damaged);
    if !damaged.is_empty() {
        session.out.hint(&renewing(damaged));
    }
    let is_damaged = !damaged.is_empty();
    let is_proved = report.proofs.iter().flatten().all(|proof| proof.holds);
    if !report.drifted.is_empty() {
        for hint in hints(&report) {
            session.out.hint(&hint);
        }
    }
    Ok(match (is_damaged, report.drifted.is_empty() && is_proved) {
        (true, _) => Ended::Damaged,
        (false, true) => Ended::Well,
        (false, false) => Ended::WantsAttention,
    })
}

/// Folders that could not be removed yet, in words.
fn left_text(left: &[String]) -> String {
    let Some(first) = left.first() else { return String::new() };
    let (more, were, them) = match left.len() {
        1 => (String::new(), "was", "it"),
        count => (format!(" and {} more", count - 1), "were", "them"),
    };
    paint(
        DIM,
        &format!(
            "{first}{more} {were} to go and {were} not removed: another program stands in {them} or has {them} open; \
             the next command that changes the game removes {them}\n"
        ),
    )
}

/// What can be done about what the ledger has lost.
pub fn renewing(damaged: &[DamageRow]) -> String {
    let mut lines = Vec::new();
    if damaged.iter().any(|file| file.layer.is_some()) {
        lines.push(
            "`oddstack mend --renew` puts contents of layers again, from the game and from their packages where these \
             still lie; `oddstack mend --renew PACKAGE` from another place.",
        );
    }
    if damaged.iter().any(|file| file.layer.is_none()) {
        lines.push(
            "`oddstack mend --renew FOLDER` takes the game's own files from a whole copy of the game. Or let its client \
             repair them, then `oddstack mend ADDRESS --accept`.",
        );
    }
    lines.join("\n")
}

/// What a look at everything stored found, in words.
pub fn stored_text(stored: &StoredSummary, most: usize) -> String {
    if stored.contents + stored.originals == 0 {
        return String::new();
    }
    let counts = format!(
        "{} of layers and {} of the game's own in the ledger compared by content, {}",
        files(stored.contents),
        number(stored.originals),
        size(stored.bytes)
    );
    if stored.damaged.is_empty() {
        return paint(DIM, &format!("{counts}: all whole\n"));
    }
    let head = format!("The ledger has lost {}:\n", files(stored.damaged.len() as u64));
    let mut text = format!("{}\n{}", paint(DIM, &counts), paint(WARN, &head));
    text.push_str(&damage_table(&stored.damaged, most));
    text
}

/// Lost files, one a line.
pub fn damage_table(damaged: &[DamageRow], most: usize) -> String {
    let rows = damaged.iter().take(most).map(|file| {
        let whose = match &file.layer {
            Some(layer) => format!("of {layer}"),
            None => "the game's own".to_owned(),
        };
        let renewed = file.renewed_from.as_ref().map(|from| format!("renewed from {from}"));
        let state = match renewed.is_some() {
            true => cell("renewed", Look::Good),
            false => cell(state_word(file.state), Look::Warn),
        };
        let details = renewed.map_or(whose.clone(), |renewed| format!("{whose}, {renewed}"));
        vec![state, cell(file.address.clone(), Look::Plain), cell(details, Look::Dim)]
    });
    let mut text = table(&[], rows.collect());
    if damaged.len() > most {
        text.push_str(&paint(DIM, &format!("  ... and {} more (-v lists all)\n", damaged.len() - most)));
    }
    text
}

/// What can be done about what was found.
fn hints(report: &CheckSummary) -> Vec<String> {
    let has = |kinds: &[DriftKind]| report.drifted.iter().any(|row| kinds.contains(&row.kind));
    let mut hints = Vec::new();
    if let Some(update) = &report.update {
        let what = match (&update.known_version, &update.version_now) {
            (Some(known), Some(now)) if known != now => format!("the game is {now} now and was {known}"),
            _ => format!("{} of the game's own changed", files(update.base_changed_files)),
        };
        hints.push(format!(
            "An update of the game, it seems: {what}. `oddstack patchday finish` takes its files as the game's own \
             and lays again what still fits."
        ));
    } else if has(&[DriftKind::Edited, DriftKind::Missing, DriftKind::PutBack]) {
        hints.push(
            "`oddstack mend` goes through them; `oddstack mend --restore` puts layers' files again as the stack has \
             them, `--keep` keeps your versions as edits of your own, `--accept` takes them as the game's own."
                .to_owned(),
        );
    } else if has(&[
        DriftKind::BaseChanged,
        DriftKind::BaseTouched,
        DriftKind::BaseAdded,
        DriftKind::BaseGone,
        DriftKind::Stray,
    ]) {
        hints.push(
            "`oddstack mend ADDRESS --accept` takes what lies there as the game's own; `oddstack mend` goes through \
             them."
                .to_owned(),
        );
    }
    if report.drifted.iter().any(|row| row.was_only_copy) {
        hints.push(
            "Big files are links to what the ledger stores, so what was written there is in the ledger, too. `oddstack mend \
             --keep` keeps it as your own; `oddstack mend --renew` then puts the layer's own content again, from its package \
             where that still lies."
                .to_owned(),
        );
    }
    if !report.volatile_proposals.is_empty() {
        let options: Vec<String> =
            report.volatile_proposals.iter().map(|glob| format!("--volatile {}", in_quotes(glob))).collect();
        hints.push(format!(
            "Some of it the game seems to write by itself; to have that left alone:\n  oddstack game set {}",
            options.join(" ")
        ));
    }
    hints
}

fn text(report: &CheckSummary, most: usize) -> String {
    let fine = format!("{} as laid", files(report.as_laid_files));
    let mut text =
        format!("{}  {}\n", paint(GOOD, &fine), paint(DIM, &format!("({})", how_compared(report))));
    if report.volatile_files > 0 {
        let line = format!("{} left alone where the game writes by itself\n", files(report.volatile_files));
        text.push_str(&paint(DIM, &line));
    }
    if report.other_games_files > 0 {
        let line = format!("{} left alone that other games have laid\n", files(report.other_games_files));
        text.push_str(&paint(DIM, &line));
    }
    if report.drifted.is_empty() {
        text.push_str(&format!("{}\n", paint(BOLD, "Nothing drifted: the game is what the stack says.")));
        return text;
    }
    text.push_str(&paint(WARN, &format!("{}:\n", kinds_words(&report.kinds))));
    let whose = report.whose.iter().map(|count| match &count.of {
        Owner::Base => format!("the game itself {}", number(count.files)),
        Owner::Layer(layer) => format!("{layer} {}", number(count.files)),
    });
    text.push_str(&paint(DIM, &format!("  {}\n", whose.collect::<Vec<_>>().join(", "))));
    let weight = |row: &DriftRow| DriftKind::ALL.iter().position(|kind| *kind == row.kind);
    let mut sorted: Vec<&DriftRow> = report.drifted.iter().collect();
    sorted.sort_by_key(|row| weight(row));
    let rows = sorted.into_iter().take(most).flat_map(|row| {
        let whose = match (row.kind, &row.layer) {
            (DriftKind::Stray, Some(layer)) => format!("in a folder of {layer}"),
            (DriftKind::PutBack, Some(layer)) => format!("the game's own, in place of {layer}'s"),
            (DriftKind::Updated, Some(layer)) => format!("by the game, in place of {layer}'s"),
            (DriftKind::OtherSpelling, Some(layer)) => {
                format!("beside a file of {layer}; the game may read either")
            }
            (_, Some(layer)) => format!("of {layer}"),
            (_, None) => String::new(),
        };
        let whose = match &row.other_game {
            Some(other) => format!("{whose}, where {} of {} lies", other.layer, other.game),
            None => whose,
        };
        let whose =
            if row.was_only_copy { format!("{whose}, and it was the only copy of that") } else { whose };
        let kind = cell(kind_word(row.kind), Look::Warn);
        let it = vec![kind, cell(row.address.clone(), Look::Plain), cell(whose, Look::Dim)];
        std::iter::once(it).chain(member_rows(row, most))
    });
    text.push_str(&table(&[], rows.collect()));
    if report.drifted.len() > most {
        let more = report.drifted.len() - most;
        text.push_str(&paint(DIM, &format!("  ... and {more} more (-v lists all)\n")));
    }
    text
}

/// What changed in a container, below the line of the container.
fn member_rows(row: &DriftRow, most: usize) -> impl Iterator<Item = Row> {
    row.members.iter().take(most).map(|member| {
        let word = match member.turn {
            MemberTurn::Changed => "changed",
            MemberTurn::Come => "added",
            MemberTurn::Gone => "gone",
        };
        vec![
            cell(format!("  {word}"), Look::Dim),
            cell(format!("  !/{}", member.path), Look::Dim),
            cell(String::new(), Look::Dim),
        ]
    })
}

fn how_compared(report: &CheckSummary) -> String {
    if !report.deep {
        return "compared by size and time; --deep compares contents".to_owned();
    }
    let rest = match report.as_laid_files.saturating_sub(report.compared.files) {
        0 => String::new(),
        count => format!("; {} of the game itself, never covered, by size and time", files(count)),
    };
    format!("{} compared by content, {}{rest}", files(report.compared.files), size(report.compared.bytes))
}

/// How a stored file is, in a word.
pub fn state_word(state: StoredState) -> &'static str {
    match state {
        StoredState::Whole => "whole",
        StoredState::Damaged => "damaged",
        StoredState::Missing => "missing",
    }
}

/// A kind of drift in a word or two.
pub fn kind_word(kind: DriftKind) -> &'static str {
    match kind {
        DriftKind::Edited => "edited",
        DriftKind::Missing => "missing",
        DriftKind::PutBack => "put back",
        DriftKind::Updated => "updated",
        DriftKind::BaseChanged => "base changed",
        DriftKind::BaseTouched => "base touched",
        DriftKind::BaseAdded => "base added",
        DriftKind::BaseGone => "base gone",
        DriftKind::Stray => "stray",
        DriftKind::FolderGone => "folder gone",
        DriftKind::OtherSpelling => "two spellings",
    }
}

/// `2 files of layers missing, 1 edited, 60 of the game's own gone`.
pub fn kinds_words(kinds: &[DriftCount]) -> String {
    let words = kinds.iter().map(|count| {
        let files = files(count.files);
        match count.of {
            DriftKind::Missing => format!("{files} of layers missing"),
            DriftKind::FolderGone => counted(count.files, "folder gone", "folders gone"),
            DriftKind::BaseGone => format!("{files} of the game's own gone"),
            DriftKind::Edited => format!("{files} of layers edited"),
            DriftKind::PutBack => format!("{files} of the game's own put back over layers"),
            DriftKind::Updated => format!("{files} of layers changed by an update"),
            DriftKind::BaseChanged => format!("{files} of the game's own changed"),
            DriftKind::BaseTouched => format!("{files} of the game's own with another time only"),
            DriftKind::OtherSpelling => format!("{files} beside a layer's under another spelling"),
            DriftKind::Stray => format!("{files} that nobody knows in layers' folders"),
            DriftKind::BaseAdded => format!("{files} that nobody knows"),
        }
    });
    words.collect::<Vec<_>>().join(", ")
}
