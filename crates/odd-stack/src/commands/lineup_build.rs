//! `oddstack lineup build`, and `oddstack check` of what it has built.

use std::path::PathBuf;

use clap::Args;
use odd_stack_core::OpenGame;
use odd_stack_core::change::Edits;
use odd_stack_core::jobs::{BuildReport, BuildRequest, BuiltCheck, BuiltDrift};

use super::game::roots;
use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::errors::Failure;
use crate::session::{Session, absolute};
use crate::shell::quoted;
use crate::show::style::{BOLD, DIM, GOOD, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::time::local;
use crate::show::units::{counted, files, number, size};

#[derive(Debug, Args)]
pub struct BuildArgs {
    /// The lineup
    #[arg(value_name = "NAME")]
    pub name: String,
    /// A new or empty folder; not needed to bring a second folder up to date
    #[arg(value_name = "DIR")]
    pub folder: Option<PathBuf>,
    /// Make big files of the game's own links instead of copies, where the disk has them: what a program writes into one is then
    /// changed in both folders
    #[arg(long)]
    pub links: bool,
    /// The folder for a further root of the game, such as docs
    #[arg(long, value_name = "ID=DIR")]
    pub root: Vec<String>,
    /// Leave a further root out: the second game has that of the first
    #[arg(long, value_name = "ID")]
    pub without_root: Vec<String>,
    /// Only say what would be done
    #[arg(short = 'n', long)]
    pub dry_run: bool,
    /// Save files that were changed in the second folder and are to be others, then go on
    #[arg(long, conflicts_with = "discard_edits")]
    pub keep_edits: bool,
    /// Discard files that were changed in the second folder and are to be others
    #[arg(long)]
    pub discard_edits: bool,
}

pub fn build(session: &mut Session, game: &OpenGame, args: &BuildArgs) -> Result<Ended, Failure> {
    let request = BuildRequest {
        lineup: args.name.clone(),
        folder: args.folder.as_deref().map(absolute).transpose()?,
        roots: roots(&args.root)?,
        without_roots: args.without_root.clone(),
        by_link: args.links,
        edits: match (args.keep_edits, args.discard_edits) {
            (true, _) => Edits::Keep,
            (_, true) => Edits::Discard,
            _ => Edits::Stop,
        },
        dry_run: args.dry_run,
    };
    let outfitting = game.prepare_build(&request)?;
    let report = match args.dry_run {
        true => outfitting.report.clone(),
        false => game.build(outfitting)?,
    };
    let most = if session.out.verbose { usize::MAX } else { MOST_EFFECTS };
    session.out.result(Some(&game.about().name), &report, &build_text(&report, most));
    if args.dry_run {
        const WORTH_LINKS_BYTES: u64 = 256 << 20;
        if !args.links && !report.shares_blocks && report.put.bytes >= WORTH_LINKS_BYTES {
            session.out.hint(
                "--links makes big files of the game's own links, which cost no room; what a program writes into one is then \
                 changed in both folders.",
            );
        }
    } else {
        let name = quoted(&report.lineup);
        let up_to_date = format!("`oddstack lineup build {name}` brings it up to date.");
        session.out.hint(&match game.launch_built(&report.lineup) {
            Ok(Some(_)) => format!("`oddstack play {name}` starts it; {up_to_date}"),
            _ => up_to_date,
        });
    }
    Ok(if report.missing.is_empty() { Ended::Well } else { Ended::WantsAttention })
}

fn list(rows: &[String], most: usize) -> String {
    let mut text: String = rows.iter().take(most).map(|row| format!("    {row}\n")).collect();
    if rows.len() > most {
        text.push_str(&paint(DIM, &format!("    ... and {} more (-v lists all)\n", rows.len() - most)));
    }
    text
}

fn build_text(report: &BuildReport, most: usize) -> String {
    let mut done = Vec::new();
    for (count, word) in [(report.put, "put"), (report.replaced, "replaced")] {
        if count.files > 0 {
            done.push(format!("{} {word} ({})", files(count.files), size(count.bytes)));
        }
    }
    if report.removed_files > 0 {
        done.push(format!("{} removed", files(report.removed_files)));
    }
    if report.unchanged_files > 0 {
        done.push(format!("{} as they were", number(report.unchanged_files)));
    }
    let is_same = report.put.files + report.replaced.files + report.removed_files == 0 && !report.is_new;
    let head = match (report.dry_run, is_same) {
        (true, _) => format!("The lineup `{}` would be built in {}", report.lineup, report.folder),
        (false, true) => format!("The lineup `{}` in {} is up to date", report.lineup, report.folder),
        (false, false) => format!("The lineup `{}` is built in {}", report.lineup, report.folder),
    };
    let mut text = format!("{}: {}\n", paint(BOLD, &head), done.join(", "));
    if report.linked.files > 0 {
        let (are, one) = match report.linked.files {
            1 => ("is a link to the game's own", "it"),
            _ => ("are links to the game's own", "one of them"),
        };
        let (count, bytes) = (files(report.linked.files), size(report.linked.bytes));
        let line = format!(
            "  {count} ({bytes}) {are}: what a program writes into {one} is changed in both folders\n"
        );
        text.push_str(&paint(WARN, &line));
    }
    for root in &report.further_roots {
        text.push_str(&match &root.folder {
            Some(folder) => format!("  {} is in {folder}\n", root.root),
            None => format!("  {} is left out: the second game has that of the first\n", root.root),
        });
    }
    let lists = [
        (&report.edits_left, "changed there and left as they are, since there is nothing new for them"),
        (&report.changed, "of the game's own, not as they are known, taken as they lie"),
        (&report.missing, "of the game's own, missing there as in the game (`oddstack check` lists them)"),
    ];
    for (rows, words) in lists {
        if !rows.is_empty() {
            text.push_str(&paint(WARN, &format!("  {} {words}\n", files(rows.len() as u64))));
            text.push_str(&list(rows, most));
        }
    }
    for row in &report.saved {
        let verb = if report.dry_run { "would be" } else { "was" };
        text.push_str(&format!("  {} was changed there, and {verb} saved: {}\n", row.address, row.saved));
    }
    if report.dry_run {
        text.push_str(&format!("{}\n", paint(BOLD, "Dry run: nothing was changed.")));
    }
    text
}

/// Checks the second folder of a lineup.
pub fn check(session: &mut Session, game: &OpenGame, lineup: &str, deep: bool) -> Result<Ended, Failure> {
    let report = game.check_built(lineup, deep)?;
    let most = if session.out.verbose { usize::MAX } else { MOST_EFFECTS };
    session.out.result(Some(&game.about().name), &report, &check_text(&report, deep, most));
    let is_well = report.drifted.is_empty() && report.is_finished;
    if !is_well || report.behind_files > 0 {
        let name = quoted(&report.lineup);
        session.out.hint(&format!(
            "`oddstack lineup build {name}` brings it up to date; what was changed there and has nothing new stays."
        ));
    }
    Ok(if is_well { Ended::Well } else { Ended::WantsAttention })
}

fn check_text(report: &BuiltCheck, deep: bool, most: usize) -> String {
    let how = match deep {
        true => format!("{} compared by content", files(report.compared_files)),
        false => "compared by size and time; --deep compares contents".to_owned(),
    };
    let mut text = format!(
        "The second folder of the lineup `{}`, {}, built {}\n{} as built  {}\n",
        report.lineup,
        report.folder,
        local(&report.built_at),
        files(report.as_built_files),
        paint(DIM, &format!("({how})"))
    );
    if !report.is_finished {
        text.push_str(&paint(WARN, "The last build was cut short.\n"));
    }
    if report.behind_files > 0 {
        let count = counted(report.behind_files, "file", "files");
        text.push_str(&paint(WARN, &format!("The lineup has {count} otherwise by now.\n")));
    }
    if report.drifted.is_empty() {
        text.push_str(&paint(GOOD, "Nothing was changed there since.\n"));
        return text;
    }
    text.push_str(&paint(WARN, &format!("{} changed there since:\n", files(report.drifted.len() as u64))));
    let rows = report.drifted.iter().take(most).map(|row| {
        let word = match row.state {
            BuiltDrift::Missing => "missing",
            BuiltDrift::Changed => "changed",
        };
        vec![cell(word, Look::Warn), cell(row.address.clone(), Look::Plain)]
    });
    text.push_str(&table(&[], rows.collect()));
    if report.drifted.len() > most {
        let more = report.drifted.len() - most;
        text.push_str(&paint(DIM, &format!("  ... and {more} more (-v lists all)\n")));
    }
    text
}
