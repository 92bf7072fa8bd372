//! `oddstack set`

use clap::{Args, ValueEnum};
use odd_stack_core::jobs::{FactKind, FactsReport, FactsRequest, select};
use odd_stack_core::stack::Unmet;

use crate::Ended;
use crate::args::{NeedsArgs, SaidArgs};
use crate::errors::{Exit, Failure};
use crate::session::Session;
use crate::show::needs::unmet_line;
use crate::show::style::{BOLD, WARN, paint};

#[derive(Debug, Args)]
#[command(
    after_help = "What you set here stays with the layer, also in its next versions, and needs no fit sheet: it is for captured \
                        layers and other people's packages. What was set before stays, unless you --forget it."
)]
pub struct SetArgs {
    /// The layer, by name or number in the stack
    #[arg(value_name = "LAYER")]
    pub layer: String,
    /// Another name for it
    #[arg(long, value_name = "NAME", overrides_with = "name")]
    pub name: Option<String>,
    /// Its version
    #[arg(long, value_name = "V")]
    pub version: Option<String>,
    /// Which of several variants it is
    #[arg(long, value_name = "TEXT")]
    pub variant: Option<String>,
    #[command(flatten)]
    pub needs: NeedsArgs,
    #[command(flatten)]
    pub said: SaidArgs,
    /// Forget what was said of this, before anything else is said
    #[arg(long, value_name = "WHAT")]
    pub forget: Vec<Fact>,
    /// Only say what would be changed
    #[arg(short = 'n', long)]
    pub dry_run: bool,
}

/// What can be forgotten.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Fact {
    /// What it needs and is incompatible with
    Needs,
    /// What it must lie above and below
    Order,
    /// What starts the game with it
    Start,
    /// How one sees that it works
    Proof,
    /// What the game must rebuild
    Clears,
}

impl Fact {
    fn kind(self) -> FactKind {
        match self {
            Self::Needs => FactKind::Needs,
            Self::Order => FactKind::Order,
            Self::Start => FactKind::Starts,
            Self::Proof => FactKind::Proofs,
            Self::Clears => FactKind::Clears,
        }
    }
}

pub fn run(session: &mut Session, args: &SetArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let layers = game.layers()?;
    let layer = select(&layers, &args.layer)?;
    if game.is_own_edits(layer.id)? {
        let message = format!("{} are your own edits, which `oddstack tweak` changes", layer.about.name);
        return Err(Failure::new(Exit::Usage, "own_edits", message));
    }
    let request = FactsRequest {
        name: args.name.clone(),
        version: args.version.clone(),
        variant: args.variant.clone(),
        forget: args.forget.iter().map(|fact| fact.kind()).collect(),
        needs: args.needs.needs(),
        wishes: args.said.wishes()?,
    };
    if request == FactsRequest::default() {
        let message = "say what to set, such as --version V, --needs LAYER or --start PROGRAM";
        return Err(Failure::new(Exit::Usage, "usage", message));
    }
    let saying = game.set_facts(layer, &request, args.dry_run)?;
    if !args.dry_run {
        session.apply(&game, saying.change)?;
    }
    let report = saying.report;
    session.out.result(Some(&game.about().name), &report, &text(&report));
    Ok(Ended::Well)
}

fn text(report: &FactsReport) -> String {
    let head = match report.dry_run {
        true => format!("What would be known of {}:", report.layer),
        false => format!("What is known of {} now:", report.layer),
    };
    let mut text = format!("{}\n", paint(BOLD, &head));
    text.extend(report.facts.iter().map(|fact| format!("  {fact}\n")));
    text.extend(report.missing.iter().map(|missing| format!("  {}\n", paint(WARN, missing))));
    text.extend(report.unmet.iter().map(|unmet: &Unmet| format!("  {}\n", unmet_line(unmet))));
    if report.dry_run {
        text.push_str(&format!("{}\n", paint(BOLD, "Dry run: nothing was changed.")));
    }
    text
}
