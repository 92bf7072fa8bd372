//! `oddstack add`

use std::path::{Path, PathBuf};

use clap::Args;
use odd_stack_core::fit::{Candidate, FitError, Place, Rank};
use odd_stack_core::jobs::{
    AddError, AddPlace, AddReport, AddRequest, ChangeReport, ChoiceRow, PartRow, Permit, prepare_add, select,
};
use odd_stack_core::ledger::{Layer, Ledger};
use schemars::JsonSchema;
use serde::Serialize;

use super::reorder::target;
use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::args::{ChangeArgs, NeedsArgs, PlaceArgs};
use crate::desk::{Desk, absolute, change_options};
use crate::errors::Failure;
use crate::show::change::{difference, edits, effects, meeting, verdict};
use crate::show::fit::place_words;
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
    #[arg(value_name = "PACKAGE", required = true)]
    pub package: Option<PathBuf>,
    #[command(flatten)]
    pub named: NameArgs,
    #[command(flatten)]
    pub place: PlaceArgs,
    #[command(flatten)]
    pub needs: NeedsArgs,
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
    let permit = desk.permit(&ledger, args.change.dry_run)?;
    let layers = ledger.layers()?;
    let is_said = args.above.is_some() || args.below.is_some();
    let (target, place) = target(&layers, args.above.as_deref(), args.below.as_deref(), false)?;
    let new = AddPlace::New { target: is_said.then_some(target), lifted: args.lifted };
    let request = args.package.request(new)?;
    // Where rules of order keep it from the top, that is said when it is known.
    let where_it_lies = if is_said { place } else { WHERE_IT_LIES.to_owned() };
    let done = match args.lifted {
        true => format!("is in the stack, {where_it_lies}, and lifted."),
        false => format!("is laid {where_it_lies}."),
    };
    let report = carry_out(desk, &ledger, permit, request, &args.change, &done)?;
    if args.lifted && !args.change.dry_run {
        desk.out.hint(&format!("`oddstack lay \"{}\"` puts it on the game.", report.layer.name));
    }
    Ok(Ended::Well)
}

/// Stands in a sentence for where a layer lies.
const WHERE_IT_LIES: &str = "{where}";

impl PackageArgs {
    /// The request that the options make.
    pub fn request(&self, place: AddPlace) -> Result<AddRequest, Failure> {
        let rank = match place {
            AddPlace::New { .. } => Rank::Option,
            AddPlace::Exchange(_) => Rank::Again,
        };
        let mut wanted = self.place.wanted(rank)?;
        wanted.rules.asked = self.needs.needs();
        Ok(AddRequest {
            package: absolute(self.package.as_deref().unwrap_or(Path::new("")))?,
            name: self.named.name.clone(),
            version: self.named.version.clone(),
            variant: self.named.variant.clone(),
            wanted,
            place,
            limits: self.place.limits()?,
            prefer: None,
            patch: None,
        })
    }
}

/// Makes the layer, asking what a person must decide; `done` ends the sentence that begins with the
/// layer's name.
pub fn carry_out(
    desk: &mut Desk,
    ledger: &Ledger,
    permit: Permit,
    mut request: AddRequest,
    args: &ChangeArgs,
    done: &str,
) -> Result<AddedReport, Failure> {
    let mut done = done.to_owned();
    let mut permit = Some(permit);
    loop {
        let permit = match permit.take() {
            Some(permit) => permit,
            None => desk.permit(ledger, args.dry_run)?,
        };
        match carry_out_once(desk, ledger, permit, &request, args, &done) {
            Ok(report) => return Ok(report),
            Err(Undone::Failed(failure)) => return Err(*failure),
            Err(Undone::Asks { question, answers, failure }) => {
                let says: Vec<String> = answers.iter().map(|answer| answer.says.clone()).collect();
                let picked = desk.ask(&question, &[says, vec!["leave it".to_owned()]].concat())?;
                let Some(answer) = picked.and_then(|index| answers.into_iter().nth(index)) else {
                    return Err(*failure);
                };
                if let Some(words) = answer.put_into(&mut request, ledger, args.dry_run)? {
                    done = words;
                }
            }
        }
    }
}

/// Why no layer was made.
enum Undone {
    /// A person may be asked.
    Asks {
        question: String,
        answers: Vec<Answer>,
        failure: Box<Failure>,
    },
    Failed(Box<Failure>),
}

impl<E: Into<Failure>> From<E> for Undone {
    fn from(error: E) -> Self {
        Self::Failed(Box::new(error.into()))
    }
}

/// One answer to a question, and what it makes of the request.
struct Answer {
    says: String,
    means: Meaning,
}

enum Meaning {
    /// Take the place of the layer of that name.
    Exchange(String),
    Name(String),
    Placed(Candidate),
    Chosen(String, String),
}

impl Answer {
    /// Changes the request; gives other words for what will be done, if they change.
    fn put_into(
        self,
        request: &mut AddRequest,
        ledger: &Ledger,
        dry_run: bool,
    ) -> Result<Option<String>, Failure> {
        let rules = &mut request.wanted.rules;
        match self.means {
            Meaning::Name(name) => request.name = Some(name),
            Meaning::Chosen(id, option) => drop(rules.chosen.insert(id, option)),
            Meaning::Placed(candidate) => {
                let rank = match request.place {
                    AddPlace::New { .. } => Rank::Option,
                    AddPlace::Exchange(_) => Rank::Again,
                };
                rules.tidy |= !candidate.places.is_empty();
                rules.places.extend(candidate.places.into_iter().map(|place| Place { rank, ..place }));
                rules.skip.extend(candidate.skip);
            }
            Meaning::Exchange(name) => {
                let layers = ledger.layers()?;
                let old = select(&layers, &name)?;
                request.place = AddPlace::Exchange(old.id);
                request.name = None;
                return Ok(Some(exchanged(old, dry_run)));
            }
        }
        Ok(None)
    }
}

/// What a person is asked about `error`, if anything.
fn question_of(error: &AddError) -> Option<(String, Vec<Answer>)> {
    match error {
        AddError::NameTaken { name, free, .. } => {
            let question = format!("There is a layer named {name} already. What is this package to be?");
            let exchange = Answer {
                says: format!("exchange the layer {name} for this package"),
                means: Meaning::Exchange(name.clone()),
            };
            let beside = Answer {
                says: format!("add it beside that one, as {free}"),
                means: Meaning::Name(free.clone()),
            };
            Some((question, vec![exchange, beside]))
        }
        AddError::Fit { source: FitError::Unclear(unclear), .. } if !unclear.candidates.is_empty() => {
            let answer = |candidate: &Candidate| Answer {
                says: candidate_words(candidate),
                means: Meaning::Placed(candidate.clone()),
            };
            let question = format!("{}. How is it to be?", capital(&unclear.question));
            Some((question, unclear.candidates.iter().map(answer).collect()))
        }
        AddError::Fit { source: FitError::ChoiceNeeded { choices, .. }, .. } => {
            let choice = choices.first()?;
            let answer = |option: &String| Answer {
                says: option.clone(),
                means: Meaning::Chosen(choice.id.clone(), option.clone()),
            };
            let question = choice.ask.clone().unwrap_or_else(|| format!("Which {}?", choice.id));
            Some((question, choice.options.iter().map(answer).collect()))
        }
        _ => None,
    }
}

/// `what is in its one folder to game:mods/lamp_oil  (after its folder's name)`.
fn candidate_words(candidate: &Candidate) -> String {
    let places: Vec<String> =
        candidate.places.iter().map(|place| place_words(&place.from, &place.to)).collect();
    if places.is_empty() {
        candidate.evidence.clone()
    } else {
        format!("{}  ({})", places.join(", "), candidate.evidence)
    }
}

fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

/// Makes the layer, shows what changes, and prints the outcome.
fn carry_out_once(
    desk: &mut Desk,
    ledger: &Ledger,
    permit: Permit,
    request: &AddRequest,
    args: &ChangeArgs,
    done: &str,
) -> Result<AddedReport, Undone> {
    let (options, now) = (change_options(args), desk.now());
    let adding = prepare_add(ledger, permit, request, &now, options, args.dry_run, &desk.progress);
    let adding = adding.map_err(|error| match question_of(&error) {
        Some((question, answers)) => {
            Undone::Asks { question, answers, failure: Box::new(failure_of(error, request)) }
        }
        None => error.into(),
    })?;
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
        if let Some(told) = &report.difference {
            out.text(&difference(told, layer.replaces.as_ref(), layer.version.as_deref(), most));
        }
        if is_new && !is_lifted {
            out.text(&format!("  {}\n", paint(BOLD, &meeting(&report.meeting))));
        }
        // Of an exchange the difference has told it.
        let most = if is_new || verbose || args.dry_run { most } else { 0 };
        out.text(&format!("{}{}", effects(report, most), edits(report)));
    })?;
    let lies = match &layer.lies_below {
        Some(above) => format!("below {above}, where rules of order have it"),
        None => "on top".to_owned(),
    };
    let text = verdict(&change, &format!("{} {}", layer.name, done.replace(WHERE_IT_LIES, &lies)));
    let report = AddedReport { layer, change };
    desk.out.result(Some(&ledger.game().name), &report, &text);
    Ok(report)
}

/// The end of the sentence on a layer that took the place of `old`.
pub fn exchanged(old: &Layer, dry_run: bool) -> String {
    let version = old.about.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let takes = if dry_run { "would take" } else { "took" };
    format!("{takes} the place of {}{version}.", old.about.name)
}

fn failure_of(error: AddError, request: &AddRequest) -> Failure {
    let taken = match &error {
        AddError::NameTaken { name, .. } => Some(name.clone()),
        _ => None,
    };
    let failure = Failure::from(error);
    let Some(name) = taken else { return failure };
    let package = request.package.display();
    failure
        .choice("exchange the layer for this package", format!("oddstack upgrade \"{name}\" \"{package}\""))
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
        "document" => "only to be read",
        "source" => "what it was made of",
        "picture" => "pictures of it",
        "metadata" => "left behind by a system",
        "original" => "copies of the game's own",
        "not_chosen" => "of options not chosen",
        "part_off" => "of parts that are off",
        "covered" => "covered by a part",
        _ => "a link out of the package",
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
    if !layer.takes_away.is_empty() {
        text.push_str(&paint(WARN, &format!("  takes away: {}\n", list(&layer.takes_away, 4))));
    }
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
    text
}
