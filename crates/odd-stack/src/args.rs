//! What can be written on the command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use odd_stack_core::fit::{Proof, Start, Wishes};
use odd_stack_core::stack::Needs;

use crate::commands::standing::LayersArgs;
use crate::commands::{
    add, adopt, capture, check, completions, conflicts, culprit, demo, dropped, fit, game, going_back,
    history, inspect, lineup, man, mark, mend, open, patchday, play, remove, reorder, rescue, set, settle,
    show, stack, tidy, trace, tweak, upgrade,
};
use crate::errors::{Exit, Failure};
use crate::shell::Shell;

/// Reads how many of something are meant.
pub fn how_many(text: &str) -> Result<u64, String> {
    text.parse().map_err(|_| "give a number, such as 20".to_owned())
}

/// As [`how_many`], and not none.
pub fn one_or_more(text: &str) -> Result<u64, String> {
    match how_many(text)? {
        0 => Err("give 1 or more".to_owned()),
        count => Ok(count),
    }
}

/// Install mods and patches as tracked layers, and always get back to the untouched game.
#[derive(Debug, Parser)]
#[command(name = "oddstack", version, max_term_width = 100, propagate_version = false)]
#[command(
    after_long_help = "Exit codes: 0 done; 1 failed, nothing changed; 2 wrong usage; 3 looked and found something \
                        that wants attention, or a captured program failed and what it changed is there; 4 a decision is needed first, nothing changed; 5 the ledger is damaged"
)]
pub struct Cli {
    #[command(flatten)]
    pub common: Common,
    /// Without one it is said where one is, and what comes next.
    #[command(subcommand)]
    pub command: Option<Command>,
}

/// Options of every command.
#[derive(Debug, Clone, Args)]
pub struct Common {
    /// The game; needed only when there are several and none is in the current folder
    #[arg(
        short,
        long,
        global = true,
        value_name = "NAME",
        env = "ODDSTACK_GAME",
        hide_env_values = true,
        help_heading = "Common options"
    )]
    pub game: Option<String>,
    /// Where the list of games and their ledgers are kept
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        env = "ODDSTACK_HOME",
        hide_env_values = true,
        help_heading = "Common options"
    )]
    pub home: Option<PathBuf>,
    /// The shell that words to paste are quoted for; told by what started the program otherwise
    #[arg(
        id = "quote_for",
        long = "shell",
        global = true,
        value_enum,
        value_name = "SHELL",
        env = "ODDSTACK_SHELL",
        hide_env = true,
        help_heading = "Common options"
    )]
    pub shell: Option<Shell>,
    /// Print one JSON object instead of text
    #[arg(long, global = true, help_heading = "Common options")]
    pub json: bool,
    /// Do not ask before changing
    #[arg(short, long, global = true, help_heading = "Common options")]
    pub yes: bool,
    /// Say less: no hints, no progress
    #[arg(short, long, global = true, conflicts_with = "verbose", help_heading = "Common options")]
    pub quiet: bool,
    /// Say more: every address
    #[arg(short, long, global = true, help_heading = "Common options")]
    pub verbose: bool,
    /// Change files although the game is running
    #[arg(long, global = true, help_heading = "Common options")]
    pub while_running: bool,
    /// For a screen reader or a plain terminal: no colours, nothing that moves, questions as numbered lines; also
    /// with TERM=dumb
    #[arg(long, global = true, help_heading = "Common options")]
    pub plain: bool,
    /// When to use colours; NO_COLOR turns them off too
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto", help_heading = "Common options")]
    pub color: ColorWhen,
}

impl Common {
    /// Whether nothing may move on the terminal.
    pub fn is_plain(&self) -> bool {
        self.plain || std::env::var_os("TERM").is_some_and(|name| name == "dumb")
    }
}

/// When to use colours.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ColorWhen {
    /// On a terminal.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// Options of every command that changes the game or the stack.
#[derive(Debug, Clone, Args)]
pub struct ChangeArgs {
    /// Only say what would be done
    #[arg(short = 'n', long)]
    pub dry_run: bool,
    /// Save changed files that are in the way, then go on
    #[arg(long, conflicts_with = "discard_edits")]
    pub keep_edits: bool,
    /// Discard changed files that are in the way
    #[arg(long)]
    pub discard_edits: bool,
    /// Continue despite unmet requirements, and remember this decision
    #[arg(long)]
    pub despite: bool,
    /// Continue although the ledger has lost files of the game's own; they are missing until its client repairs them
    #[arg(long)]
    pub without_lost: bool,
    /// Change files that another game has laid into a folder that both use; what lies there is saved first
    #[arg(long)]
    pub over_other_game: bool,
}

impl ChangeArgs {
    /// Nothing asked but whether it is a dry run.
    pub fn plain(dry_run: bool) -> Self {
        Self {
            dry_run,
            keep_edits: false,
            discard_edits: false,
            despite: false,
            without_lost: false,
            over_other_game: false,
        }
    }
}

/// Options that say where a package's files go.
#[derive(Debug, Clone, Default, Args)]
pub struct PlaceArgs {
    /// Put FROM (a path in the package, `.` = all, `*` = the one folder there, `inner.7z!/.` = all of an archive inside) at the address TO;
    /// a file whose TO is no folder gets that name
    #[arg(long, value_name = "FROM=TO")]
    pub place: Vec<String>,
    /// Take only files that match the pattern
    #[arg(long, value_name = "GLOB")]
    pub only: Vec<String>,
    /// Leave out files that match the pattern
    #[arg(long, value_name = "GLOB")]
    pub skip: Vec<String>,
    /// A fit sheet that says where the files go; it goes over the package's own
    #[arg(long, value_name = "FILE")]
    pub fit: Option<PathBuf>,
    /// Choose one of several variants, or a part: finish=polished, extras=on
    #[arg(long, value_name = "ID=OPTION")]
    pub choose: Vec<String>,
    /// Leave out documents, source files, pictures, system clutter and copies of the game's own files, even when
    /// --place says where things go
    #[arg(long)]
    pub tidy: bool,
    /// Leave out links that lead out of the package
    #[arg(long)]
    pub skip_links: bool,
    /// Take this away while the layer is on the game: a file, a folder, a pattern, or members of a container
    /// (data/core.qpk!/SIGN/**)
    #[arg(long, value_name = "ADDRESS")]
    pub take_away: Vec<String>,
    /// Of a container that the package brings where the game has one, take only the members in which they differ
    #[arg(long)]
    pub as_members: bool,
    /// Leave the signature of a container as it is, though it no longer holds once members change
    #[arg(long)]
    pub keep_signature: bool,
    /// The code page of names that look wrong, such as shift_jis, gbk or 1251
    #[arg(long, value_name = "ENCODING")]
    pub names: Option<String>,
    /// How big a package may be: bytes=256G, files=1000000, ratio=400 or depth=3 (archives in archives)
    #[arg(long, value_name = "KIND=VALUE")]
    pub limit: Vec<String>,
}

/// Options that say what a layer needs, beyond what its fit sheet says.
#[derive(Debug, Clone, Default, Args)]
pub struct NeedsArgs {
    /// Game versions it works with: ">=1.7 <1.8", "1.7.*"
    #[arg(long, value_name = "RANGE", help_heading = "What it needs")]
    pub needs_game: Option<String>,
    /// A layer it needs, with or without versions: 'Harbour Core >=2'
    #[arg(long, value_name = "LAYER [RANGE]", help_heading = "What it needs")]
    pub needs: Vec<String>,
    /// A layer it is incompatible with, with or without versions
    #[arg(long, value_name = "LAYER [RANGE]", help_heading = "What it needs")]
    pub clashes: Vec<String>,
    /// A file or container that no other layer may change
    #[arg(long, value_name = "ADDRESS", help_heading = "What it needs")]
    pub clean: Vec<String>,
    /// A file that must lie beneath it, by the hash of its content (`oddstack trace` shows it); of several any will do
    #[arg(long, value_name = "ADDRESS=HASH", help_heading = "What it needs")]
    pub made_from: Vec<String>,
    /// A layer it must lie above
    #[arg(long, value_name = "LAYER", help_heading = "What it needs")]
    pub goes_above: Vec<String>,
    /// A layer it must lie below
    #[arg(long, value_name = "LAYER", help_heading = "What it needs")]
    pub goes_below: Vec<String>,
}

impl NeedsArgs {
    pub fn needs(&self) -> Needs {
        Needs {
            game: self.needs_game.clone(),
            layers: self.needs.clone(),
            clashes: self.clashes.clone(),
            clean: self.clean.clone(),
            made_from: self.made_from.clone(),
            above: self.goes_above.clone(),
            below: self.goes_below.clone(),
            ..Needs::default()
        }
    }
}

/// What is said of a layer beyond what its fit sheet says: what starts it, how you can tell that it works.
#[derive(Debug, Clone, Default, Args)]
pub struct SaidArgs {
    /// The program that starts the game with this layer: an address, or a path in the game's folder
    #[arg(long, value_name = "PROGRAM", help_heading = "Playing with it")]
    pub start: Option<String>,
    /// A name for that way to start it, for `oddstack play NAME`
    #[arg(long, value_name = "NAME", requires = "start", help_heading = "Playing with it")]
    pub start_name: Option<String>,
    /// An argument for that program
    #[arg(
        long,
        value_name = "WORD",
        requires = "start",
        allow_hyphen_values = true,
        help_heading = "Playing with it"
    )]
    pub argument: Vec<String>,
    /// A variable in the program's environment
    #[arg(long, value_name = "K=V", requires = "start", help_heading = "Playing with it")]
    pub env: Vec<String>,
    /// A sign that it works: a line of this log contains the text; `*` in it stands for any text
    #[arg(long, value_name = "FILE=TEXT", help_heading = "Playing with it")]
    pub proof_log: Vec<String>,
    /// A sign that it works: this file exists
    #[arg(long, value_name = "FILE", help_heading = "Playing with it")]
    pub proof_file: Vec<String>,
    /// What the game must rebuild after a change, such as 'cache/**'
    #[arg(long, value_name = "GLOB", help_heading = "Playing with it")]
    pub clears: Vec<String>,
}

impl SaidArgs {
    pub fn wishes(&self) -> Result<Wishes, Failure> {
        let pair = |text: &str, form: &str| {
            let parted =
                text.split_once('=').filter(|(first, second)| !first.is_empty() && !second.is_empty());
            let parted = parted.map(|(first, second)| (first.to_owned(), second.to_owned()));
            parted.ok_or_else(|| Failure::new(Exit::Usage, "bad_pair", format!("`{text}` is not {form}")))
        };
        let environment = self.env.iter().map(|text| pair(text, "K=V")).collect::<Result<_, _>>()?;
        let start = self.start.clone().map(|program| Start {
            name: self.start_name.clone(),
            program,
            arguments: self.argument.clone(),
            environment,
        });
        let mut proofs = Vec::new();
        for text in &self.proof_log {
            let (log, contains) = pair(text, "FILE=TEXT")?;
            proofs.push(Proof { log: Some(log), contains: Some(contains), ..Proof::default() });
        }
        let file = |file: &String| Proof { file: Some(file.clone()), ..Proof::default() };
        proofs.extend(self.proof_file.iter().map(file));
        Ok(Wishes {
            starts: start.into_iter().collect(),
            proofs,
            clears: self.clears.clone(),
            ..Wishes::default()
        })
    }
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Add, list, configure or remove games
    #[command(subcommand)]
    Game(game::GameCommand),
    /// Look into a package: what is inside, and where it would go
    Inspect(inspect::InspectArgs),
    /// Write or check a fit sheet, which says where a package's files go
    Fit(fit::FitArgs),
    /// Add packages as new layers, on top of the others
    #[command(alias = "install")]
    Add(add::AddArgs),
    /// Replace a layer with another version, keeping its position and placement
    Upgrade(upgrade::UpgradeArgs),
    /// Make a layer of files that you copied into the game by hand
    Adopt(adopt::AdoptArgs),
    /// Remove layers
    #[command(aliases = ["uninstall", "delete"])]
    Remove(remove::RemoveArgs),
    /// Put layers on the game
    #[command(alias = "enable")]
    Lay(LayersArgs),
    /// Take layers off the game, but keep them in the stack
    #[command(alias = "disable")]
    Lift(LayersArgs),
    /// Change the order of the layers
    Move(reorder::MoveArgs),
    /// Show the layers, from the top down to the game itself
    #[command(aliases = ["list", "ls", "status"])]
    Stack(stack::StackArgs),
    /// Show one layer: its package, its files, and what they cover
    Show(show::ShowArgs),
    /// Set a layer's name, version, requirements and how it is started
    Set(set::SetArgs),
    /// Show where layers disagree, and which one wins
    Conflicts(conflicts::ConflictsArgs),
    /// Decide which layer wins where they disagree
    Settle(settle::SettleArgs),
    /// Change keys of configuration files, on top of all layers
    Tweak(tweak::TweakArgs),
    /// Show every layer that has something at one address
    Trace(trace::TraceArgs),
    /// Compare the files on disk with the stack
    #[command(alias = "verify")]
    Check(check::CheckArgs),
    /// Decide what happens to files that were changed outside Odd Stack
    Mend(mend::MendArgs),
    /// Make a layer of what an installer or a patcher changes
    Capture(capture::CaptureArgs),
    /// Take layers off for a game update, then put back what still fits
    #[command(subcommand)]
    Patchday(patchday::PatchDayCommand),
    /// Save arrangements of the stack and switch between them
    #[command(subcommand)]
    Lineup(lineup::LineupCommand),
    /// Show what was done, and when
    #[command(alias = "log")]
    History(history::HistoryArgs),
    /// Take back the last change, or the last few
    #[command(aliases = ["revert", "rollback"])]
    Undo(going_back::UndoArgs),
    /// Do again what was taken back
    Redo(going_back::RedoArgs),
    /// Go to the stack of any day: a revision, a name, a time
    Rewind(going_back::RewindArgs),
    /// Give the stack as it is now a name to come back to
    Mark(mark::MarkArgs),
    /// Find the layer that breaks the game, by halves
    Culprit(culprit::CulpritArgs),
    /// Start the game, and say what it wrote
    #[command(alias = "run")]
    Play(play::PlayArgs),
    /// Repair a damaged ledger, or get the game's own files back
    Rescue(rescue::RescueArgs),
    /// Show what the ledger uses, and drop what only old changes need
    #[command(aliases = ["cleanup", "prune"])]
    Tidy(tidy::TidyArgs),
    /// Open a folder of the game, a layer or the ledger
    Open(open::OpenArgs),
    /// Look into packages and add them, or add a game
    #[command(hide = true, name = "paths-without-a-command")]
    Dropped(dropped::DroppedArgs),
    /// Watch the main job on an invented game
    Demo(demo::DemoArgs),
    /// Print a script that completes commands in a shell
    Completions(completions::CompletionsArgs),
    /// Write manual pages into a folder
    Man(man::ManArgs),
}

impl Command {
    /// The command's name, as JSON output and the lock tell it.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Game(game) => game.name(),
            Self::Inspect(_) => "inspect",
            Self::Fit(_) => "fit",
            Self::Add(_) => "add",
            Self::Upgrade(_) => "upgrade",
            Self::Adopt(_) => "adopt",
            Self::Remove(_) => "remove",
            Self::Lay(_) => "lay",
            Self::Lift(_) => "lift",
            Self::Move(_) => "move",
            Self::Set(_) => "set",
            Self::Stack(_) => "stack",
            Self::Lineup(lineup) => lineup.name(),
            Self::History(_) => "history",
            Self::Undo(_) => "undo",
            Self::Redo(_) => "redo",
            Self::Rewind(_) => "rewind",
            Self::Mark(_) => "mark",
            Self::Show(_) => "show",
            Self::Conflicts(_) => "conflicts",
            Self::Settle(_) => "settle",
            Self::Tweak(tweak) => tweak.name(),
            Self::Trace(_) => "trace",
            Self::Check(_) => "check",
            Self::Mend(_) => "mend",
            Self::Capture(_) => "capture",
            Self::Patchday(patchday) => patchday.name(),
            Self::Play(_) => "play",
            Self::Culprit(_) => "culprit",
            Self::Rescue(_) => "rescue",
            Self::Tidy(_) => "tidy",
            Self::Open(_) => "open",
            Self::Dropped(_) => "dropped",
            Self::Demo(_) => "demo",
            Self::Completions(_) => "completions",
            Self::Man(_) => "man",
        }
    }
}
