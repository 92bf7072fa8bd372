//! `oddstack game set`

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use odd_stack_core::OpenGame;
use odd_stack_core::address::MAIN_ROOT;
use odd_stack_core::blend::{BlendRule, BlendRules, Format};
use odd_stack_core::jobs::SetRequest;
use odd_stack_core::package::Limits;

use super::game::{PatternArgs, VersionArgs, about, pair, roots, spots};
use crate::Ended;
use crate::args::ChangeArgs;
use crate::errors::{Exit, Failure};
use crate::session::{Session, absolute, change_options};
use crate::show::change::effects;
use crate::show::style::{BOLD, paint};
use crate::show::units::counted;

#[derive(Debug, Args)]
pub struct SetGameArgs {
    /// The game; otherwise as with --game
    #[arg(value_name = "NAME")]
    pub game_name: Option<String>,
    /// Another name for it
    #[arg(long, value_name = "NEW")]
    pub name: Option<String>,
    /// Where the game lies now, when its folder was moved
    #[arg(long, value_name = "DIR")]
    pub folder: Option<PathBuf>,
    /// A further folder, or where a known one lies now
    #[arg(long, value_name = "ID=DIR")]
    pub root: Vec<String>,
    /// The further folder ID may belong to another game, too: neither touches what the other has put there
    #[arg(long, value_name = "ID")]
    pub shares: Vec<String>,
    /// Remove a further folder
    #[arg(long, value_name = "ID")]
    pub drop_root: Vec<String>,
    /// A short name for a folder
    #[arg(long, value_name = "ID=ADDRESS")]
    pub spot: Vec<String>,
    /// Remove a short name
    #[arg(long, value_name = "ID")]
    pub drop_spot: Vec<String>,
    /// The main program
    #[arg(long, value_name = "PATH")]
    pub exe: Option<String>,
    #[command(flatten)]
    pub version: VersionArgs,
    #[command(flatten)]
    pub pattern: PatternArgs,
    /// Files that match the pattern are merged as FORMAT: ini, json, toml, xml or lua key by key, lines for texts whose changes don't overlap
    #[arg(long, value_name = "GLOB=FORMAT")]
    pub blend: Vec<String>,
    /// Files that match the pattern are never merged: one whole file wins
    #[arg(long, value_name = "GLOB")]
    pub no_blend: Vec<String>,
    /// Forget what --blend and --no-blend said before
    #[arg(long)]
    pub blend_as_usual: bool,
    /// An address, folder or pattern at which the game writes by itself: what changes there is left alone
    #[arg(long, value_name = "GLOB")]
    pub volatile: Vec<String>,
    /// Remove one of these patterns
    #[arg(long, value_name = "GLOB")]
    pub not_volatile: Vec<String>,
    /// Containers that match the pattern are loaded one after the other, by name (with --later-wins or --each-alone)
    #[arg(long, value_name = "GLOB", requires = "load_order")]
    pub containers: Vec<String>,
    /// Where several of these containers have a member, the game takes that of the last one
    #[arg(long, requires = "containers", group = "load_order")]
    pub later_wins: bool,
    /// Forget that; each counts by itself
    #[arg(long, requires = "containers", group = "load_order")]
    pub each_alone: bool,
    /// What runs programs made for another system, with its arguments; none for nothing
    #[arg(long, value_name = "PROG ARGS")]
    pub runner: Option<String>,
    /// How big files of layers are laid where the disk can't share blocks: as links to the ledger's contents, which take room
    /// once, or as copies. Settings, texts and programs are always copies
    #[arg(long, value_name = "HOW")]
    pub big_files: Option<BigFilesWord>,
    /// From which size on a file is big: 256K, 4M
    #[arg(long, value_name = "SIZE")]
    pub big_files_from: Option<String>,
    /// Move the ledger into this new or empty folder, also on another disk
    #[arg(long, value_name = "DIR", conflicts_with = "dry_run")]
    pub ledger: Option<PathBuf>,
    /// Only say what would be done
    #[arg(short = 'n', long)]
    pub dry_run: bool,
}

/// How big files of layers are laid.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum BigFilesWord {
    /// As links to the ledger's contents
    Link,
    /// As copies
    Copy,
}

fn size_of(text: &str) -> Result<u64, Failure> {
    let bad = || Failure::new(Exit::Usage, "bad_size", format!("`{text}` is no size: write 256K, 4M or 1G"));
    Limits::size_given(text).ok_or_else(bad)
}

pub fn set(session: &mut Session, args: &SetGameArgs) -> Result<Ended, Failure> {
    let mut folders = roots(&args.root)?;
    if let Some(folder) = &args.folder {
        folders.push((MAIN_ROOT.to_owned(), absolute(folder)?));
    }
    let request = SetRequest {
        name: args.name.clone(),
        roots: folders,
        shares: args.shares.clone(),
        drop_roots: args.drop_root.clone(),
        spots: spots(&args.spot)?,
        drop_spots: args.drop_spot.clone(),
        program: args.exe.clone(),
        version: args.version.game_version.clone(),
        version_from: args.version.version_from.clone(),
        version_pattern: args.pattern.version_pattern.clone(),
        volatile: args.volatile.clone(),
        not_volatile: args.not_volatile.clone(),
        containers: args.containers.clone(),
        later_wins: args.later_wins,
        runner: args.runner.clone(),
        big_files_by_link: args.big_files.map(|how| how == BigFilesWord::Link),
        big_files_from: args.big_files_from.as_deref().map(size_of).transpose()?,
    };
    let blends = args.blend_as_usual || !args.blend.is_empty() || !args.no_blend.is_empty();
    if request == SetRequest::default() && !blends && args.ledger.is_none() {
        return Err(Failure::new(
            Exit::Usage,
            "nothing_to_set",
            "say what to set; `oddstack game set --help` lists it",
        ));
    }
    let mut listed = session.choose_game(args.game_name.as_deref())?;
    if let Some(folder) = &args.ledger {
        listed = session.door.move_ledger(&listed, &absolute(folder)?)?;
    }
    let game = session.open_game(&listed)?;
    if blends {
        set_blending(session, &game, args)?;
    }
    let game = game.set(&request, args.dry_run)?;
    let head = if args.dry_run { "Dry run: it would be" } else { "Set" };
    let text = format!("{}: {}\n{}", paint(BOLD, head), game.name, about(&game));
    session.out.result(Some(&game.name), &game, &text);
    Ok(Ended::Well)
}

/// Changes what blends; the files that this concerns follow.
fn set_blending(session: &mut Session, game: &OpenGame, args: &SetGameArgs) -> Result<(), Failure> {
    let mut rules = if args.blend_as_usual { Vec::new() } else { game.about().blend_rules.clone() };
    for text in &args.blend {
        let (pattern, format) = pair(text, "GLOB=FORMAT, such as *.dat=ini")?;
        let known = Format::parse(&format.to_lowercase());
        let format = known.ok_or_else(|| {
            let message = format!("`{format}` is no format; there are ini, json, toml, xml, lua and lines");
            Failure::new(Exit::Usage, "no_such_format", message)
        })?;
        add_rule(&mut rules, &pattern, Some(format));
    }
    args.no_blend.iter().for_each(|pattern| add_rule(&mut rules, pattern, None));
    BlendRules::new(&rules).map_err(|reason| Failure::new(Exit::Usage, "bad_pattern", reason))?;
    let change = ChangeArgs::plain(args.dry_run);
    let prepared = game.set_blend_rules(rules, "game set --blend", change_options(&change), args.dry_run)?;
    session.carry_out(game, prepared, &change, |out, report| {
        if report.changes_files() {
            let what = counted(report.effects.len() as u64, "file changes", "files change");
            out.text(&format!("{what} with what is merged:\n{}", effects(report, 12)));
        }
    })?;
    Ok(())
}

/// The last that is said of a pattern counts.
fn add_rule(rules: &mut Vec<BlendRule>, pattern: &str, format: Option<Format>) {
    let pattern = if cfg!(windows) { &pattern.replace('\\', "/") } else { pattern };
    rules.retain(|known| known.pattern != pattern);
    rules.push(BlendRule { pattern: pattern.to_owned(), format });
}
