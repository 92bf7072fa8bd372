//! `oddstack add`

use std::path::PathBuf;

use clap::Args;
use odd_stack_core::fit::Rules;
use odd_stack_core::jobs::{
    AddError, AddPlace, AddReport, AddRequest, ChangeReport, Permit, prepare_add, remembered_rules, select,
};
use odd_stack_core::ledger::{Layer, Ledger};
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

/// What a package is called, where the file name does not say it right.
#[derive(Debug, Clone, Default, Args)]
pub struct NameArgs {
    /// The layer's name; read off the fit sheet or the file name otherwise
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// Its version; read likewise
    #[arg(long, value_name = "V")]
    pub version: Option<String>,
    /// Which one of several makes it is, such as `full`; read likewise
    #[arg(long, value_name = "TEXT")]
    pub variant: Option<String>,
}

/// A package, what it is called, and where its files go.
#[derive(Debug, Args)]
pub struct PackageArgs {
    /// A folder, or a zip, 7z, rar or tar archive (any one of its parts, if it is split)
    #[arg(value_name = "PACKAGE")]
    pub package: PathBuf,
    #[command(flatten)]
    pub named: NameArgs,
    #[command(flatten)]
    pub place: PlaceArgs,
}

#[derive(Debug, Args)]
pub struct AddArgs {
    #[command(flatten)]
    pub package: PackageArgs,
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

/// What JSON tells of an `add` or `upgrade`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AddedReport {
    /// The layer.
    pub layer: AddReport,
    /// What changes on disk.
    pub change: ChangeReport,
}

pub fn run(desk: &mut Desk, args: &AddArgs) -> Result<Ended, Failure> {
    let ledger = desk.open()?;
    let permit = desk.permit(&ledger)?;
    let layers = ledger.layers()?;
    let (target, place) = target(&layers, args.above.as_deref(), args.below.as_deref(), false)?;
    let new = AddPlace::New { target, lifted: args.lifted };
    let mut request = args.package.request(new)?;
    let where_it_lies = if place == "to the top" { "on top".to_owned() } else { place };
    let mut done = match args.lifted {
        true => format!("is in the stack, {where_it_lies}, and lifted."),
        false => format!("is laid {where_it_lies}."),
    };
    let report = match carry_out(desk, &ledger, permit, &request, &args.change, &done) {
        Err(Undone::NameTaken { name, free, failure }) => match ask_about(desk, &name, &free)? {
            None => return Err(*failure),
            Some(answer) => {
                match answer {
                    Answer::Beside => request.name = Some(free),
                    Answer::Upgrade => {
                        let old = select(&layers, &name)?;
                        done = exchanged(old, args.change.dry_run);
                        request = in_place_of(&ledger, old, request)?;
                    }
                }
                let permit = desk.permit(&ledger)?;
                carry_out(desk, &ledger, permit, &request, &args.change, &done)
            }
        },
        other => other,
    };
    let report = report.map_err(Undone::into_failure)?;
    if args.lifted && !args.change.dry_run {
        desk.out.hint(&format!("`oddstack lay \"{}\"` puts it on the game.", report.layer.name));
    }
    Ok(Ended::Well)
}

impl PackageArgs {
    /// The request that the options make.
    pub fn request(&self, place: AddPlace) -> Result<AddRequest, Failure> {
        Ok(AddRequest {
            package: absolute(&self.package)?,
            name: self.named.name.clone(),
            version: self.named.version.clone(),
            variant: self.named.variant.clone(),
            rules: self.place.rules()?,
            place,
            limits: self.place.limits()?,
        })
    }
}

/// Why no layer was made.
pub enum Undone {
    /// Another layer has the name, which a person may be asked about.
    NameTaken {
        name: String,
        free: String,
        failure: Box<Failure>,
    },
    Failed(Box<Failure>),
}

impl Undone {
    pub fn into_failure(self) -> Failure {
        match self {
            Self::NameTaken { failure, .. } | Self::Failed(failure) => *failure,
        }
    }
}

impl<E: Into<Failure>> From<E> for Undone {
    fn from(error: E) -> Self {
        Self::Failed(Box::new(error.into()))
    }
}

/// Makes the layer, shows what changes, and prints the outcome; `done` ends the sentence that begins
/// with the layer's name.
pub fn carry_out(
    desk: &mut Desk,
    ledger: &Ledger,
    permit: Permit,
    request: &AddRequest,
    args: &ChangeArgs,
    done: &str,
) -> Result<AddedReport, Undone> {
    let (options, now) = (change_options(args), desk.now());
    let adding = prepare_add(ledger, permit, request, &now, options, args.dry_run, &desk.progress);
    let adding = match adding {
        Err(AddError::NameTaken { name, version, free }) => {
            let failure = AddError::NameTaken { name: name.clone(), version, free: free.clone() };
            let failure = Box::new(name_taken(failure, request, &name, &free));
            return Err(Undone::NameTaken { name, free, failure });
        }
        other => other?,
    };
    let layer = adding.report;
    let most = match desk.out.verbose || args.dry_run {
        true => usize::MAX,
        false if desk.out.quiet => 0,
        false => MOST_EFFECTS,
    };
    let verbose = desk.out.verbose;
    let is_lifted = matches!(request.place, AddPlace::New { lifted: true, .. });
    let is_new = matches!(request.place, AddPlace::New { .. });
    let change = desk.carry_out(ledger, adding.change, args, |out, report| {
        out.text(&about(&layer, verbose));
        if is_new && !is_lifted {
            out.text(&format!("  {}\n", paint(BOLD, &meeting(&report.meeting))));
        }
        out.text(&format!("{}{}", effects(report, most), edits(report)));
    })?;
    let text = verdict(&change, &format!("{} {done}", layer.name));
    let report = AddedReport { layer, change };
    desk.out.result(Some(&ledger.game().name), &report, &text);
    Ok(report)
}

/// The request for a layer in the place of `old`; what is not said anew is as it was.
pub fn in_place_of(ledger: &Ledger, old: &Layer, request: AddRequest) -> Result<AddRequest, Failure> {
    let remembered = remembered_rules(ledger, old)?;
    let rules = request.rules;
    let or = |given: Vec<String>, was: Vec<String>| if given.is_empty() { was } else { given };
    Ok(AddRequest {
        name: Some(request.name.unwrap_or_else(|| old.about.name.clone())),
        rules: Rules {
            places: if rules.places.is_empty() { remembered.places } else { rules.places },
            only: or(rules.only, remembered.only),
            skip: or(rules.skip, remembered.skip),
            skip_links: rules.skip_links || remembered.skip_links,
            names: rules.names.or(remembered.names),
        },
        place: AddPlace::Exchange(old.id),
        ..request
    })
}

/// The end of the sentence on a layer that took the place of `old`.
pub fn exchanged(old: &Layer, dry_run: bool) -> String {
    let version = old.about.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let takes = if dry_run { "would take" } else { "took" };
    format!("{takes} the place of {}{version}.", old.about.name)
}

fn name_taken(error: AddError, request: &AddRequest, name: &str, free: &str) -> Failure {
    let package = request.package.display();
    Failure::from(error)
        .choice("exchange the layer for this package", format!("oddstack upgrade \"{name}\" \"{package}\""))
        .choice("add it beside that one, under another name", format!("--name \"{free}\""))
}

enum Answer {
    Upgrade,
    Beside,
}

/// Asks what a package is whose name a layer has; nothing when nobody can be asked, or they say so.
fn ask_about(desk: &Desk, name: &str, free: &str) -> Result<Option<Answer>, Failure> {
    let choices = [
        format!("exchange the layer {name} for this package"),
        format!("add it beside that one, as {free}"),
        "leave it".to_owned(),
    ];
    let question = format!("There is a layer named {name} already. What is this package to be?");
    Ok(match desk.ask(&question, &choices)? {
        Some(0) => Some(Answer::Upgrade),
        Some(1) => Some(Answer::Beside),
        _ => None,
    })
}

/// The first words on a package: `brass-lamps 1.2b (full)`.
pub fn title(name: &str, version: Option<&str>, variant: Option<&str>) -> String {
    let version = version.map(|version| format!(" {version}")).unwrap_or_default();
    let variant = variant.map(|variant| format!(" ({variant})")).unwrap_or_default();
    format!("{name}{version}{variant}")
}

/// Why a file is left out, in a few words.
pub fn left_out_words(reason: &str) -> &'static str {
    match reason {
        "skipped" => "by --skip",
        "not_among_only" => "not among --only",
        "no_place" => "no --place reaches it",
        "stays_packed" => "in an archive that stays packed",
        "fit_sheet" => "the package's fit sheet",
        _ => "a link out of the package",
    }
}

fn about(layer: &AddReport, verbose: bool) -> String {
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
    let mut reasons: Vec<&str> = layer.left_out.iter().map(|row| row.reason.as_str()).collect();
    reasons.sort_unstable();
    reasons.dedup();
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
    if !layer.runs_code.is_empty() {
        let line = format!("  runs code: {}\n", list(&layer.runs_code, 4));
        text.push_str(&paint(WARN, &line));
    }
    text
}
