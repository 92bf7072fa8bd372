//! A small game with a home, and what tests do with it.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use filetime::FileTime;
use odd_stack_core::Moment;
use odd_stack_core::blend::KeyEdit;
use odd_stack_core::change::{ChangeError, ChangeOptions};
use odd_stack_core::check::{CheckReport, check};
use odd_stack_core::files::{RealDisk, Seam};
use odd_stack_core::fit::{Place, Rules};
use odd_stack_core::front::for_tests::{self, open_as_it_is};
use odd_stack_core::jobs::steps::{
    change_settings, forget, prepare_add, prepare_going_back, prepare_mend, prepare_reorder, prepare_settle,
    prepare_tweak, register_game,
};
use odd_stack_core::jobs::{
    AddError, AddPlace, AddRequest, BackRequest, GoTo, HistoryError, MendFile, Mending, Permit,
    PlacingRequest, RegisterRequest, Reorder, Ruling, SetRequest, SettleError, Tweak, TweakError, select,
};
use odd_stack_core::ledger::{Home, Layer, Ledger};
use odd_stack_core::observer::Silent;
use odd_stack_core::package::Limits;
use odd_stack_core::stack::{LayerId, Target};
use tempfile::TempDir;

/// 2026-01-02T03:04:05Z.
pub const NOW: Moment = Moment::after_1970(1_767_323_045);

/// What one path is: a folder, or a file with content, mode and time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Thing {
    Folder,
    File { content: Vec<u8>, mode: u32, modified: FileTime },
}

pub type Tree = BTreeMap<String, Thing>;

pub struct World {
    pub folder: TempDir,
}

impl World {
    /// A home and an empty game folder, not added yet.
    pub fn empty() -> Self {
        let folder = tempdir();
        fs::create_dir_all(folder.path().join("game")).unwrap();
        fs::create_dir_all(folder.path().join("docs")).unwrap();
        Self { folder }
    }

    /// A game of `base` files (path below `game/` or `docs/` and content), added.
    pub fn with_game(base: &[(&str, &str)]) -> Self {
        let world = Self::empty();
        for (index, (path, content)) in base.iter().enumerate() {
            world.write(path, content);
            // Odd times with nanoseconds, to see them come back.
            let time = FileTime::from_unix_time(1_700_000_001 + index as i64, 123_456_700);
            filetime::set_file_mtime(world.path(path), time).unwrap();
        }
        world.care(&RegisterRequest { roots: vec![("docs".into(), world.path("docs"))], ..world.request() });
        world
    }

    /// From now on all files are big, and so laid as links where their names allow it.
    pub fn with_links(self) -> Self {
        let (ledger, home) = (self.ledger(), self.home());
        let right = permit(&ledger).unwrap();
        let request = SetRequest { big_files_from: Some(1), ..SetRequest::default() };
        change_settings(&home, &ledger, right, "Quillhaven", &request, false, &Silent).unwrap();
        drop(ledger);
        self
    }

    /// What takes the game folder into care.
    pub fn request(&self) -> RegisterRequest {
        RegisterRequest { name: "Quillhaven".into(), folder: self.path("game"), ..RegisterRequest::default() }
    }

    pub fn care(&self, request: &RegisterRequest) {
        register_game(&self.home(), request, NOW, false, Arc::new(RealDisk::default()), &Silent).unwrap();
    }

    /// Lets the game go and adds it again, as it is now.
    pub fn care_again(&self, request: &RegisterRequest) {
        let ledger = self.ledger();
        let right = permit(&ledger).unwrap();
        forget(&self.home(), ledger, right, "Quillhaven").unwrap();
        self.care(request);
    }

    pub fn home(&self) -> Home {
        Home::new(self.path("home"))
    }

    pub fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    pub fn write(&self, path: &str, content: &str) {
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }

    /// Makes a package folder of files, all of one time.
    pub fn package(&self, name: &str, files: &[(&str, &str)]) -> PathBuf {
        let folder = self.path("packages").join(name);
        for (path, content) in files {
            self.write(&format!("packages/{name}/{path}"), content);
            let time = FileTime::from_unix_time(1_600_000_000, 0);
            filetime::set_file_mtime(folder.join(path), time).unwrap();
        }
        folder
    }

    pub fn ledger(&self) -> Ledger {
        self.ledger_through(Arc::new(RealDisk::default()))
    }

    pub fn ledger_through(&self, seam: Arc<dyn Seam>) -> Ledger {
        let games = self.home().games().unwrap();
        open_as_it_is(&games[0].ledger, seam).unwrap()
    }

    /// Everything in the game's roots.
    pub fn tree(&self) -> Tree {
        let mut tree = Tree::new();
        for root in ["game", "docs"] {
            walk(&self.path(root), root, &mut tree);
        }
        tree
    }

    pub fn add(&self, package: &Path, places: &[&str]) -> Result<(), AddError> {
        add(&self.ledger(), package, places, Target::Top, ChangeOptions::default())
    }

    /// What all files of the game and of its ledger have.
    pub fn all_contents(&self) -> BTreeSet<Vec<u8>> {
        let mut tree = Tree::new();
        for part in ["game", "home"] {
            walk(&self.path(part), part, &mut tree);
        }
        let files = tree.into_values().filter_map(|thing| match thing {
            Thing::File { content, .. } => Some(content),
            Thing::Folder => None,
        });
        files.collect()
    }

    /// Has that be done with all files that drifted; says whether it was.
    pub fn mend(&self, ledger: &Ledger, how: Mending) -> bool {
        let drifted = self.check(false).drifted.into_iter();
        let files: Vec<_> = drifted.map(|drifted| (MendFile { drifted, is_named: true }, how)).collect();
        if files.is_empty() {
            return true;
        }
        let plan = prepare_mend(ledger, permit(ledger).unwrap(), &files, "mend", NOW, &Silent);
        match plan.map(|plan| plan.change) {
            Ok(Some(change)) => change.apply(&Silent).is_ok(),
            Ok(None) => true,
            Err(_) => false,
        }
    }

    pub fn check(&self, deep: bool) -> CheckReport {
        check(&self.ledger(), deep, &Silent).unwrap()
    }
}

/// A temporary folder: where `ODDSTACK_TEST_FOLDER` says, so that another file system can be tried; else in memory where the
/// system has a place for that, since syncs cost nothing there.
pub fn tempdir() -> TempDir {
    let in_memory = Some(PathBuf::from("/dev/shm")).filter(|folder| cfg!(unix) && folder.is_dir());
    let folder = std::env::var_os("ODDSTACK_TEST_FOLDER").map(PathBuf::from).or(in_memory);
    let mut builder = tempfile::Builder::new();
    builder.prefix("oddstack-");
    folder.map_or_else(|| builder.tempdir(), |folder| builder.tempdir_in(folder)).unwrap()
}

pub fn permit(ledger: &Ledger) -> Result<Permit, ChangeError> {
    for_tests::permit(ledger, Duration::from_millis(200), None)
}

pub fn add_request(package: &Path, places: &[&str]) -> AddRequest {
    let places = places.iter().map(|place| Place::parse(place).unwrap()).collect();
    AddRequest {
        package: package.to_path_buf(),
        name: None,
        version: None,
        wanted: PlacingRequest { rules: Rules { places, ..Rules::default() }, sheet: None },
        variant: None,
        place: AddPlace::New { target: Some(Target::Top), lifted: false },
        limits: Limits::default(),
        prefer: None,
        patch: None,
        whole: false,
    }
}

pub fn add(
    ledger: &Ledger,
    package: &Path,
    places: &[&str],
    target: Target,
    options: ChangeOptions,
) -> Result<(), AddError> {
    let place = AddPlace::New { target: Some(target), lifted: false };
    carry_out(ledger, &AddRequest { place, ..add_request(package, places) }, options)
}

/// Puts the package into the place of a layer, which gets the package's name.
pub fn exchange(
    ledger: &Ledger,
    old: LayerId,
    package: &Path,
    places: &[&str],
    options: ChangeOptions,
) -> Result<(), AddError> {
    let name = package.file_name().unwrap().to_string_lossy().split('.').next().map(str::to_owned);
    let place = AddPlace::Exchange(old);
    let request = AddRequest { name, place, whole: true, ..add_request(package, places) };
    carry_out(ledger, &request, options)
}

fn carry_out(ledger: &Ledger, request: &AddRequest, options: ChangeOptions) -> Result<(), AddError> {
    let adding = prepare_add(ledger, permit(ledger)?, request, NOW, options, false, &Silent)?;
    adding.change.apply(&Silent)?;
    Ok(())
}

/// Goes to another state of the stack.
pub fn go_to(ledger: &Ledger, to: &GoTo) -> Result<i64, HistoryError> {
    let permit = permit(ledger)?;
    let request = BackRequest { to: to.clone(), prefer: None, command: "go".to_owned() };
    let going = prepare_going_back(ledger, permit, &request, NOW, ChangeOptions::default(), &Silent)?;
    Ok(going.change.apply(&Silent)?)
}

pub fn reorder(ledger: &Ledger, reorder: &Reorder, options: ChangeOptions) -> Result<(), ChangeError> {
    if let Some(change) = prepare_reorder(ledger, permit(ledger)?, reorder, "test", NOW, options, &Silent)? {
        change.apply(&Silent)?;
    }
    Ok(())
}

/// Lifts the layer where it is laid, and lays it where it is not.
pub fn toggled(layer: &Layer) -> Reorder {
    let layers = vec![layer.id];
    if layer.laid { Reorder::Lift(layers) } else { Reorder::Lay(layers) }
}

/// Settles what `at` means.
pub fn settle(ledger: &Ledger, at: &str, ruling: Ruling) -> Result<(), SettleError> {
    let (permit, options) = (permit(ledger)?, ChangeOptions::default());
    let rulings = [(at.to_owned(), ruling)];
    let settling = prepare_settle(ledger, permit, &rulings, "settle", NOW, options, &Silent)?;
    settling.change.apply(&Silent)?;
    Ok(())
}

/// Sets keys of a configuration file, or takes them out.
pub fn tweak(ledger: &Ledger, address: &str, keys: &[(&str, Option<&str>)]) -> Result<(), TweakError> {
    let edit = |(key, value): &(&str, Option<&str>)| KeyEdit::new(*key, value.map(str::to_owned));
    let set = Tweak::Set(vec![(address.to_owned(), keys.iter().map(edit).collect())]);
    change_own(ledger, &set)
}

/// Changes the user's own edits.
pub fn change_own(ledger: &Ledger, change: &Tweak) -> Result<(), TweakError> {
    let (permit, options) = (permit(ledger)?, ChangeOptions::default());
    if let Some(change) = prepare_tweak(ledger, permit, change, "tweak", NOW, options, &Silent)?.change {
        change.apply(&Silent)?;
    }
    Ok(())
}

/// The number of the layer that `name` names.
pub fn id(ledger: &Ledger, name: &str) -> LayerId {
    select(&ledger.layers().unwrap(), name).unwrap().id
}

/// Finishes or takes back what was cut short, as the next command would.
pub fn recover(ledger: &Ledger) {
    for_tests::heal(ledger).unwrap();
    // What a person has begun stays; what was cut short is finished all the same.
    assert!(matches!(permit(ledger), Ok(_) | Err(ChangeError::UnderWay { .. })));
}

/// All below a folder, links not followed.
pub fn walk(folder: &Path, shown: &str, tree: &mut Tree) {
    for entry in fs::read_dir(folder).unwrap() {
        let entry = entry.unwrap();
        let name = format!("{shown}/{}", entry.file_name().to_string_lossy());
        if entry.file_name() == ".oddstack" {
            // Of the tool, not of the game.
            continue;
        }
        let metadata = entry.metadata().unwrap();
        if metadata.is_dir() {
            tree.insert(name.clone(), Thing::Folder);
            walk(&entry.path(), &name, tree);
        } else {
            let content = fs::read(entry.path()).unwrap_or_default();
            let modified = FileTime::from_last_modification_time(&metadata);
            tree.insert(name, Thing::File { content, mode: mode(&metadata), modified });
        }
    }
}

#[cfg(unix)]
fn mode(metadata: &fs::Metadata) -> u32 {
    use std::os::unix::fs::PermissionsExt;
    metadata.permissions().mode()
}

#[cfg(not(unix))]
fn mode(metadata: &fs::Metadata) -> u32 {
    u32::from(metadata.permissions().readonly())
}
