//! `oddstack stack`

use clap::Args;
use odd_stack_core::jobs::{LayerRow, PastStack, StackReport, StoredUse};
use odd_stack_core::ledger::OngoingKind;
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::history::revision_meant;
use crate::Ended;
use crate::errors::Failure;
use crate::session::Session;
use crate::show::needs::unmet_line;
use crate::show::style::{BOLD, DIM, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::time::local;
use crate::show::units::{layers, number, size};

#[derive(Debug, Args)]
pub struct StackArgs {
    /// The stack as it was after this revision: its number, or a name given by `oddstack mark`
    #[arg(long, value_name = "REVISION")]
    pub at: Option<String>,
}

pub fn run(session: &mut Session, args: &StackArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    if let Some(at) = &args.at {
        let past = game.stack_at(revision_meant(&game, at)?)?;
        session.out.result(Some(&game.about().name), &past, &past_text(&past));
        return Ok(Ended::Well);
    }
    let report = game.stack()?;
    if report.base.updated && report.under_way.is_none() {
        session.tell_update(report.base.version_now.as_deref(), report.base.version.as_deref());
    }
    session.tell_doubts(&game)?;
    let answer = StackAnswer { stored: game.stored_use(&report)?, report };
    let StackAnswer { report, stored } = &answer;
    let text = format!("{}{}", text(report), stored_text(stored));
    session.out.result(Some(&report.base.name), &answer, &text);
    if report.layers.is_empty() {
        session.out.hint("No layers yet: `oddstack add PACKAGE` makes one of a folder or an archive.");
    } else if report.layers.iter().any(|layer| layer.open_files > 0) {
        session.out.hint("The upper layer wins. `oddstack conflicts` shows where layers disagree.");
    }
    Ok(Ended::Well)
}

/// The stack, and what it takes.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct StackAnswer {
    /// The stack.
    #[serde(flatten)]
    report: StackReport,
    /// What its layers take on the disk.
    stored: StoredUse,
}

fn stored_text(stored: &StoredUse) -> String {
    /// Nobody asks what less costs.
    const LEAST_TOLD_BYTES: u64 = 1_000_000;
    let shared = match stored.shared.files {
        _ if stored.kept_bytes < LEAST_TOLD_BYTES => return String::new(),
        0 if stored.may_share_blocks => {
            ", and this disk can keep once what the game has of it, too".to_owned()
        }
        0 => String::new(),
        _ => format!(
            ", of which {} are one with files in the game and take room once",
            size(stored.shared.bytes)
        ),
    };
    let line = format!("The ledger keeps {} for these layers{shared}.", size(stored.kept_bytes));
    format!("{}\n", paint(DIM, &line))
}

fn past_text(past: &PastStack) -> String {
    let when = past.made_at.as_deref().map(|made_at| format!(", {}", local(made_at))).unwrap_or_default();
    let head = format!("After revision {}{when}: {}", past.revision, layers(past.layers.len() as u64));
    let count = past.layers.len();
    let rows = past.layers.iter().enumerate().map(|(at, layer)| {
        let state = if layer.laid { cell("laid", Look::Good) } else { cell("lifted", Look::Dim) };
        vec![
            cell((count - at).to_string(), Look::Right),
            cell(layer.name.clone(), Look::Name),
            cell(layer.version.clone().unwrap_or_default(), Look::Plain),
            state,
        ]
    });
    format!("{}\n{}", paint(BOLD, &head), table(&[], rows.collect()))
}

fn text(report: &StackReport) -> String {
    let lifted = report.layers.iter().filter(|layer| !layer.laid).count() as u64;
    let version = report.base.version_now.as_ref().or(report.base.version.as_ref());
    let version = version.map(|version| format!(" {version}")).unwrap_or_default();
    let mut head =
        format!("{}{version}: {}", paint(BOLD, &report.base.name), layers(report.layers.len() as u64));
    if lifted > 0 {
        head.push_str(&format!(", {} of them lifted", number(lifted)));
    }
    let header = [
        ("#", Look::Right),
        ("layer", Look::Plain),
        ("version", Look::Plain),
        ("state", Look::Plain),
        ("files", Look::Right),
        ("size", Look::Right),
        ("wins", Look::Right),
        ("contested", Look::Right),
        ("open", Look::Right),
    ];
    let mut rows: Vec<_> = report.layers.iter().map(row).collect();
    rows.push(vec![
        cell("", Look::Right),
        cell("the game itself", Look::Dim),
        cell(report.base.version.clone().unwrap_or_default(), Look::Dim),
        cell("base", Look::Dim),
        cell(number(report.base.seen.files), Look::Right),
        cell(size(report.base.seen.bytes), Look::Right),
    ]);
    let mut text = format!(
        "{head}  {}\n{}",
        paint(DIM, &format!("(revision {})", report.revision)),
        table(&header, rows)
    );
    if let Some(under_way) = &report.under_way {
        let end = match under_way.kind {
            OngoingKind::Capture => "`oddstack capture --end` makes a layer of what changed",
            OngoingKind::Culprit => "`oddstack culprit` goes on with it",
            OngoingKind::PatchDay => "`oddstack patchday finish` ends it",
        };
        let line = format!("  a {} is under way since {}; {end}\n", under_way.kind, under_way.begun_at);
        text.push_str(&paint(WARN, &line));
    }
    if let (Some(version), Some(layer)) = (&report.base.version_now, &report.base.version_by) {
        let line = format!("  the game tells {version}, by a file of {layer}\n");
        text.push_str(&paint(DIM, &line));
    }
    for unmet in &report.unmet {
        text.push_str(&format!("  {}\n", unmet_line(unmet)));
    }
    text
}

fn row(layer: &LayerRow) -> Vec<comfy_table::Cell> {
    let state = match (layer.laid, layer.has_no_effect) {
        (false, _) => ("lifted", Look::Dim),
        (true, true) => ("laid, no effect", Look::Warn),
        (true, false) => ("laid", Look::Good),
    };
    let state = match layer.takes_away {
        0 => cell(state.0, state.1),
        count => cell(format!("{}, takes off {}", state.0, number(count)), state.1),
    };
    let open = if layer.open_files > 0 { Look::Warn } else { Look::Plain };
    let count = |count: u64| if layer.laid { number(count) } else { String::new() };
    vec![
        cell(layer.number.to_string(), Look::Right),
        cell(layer.name.clone(), Look::Name),
        cell(version_and_variant(layer), Look::Plain),
        state,
        cell(number(layer.files), Look::Right),
        cell(size(layer.bytes), Look::Right),
        cell(count(layer.wins_files), Look::Right),
        cell(count(layer.contested_files), Look::Right),
        cell(count(layer.open_files), open).set_alignment(comfy_table::CellAlignment::Right),
    ]
}

fn version_and_variant(layer: &LayerRow) -> String {
    match (layer.version.as_deref(), layer.variant.as_deref()) {
        (version, None) => version.unwrap_or_default().to_owned(),
        (None, Some(variant)) => format!("({variant})"),
        (Some(version), Some(variant)) => format!("{version} ({variant})"),
    }
}
