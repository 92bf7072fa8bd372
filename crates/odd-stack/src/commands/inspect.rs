//! `oddstack inspect`

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::Args;
use odd_stack_core::OpenGame;
use odd_stack_core::fit::LeftOut;
use odd_stack_core::fit::Rank;
use odd_stack_core::jobs::Owner;
use odd_stack_core::jobs::{CandidateRow, InspectReport, MemberRow, MemberTarget};

use super::placing::does_words;
use crate::Ended;
use crate::args::PlaceArgs;
use crate::errors::Failure;
use crate::session::{Session, absolute};
use crate::shell::in_quotes;
use crate::show::about::{choices_and_parts, left_out_words, title, whole_containers};
use crate::show::change::{meeting, runs_code};
use crate::show::needs::unmet_line;
use crate::show::style::{BOLD, DIM, WARN, paint};
use crate::show::tree::{Leaf, tree};
use crate::show::units::{file_name, files, size};
use crate::show::wishes::wishes;

#[derive(Debug, Args)]
pub struct InspectArgs {
    /// A folder, or a zip, 7z, rar or tar archive (any one of its parts, if it is split)
    #[arg(value_name = "PACKAGE")]
    pub package: PathBuf,
    #[command(flatten)]
    pub place: PlaceArgs,
}

pub fn run(session: &mut Session, args: &InspectArgs) -> Result<Ended, Failure> {
    // Without any game a package can be looked into all the same.
    let game = match session.choose_game(None) {
        Ok(game) => Some(session.open_game(&game)?),
        Err(failure) if failure.code == "no_games" || failure.code == "which_game" => None,
        Err(failure) => return Err(failure),
    };
    let wanted = args.place.wanted(game.as_ref().map(OpenGame::about), Rank::Option, None)?;
    let (package, limits) = (absolute(&args.package)?, args.place.limits()?);
    let report = session.door.inspect(game.as_ref(), &package, &wanted, &limits)?;
    let game = game.as_ref().map(|game| game.about().name.clone());
    let text = text(&report, game.as_deref(), session.out.verbose, session.out.width);
    session.out.result(game.as_deref(), &report, &text);
    if game.is_none() {
        session.out.hint("No game was chosen (--game NAME), so nothing is said of where the files would go.");
    }
    Ok(Ended::Well)
}

fn text(report: &InspectReport, game: Option<&str>, verbose: bool, width: usize) -> String {
    let title = title(&report.name, report.version.as_deref(), report.variant.as_deref());
    let parts = if report.volumes > 1 { format!(" in {} parts", report.volumes) } else { String::new() };
    let total = format!(
        "{}{parts} {}, {}, {}",
        report.kind,
        file_name(&report.package),
        files(report.total.files),
        size(report.total.bytes)
    );
    let mut text = format!("{}  {}\n", paint(BOLD, &title), paint(DIM, &total));
    let said: Vec<Leaf<'_>> = report
        .members
        .iter()
        .map(|member| Leaf {
            path: &member.path,
            size_bytes: member.size_bytes,
            target: only_target(member).map(|target| target.address.as_str()),
            said: said_of(member),
        })
        .collect();
    text.push_str(&tree(&said, verbose, width));
    if let Some(game) = game {
        text.push_str(&format!(
            "\n{}\n",
            paint(BOLD, &format!("On top of {game}'s stack it would go like this:"))
        ));
    }
    for finding in &report.findings {
        text.push_str(&format!("  {finding}\n"));
    }
    if let Some(met) = &report.meeting {
        text.push_str(&format!("  {}\n", meeting(met)));
    }
    if let Some(reason) = &report.unplaceable {
        text.push_str(&format!("  {}\n", paint(WARN, &format!("not placed yet: {reason}"))));
    }
    for candidate in &report.candidates {
        text.push_str(&format!(
            "    {}  {}\n",
            candidate_options(candidate),
            paint(DIM, &does_words(&candidate.evidence, candidate.effect))
        ));
    }
    text.push_str(&choices_and_parts(&report.choices, &report.parts));
    text.push_str(&whole_containers(&report.whole_containers));
    for (what, list) in [("asks", &report.needs), ("sets", &report.sets)] {
        if !list.is_empty() {
            text.push_str(&format!("  {what}: {}\n", list.join(", ")));
        }
    }
    for unmet in &report.unmet {
        text.push_str(&format!("  {}\n", unmet_line(unmet)));
    }
    text.push_str(&left_out(report));
    // Of what lies in archives that stay packed the tree tells.
    let code = report.members.iter().filter(|member| member.runs_code && member.left_out.is_none());
    let replaces = |member: &MemberRow| member.targets.iter().any(|t| t.covers.is_some() && !t.identical);
    text.push_str(&runs_code(code.map(|member| (member.path.as_str(), replaces(member))), verbose));
    text.push_str(&wishes(&report.starts, &report.clears));
    text.push_str(&not_read(report));
    text
}

/// Archives that stay closed, and links.
fn not_read(report: &InspectReport) -> String {
    let mut text = String::new();
    for inner in &report.unopened {
        text.push_str(&format!("  {} can't be looked into: {}\n", inner.path, inner.reason));
    }
    for link in &report.links_to_game {
        text.push_str(&format!("  {} is a link and becomes a copy of {}\n", link.member, link.copy_of));
    }
    for link in &report.links_out {
        let line = format!(
            "  link out of the package: {} -> {} (add it with --skip-links)\n",
            link.path, link.target
        );
        text.push_str(&paint(WARN, &line));
    }
    text
}

fn candidate_options(candidate: &CandidateRow) -> String {
    let places = candidate.places.iter().map(|place| format!("--place {}", in_quotes(place)));
    let skips = candidate.skip.iter().map(|pattern| format!("--skip {}", in_quotes(pattern)));
    let tidy = (!candidate.places.is_empty()).then(|| "--tidy".to_owned());
    places.chain(skips).chain(tidy).collect::<Vec<_>>().join(" ")
}

/// How many files are left out, for which reasons.
fn left_out(report: &InspectReport) -> String {
    let mut counts: BTreeMap<&str, u64> = BTreeMap::new();
    for reason in report.members.iter().filter_map(|member| member.left_out) {
        *counts.entry(left_out_words(reason)).or_default() += 1;
    }
    let line = |(words, count)| format!("  {} left out: {words}\n", files(count));
    counts.into_iter().map(line).collect()
}

/// The one place a member goes to.
fn only_target(member: &MemberRow) -> Option<&MemberTarget> {
    match member.targets.as_slice() {
        [only] => Some(only),
        _ => None,
    }
}

/// Over what a member goes, in a few words; also where, if it goes to several places.
fn said_of(member: &MemberRow) -> String {
    let mut parts = Vec::new();
    for target in &member.targets {
        let over = match (&target.covers, target.identical) {
            (None, _) => "new".to_owned(),
            (Some(Owner::Base), true) => "identical to the game's own".to_owned(),
            (Some(Owner::Base), false) => "over the game's own".to_owned(),
            (Some(Owner::Layer(layer)), true) => format!("identical to {layer}'s"),
            (Some(Owner::Layer(layer)), false) if target.blends => format!("merges with {layer}"),
            (Some(Owner::Layer(layer)), false) => format!("over {layer}"),
        };
        parts.push(match only_target(member) {
            Some(_) => over,
            None => format!("-> {}  {over}", target.address),
        });
    }
    match member.left_out {
        // The folder of the archive tells it.
        Some(LeftOut::Packed) | None => {}
        Some(reason) => parts.push(format!("left out: {}", left_out_words(reason))),
    }
    if member.runs_code {
        parts.push("runs code".to_owned());
    }
    if let Some(copied) = &member.copy_of {
        parts.push(format!("a link, copied from {copied}"));
    }
    parts.join("; ")
}
