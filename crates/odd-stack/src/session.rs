//! What every command needs: the home, the chosen game, where to write.

use std::path::{Component, Path, PathBuf};
use std::process::ExitCode;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use etcetera::{BaseStrategy, choose_base_strategy};
use odd_stack_core::address::plain_path;
use odd_stack_core::change::{ChangeError, ChangeOptions, Edits, Prepared};
use odd_stack_core::expected::GameVersionNow;
use odd_stack_core::files::RealDisk;
use odd_stack_core::front::WhileRunning;
use odd_stack_core::jobs::{ChangeReport, Learnt, RegisterRequest, select_game};
use odd_stack_core::ledger::{Home, Registered};
use odd_stack_core::observer::Observer;
use odd_stack_core::{Moment, OddStack, OpenGame};

use crate::Ended;
use crate::args::{ChangeArgs, Common};
use crate::errors::{Exit, Failure};
use crate::output::{Output, tell_at_once};
use crate::progress::{Progress, watch_for_stop};
use crate::questions;
use crate::shell::in_quotes;
use crate::show::needs::doubt_words;
use crate::show::notice::notice_words;
use crate::show::units::{capital, size};

/// How long a changing command waits for another one.
const PATIENCE: Duration = Duration::from_secs(10);

/// The place a command works at.
pub struct Session {
    pub out: Output,
    /// The core, by its front door.
    pub door: OddStack,
    progress: Arc<Progress>,
    command: &'static str,
    wanted_game: Option<String>,
    yes: bool,
    /// The home is the one of before, which Windows may copy from computer to computer.
    pub is_in_older_home: bool,
    /// The revision that a change of this command has made.
    made: Option<i64>,
    /// Why what was cut short can neither be finished nor taken back, for a command that only looks.
    stuck: Option<String>,
}

impl Session {
    pub fn new(common: Common, command: &'static str) -> Result<Self, Failure> {
        let older = if common.home.is_none() { older_home()? } else { None };
        let is_in_older_home = older.is_some();
        let home = match (&common.home, older) {
            (Some(folder), _) => absolute(folder)?,
            (None, Some(older)) => older,
            (None, None) => usual_home()?,
        };
        crate::shell::choose(common.shell);
        watch_for_stop();
        let progress = Arc::new(Progress::new(common.quiet || common.json, common.is_plain()));
        questions::ask_plainly(common.is_plain());
        let while_running = if common.while_running { WhileRunning::GoOn } else { WhileRunning::Refuse };
        let mut door = OddStack::open(home)
            .through(Arc::new(disk(progress.shows_bars())))
            .observed_by(Arc::clone(&progress) as Arc<dyn Observer>)
            .asked_for(&format!("oddstack {command}"), PATIENCE)
            .while_running(while_running);
        if let Some(time) = pinned_time()? {
            door = door.at(time);
        }
        Ok(Self {
            out: Output::new(&common),
            door,
            progress,
            command,
            wanted_game: common.game,
            yes: common.yes,
            is_in_older_home,
            stuck: None,
            made: None,
        })
    }

    /// Ends the command: writes what is still to be written and gives the exit code.
    pub fn close(mut self, done: Result<Ended, Failure>) -> ExitCode {
        for notice in self.progress.take_notices() {
            self.out.warn(notice_words(&notice));
        }
        // A change that can't be made for it says so itself.
        if let Some(stuck) = self.stuck.take().filter(|_| done.is_ok()) {
            self.out.warn(format!("{stuck}; what is shown is the stack as it was before that change"));
        }
        match done {
            Ok(ended) => {
                if let (Some(_), Some(hint)) = (self.made, self.way_back()) {
                    self.out.hint(hint);
                }
                self.out.close(self.command, None);
                match ended {
                    Ended::Well => ExitCode::SUCCESS,
                    Ended::WantsAttention => Exit::WantsAttention.into(),
                    Ended::Damaged => Exit::Damaged.into(),
                }
            }
            Err(mut failure) => {
                if let Some(revision) = self.made {
                    // Everything else says that nothing was changed.
                    failure.exit = Exit::WantsAttention;
                    failure.message = format!(
                        "the change is made (revision {revision}); what failed after it: {}",
                        failure.message
                    );
                }
                let code = failure.exit.into();
                self.out.close(self.command, Some(&failure));
                code
            }
        }
    }

    /// What takes back the change that this command has made.
    fn way_back(&self) -> Option<&'static str> {
        match self.command {
            "undo" => Some("`oddstack redo` does it again."),
            // These are gone back from by a command of their own.
            "demo" | "capture" | "culprit" | "patchday begin" | "play" | "mend" | "adopt" => None,
            _ => Some("`oddstack undo` takes this back."),
        }
    }

    /// Whether a game was named.
    pub fn names_a_game(&self) -> bool {
        self.wanted_game.is_some()
    }

    /// The game that a name given beside `--game`, `--game`, the current folder, or being the only one chooses.
    pub fn choose_game(&self, named: Option<&str>) -> Result<Registered, Failure> {
        let games = self.door.home().games()?;
        if let Some(wanted) = named.or(self.wanted_game.as_deref()) {
            return Ok(select_game(&games, wanted).map_err(|known| no_such_game(wanted, &known))?.clone());
        }
        match games.as_slice() {
            [] => self.offer_game_here(),
            [only] => Ok(only.clone()),
            several => match self.game_here()? {
                Some(game) => Ok(game),
                None => Err(several.iter().fold(
                    Failure::new(
                        Exit::Undecided,
                        "which_game",
                        "several games have been added; say which one you mean",
                    ),
                    |failure, game| failure.choice("this game", format!("--game {}", in_quotes(&game.name))),
                )),
            },
        }
    }

    fn game_here(&self) -> Result<Option<Registered>, Failure> {
        match std::env::current_dir() {
            Ok(here) => Ok(self.door.game_around(&here)?),
            Err(_) => Ok(None),
        }
    }

    /// The lineup in whose second folder one stands.
    pub fn built_here(&self, game: &OpenGame) -> Result<Option<String>, Failure> {
        match std::env::current_dir() {
            Ok(here) => Ok(game.built_around(&here)?),
            Err(_) => Ok(None),
        }
    }

    /// The main program of a folder that looks like a game and is none of those that were added.
    pub fn new_game_at(&self, folder: &Path) -> Result<Option<String>, Failure> {
        let found = self.door.game_in(&absolute(folder)?)?;
        Ok(found.filter(|game| game.in_care.is_none()).map(|game| game.program))
    }

    /// No game was added yet: where one stands in a game's folder, that is offered.
    fn offer_game_here(&self) -> Result<Registered, Failure> {
        let none = self.no_games();
        let Ok(here) = std::env::current_dir() else { return Err(none) };
        let program =
            if none.code == "no_games" && none.list.is_empty() { self.new_game_at(&here)? } else { None };
        let Some(program) = program else { return Err(none) };
        let shown = here.display().to_string();
        let message =
            format!("no game has been added yet; this folder looks like one (its program is {program})");
        if !self.can_ask() || !questions::confirm(&format!("{}. Add it?", capital(&message)), true)? {
            return Err(Failure::new(Exit::Failed, "no_games", message)
                .choice("add it first", format!("oddstack game add {}", in_quotes(&shown))));
        }
        let request = RegisterRequest { folder: absolute(&here)?, ..RegisterRequest::default() };
        let name = self.door.register(&request, false)?.game.name;
        let games = self.door.home().games()?;
        games.into_iter().find(|game| game.name == name).ok_or(none)
    }

    /// Whether `--yes` was given.
    pub fn says_yes(&self) -> bool {
        self.yes
    }

    /// No game is in the list; it may have lost some.
    fn no_games(&self) -> Failure {
        let failure = |message| Failure::new(Exit::Failed, "no_games", message);
        match self.door.list_again(true) {
            Ok(lost) if !lost.is_empty() => {
                failure("the list of games is empty, but ledgers of games are there")
                    .about(lost)
                    .choice("put them into the list again", "oddstack rescue")
            }
            _ => failure(
                "no game has been added yet; begin with `oddstack game add FOLDER`, or look at `oddstack demo`",
            ),
        }
    }

    /// The chosen game: what was cut short is finished first. Where one stands in a second folder, it is said that the game
    /// itself is meant.
    pub fn open(&mut self) -> Result<OpenGame, Failure> {
        let game = self.open_or_second()?;
        if let Some(lineup) = self.built_here(&game)? {
            let folder = game.about().roots.first().map(|root| root.folder.display().to_string());
            self.out.warn(format!(
                "this is the second folder of the lineup `{lineup}`; the command is about the game itself, in {}",
                folder.unwrap_or_default()
            ));
        }
        Ok(game)
    }

    /// As [`Session::open`], for commands that know of second folders.
    pub fn open_or_second(&mut self) -> Result<OpenGame, Failure> {
        let listed = self.choose_game(None)?;
        self.open_game(&listed)
    }

    /// That game.
    pub fn open_game(&mut self, listed: &Registered) -> Result<OpenGame, Failure> {
        let mut game = self.door.open_game(listed)?;
        self.tell_recovered();
        self.stuck = game.stuck.take().map(|error| Failure::from(error).message);
        Ok(game)
    }

    fn tell_recovered(&mut self) {
        for notice in self.progress.take_recovered() {
            self.out.warn(notice_words(&notice));
        }
    }

    /// Says it where the game tells another version than is known, and nobody has taken that in yet.
    pub fn tell_version(&mut self, game: &OpenGame) -> Result<(), Failure> {
        let GameVersionNow { known, version, is_changed, .. } = game.version_now()?;
        if is_changed && !game.is_under_way()? {
            self.tell_update(version.as_deref(), known.as_deref());
        }
        Ok(())
    }

    /// Says that the game was updated and nobody has taken that in yet.
    pub fn tell_update(&mut self, now: Option<&str>, before: Option<&str>) {
        self.out.warn(format!(
            "the game is now {}, it was {}: `oddstack patchday finish` takes what the update brought as the game's own, \
             and says which layers still fit",
            now.unwrap_or_default(),
            before.unwrap_or_default()
        ));
    }

    /// Looks for the main program of a game that has none yet, and says which was found.
    pub fn learn_program(&mut self, game: &OpenGame) -> Result<(), Failure> {
        if let Some(Learnt { program, version }) = game.learn_program()? {
            let version =
                version.map(|version| format!(", which tells version {version}")).unwrap_or_default();
            self.out.hint(&format!("The game's main program is {program}{version}."));
        }
        Ok(())
    }

    /// Says of which needs of the game's version it is doubtful whether they are met.
    pub fn tell_doubts(&mut self, game: &OpenGame) -> Result<(), Failure> {
        for doubtful in game.doubtful_needs()? {
            self.out.warn(doubt_words(&doubtful));
        }
        Ok(())
    }

    /// Shows the plan of `change` with `before`, asks where a person can be asked, and makes it.
    /// Gives the report, with the revision if it was made.
    pub fn carry_out(
        &mut self,
        game: &OpenGame,
        change: Prepared<'_>,
        args: &ChangeArgs,
        before: impl FnOnce(&mut Output, &ChangeReport),
    ) -> Result<ChangeReport, Failure> {
        self.make(game, change, args.dry_run, true, before)
    }

    /// As [`Session::carry_out`]; where nothing is left to be asked, it `asks` nobody.
    pub fn make(
        &mut self,
        game: &OpenGame,
        mut change: Prepared<'_>,
        dry_run: bool,
        asks: bool,
        before: impl FnOnce(&mut Output, &ChangeReport),
    ) -> Result<ChangeReport, Failure> {
        self.tell_recovered();
        let mut report = game.report_of(&mut change, dry_run)?;
        for notice in &change.plan().notices {
            self.out.warn(notice_words(notice));
        }
        before(&mut self.out, &report);
        if dry_run {
            return Ok(report);
        }
        if asks && report.changes_files() && !self.agrees()? {
            return Err(Failure::new(Exit::Failed, "declined", "not done, as you said; nothing was changed"));
        }
        report.revision = Some(self.apply(game, change)?);
        Ok(report)
    }

    /// Makes a change that was agreed to.
    pub fn apply(&mut self, game: &OpenGame, change: Prepared<'_>) -> Result<i64, Failure> {
        let linked_bytes = game.linked_bytes()?;
        let revision = game.apply(change).map_err(|error| {
            let is_half_done = matches!(error, ChangeError::Stuck { .. });
            let mut failure = Failure::from(error);
            if is_half_done {
                failure.exit = Exit::WantsAttention;
            }
            failure
        })?;
        self.made = Some(revision);
        self.tell_links(linked_bytes, game.linked_bytes()?);
        Ok(revision)
    }

    /// Says once, when there is much of it, that big files are links.
    fn tell_links(&mut self, before: u64, now: u64) {
        const MUCH_BYTES: u64 = 1 << 30;
        if before < MUCH_BYTES && now >= MUCH_BYTES {
            self.out.warn(format!(
                "{} of the layers' big files are links to what the ledger stores, so that they take room once. What a program \
                 writes into one of them is written into the ledger, too, which `oddstack check` tells; \
                 `oddstack game set --big-files copy` makes copies from then on",
                size(now)
            ));
        }
    }

    /// Which of `choices` a person picks; nothing when nobody can be asked or they pick none.
    pub fn ask(&self, question: &str, choices: &[String]) -> Result<Option<usize>, Failure> {
        self.ask_from(question, choices, true)
    }

    /// The same; unless `first_is_likely` nothing is taken by Enter alone.
    pub fn ask_from(
        &self,
        question: &str,
        choices: &[String],
        first_is_likely: bool,
    ) -> Result<Option<usize>, Failure> {
        if self.yes || !self.out.can_ask() {
            return Ok(None);
        }
        questions::select(question, choices, first_is_likely)
    }

    /// Whether there is a person to ask.
    pub fn can_ask(&self) -> bool {
        !self.yes && self.out.can_ask()
    }

    fn agrees(&self) -> Result<bool, Failure> {
        if self.yes || !self.out.can_ask() {
            return Ok(true);
        }
        questions::confirm("Go ahead?", true)
    }
}

/// The file system, which says what it waits for where anybody looks on.
fn disk(shows: bool) -> RealDisk {
    let told = Mutex::new(None);
    RealDisk::telling(move |path| {
        let Ok(mut told) = told.lock() else { return };
        if shows && told.as_deref() != Some(path) {
            tell_at_once(&format!("waiting for {}, which another program holds", path.display()));
            *told = Some(path.to_path_buf());
        }
    })
}

/// The time that `ODDSTACK_NOW` pins.
fn pinned_time() -> Result<Option<Moment>, Failure> {
    let Ok(text) = std::env::var("ODDSTACK_NOW") else { return Ok(None) };
    let bad = |error| Failure::new(Exit::Usage, "bad_time", format!("ODDSTACK_NOW: {error}, or unset it"));
    Moment::parse(&text).map(Some).map_err(bad)
}

fn no_such_game(wanted: &str, known: &[String]) -> Failure {
    let there_are = match known {
        [] => "no game has been added yet; begin with `oddstack game add FOLDER`".to_owned(),
        known => format!("it can be: {}", known.join(", ")),
    };
    Failure::new(
        Exit::Failed,
        "no_such_game",
        format!("`{wanted}` is not the name of a game that was added; {there_are}"),
    )
}

/// The path from the top of its disk.
pub fn absolute(path: &Path) -> Result<PathBuf, Failure> {
    let bad = |message: String| Err(Failure::new(Exit::Usage, "bad_path", message));
    // What a command prompt sets keeps its quotes.
    let text = path.to_string_lossy();
    let bare = text.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')).filter(|_| cfg!(windows));
    let path = bare.map_or(path, Path::new);
    let mut parts = path.components();
    if matches!(parts.next(), Some(Component::Prefix(_)))
        && parts.next().is_none()
        && !text.starts_with(r"\\")
    {
        // For Windows that is whatever folder was last used on that drive.
        return bad(format!("`{text}` is a drive without a folder; write {text}\\ and the folder"));
    }
    match std::path::absolute(path) {
        Ok(path) => Ok(without_steps_up(&plain_path(&path))),
        Err(error) => bad(format!("`{}` is no path: {error}", path.display())),
    }
}

/// The same place, said without `..`: where that leads up from a link, it leads up from what the link leads to.
fn without_steps_up(path: &Path) -> PathBuf {
    let mut straight = PathBuf::new();
    for part in path.components() {
        if part == Component::ParentDir {
            straight = straight.canonicalize().map_or(straight, |real| plain_path(&real));
            straight.pop();
        } else {
            straight.push(part);
        }
    }
    straight
}

/// The data home when none is given: not among what Windows takes along from computer to computer, for it gets big.
pub fn usual_home() -> Result<PathBuf, Failure> {
    let strategy = base_strategy()?;
    let folder = if cfg!(windows) { strategy.cache_dir() } else { strategy.data_dir() };
    Ok(folder.join("oddstack"))
}

/// The data home of before, where there is one and none in the usual place.
fn older_home() -> Result<Option<PathBuf>, Failure> {
    let older = base_strategy()?.data_dir().join("oddstack");
    let is_list = |home: &Path| Home::new(home.to_path_buf()).list_path().is_file();
    Ok((is_list(&older) && !is_list(&usual_home()?)).then_some(older))
}

fn base_strategy() -> Result<impl BaseStrategy, Failure> {
    choose_base_strategy().map_err(|_| {
        Failure::new(Exit::Failed, "no_home", "your home folder can't be told; give a folder with --home DIR")
    })
}

/// How a change treats files in the way.
pub fn change_options(args: &ChangeArgs) -> ChangeOptions {
    let edits = match (args.keep_edits, args.discard_edits) {
        (true, _) => Edits::Keep,
        (_, true) => Edits::Discard,
        _ => Edits::Stop,
    };
    ChangeOptions {
        edits,
        despite: args.despite,
        without_lost: args.without_lost,
        over_other_games: args.over_other_game,
    }
}
