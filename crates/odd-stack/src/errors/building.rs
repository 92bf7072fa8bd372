//! What stands against building a second folder of the game.

use odd_stack_core::jobs::{BuildError, OpenRoot};

use super::{Exit, Failure};
use crate::shell::quoted;

impl From<BuildError> for Failure {
    fn from(error: BuildError) -> Self {
        let (exit, code, advice) = match &error {
            BuildError::Lineup(_) => (Exit::Failed, "lineup", String::new()),
            BuildError::NoFolder { lineup } => {
                let advice = format!("`oddstack lineup build {} DIR` makes one", quoted(lineup));
                (Exit::Failed, "not_built", advice)
            }
            BuildError::BuiltElsewhere { .. } => (
                Exit::Failed,
                "built_elsewhere",
                "leave the folder out to bring that one up to date; to have it elsewhere, move or delete that one first".to_owned(),
            ),
            BuildError::OfOther { .. } => (Exit::Failed, "of_other_lineup", String::new()),
            BuildError::NotEmpty { .. } => (Exit::Failed, "not_empty", String::new()),
            BuildError::Overlap { .. } => (Exit::Failed, "overlap", String::new()),
            BuildError::BadFolder { .. } => (Exit::Failed, "bad_folder", String::new()),
            BuildError::NoSuchRoot { .. } => {
                (Exit::Usage, "no_such_root", "`oddstack game show` lists them".to_owned())
            }
            BuildError::RootsOpen { .. } => (Exit::Undecided, "roots_open", String::new()),
            BuildError::Edited { .. } => (Exit::Undecided, "edited", String::new()),
            BuildError::InTheWay { .. } => (Exit::Failed, "in_the_way", "move it away first".to_owned()),
            BuildError::Running { .. } => (Exit::Failed, "running", "close it first".to_owned()),
            BuildError::Look { .. } => (Exit::Failed, "cannot_look", String::new()),
            BuildError::CutShort { .. } => {
                (Exit::Failed, "not_finished", "run the command again to go on".to_owned())
            }
        };
        let failure = Self::of(exit, code, &error).advising(&advice);
        match error {
            BuildError::Lineup(error) => error.into(),
            // What stopped it tells what to do about it.
            BuildError::CutShort { source, .. } => {
                let mut failure = Self::from(*source);
                failure.message = format!("the second folder is not finished: {}", failure.message);
                failure.advising("run the command again to go on")
            }
            BuildError::RootsOpen { roots } => {
                let without = roots.iter().map(|root| format!("--without-root {}", quoted(&root.root)));
                let own = |root: &OpenRoot| quoted(&format!("{}={}", root.root, root.proposed.display()));
                let own = roots.iter().map(|root| format!("--root {}", own(root)));
                let (without, own): (Vec<_>, Vec<_>) = (without.collect(), own.collect());
                let rows = roots.iter().map(|root| {
                    let files = crate::show::units::files(root.files);
                    format!("{}  {} of layers in {}", root.root, files, root.folder.display())
                });
                failure
                    .about(rows)
                    .choice("leave out: the second game has that of the first", without.join(" "))
                    .choice("a folder of its own, which you tell the second game of", own.join(" "))
            }
            BuildError::Edited { files } => failure
                .about(files)
                .choice("save them, then go on", "--keep-edits")
                .choice("discard them", "--discard-edits"),
            _ => failure,
        }
    }
}
