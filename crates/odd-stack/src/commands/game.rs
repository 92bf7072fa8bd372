//! `oddstack game ...`

use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use odd_stack_core::game::BigFiles;
use odd_stack_core::jobs::{ChangeReport, Forgotten, FoundGame, GameReport, RegisterRequest, Reorder};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::game_settings::{self, SetGameArgs};
use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::args::ChangeArgs;
use crate::errors::{Exit, Failure};
use crate::session::{Session, absolute, change_options, usual_home};
use crate::shell::{in_quotes, setting};
use crate::show::change::{edits, effects, summary};
use crate::show::style::{BOLD, DIM, WARN, paint};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, files, layers, size};

#[derive(Debug, Subcommand)]
pub enum GameCommand {
    /// Add a game: look through its folders
    Add(Box<AddGameArgs>),
    /// List the games
    List,
    /// Show one game: folders, short names, program, version
    Show(OneGameArgs),
    /// Look for games in folders, to add them
    Find(FindGamesArgs),
    /// Change what is known of a game
    Set(Box<SetGameArgs>),
    /// Remove a game from Odd Stack; its layers are lifted first
    Forget(ForgetGameArgs),
    /// Move the list of games and the ledgers that lie with it to another folder
    MoveHome(MoveHomeArgs),
}

impl GameCommand {
    pub fn name(&self) -> &'static str {
        match self {
            Self::Add(_) => "game add",
            Self::List => "game list",
            Self::Show(_) => "game show",
            Self::Find(_) => "game find",
            Self::Set(_) => "game set",
            Self::Forget(_) => "game forget",
            Self::MoveHome(_) => "game move-home",
        }
    }
}

#[derive(Debug, Args)]
pub struct AddGameArgs {
    /// Your name for the game, which may be left out, and the folder it is installed in
    #[arg(value_name = "NAME] [FOLDER", num_args = 1..=2, required = true)]
    pub words: Vec<PathBuf>,
    /// A further folder of the game, such as docs=/home/me/Documents/Quillhaven
    #[arg(long, value_name = "ID=DIR")]
    pub root: Vec<String>,
    /// The further folder ID may belong to another game, too: neither touches what the other has put there
    #[arg(long, value_name = "ID")]
    pub shares: Vec<String>,
    /// A short name for a folder, such as bin=engine/bin
    #[arg(long, value_name = "ID=ADDRESS")]
    pub spot: Vec<String>,
    /// The main program, when the one that is found is wrong
    #[arg(long, value_name = "PATH")]
    pub exe: Option<String>,
    #[command(flatten)]
    pub version: VersionArgs,
    #[command(flatten)]
    pub pattern: PatternArgs,
    /// What runs programs made for another system, with its arguments
    #[arg(long, value_name = "PROG ARGS")]
    pub runner: Option<String>,
    /// Where to keep what Odd Stack knows and stores of this game
    #[arg(long, value_name = "DIR")]
    pub ledger: Option<PathBuf>,
    /// Spellings that differ in case are different files
    #[arg(long)]
    pub exact_case: bool,
    /// Take what is there as the game's own, even if the game was added before
    #[arg(long)]
    pub afresh: bool,
    /// Only say what would be done
    #[arg(short = 'n', long)]
    pub dry_run: bool,
}

#[derive(Debug, Args)]
#[group(multiple = false)]
pub struct VersionArgs {
    /// The game's version
    #[arg(long, value_name = "V")]
    pub game_version: Option<String>,
    /// A file of the game that tells its version
    #[arg(long, value_name = "PATH")]
    pub version_from: Option<String>,
}

/// How a version stands in its file.
#[derive(Debug, Args)]
pub struct PatternArgs {
    /// The text around the version in that file, with {} in its place: "Build = {}"
    #[arg(long, value_name = "TEXT")]
    pub version_pattern: Option<String>,
}

#[derive(Debug, Args)]
pub struct OneGameArgs {
    /// The game; otherwise as with --game
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
}

#[derive(Debug, Args)]
pub struct FindGamesArgs {
    /// Folders that are games, or that games lie in
    #[arg(value_name = "DIR", required = true)]
    pub folders: Vec<PathBuf>,
}

#[derive(Debug, Args)]
pub struct ForgetGameArgs {
    /// The game
    #[arg(value_name = "NAME")]
    pub name: String,
    /// Leave all layers on the game; its ledger stays, and `game add --ledger` takes it up again
    #[arg(long)]
    pub leave_layers: bool,
    #[command(flatten)]
    pub change: ChangeArgs,
}

#[derive(Debug, Args)]
pub struct MoveHomeArgs {
    /// The folder, new or empty; the usual place otherwise
    #[arg(value_name = "DIR")]
    pub folder: Option<PathBuf>,
}

/// What JSON tells of `game move-home`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct HomeMoved {
    /// Where the home was.
    pub from: String,
    /// Where it is.
    pub to: String,
}

/// What JSON tells of `game list`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct GameList {
    /// All games whose ledger can be opened.
    pub games: Vec<GameReport>,
    /// Games whose ledgers can't be opened.
    pub unreadable: Vec<UnreadableGame>,
}

/// A game whose ledger can't be opened.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct UnreadableGame {
    /// The game's name.
    pub name: String,
    /// Where its ledger is, or was.
    pub ledger: String,
    /// Why it can't be opened.
    pub problem: String,
}

/// What JSON tells of `game find`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct FoundGames {
    /// Games that were found, by folder.
    pub games: Vec<FoundGame>,
}

/// What JSON tells of `game forget`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct ForgetReport {
    /// What lifting the layers changed on disk; none when there was nothing to lift.
    pub change: Option<ChangeReport>,
    /// What is left of the ledger; none after a dry run.
    pub forgotten: Option<Forgotten>,
}

pub fn run(session: &mut Session, command: GameCommand) -> Result<Ended, Failure> {
    let moves = matches!(command, GameCommand::MoveHome(_));
    let ended = run_one(session, command)?;
    if session.is_in_older_home && !moves {
        let home = session.door.home().folder().display().to_string();
        session.out.hint(&format!(
            "What Odd Stack stores lies in {home}, which Windows may copy from computer to computer, and it gets big.\n\
             `oddstack game move-home` moves it to {}.",
            usual_home()?.display()
        ));
    }
    Ok(ended)
}

fn run_one(session: &mut Session, command: GameCommand) -> Result<Ended, Failure> {
    match command {
        GameCommand::Add(args) => add(session, &args),
        GameCommand::List => list(session),
        GameCommand::Show(args) => show(session, &args),
        GameCommand::Find(args) => find(session, &args),
        GameCommand::Set(args) => game_settings::set(session, &args),
        GameCommand::Forget(args) => forget_game(session, &args),
        GameCommand::MoveHome(args) => move_it(session, &args),
    }
}

pub fn pair(text: &str, what: &str) -> Result<(String, String), Failure> {
    match text.split_once('=') {
        Some((name, value)) if !name.is_empty() && !value.is_empty() => {
            Ok((name.to_owned(), value.to_owned()))
        }
        _ => Err(Failure::new(Exit::Usage, "bad_pair", format!("`{text}` is not {what}"))),
    }
}

pub fn roots(given: &[String]) -> Result<Vec<(String, PathBuf)>, Failure> {
    let parse = |text: &String| {
        let (name, folder) = pair(text, "ID=DIR")?;
        Ok((name, absolute(Path::new(&folder))?))
    };
    given.iter().map(parse).collect()
}

pub fn spots(given: &[String]) -> Result<Vec<(String, String)>, Failure> {
    given.iter().map(|text| pair(text, "ID=ADDRESS")).collect()
}

pub fn add(session: &mut Session, args: &AddGameArgs) -> Result<Ended, Failure> {
    let (name, folder) = match args.words.as_slice() {
        [name, folder] => (name.display().to_string(), folder),
        [folder] if folder.is_dir() => (String::new(), folder),
        words => {
            let name = words.first().map(|word| word.display().to_string()).unwrap_or_default();
            let message = format!(
                "there is no folder `{name}`; give the folder that the game is installed in, and before it, if you like, your \
                 name for the game"
            );
            return Err(Failure::new(Exit::Usage, "no_folder", message));
        }
    };
    let request = RegisterRequest {
        name,
        folder: absolute(folder)?,
        roots: roots(&args.root)?,
        spots: spots(&args.spot)?,
        program: args.exe.clone(),
        version: args.version.game_version.clone(),
        version_from: args.version.version_from.clone(),
        version_pattern: args.pattern.version_pattern.clone(),
        runner: args.runner.clone(),
        shares: args.shares.clone(),
        ledger: args.ledger.as_deref().map(absolute).transpose()?,
        exact_case: args.exact_case,
        afresh: args.afresh,
    };
    let report = session.door.register(&request, args.dry_run)?;
    let game = &report.game;
    let head = match (report.dry_run, report.taken_up_again) {
        (true, _) => format!("Dry run: {} would be added", game.name),
        (false, true) => format!(
            "{} is back, with {} and its ledger at {}",
            game.name,
            layers(game.laid_layers + game.lifted_layers),
            game.ledger
        ),
        (false, false) => format!("Added {}", game.name),
    };
    let seen = format!("{}, {}", files(game.seen.files), size(game.seen.bytes));
    let text = format!("{}: {seen}\n{}", paint(BOLD, &head), about(game));
    session.out.result(Some(&game.name), &report, &text);
    if game.program.is_none() {
        session.out.hint(
            "No main program was found among these files; name it with `oddstack game set --exe PATH`.",
        );
    }
    if game.version.is_none() {
        session
            .out
            .hint("The game's version is not known; state it with `oddstack game set --game-version V`.");
    }
    Ok(Ended::Well)
}

pub fn about(game: &GameReport) -> String {
    let mut text = String::new();
    let mut say = |what: &str, value: &str| {
        text.push_str(&format!("  {} {value}\n", paint(DIM, &format!("{what:<10}"))))
    };
    for root in &game.roots {
        let missing = if root.is_there { String::new() } else { paint(WARN, "  (not there)") };
        let shared = match root.shared_with.as_slice() {
            [] => String::new(),
            games => paint(DIM, &format!("  (shared with {})", games.join(", "))),
        };
        say(&root.name, &format!("{}{shared}{missing}", root.folder));
    }
    for spot in &game.spots {
        say(&spot.name, &spot.address);
    }
    say("program", game.program.as_deref().unwrap_or("not known"));
    let version = match (&game.version, &game.version_read_from) {
        (Some(version), Some(from)) => format!("{version}, read from {from}"),
        (Some(version), None) => version.clone(),
        (None, _) => "not known".to_owned(),
    };
    say("version", &version);
    if !game.blend.is_empty() {
        say("merged as", &game.blend.join(", "));
    }
    if !game.volatile.is_empty() {
        say("volatile", &game.volatile.join(", "));
    }
    if !game.later_wins.is_empty() {
        say("later wins", &game.later_wins.join(", "));
    }
    if let Some(runner) = &game.runner {
        say("runner", runner);
    }
    if game.big_files != BigFiles::default() {
        let from = size(game.big_files.from_bytes);
        let how = if game.big_files.by_link {
            format!("laid as links from {from} on")
        } else {
            "laid as copies".to_owned()
        };
        say("big files", &how);
    }
    if let Some(containers) = game.containers.filter(|containers| containers.count > 0) {
        let members = counted(containers.members, "member", "members");
        let count = counted(containers.count, "zip-based file", "zip-based files");
        say("containers", &format!("{count}, {members}; layers can go into them (`--place .=FILE!/`)"));
    }
    if game.exact_case {
        say("spelling", "upper and lower case are told apart");
    }
    say("ledger", &game.ledger);
    text
}

fn list(session: &mut Session) -> Result<Ended, Failure> {
    let (mut games, mut unreadable) = (Vec::new(), Vec::new());
    for listed in session.door.home().games()? {
        match session.open_game(&listed).and_then(|game| Ok(game.report()?)) {
            Ok(report) => games.push(report),
            Err(failure) => unreadable.push(UnreadableGame {
                name: listed.name,
                ledger: listed.ledger.display().to_string(),
                problem: failure.message,
            }),
        }
    }
    let header =
        [("game", Look::Plain), ("version", Look::Plain), ("layers", Look::Plain), ("folder", Look::Plain)];
    let rows = games.iter().map(|game| {
        let lifted =
            if game.lifted_layers > 0 { format!(", {} lifted", game.lifted_layers) } else { String::new() };
        vec![
            cell(game.name.clone(), Look::Name),
            cell(game.version.clone().unwrap_or_default(), Look::Plain),
            cell(format!("{} laid{lifted}", game.laid_layers), Look::Plain),
            cell(game.roots[0].folder.clone(), if game.roots[0].is_there { Look::Plain } else { Look::Warn }),
        ]
    });
    let mut text = if games.is_empty() { String::new() } else { table(&header, rows.collect()) };
    let rows = unreadable.iter().map(|game| {
        let problem = cell(game.problem.clone(), Look::Warn);
        vec![cell(game.name.clone(), Look::Name), cell("can't be opened", Look::Warn), problem]
    });
    text.push_str(&table(&[], rows.collect()));
    let is_empty = games.is_empty() && unreadable.is_empty();
    let lost: Vec<String> = unreadable.iter().map(|game| in_quotes(&game.name)).collect();
    session.out.result(None, &GameList { games, unreadable }, &text);
    if is_empty {
        session.out.hint("No game has been added yet: `oddstack game add FOLDER`.");
    }
    for name in &lost {
        session.out.hint(&format!(
            "`oddstack rescue {name}` says what is whole there, and rebuilds what can be rebuilt."
        ));
    }
    Ok(if lost.is_empty() { Ended::Well } else { Ended::Damaged })
}

fn move_it(session: &mut Session, args: &MoveHomeArgs) -> Result<Ended, Failure> {
    let to = match &args.folder {
        Some(folder) => absolute(folder)?,
        None => usual_home()?,
    };
    let usual = usual_home()?;
    if session.door.home().folder() == to {
        let message = format!("what Odd Stack stores lies at {} already", to.display());
        return Err(Failure::new(Exit::Failed, "same_home", message));
    }
    let from = session.door.home().folder().display().to_string();
    session.door.move_home(&to)?;
    let report = HomeMoved { from, to: to.display().to_string() };
    session.out.result(None, &report, &format!("{}\n", paint(BOLD, &format!("Moved to {}.", report.to))));
    if to != usual {
        let line = setting("ODDSTACK_HOME", &report.to);
        session.out.hint(&format!("For each terminal in which you use it:\n  {line}"));
    }
    Ok(Ended::Well)
}

fn find(session: &mut Session, args: &FindGamesArgs) -> Result<Ended, Failure> {
    let folders = args.folders.iter().map(|folder| absolute(folder)).collect::<Result<Vec<_>, _>>()?;
    let games = session.door.find_games(&folders)?;
    let header = [
        ("game", Look::Plain),
        ("version", Look::Plain),
        ("size", Look::Right),
        ("program", Look::Plain),
        ("containers", Look::Plain),
        ("", Look::Plain),
    ];
    let rows = games.iter().map(|game| {
        let kinds = game.containers.iter().map(|(ending, count)| format!("{count} .{ending}"));
        let care = game.in_care.as_ref().map(|name| format!("added as {name}")).unwrap_or_default();
        vec![
            cell(game.name.clone(), Look::Name),
            cell(game.version.clone().unwrap_or_default(), Look::Plain),
            cell(size(game.bytes), Look::Right),
            cell(game.program.clone(), Look::Plain),
            cell(kinds.collect::<Vec<_>>().join(", "), Look::Plain),
            cell(care, Look::Good),
        ]
    });
    let text = match games.is_empty() {
        true => "No games were found there.\n".to_owned(),
        false => table(&header, rows.collect()),
    };
    let new: Vec<String> = games
        .iter()
        .filter(|game| game.in_care.is_none())
        .map(|game| format!("  oddstack game add {} {}", in_quotes(&game.name), in_quotes(&game.folder)))
        .collect();
    session.out.result(None, &FoundGames { games }, &text);
    if !new.is_empty() {
        session.out.hint(&format!("To add them:\n{}", new.join("\n")));
    }
    Ok(Ended::Well)
}

fn show(session: &mut Session, args: &OneGameArgs) -> Result<Ended, Failure> {
    let listed = session.choose_game(args.name.as_deref())?;
    let game = session.open_game(&listed)?.report()?;
    let lifted =
        if game.lifted_layers > 0 { format!(", {} lifted", game.lifted_layers) } else { String::new() };
    let text = format!(
        "{}: {} laid{lifted}; {} of its own when it was added on {}\n{}",
        paint(BOLD, &game.name),
        layers(game.laid_layers),
        files(game.seen.files),
        game.added_at,
        about(&game)
    );
    session.out.result(Some(&game.name), &game, &text);
    Ok(Ended::Well)
}

fn forget_game(session: &mut Session, args: &ForgetGameArgs) -> Result<Ended, Failure> {
    let listed = session.choose_game(Some(&args.name))?;
    let game = session.open_game(&listed)?;
    let laid: Vec<_> = game.layers()?.iter().filter(|layer| layer.laid).map(|layer| layer.id).collect();
    let mut change = None;
    if !args.leave_layers && !laid.is_empty() {
        let options = change_options(&args.change);
        let command = format!("game forget {}", listed.name);
        let lift = Reorder::Lift(laid);
        if let Some(prepared) = game.reorder(&lift, &command, options, args.change.dry_run)? {
            let most = if session.out.verbose || args.change.dry_run { usize::MAX } else { MOST_EFFECTS };
            let report = session.carry_out(&game, prepared, &args.change, |out, report| {
                out.text(&format!(
                    "lifting all layers: {}\n{}{}",
                    summary(report),
                    effects(report, most),
                    edits(report, most)
                ));
            })?;
            change = Some(report);
        }
    }
    if args.change.dry_run {
        let report = ForgetReport { change, forgotten: None };
        let text = format!("{}\n", paint(BOLD, "Dry run: nothing was changed."));
        session.out.result(Some(&listed.name), &report, &text);
        return Ok(Ended::Well);
    }
    let forgotten = game.forget()?;
    let mut text =
        format!("{}\n", paint(BOLD, &format!("{} was removed from the list of games.", forgotten.name)));
    if let Some(folder) = &forgotten.ledger_left {
        text.push_str(&format!(
            "  Its layers are still on the game. The ledger with the files they cover stays at\n  {folder};\n  \
             `oddstack game add NAME FOLDER --ledger {}` takes it up again.\n",
            in_quotes(folder)
        ));
    }
    for folder in &forgotten.kept_left {
        text.push_str(&format!("  Files of yours that were saved from being overwritten stay in {folder}\n"));
    }
    let name = forgotten.name.clone();
    session.out.result(Some(&name), &ForgetReport { change, forgotten: Some(forgotten) }, &text);
    Ok(Ended::Well)
}
