//! `oddstack add`

use std::path::PathBuf;

use clap::Args;
use odd_stack_core::jobs::{AddReport, AddRequest, ChangeReport, prepare_add};
use schemars::JsonSchema;
use serde::Serialize;

use super::reorder::target;
use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::args::{ChangeArgs, PlaceArgs};
use crate::desk::{Desk, absolute, change_options};
use crate::errors::Failure;
use crate::show::change::{edits, effects, meeting, verdict};
use crate::show::style::{BOLD, DIM, WARN, paint};
use crate::show::units::{counted, file_name, files, size};

#[derive(Debug, Args)]
pub struct AddArgs {
    /// A folder or a zip archive
    #[arg(value_name = "PACKAGE")]
    pub package: PathBuf,
    /// The layer's name; read off the file name otherwise
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// Its version; read off the file name otherwise
    #[arg(long, value_name = "V")]
    pub version: Option<String>,
    #[command(flatten)]
    pub place: PlaceArgs,
    /// Put it directly above this layer, instead of on top
    #[arg(long, value_name = "LAYER", conflicts_with = "below")]
    pub above: Option<String>,
    /// Put it directly below this layer, instead of on top
    #[arg(long, value_name = "LAYER")]
    pub below: Option<String>,
    /// Keep it off the game for now
    #[arg(long)]
    pub lifted: bool,
    #[command(flatten)]
    pub change: ChangeArgs,
}

/// What JSON tells of an `add`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AddedReport {
    /// The layer.
    pub layer: AddReport,
    /// What changes on disk.
    pub change: ChangeReport,
}

pub fn run(desk: &mut Desk, args: &AddArgs) -> Result<Ended, Failure> {
    let (rules, limits) = (args.place.rules()?, args.place.limits()?);
    let ledger = desk.open()?;
    let permit = desk.permit(&ledger)?;
    let layers = ledger.layers()?;
    let (target, place) = target(&layers, args.above.as_deref(), args.below.as_deref(), false)?;
    let request = AddRequest {
        package: absolute(&args.package)?,
        name: args.name.clone(),
        version: args.version.clone(),
        rules,
        target,
        lifted: args.lifted,
        limits,
    };
    let (options, now) = (change_options(&args.change), desk.now());
    let adding = prepare_add(&ledger, permit, &request, &now, options, args.change.dry_run, &desk.progress)?;
    let layer = adding.report;
    let most = match desk.out.verbose || args.change.dry_run {
        true => usize::MAX,
        false if desk.out.quiet => 0,
        false => MOST_EFFECTS,
    };
    let verbose = desk.out.verbose;
    let change = desk.carry_out(&ledger, adding.change, &args.change, |out, report| {
        out.text(&about(&layer, verbose));
        if !args.lifted {
            out.text(&format!("  {}\n", paint(BOLD, &meeting(&report.meeting))));
        }
        out.text(&format!("{}{}", effects(report, most), edits(report)));
    })?;
    let where_it_lies = if place == "to the top" { "on top".to_owned() } else { place };
    let done = match args.lifted {
        true => format!("{} is in the stack, {where_it_lies}, and lifted.", layer.name),
        false => format!("{} is laid {where_it_lies}.", layer.name),
    };
    let text = verdict(&change, &done);
    let report = AddedReport { layer, change };
    desk.out.result(Some(&ledger.game().name), &report, &text);
    if args.lifted && !args.change.dry_run {
        desk.out.hint(&format!("`oddstack lay \"{}\"` puts it on the game.", report.layer.name));
    }
    Ok(Ended::Well)
}

fn about(layer: &AddReport, verbose: bool) -> String {
    let version = layer.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let source = format!(
        "{} {}, {}, {}",
        layer.kind,
        file_name(&layer.package),
        files(layer.files),
        size(layer.bytes)
    );
    let mut text = format!("{}  {}\n", paint(BOLD, &format!("{}{version}", layer.name)), paint(DIM, &source));
    for finding in &layer.findings {
        text.push_str(&format!("  {finding}\n"));
    }
    let list = |rows: &[String], most: usize| {
        let shown: Vec<&str> =
            rows.iter().take(if verbose { usize::MAX } else { most }).map(String::as_str).collect();
        let more = if shown.len() < rows.len() {
            format!(", and {} more", rows.len() - shown.len())
        } else {
            String::new()
        };
        format!("{}{more}", shown.join(", "))
    };
    if !layer.left_out.is_empty() {
        let rows: Vec<String> = layer.left_out.iter().map(|row| row.member.clone()).collect();
        text.push_str(&format!("  left out: {}\n", list(&rows, 4)));
    }
    if !layer.copied_links.is_empty() {
        let rows: Vec<String> =
            layer.copied_links.iter().map(|row| format!("{} = {}", row.member, row.copy_of)).collect();
        let count = counted(rows.len() as u64, "link becomes a copy", "links become copies");
        text.push_str(&format!("  {count}: {}\n", list(&rows, 4)));
    }
    if !layer.runs_code.is_empty() {
        let line = format!("  runs code: {}\n", list(&layer.runs_code, 4));
        text.push_str(&paint(WARN, &line));
    }
    text
}
