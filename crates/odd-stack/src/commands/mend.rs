//! `oddstack mend`

use std::path::{Path, PathBuf};

use clap::Args;
use odd_stack_core::OpenGame;
use odd_stack_core::expected::DriftKind;
use odd_stack_core::jobs::Mended;
use odd_stack_core::jobs::{ChangeReport, DamageRow, GivingBack, MendFile, MendRow, Mending, RenewReport};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::check::{damage_table, renewing};
use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::args::ChangeArgs;
use crate::errors::{Exit, Failure, drift_words};
use crate::session::Session;
use crate::show::change::{edits, verdict};
use crate::show::style::{BOLD, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{files as files_of, number};

#[derive(Debug, Args)]
#[command(
    after_help = "Without --restore, --keep or --accept it goes through the files and asks, on a terminal."
)]
pub struct MendArgs {
    /// Files: addresses, folders or patterns of addresses; otherwise all that drifted
    #[arg(value_name = "ADDRESS-OR-GLOB")]
    pub addresses: Vec<String>,
    /// Put layers' files again as the stack has them; what lies there now is saved in the ledger
    #[arg(long, conflicts_with_all = ["keep", "accept"])]
    pub restore: bool,
    /// Keep what you changed as edits of your own, on top of all layers: settings key by key, other files whole
    #[arg(long, conflicts_with = "accept")]
    pub keep: bool,
    /// Take what lies there now as the game's own, as after a repair by the game's client; layers go on top again
    #[arg(long)]
    pub accept: bool,
    /// Put again what the ledger has lost, from the game and from PACKAGE (an archive, a folder such as a copy of the
    /// game, or the very file), otherwise from the packages where they still lie
    #[arg(long, value_name = "PACKAGE", num_args = 0..=1, conflicts_with_all = ["restore", "keep", "accept", "addresses"])]
    pub renew: Option<Option<PathBuf>>,
    /// Put back what `play` cleared last, where the game has not made it anew
    #[arg(long, conflicts_with_all = ["restore", "keep", "accept", "addresses", "renew"])]
    pub cleared: bool,
    /// Only say what would be done
    #[arg(short = 'n', long)]
    pub dry_run: bool,
}

/// What JSON tells of `mend`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct MendReport {
    /// Every drifted file, with what becomes of it.
    pub files: Vec<MendRow>,
    /// Addresses whose original is still not known, since a layer was adopted there or the game was updated under it.
    pub originals_unknown: Vec<String>,
    /// What changes on disk.
    pub change: ChangeReport,
    /// What was put again of what the ledger had lost, if that was asked.
    pub renewed: Option<RenewReport>,
}

pub fn run(session: &mut Session, args: &MendArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    if let Some(package) = &args.renew {
        return renew_stored(session, &game, package.as_deref(), args.dry_run);
    }
    if args.cleared {
        return give_back(session, &game, args.dry_run);
    }
    let mending = match (args.restore, args.keep, args.accept) {
        (true, _, _) => Some((Mending::Restore, " --restore")),
        (_, true, _) => Some((Mending::Keep, " --keep")),
        (_, _, true) => Some((Mending::Accept, " --accept")),
        _ => None,
    };
    if mending.is_none() && !session.can_ask() {
        return Err(undecided());
    }
    let mender = game.mender(args.dry_run)?;
    if args.accept {
        mender.refuse_to_accept(&args.addresses)?;
    }
    let found = mender.drifted_files(&args.addresses)?;
    let files: Vec<(MendFile, Mending)> = match mending {
        Some((mending, _)) => found.into_iter().map(|file| (file, mending)).collect(),
        None => walk(session, &game, found)?,
    };
    let word = mending.map_or("", |(_, word)| word);
    let command = format!("mend{word} {}", args.addresses.join(" ")).trim_end().to_owned();
    let plan = mender.prepare(&files, &command)?;
    let files = plan.rows;
    let change = ChangeArgs::plain(args.dry_run);
    let most = if session.out.verbose { usize::MAX } else { MOST_EFFECTS };
    let change = match plan.change {
        Some(prepared) => session.carry_out(&game, prepared, &change, |out, report| {
            out.text(&format!("{}{}", rows(&files, most), edits(report, most)));
        })?,
        None => {
            session.out.text(&rows(&files, most));
            ChangeReport { dry_run: args.dry_run, ..ChangeReport::default() }
        }
    };
    let originals_unknown = game.unknown_originals()?;
    let mut text = match done(&files) {
        None => "Nothing to mend.\n".to_owned(),
        Some(done) => verdict(&change, &done),
    };
    if args.accept && !originals_unknown.is_empty() {
        text.push_str(&still_unknown(&originals_unknown));
    }
    let report = MendReport { files, originals_unknown, change, renewed: None };
    session.out.result(Some(&game.about().name), &report, &text);
    Ok(Ended::Well)
}

fn renew_stored(
    session: &mut Session,
    game: &OpenGame,
    package: Option<&Path>,
    dry_run: bool,
) -> Result<Ended, Failure> {
    let packages: Vec<PathBuf> = package.into_iter().map(Path::to_path_buf).collect();
    let report = game.renew(&packages, dry_run)?;
    let most = if session.out.verbose { usize::MAX } else { MOST_EFFECTS };
    let still: Vec<DamageRow> =
        report.files.iter().filter(|file| file.renewed_from.is_none()).cloned().collect();
    let looked = format!(
        "{} of layers and {} of the game's own in the ledger",
        files_of(report.contents),
        number(report.originals)
    );
    let mut text = damage_table(&report.files, most);
    let renewed = (report.files.len() - still.len()) as u64;
    let would = if dry_run { "would be renewed" } else { "renewed" };
    text.push_str(&match (report.files.is_empty(), still.len() as u64) {
        (true, _) => format!("Nothing to renew: {looked} are whole.\n"),
        (false, 0) => format!(
            "{} {would}; {looked} are whole{}.\n",
            files_of(renewed),
            if dry_run { " then" } else { "" }
        ),
        (false, count) => {
            paint(WARN, &format!("{} {would}, {} still lost.\n", files_of(renewed), files_of(count)))
        }
    });
    let report = MendReport {
        files: Vec::new(),
        originals_unknown: game.unknown_originals()?,
        change: ChangeReport { dry_run, ..ChangeReport::default() },
        renewed: Some(report),
    };
    session.out.result(Some(&game.about().name), &report, &text);
    if still.is_empty() {
        return Ok(Ended::Well);
    }
    session.out.hint(&renewing(&still));
    Ok(Ended::Damaged)
}

fn give_back(session: &mut Session, game: &OpenGame, dry_run: bool) -> Result<Ended, Failure> {
    let GivingBack { rows: files, change } = game.give_back(dry_run)?;
    let most = if session.out.verbose { usize::MAX } else { MOST_EFFECTS };
    let change = match change {
        Some(prepared) => session.carry_out(game, prepared, &ChangeArgs::plain(dry_run), |out, _| {
            out.text(&rows(&files, most));
        })?,
        None => {
            session.out.text(&rows(&files, most));
            ChangeReport { dry_run, ..ChangeReport::default() }
        }
    };
    let count = files.iter().filter(|file| file.done == Mended::GivenBack).count() as u64;
    let text = match count {
        0 => "Nothing to put back: nothing was cleared, or the game has made it all anew.\n".to_owned(),
        count => verdict(&change, &format!("{} back in place.", files_of(count))),
    };
    let originals_unknown = game.unknown_originals()?;
    let report = MendReport { files, originals_unknown, change, renewed: None };
    session.out.result(Some(&game.about().name), &report, &text);
    Ok(Ended::Well)
}

fn undecided() -> Failure {
    Failure::new(Exit::Usage, "no_mending", "say what is to happen to the changed files")
        .choice("put layers' files again as the stack has them", "--restore")
        .choice("keep what you changed, as edits of your own on top of all layers", "--keep")
        .choice("take what lies there now as the game's own", "--accept")
}

/// Asks for each file what becomes of it; those that are left alone are left out.
fn walk(
    session: &mut Session,
    game: &OpenGame,
    files: Vec<MendFile>,
) -> Result<Vec<(MendFile, Mending)>, Failure> {
    let layers = game.layers()?;
    let mut decided = Vec::new();
    let count = files.len();
    for (index, mut file) in files.into_iter().enumerate() {
        let drift = &file.drifted.drift;
        let whose = layers.iter().find(|layer| Some(layer.id) == file.drifted.layer);
        let whose = whose.map(|layer| format!(" of {}", layer.about.name)).unwrap_or_default();
        let question =
            format!("{}/{count}  {}{whose}: {}", index + 1, drift.address, drift_words(drift.kind));
        let of_base = matches!(drift.kind, DriftKind::BaseChanged | DriftKind::BaseGone);
        let unknown = matches!(drift.kind, DriftKind::BaseAdded | DriftKind::Stray);
        let mut choices = Vec::new();
        if !of_base {
            let restore = if unknown { "take it out of the game" } else { "put the layer's file again" };
            choices.push((restore, Some(Mending::Restore)));
            choices.push(("keep it as yours, on top of all layers", Some(Mending::Keep)));
        }
        if drift.kind != DriftKind::Missing {
            choices.push(("it is the game's own now", Some(Mending::Accept)));
        }
        choices.push(("leave it", None));
        let says: Vec<String> = choices.iter().map(|(says, _)| (*says).to_owned()).collect();
        let Some(picked) = session.ask(&question, &says)? else { break };
        if let Some((_, Some(mending))) = choices.get(picked) {
            file.is_named = true;
            decided.push((file, *mending));
        }
    }
    Ok(decided)
}

/// What was done, in words; nothing if all was left.
fn done(files: &[MendRow]) -> Option<String> {
    let count = |done: Mended| files.iter().filter(|file| file.done == done).count() as u64;
    let verb = |count: u64, one: &str, more: &str| {
        (count > 0).then(|| format!("{} {}", files_of(count), if count == 1 { one } else { more }))
    };
    let parts = [
        verb(count(Mended::Restored), "is as the stack has it", "are as the stack has them"),
        verb(
            count(Mended::Kept),
            "is kept as yours, on top of all layers",
            "are kept as yours, on top of all layers",
        ),
        verb(count(Mended::Accepted), "counts as the game's own", "count as the game's own"),
    ];
    let parts: Vec<String> = parts.into_iter().flatten().collect();
    (!parts.is_empty()).then(|| format!("{}.", parts.join(", ")))
}

fn mended_word(done: Mended) -> &'static str {
    match done {
        Mended::Restored => "restored",
        Mended::Kept => "kept",
        Mended::Accepted => "accepted",
        Mended::GivenBack => "given back",
        Mended::Left => "left",
    }
}

fn rows(files: &[MendRow], most: usize) -> String {
    let rows = files.iter().take(most).map(|file| {
        let look = if file.done == Mended::Left { Look::Warn } else { Look::Good };
        vec![
            cell(mended_word(file.done), look),
            cell(file.address.clone(), Look::Plain),
            cell(file.details.join(", "), Look::Dim),
        ]
    });
    let mut text = table(&[], rows.collect());
    if files.len() > most {
        text.push_str(&format!("  ... and {} more (-v lists all)\n", files.len() - most));
    }
    text
}

fn still_unknown(addresses: &[String]) -> String {
    let count = addresses.len();
    let head = if count == 1 { "1 original is".to_owned() } else { format!("{count} originals are") };
    let line = format!("{head} still not known: nothing lies there yet, or a layer's file does\n");
    let mut text = paint(WARN, &line);
    text.extend(addresses.iter().take(MOST_EFFECTS).map(|address| format!("  {address}\n")));
    if count > MOST_EFFECTS {
        text.push_str(&paint(BOLD, &format!("  ... and {} more\n", count - MOST_EFFECTS)));
    }
    text
}
