//! `oddstack open`

use std::path::{Path, PathBuf};

use clap::Args;
use odd_stack_core::OpenGame;
use odd_stack_core::jobs::select;
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use crate::Ended;
use crate::errors::{Exit, Failure};
use crate::session::Session;

#[derive(Debug, Args)]
pub struct OpenArgs {
    /// `game` (usual), `ledger`, a further folder of the game by its name, a layer (the folder of its package), or an address
    #[arg(value_name = "WHAT", default_value = "game")]
    pub what: String,
    /// Print the folder instead of opening it
    #[arg(long)]
    pub print: bool,
}

/// What JSON tells of `open`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct OpenReport {
    /// The folder.
    pub folder: String,
    /// It was opened in the file manager.
    pub opened: bool,
}

pub fn run(session: &mut Session, args: &OpenArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    let folder = folder_of(&game, &args.what)?;
    let shown = folder.display().to_string();
    if !folder.is_dir() {
        let message = format!("{shown} is not there any more");
        return Err(Failure::new(Exit::Failed, "not_there", message));
    }
    if !args.print {
        open::that_detached(&folder).map_err(|error| {
            let message = format!("no file manager could be started ({error}); the folder is {shown}");
            Failure::new(Exit::Failed, "no_file_manager", message)
        })?;
    }
    let report = OpenReport { folder: shown.clone(), opened: !args.print };
    let text = if args.print { format!("{shown}\n") } else { format!("Opened {shown}.\n") };
    session.out.result(Some(&game.about().name), &report, &text);
    Ok(Ended::Well)
}

/// The folder that is meant. What names a folder of the game goes before a layer, and that before an address.
fn folder_of(game: &OpenGame, what: &str) -> Result<PathBuf, Failure> {
    let about = game.about();
    match what {
        "game" => return Ok(about.roots[0].folder.clone()),
        "ledger" => return Ok(game.ledger_folder().to_path_buf()),
        _ => {}
    }
    if let Some(root) = about.roots.iter().find(|root| root.name.as_str() == what) {
        return Ok(root.folder.clone());
    }
    let layers = game.layers()?;
    let layer = select(&layers, what);
    if let Ok(layer) = &layer {
        let source = Path::new(&layer.about.source);
        if source.as_os_str().is_empty() {
            let message = format!(
                "{} was not made from a package; `oddstack open ledger` has its files",
                layer.about.name
            );
            return Err(Failure::new(Exit::Failed, "no_package", message));
        }
        return Ok(around(source));
    }
    let found = about.meant(what).ok().and_then(|address| {
        let root = about.root_named(&address.root)?;
        let path = address.path.on(&root.folder);
        path.exists().then(|| around(&path))
    });
    found.ok_or_else(|| {
        let message = format!(
            "`{what}` is neither a folder of the game, nor a layer, nor the address of a file that is there"
        );
        Failure::new(Exit::Failed, "nothing_to_open", message)
    })
}

/// A folder itself, or the one that a file lies in.
fn around(path: &Path) -> PathBuf {
    match path.parent() {
        Some(parent) if !path.is_dir() => parent.to_path_buf(),
        _ => path.to_path_buf(),
    }
}
