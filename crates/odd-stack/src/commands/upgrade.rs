//! `oddstack upgrade`

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use odd_stack_core::blend::Prefer;
use odd_stack_core::fit::Rank;
use odd_stack_core::jobs::{AddPlace, Patch, select};
use odd_stack_core::ledger::Layer;

use super::adding::{Doing, PackageArgs, carry_out};
use super::capture::{self, RunArgs};
use crate::Ended;
use crate::args::ChangeArgs;
use crate::errors::{Exit, Failure};
use crate::session::Session;

#[derive(Debug, Args)]
#[command(after_help = "oddstack upgrade LAYER PACKAGE          another version of one layer\n\
                        oddstack upgrade PACKAGE...             of the layers that are named as the packages are\n\
                        oddstack upgrade LAYER=PACKAGE...       of these; several in one change, judged as a whole\n\
                        oddstack upgrade LAYER -- COMMAND...    the new version's installer, of a captured layer\n\
                        oddstack upgrade LAYER --begin          change it by hand, then `oddstack capture --end`")]
pub struct UpgradeArgs {
    /// A layer, by name or number in the stack, and the new version's package; or packages, each with its layer's name
    /// or as LAYER=PACKAGE
    #[arg(value_name = "LAYER PACKAGE", required = true)]
    pub words: Vec<String>,
    #[command(flatten)]
    pub package: PackageArgs,
    /// The package holds only the changed files of the new version: apply them on top of the layer's files
    #[arg(long)]
    pub patch: bool,
    /// The package holds all of the new version, however small it is
    #[arg(long, conflicts_with = "patch")]
    pub whole: bool,
    /// The version that a patch is for, when the package does not say
    #[arg(long, value_name = "V", requires = "patch")]
    pub onto: Option<String>,
    /// Which value wins where you and the new version changed the same setting
    #[arg(long, value_name = "WHOSE")]
    pub both_changed: Option<Whose>,
    #[command(flatten)]
    pub run: RunArgs,
    /// Begin, and let me make the new version by hand: the layer and all above it are lifted meanwhile
    #[arg(long, conflicts_with = "command")]
    pub begin: bool,
    /// End what was begun: what you changed takes the layer's place
    #[arg(long, conflicts_with_all = ["begin", "command"])]
    pub end: bool,
    #[command(flatten)]
    pub change: ChangeArgs,
    /// Instead of a package: the installer of the new version, of a layer that was captured
    #[arg(last = true, value_name = "COMMAND")]
    pub command: Vec<String>,
}

/// Whose value counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Whose {
    /// Yours
    Mine,
    /// The new version's
    New,
}

impl Whose {
    pub fn prefer(self) -> Prefer {
        match self {
            Self::Mine => Prefer::Mine,
            Self::New => Prefer::New,
        }
    }
}

fn usage(message: &str) -> Failure {
    Failure::new(Exit::Usage, "usage", message)
}

pub fn run(session: &mut Session, args: &UpgradeArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let layers = game.layers()?;
    let by_hand = args.begin || args.end;
    if by_hand || !args.command.is_empty() {
        let [layer] = args.words.as_slice() else {
            return Err(usage("give a package or a command, not both"));
        };
        let old = select(&layers, layer)?;
        if args.end {
            return capture::end_upgrade(session, &game, old, args);
        }
        if args.change.dry_run {
            return Err(usage(
                "what a command or a person will do can't be told before; leave --dry-run out",
            ));
        }
        return capture::upgrade(session, &game, old, args);
    }
    let packages = packages_of(&args.words, &layers)?;
    if packages.len() > 1 && args.patch {
        return Err(usage("--patch is for one package, and several were given"));
    }
    let arriving = game.arriving(args.change.dry_run)?;
    let mut requests = args.package.requests(game.about(), &packages, Rank::Again)?;
    for request in &mut requests {
        request.prefer = args.both_changed.map(Whose::prefer);
        request.whole = args.whole;
        request.patch = args.patch.then(|| Patch { onto: args.onto.clone(), despite: args.change.despite });
    }
    let is_one = requests.len() == 1;
    let done = carry_out(session, &game, arriving, requests, &args.change, &Doing::default());
    // A patch goes alone.
    done.map_err(|failure| if is_one { failure } else { failure.without_choice("--patch") })?;
    Ok(Ended::Well)
}

/// Which package goes to which layer.
fn packages_of(words: &[String], layers: &[Layer]) -> Result<Vec<(PathBuf, AddPlace)>, Failure> {
    if let [layer, package] = words
        && pair_of(layer, layers).is_none()
        && pair_of(package, layers).is_none()
    {
        let found = select(layers, layer);
        if found.is_ok() || !Path::new(layer).exists() {
            return Ok(vec![(PathBuf::from(package), exchange(found?)?)]);
        }
    }
    let package = |word: &String| match pair_of(word, layers) {
        Some((old, package)) => Ok((PathBuf::from(package), exchange(old)?)),
        None if words.len() == 1 && !Path::new(word).exists() && select(layers, word).is_ok() => {
            Err(usage("give the new version's package, or its installer as `-- COMMAND...`"))
        }
        None => Ok((PathBuf::from(word), AddPlace::NewVersion)),
    };
    words.iter().map(package).collect()
}

/// `LAYER=PACKAGE`, unless there is a file of that whole name.
fn pair_of<'a>(word: &'a str, layers: &'a [Layer]) -> Option<(&'a Layer, &'a str)> {
    if Path::new(word).exists() {
        return None;
    }
    let mut cuts = word.match_indices('=').map(|(cut, _)| (&word[..cut], &word[cut + 1..]));
    cuts.find_map(|(layer, package)| Some((select(layers, layer).ok()?, package)))
}

fn exchange(old: &Layer) -> Result<AddPlace, Failure> {
    if old.about.source.is_empty() {
        let message = format!("{} are changed with `oddstack tweak`, not with a package", old.about.name);
        return Err(Failure::new(Exit::Usage, "own_edits", message));
    }
    Ok(AddPlace::Exchange(old.id))
}
