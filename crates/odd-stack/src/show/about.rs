//! A package that is about to become a layer, as text.

use odd_stack_core::fit::LeftOut;
use odd_stack_core::jobs::{AddReport, ChoiceRow, PartRow, WholeContainerRow};
use std::collections::BTreeSet;

use super::style::{BOLD, DIM, WARN, paint};
use super::units::{counted, file_name, files, size};
use super::wishes::wishes;
use crate::shell::in_quotes;

/// The first words on a package: `brass-lamps 1.2b (full)`.
pub fn title(name: &str, version: Option<&str>, variant: Option<&str>) -> String {
    let version = version.map(|version| format!(" {version}")).unwrap_or_default();
    let variant = variant.map(|variant| format!(" ({variant})")).unwrap_or_default();
    format!("{name}{version}{variant}")
}

/// Why a file is left out, in a few words.
pub fn left_out_words(reason: LeftOut) -> &'static str {
    match reason {
        LeftOut::Skipped => "by --skip",
        LeftOut::NotAmongOnly => "not among --only",
        LeftOut::NoPlace => "no --place reaches it",
        LeftOut::Packed => "in an archive that stays packed",
        LeftOut::Sheet => "the package's fit sheet",
        LeftOut::Document => "documents",
        LeftOut::Source => "source files",
        LeftOut::Picture => "pictures of it",
        LeftOut::Metadata => "clutter of a system",
        LeftOut::Original => "copies of the game's own",
        LeftOut::NotChosen => "of options not chosen",
        LeftOut::PartOff => "of parts that are off",
        LeftOut::Covered => "covered by a part",
        LeftOut::LinkOut => "a link out of the package",
    }
}

/// What was chosen, what can be, and what else is offered.
pub fn choices_and_parts(choices: &[ChoiceRow], parts: &[PartRow]) -> String {
    let mut text = String::new();
    for choice in choices {
        let others = choice.options.iter().filter(|option| Some(*option) != choice.chosen.as_ref());
        let others: Vec<&str> = others.map(String::as_str).collect();
        let line = match &choice.chosen {
            Some(chosen) => format!("{}: {chosen} (not {})", choice.id, others.join(", not ")),
            None => {
                let options = choice.options.iter().map(|option| format!("--choose {}={option}", choice.id));
                format!("choose: {}", options.collect::<Vec<_>>().join(" or "))
            }
        };
        text.push_str(&format!("  {line}\n"));
    }
    for part in parts {
        let says = part.says.as_ref().map(|says| format!(", {says}")).unwrap_or_default();
        let line = match part.on {
            true => format!("with the part {}{says} ({})", part.id, files(part.files)),
            false => {
                format!(
                    "without `{}`{says} ({}; --choose {}=on takes it)",
                    part.folder,
                    files(part.files),
                    part.id
                )
            }
        };
        text.push_str(&format!("  {line}\n"));
    }
    text
}

/// What is about to be added.
pub fn about(layer: &AddReport, verbose: bool) -> String {
    let title = title(&layer.name, layer.version.as_deref(), layer.variant.as_deref());
    let source = format!(
        "{} {}, {}, {}",
        layer.kind,
        file_name(&layer.package),
        files(layer.files),
        size(layer.bytes)
    );
    let mut text = format!("{}  {}\n", paint(BOLD, &title), paint(DIM, &source));
    for finding in &layer.findings {
        text.push_str(&format!("  {finding}\n"));
    }
    text.push_str(&choices_and_parts(&layer.choices, &layer.parts));
    let list = |rows: &[String], most: usize| listed(rows, if verbose { usize::MAX } else { most });
    let reasons: BTreeSet<LeftOut> = layer.left_out.iter().map(|row| row.reason).collect();
    for reason in reasons {
        let rows = layer.left_out.iter().filter(|row| row.reason == reason);
        let rows: Vec<String> = rows.map(|row| row.member.clone()).collect();
        text.push_str(&format!("  left out ({}): {}\n", left_out_words(reason), list(&rows, 4)));
    }
    if !layer.copied_links.is_empty() {
        let rows: Vec<String> =
            layer.copied_links.iter().map(|row| format!("{} = {}", row.member, row.copy_of)).collect();
        let count = counted(rows.len() as u64, "link becomes a copy", "links become copies");
        text.push_str(&format!("  {count}: {}\n", list(&rows, 4)));
    }
    if !layer.takes_away.is_empty() {
        text.push_str(&paint(WARN, &format!("  takes away: {}\n", list(&layer.takes_away, 4))));
    }
    text.push_str(&containers(layer, verbose));
    if !layer.needs.is_empty() {
        text.push_str(&format!("  {}\n", list(&layer.needs, 6)));
    }
    if !layer.sets.is_empty() {
        text.push_str(&format!("  sets {}\n", list(&layer.sets, 4)));
    }
    if !layer.noted.is_empty() {
        text.push_str(&format!("  noted: {}\n", list(&layer.noted, 6)));
    }
    if !layer.runs_code.is_empty() {
        let line = format!("  runs code: {}\n", list(&layer.runs_code, 4));
        text.push_str(&paint(WARN, &line));
    }
    text.push_str(&wishes(&layer.starts, &layer.clears));
    text
}

/// The first of the rows, and how many more there are.
fn listed(rows: &[String], most: usize) -> String {
    let shown: Vec<&str> = rows.iter().take(most).map(String::as_str).collect();
    let more = if shown.len() < rows.len() {
        format!(", and {} more", rows.len() - shown.len())
    } else {
        String::new()
    };
    format!("{}{more}", shown.join(", "))
}

/// What the layer does in containers.
fn containers(layer: &AddReport, verbose: bool) -> String {
    let mut text = String::new();
    for container in &layer.containers {
        let members = counted(container.members, "member", "members");
        text.push_str(&format!("  changes {members} of {}\n", container.address));
        if !container.signature.is_empty() {
            let gone = listed(&container.signature, if verbose { usize::MAX } else { 4 });
            let line = format!(
                "  its signature no longer holds and is taken away: {gone} (--keep-signature leaves it)\n"
            );
            text.push_str(&paint(WARN, &line));
        }
        for folder in &container.like_signatures {
            let away = in_quotes(&format!("{}!/{folder}/**", container.address));
            let line = format!(
                "  its folder {folder} looks like a signature that may no longer hold (--take-away {away})\n"
            );
            text.push_str(&paint(WARN, &line));
        }
        if container.keeps_signature {
            text.push_str(&paint(WARN, "  its signature stays, though it no longer holds\n"));
        }
    }
    text.push_str(&whole_containers(&layer.whole_containers));
    text
}

/// Containers of the game that a package replaces, and how they differ.
pub fn whole_containers(rows: &[WholeContainerRow]) -> String {
    let mut text = String::new();
    for whole in rows {
        let of = counted(whole.members, "member", "members");
        text.push_str(&format!("  replaces {} whole: {} of {of} differ", whole.address, whole.differing));
        let shares_most = whole.differing > 0 && whole.differing * 2 <= whole.members;
        text.push_str(if shares_most { " (--as-members takes only these)\n" } else { "\n" });
    }
    text
}
