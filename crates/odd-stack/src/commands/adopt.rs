//! `oddstack adopt`

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use odd_stack_core::OpenGame;
use odd_stack_core::fit::Rank;
use odd_stack_core::jobs::Adopting;
use odd_stack_core::jobs::WhyNot;
use odd_stack_core::jobs::{AdoptReport, AdoptRequest, Mending, Originals};

use super::adding::PackageArgs;
use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::errors::Failure;
use crate::session::{Session, absolute};
use crate::shell::quoted;
use crate::show::about::about;
use crate::show::style::{BOLD, DIM, WARN, paint};
use crate::show::units::{counted, files};

#[derive(Debug, Args)]
pub struct AdoptArgs {
    /// A folder, or a zip, 7z, rar or tar archive (any one of its parts, if it is split)
    #[arg(value_name = "PACKAGE")]
    pub file: PathBuf,
    #[command(flatten)]
    pub package: PackageArgs,
    /// What to do with the game's own files found there under other names, such as `core.qpk.orig`
    #[arg(long, value_name = "WHAT")]
    pub originals: Option<OriginalsWord>,
    /// Only say what would be adopted
    #[arg(short = 'n', long)]
    pub dry_run: bool,
}

/// What becomes of the game's own files under other names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum OriginalsWord {
    /// They are kept, and put back in their places when the layer is lifted
    Take,
    /// They stay where they are, as files of their own
    Leave,
}

pub fn run(session: &mut Session, args: &AdoptArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let package = &args.package;
    let request = AdoptRequest {
        package: absolute(&args.file)?,
        name: package.named.name.clone(),
        version: package.named.version.clone(),
        variant: package.named.variant.clone(),
        wanted: package.place.wanted(Some(game.about()), Rank::Option, None)?,
        limits: package.place.limits()?,
        originals: args.originals.map(|word| match word {
            OriginalsWord::Take => Originals::Take,
            OriginalsWord::Leave => Originals::Leave,
        }),
    };
    let Adopting { mut report, change } = game.adopt(&request, args.dry_run)?;
    if !args.dry_run {
        report.revision = Some(session.apply(&game, change)?);
    }
    if let (Some(_), false) = (report.revision, report.edited.is_empty()) {
        report.revision = Some(keep_edits(session, &game, &report)?);
    }
    let most = if session.out.verbose { usize::MAX } else { MOST_EFFECTS };
    let text = text(&report, most, session.out.verbose);
    session.out.result(Some(&game.about().name), &report, &text);
    Ok(Ended::Well)
}

/// Keeps what was changed in the layer's settings as the user's own, and gives the revision that this makes.
fn keep_edits(session: &mut Session, game: &OpenGame, report: &AdoptReport) -> Result<i64, Failure> {
    let mender = game.mender(false)?;
    let found = mender.drifted_files(&report.edited)?;
    let files: Vec<_> = found.into_iter().map(|file| (file, Mending::Keep)).collect();
    let plan = mender.prepare(&files, &format!("adopt {}", report.layer.name))?;
    match plan.change {
        Some(change) => session.apply(game, change),
        None => Ok(report.revision.unwrap_or_default()),
    }
}

fn text(report: &AdoptReport, most: usize, verbose: bool) -> String {
    let mut text = about(&report.layer, verbose);
    let list = |rows: &[String]| {
        let mut text: String = rows.iter().take(most).map(|row| format!("    {row}\n")).collect();
        if rows.len() > most {
            text.push_str(&paint(DIM, &format!("    ... and {} more (-v lists all)\n", rows.len() - most)));
        }
        text
    };
    let count = report.adopted.len() as u64;
    let verb = if count == 1 { "lies" } else { "lie" };
    text.push_str(&format!("  {} of it {verb} in the game just so\n", files(count)));
    text.push_str(&list(&report.adopted));
    if !report.edited.is_empty() {
        let count = files(report.edited.len() as u64);
        text.push_str(&format!("  {count} of settings you have edited: the edits are kept as your own\n"));
        text.push_str(&list(&report.edited));
    }
    for row in report.renamed.iter().take(most) {
        text.push_str(&format!("  {} lies at {}, and keeps that name\n", row.member, row.address));
    }
    if report.renamed.len() > most {
        text.push_str(&paint(
            DIM,
            &format!("  ... and {} more (-v lists all)\n", report.renamed.len() - most),
        ));
    }
    let of = |state: WhyNot| {
        let rows = report.not_there.iter().filter(|row| row.state == state);
        rows.map(|row| row.address.clone()).collect::<Vec<_>>()
    };
    let states = [
        (WhyNot::Missing, "not there, and no part of the layer"),
        (WhyNot::OtherContent, "there with other content, and no part of the layer"),
        (WhyNot::OfALayer, "where a layer has a file already"),
        (WhyNot::NoOriginal, "in a container of which no original was found, and no part of the layer"),
    ];
    for (state, words) in states {
        let rows = of(state);
        if !rows.is_empty() {
            text.push_str(&paint(WARN, &format!("  {} {words}\n", files(rows.len() as u64))));
            text.push_str(&list(&rows));
        }
    }
    text.push_str(&otherwise_changed(report, list));
    text.push_str(&originals(report));
    text.push_str(&match report.revision {
        Some(revision) => {
            let written = match report.made_anew.len() as u64 {
                0 => "no file was written".to_owned(),
                made => format!("{} made anew", counted(made, "container was", "containers were")),
            };
            let told = format!("{} is adopted, beneath all other layers; {written}.", report.layer.name);
            format!("{} {}\n", paint(BOLD, &told), paint(DIM, &format!("(revision {revision})")))
        }
        None => format!("{}\n", paint(BOLD, "Dry run: nothing was changed.")),
    });
    text
}

/// Containers that have more in them than the layer's files.
fn otherwise_changed(report: &AdoptReport, list: impl Fn(&[String]) -> String) -> String {
    let mut text = String::new();
    for row in &report.otherwise_changed {
        let count = counted(row.members.len() as u64, "other member was", "other members were");
        text.push_str(&paint(
            WARN,
            &format!("  {}: {count} changed too, so it stays as it is\n", row.container),
        ));
        text.push_str(&list(&row.members));
        text.push_str(&format!(
            "    If these are of another package, `oddstack adopt` that, too; `oddstack mend --keep {}` keeps them as your \
             own.\n",
            quoted(&row.container)
        ));
    }
    text
}

/// What is known of the game's own files that it covers.
fn originals(report: &AdoptReport) -> String {
    let mut text = String::new();
    for row in &report.originals_taken {
        text.push_str(&format!(
            "  the game's own {} was found at {}, and is kept\n",
            row.address, row.lies_at
        ));
    }
    if !report.originals_unknown.is_empty() {
        let count = counted(report.originals_unknown.len() as u64, "address", "addresses");
        text.push_str(&format!(
            "  At {count} the game may have had a file of its own before; nobody knows it any more.\n  When the layer is \
             lifted, let the game's client repair its files and run `oddstack mend --accept`.\n"
        ));
    }
    text
}
