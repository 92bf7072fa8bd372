//! `oddstack add`

use std::path::PathBuf;

use clap::Args;
use odd_stack_core::fit::{Rank, Wishes};
use odd_stack_core::jobs::AddPlace;

use super::adding::{Doing, PackageArgs, carry_out};
use super::reorder::target;
use crate::Ended;
use crate::args::{ChangeArgs, SaidArgs};
use crate::errors::{Exit, Failure};
use crate::session::Session;
use crate::shell::quoted;

#[derive(Debug, Args)]
#[command(
    after_help = "Several packages become layers in one change, the first one lowest, and their requirements \
                        are checked together. Then --place, --choose, --skip and --only name the package they are for: \
                        --place \"lamps.zip!/data=game:data\""
)]
pub struct AddArgs {
    /// A folder, or a zip, 7z, rar or tar archive (any one of its parts, if it is split); or several
    #[arg(value_name = "PACKAGE", required = true)]
    pub packages: Vec<PathBuf>,
    #[command(flatten)]
    pub package: PackageArgs,
    #[command(flatten)]
    pub said: SaidArgs,
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

pub fn run(session: &mut Session, args: &AddArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let arriving = game.arriving(args.change.dry_run)?;
    let layers = game.layers()?;
    let is_said = args.above.is_some() || args.below.is_some();
    let (target, place) = target(&layers, args.above.as_deref(), args.below.as_deref(), false)?;
    let new = AddPlace::New { target: is_said.then_some(target), lifted: args.lifted };
    let packages: Vec<_> = args.packages.iter().map(|package| (package.clone(), new)).collect();
    let mut requests = args.package.requests(game.about(), &packages, Rank::Option)?;
    let said = args.said.wishes()?;
    if said != Wishes::default() {
        let [request] = requests.as_mut_slice() else {
            let message = "what starts it and how you can tell that it works is for one package; add that one by itself";
            return Err(Failure::new(Exit::Usage, "usage", message));
        };
        game.check_facts(&said)?;
        let placed = std::mem::take(&mut request.wanted.rules.said);
        let Wishes { takes_away, keep_signature, as_members, .. } = placed;
        request.wanted.rules.said = Wishes { takes_away, keep_signature, as_members, ..said };
    }
    // Where rules of order keep it from the top, that is said when it is known.
    let doing = Doing { place: is_said.then_some(place), lifted: args.lifted };
    let report = carry_out(session, &game, arriving, requests, &args.change, &doing)?;
    if args.lifted && !args.change.dry_run {
        let names: Vec<String> = report.layers().map(|layer| quoted(&layer.name)).collect();
        session.out.hint(&format!("`oddstack lay {}` puts it on the game.", names.join(" ")));
    }
    Ok(Ended::Well)
}
