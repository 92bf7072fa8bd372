//! Packages becoming layers: what is asked, answered, shown and made, for `add` and `upgrade`.

use std::path::{Path, PathBuf};

use clap::Args;
use odd_stack_core::OpenGame;
use odd_stack_core::fit::{Candidate, FitError, Place, Rank, Unclear};
use odd_stack_core::game::Game;
use odd_stack_core::jobs::InItsPlace;
use odd_stack_core::jobs::{
    AddError, AddPlace, AddReport, AddRequest, Adding, Arriving, ChangeReport, ReplacedRow, select,
};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::placing::does_words;
use super::standing::MOST_EFFECTS;
use crate::args::{ChangeArgs, NeedsArgs, PlaceArgs};
use crate::errors::{Exit, Failure, fit_failure, question_words};
use crate::questions;
use crate::session::{Session, absolute, change_options};
use crate::shell::quoted;
use crate::show::about::about;
use crate::show::change::{difference, edits, effects, meeting, verdict};
use crate::show::fit::place_words;
use crate::show::style::{BOLD, paint};
use crate::show::units::{capital, file_name};

/// What a package is called, where the file name does not say it right.
#[derive(Debug, Clone, Default, Args)]
pub struct NameArgs {
    /// The layer's name; otherwise taken from the fit sheet or the file name
    #[arg(long, value_name = "NAME", overrides_with = "name")]
    pub name: Option<String>,
    /// Its version; otherwise taken from there too
    #[arg(long, value_name = "V")]
    pub version: Option<String>,
    /// Which of several variants it is, such as `full`; otherwise taken from there too
    #[arg(long, value_name = "TEXT")]
    pub variant: Option<String>,
}

/// What a package is called, where its files go, and what it needs.
#[derive(Debug, Args)]
pub struct PackageArgs {
    #[command(flatten)]
    pub named: NameArgs,
    #[command(flatten)]
    pub place: PlaceArgs,
    #[command(flatten)]
    pub needs: NeedsArgs,
}

/// What JSON tells of an `add` or `upgrade`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct AddedReport {
    /// The layer; of several packages, that of the first.
    pub layer: AddReport,
    /// The layers of the other packages, if several were given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub more_layers: Vec<AddReport>,
    /// What changes on disk.
    pub change: ChangeReport,
}

impl AddedReport {
    /// All layers, in order of the packages.
    pub fn layers(&self) -> impl Iterator<Item = &AddReport> {
        std::iter::once(&self.layer).chain(&self.more_layers)
    }
}

/// What is done with new layers, for the sentence at the end.
#[derive(Debug, Default)]
pub struct Doing {
    /// Where in the stack, if that was said.
    pub place: Option<String>,
    pub lifted: bool,
}

impl Doing {
    fn sentence(&self, layers: &[AddReport], dry_run: bool) -> String {
        let takes: Vec<String> = layers.iter().filter_map(|layer| exchanged(layer, dry_run)).collect();
        let new: Vec<&AddReport> = layers.iter().filter(|layer| layer.replaces.is_none()).collect();
        let added = match new.as_slice() {
            [] => None,
            several => {
                let names: Vec<&str> = several.iter().map(|layer| layer.name.as_str()).collect();
                let (is, place) = match several {
                    [only] => ("is", self.place.clone().unwrap_or_else(|| where_it_lies(only))),
                    _ => ("are", self.place.clone().unwrap_or_else(|| "on top".to_owned())),
                };
                Some(match self.lifted {
                    true => format!("{} {is} in the stack, {place}, and lifted", listed(&names)),
                    false => format!("{} {is} laid {place}", listed(&names)),
                })
            }
        };
        let parts: Vec<String> = added.into_iter().chain(takes).collect();
        format!("{}.", parts.join("; "))
    }
}

/// `one`, `one and two`, `one, two and three`.
fn listed(names: &[&str]) -> String {
    match names {
        [] => String::new(),
        [only] => (*only).to_owned(),
        [first @ .., last] => format!("{} and {last}", first.join(", ")),
    }
}

fn where_it_lies(layer: &AddReport) -> String {
    match &layer.lies_below {
        Some(above) => format!("below {above}, where rules of order have it"),
        None => "on top".to_owned(),
    }
}

fn exchanged(layer: &AddReport, dry_run: bool) -> Option<String> {
    let ReplacedRow { name, version, standing, .. } = layer.replaces.as_ref()?;
    let version = version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let takes = if dry_run { "would take" } else { "took" };
    let stands = match standing {
        InItsPlace::Lifted => ", lifted as that was",
        InItsPlace::LaidAgain => " and is laid again: that had waited since the patch day",
        InItsPlace::Waiting => " and stays off, as that had since the patch day",
        InItsPlace::Laid => "",
    };
    Some(format!("{} {takes} the place of {name}{version}{stands}", layer.name))
}

/// What the words of options begin with that are for this package among several: `lamps.zip!/`.
fn scope_of(package: &Path) -> String {
    format!("{}!/", file_name(&package.display().to_string()))
}

impl PackageArgs {
    /// A request for each package. Of several, options that say where files go and what is chosen name the package.
    pub fn requests(
        &self,
        game: &Game,
        packages: &[(PathBuf, AddPlace)],
        rank: Rank,
    ) -> Result<Vec<AddRequest>, Failure> {
        if packages.len() > 1 {
            self.refuse_for_several(packages)?;
        }
        let request = |(package, place): &(PathBuf, AddPlace)| {
            let scope = (packages.len() > 1).then(|| scope_of(package));
            let mut wanted = self.place.wanted(Some(game), rank, scope.as_deref())?;
            wanted.rules.asked = self.needs.needs();
            Ok(AddRequest {
                package: absolute(package)?,
                name: self.named.name.clone(),
                version: self.named.version.clone(),
                variant: self.named.variant.clone(),
                wanted,
                place: *place,
                limits: self.place.limits()?,
                prefer: None,
                patch: None,
                whole: false,
            })
        };
        packages.iter().map(request).collect()
    }

    /// Refuses options that are of one package when several are given.
    fn refuse_for_several(&self, packages: &[(PathBuf, AddPlace)]) -> Result<(), Failure> {
        let usage = |message: String| Failure::new(Exit::Usage, "usage", message);
        let of_one = [
            (self.named.name.is_some(), "--name"),
            (self.named.version.is_some(), "--version"),
            (self.named.variant.is_some(), "--variant"),
            (self.place.fit.is_some(), "--fit"),
            (!self.needs.needs().is_empty(), "what it needs"),
        ];
        if let Some((_, option)) = of_one.iter().find(|(is_given, _)| *is_given) {
            let message =
                format!("{option} is for one package, and several were given; add that one by itself");
            return Err(usage(message));
        }
        let scopes: Vec<String> = packages.iter().map(|(package, _)| scope_of(package)).collect();
        let is_scoped = |text: &&String| scopes.iter().any(|scope| text.starts_with(scope.as_str()));
        if let Some(text) = self.place.place.iter().chain(&self.place.choose).find(|text| !is_scoped(text)) {
            let message = format!(
                "say for which of the packages `{text}` is meant: `{}{text}`",
                scopes.first().map_or("", String::as_str)
            );
            return Err(usage(message));
        }
        Ok(())
    }
}

/// Makes the layers, asking what a person must decide.
pub fn carry_out<'g>(
    session: &mut Session,
    game: &'g OpenGame,
    mut arriving: Arriving<'g>,
    mut requests: Vec<AddRequest>,
    args: &ChangeArgs,
    doing: &Doing,
) -> Result<AddedReport, Failure> {
    session.tell_version(game)?;
    let adding = loop {
        let error = match game.prepare_arrival(&mut arriving, &requests, change_options(args)) {
            Ok(adding) => break adding,
            Err(error) => error,
        };
        let at = arriving.at();
        let question = question_of(&error);
        let failure = failure_of(error, &requests, at);
        let Some(Question { text, answers, first_is_likely }) = question else { return Err(failure) };
        let says: Vec<String> = answers.iter().map(|answer| answer.says.clone()).collect();
        let picked =
            session.ask_from(&text, &[says, vec!["leave it".to_owned()]].concat(), first_is_likely)?;
        let Some(mut answer) = picked.and_then(|index| answers.into_iter().nth(index)) else {
            return Err(failure);
        };
        if let Meaning::Elsewhere(from) = answer.means {
            let asked = "Its address, such as game:data/textures, or `.` for the game's own folder";
            let Some(to) = questions::text(asked)? else { return Err(failure) };
            let to = if to == "." { "game:".to_owned() } else { to };
            let places = vec![Place::new(from, to)];
            answer.means = Meaning::Placed(Candidate { places, ..Candidate::default() });
        }
        answer.put_into(&mut requests[at], game)?;
    };
    carry_out_prepared(session, game, adding, args, doing)
}

/// Shows what would be done, and does it.
fn carry_out_prepared(
    session: &mut Session,
    game: &OpenGame,
    adding: Adding<'_>,
    args: &ChangeArgs,
    doing: &Doing,
) -> Result<AddedReport, Failure> {
    let layers = adding.reports;
    let most = match session.out.verbose || args.dry_run {
        // Its rows are in the report.
        _ if session.out.json => 0,
        true => usize::MAX,
        false if session.out.quiet => 0,
        false => MOST_EFFECTS,
    };
    let verbose = session.out.verbose;
    let has_new = layers.iter().any(|layer| layer.replaces.is_none());
    let change = session.carry_out(game, adding.change, args, |out, report| {
        let mut differences = report.difference.iter().chain(&report.more_differences);
        for layer in &layers {
            out.text(&about(layer, verbose));
            if layer.replaces.is_some()
                && let Some(told) = differences.next()
            {
                out.text(&difference(told, layer.replaces.as_ref(), layer.version.as_deref(), most));
            }
        }
        if has_new && !doing.lifted {
            out.text(&format!("  {}\n", paint(BOLD, &meeting(&report.meeting))));
        }
        // Of an exchange the difference has told it.
        let most = if has_new || verbose { most } else { 0 };
        out.text(&format!("{}{}", effects(report, most), edits(report, most)));
    })?;
    if args.dry_run {
        session
            .out
            .hint("You need no copy of the game's folder for this: `oddstack undo` takes it back, whole.");
    } else {
        session.learn_program(game)?;
        if has_new {
            session.tell_doubts(game)?;
        }
    }
    let text = verdict(&change, &doing.sentence(&layers, args.dry_run));
    let mut layers = layers.into_iter();
    let first = layers.next();
    let first = first.ok_or_else(|| Failure::new(Exit::Usage, "usage", "give a package"))?;
    let report = AddedReport { layer: first, more_layers: layers.collect(), change };
    session.out.result(Some(&game.about().name), &report, &text);
    Ok(report)
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
    /// What is in that folder of the package goes to an address that the person types.
    Elsewhere(String),
    Chosen(String, String),
}

/// What is asked, with its answers.
struct Question {
    text: String,
    answers: Vec<Answer>,
    /// Whether Enter alone takes the first.
    first_is_likely: bool,
}

impl Question {
    fn new(text: String, answers: Vec<Answer>) -> Self {
        Self { text, answers, first_is_likely: true }
    }
}

impl Answer {
    /// Changes the request.
    fn put_into(self, request: &mut AddRequest, game: &OpenGame) -> Result<(), Failure> {
        let rules = &mut request.wanted.rules;
        match self.means {
            Meaning::Name(name) => request.name = Some(name),
            // Only what was typed says where.
            Meaning::Elsewhere(_) => {}
            Meaning::Chosen(id, option) => drop(rules.chosen.insert(id, option)),
            Meaning::Placed(candidate) => {
                let rank = match request.place {
                    AddPlace::New { .. } => Rank::Option,
                    AddPlace::Exchange(_) | AddPlace::NewVersion => Rank::Again,
                };
                rules.tidy |= !candidate.places.is_empty();
                rules.places.extend(candidate.places.into_iter().map(|place| Place { rank, ..place }));
                rules.skip.extend(candidate.skip);
            }
            Meaning::Exchange(name) => {
                let layers = game.layers()?;
                request.place = AddPlace::Exchange(select(&layers, &name)?.id);
                request.name = None;
            }
        }
        Ok(())
    }
}

/// What a person is asked about `error`, if anything.
fn question_of(error: &AddError) -> Option<Question> {
    match error {
        AddError::NameTaken { name, free, .. } => {
            let question = format!("There is a layer named {name} already. What is this package to be?");
            let exchange = Answer {
                says: format!("replace the layer {name} with this package"),
                means: Meaning::Exchange(name.clone()),
            };
            let beside = Answer {
                says: format!("add it beside that one, as {free}"),
                means: Meaning::Name(free.clone()),
            };
            Some(Question::new(question, vec![exchange, beside]))
        }
        AddError::NoSuchLayer { name, layers, .. } if !layers.is_empty() => {
            let question = format!("No layer is named {name}. Of which one is this package a new version?");
            let answer =
                |layer: &String| Answer { says: layer.clone(), means: Meaning::Exchange(layer.clone()) };
            Some(Question::new(question, layers.iter().map(answer).collect()))
        }
        AddError::Fit {
            source:
                source @ (FitError::Unclear(Unclear { candidates, .. }) | FitError::OnlyPacked { candidates, .. }),
            ..
        } if !candidates.is_empty() => {
            let answer = |candidate: &Candidate| Answer {
                says: candidate_words(candidate),
                means: Meaning::Placed(candidate.clone()),
            };
            let question = format!(
                "{}. How is it to be?",
                capital(&match source {
                    FitError::Unclear(unclear) => question_words(unclear),
                    source => source.to_string(),
                })
            );
            let from = candidates.iter().find_map(|it| it.places.first()).map(|place| place.from.clone());
            let elsewhere = from.map(|from| Answer {
                says: "somewhere else: type an address".to_owned(),
                means: Meaning::Elsewhere(from),
            });
            let answers = candidates.iter().map(answer).chain(elsewhere).collect();
            let first_is_likely = matches!(source, FitError::Unclear(unclear) if unclear.is_first_far_ahead);
            Some(Question { text: question, answers, first_is_likely })
        }
        AddError::Fit { source: FitError::ChoiceNeeded { choices, .. }, .. } => {
            let choice = choices.first()?;
            let answer = |option: &String| Answer {
                says: option.clone(),
                means: Meaning::Chosen(choice.id.clone(), option.clone()),
            };
            let question = choice.ask.clone().unwrap_or_else(|| format!("Which {}?", choice.id));
            Some(Question::new(question, choice.options.iter().map(answer).collect()))
        }
        _ => None,
    }
}

/// `the contents of its only folder to game:mods/lamp_oil  (after its folder's name)`.
fn candidate_words(candidate: &Candidate) -> String {
    let places: Vec<String> =
        candidate.places.iter().map(|place| place_words(&place.from, &place.to)).collect();
    let does = does_words(&candidate.evidence, candidate.effect);
    if places.is_empty() { does } else { format!("{}  ({does})", places.join(", ")) }
}

/// The failure with ways on that fit these packages.
fn failure_of(error: AddError, requests: &[AddRequest], at: usize) -> Failure {
    let package = requests.get(at).map(|request| request.package.clone()).unwrap_or_default();
    let shown = quoted(&package.display().to_string());
    let is_one = requests.len() < 2;
    match error {
        AddError::Fit { package: whose, source } if !is_one => {
            fit_failure(source, &scope_of(&package)).of_package(&whose)
        }
        AddError::NameTaken { ref name, ref free, .. } => {
            let exchange = format!("oddstack upgrade {} {shown}", quoted(name));
            let by_itself = format!("oddstack add {shown} --name {}", quoted(free));
            let mut failure = Failure::from(error);
            if !is_one {
                failure.choices.clear();
                failure = failure.choice("another name, and by itself", by_itself);
            }
            failure.choice("replace the layer with this package", exchange)
        }
        AddError::NoSuchLayer { ref layers, .. } => {
            let layers = layers.clone();
            layers.iter().fold(Failure::from(error), |failure, layer| {
                failure.choice("of this layer", format!("oddstack upgrade {} {shown}", quoted(layer)))
            })
        }
        error => error.into(),
    }
}
