//! What the core wants a person to know, in words.

use std::path::{Path, PathBuf};

use odd_stack_core::address::Address;
use odd_stack_core::notice::{Notice, Recovered};

/// So many of several are named.
const MOST: usize = 4;

/// The sentence.
#[expect(clippy::too_many_lines, reason = "one arm for each notice")]
pub fn notice_words(notice: &Notice) -> String {
    match notice {
        Notice::Recovered(Recovered { command, begun_at, finished }) => {
            let fate = if *finished { "has now been finished" } else { "has now been taken back, whole" };
            format!("`{command}` of {begun_at} was cut short; it {fate}")
        }
        Notice::BeingChanged { holder } => {
            format!("{holder} is changing this game right now; what follows may be half of it")
        }
        Notice::SameButForCase { spelled } => {
            format!("`{spelled}` has the same name as another file except for case; it is left alone")
        }
        Notice::Unnamable { first, count } => unnamable(&first.display().to_string(), *count),
        Notice::LedgerSynced { ledger, synced } => format!(
            "what Odd Stack stores lies at {}, in {}, which a cloud client keeps the same on other computers: it would send \
             all of that, and may change it outside Odd Stack; better give a folder elsewhere with --ledger DIR",
            ledger.display(),
            synced.display()
        ),
        Notice::RootSynced { root, synced } => format!(
            "{} lies in {}, which a cloud client keeps the same on other computers: what layers put there is sent, and so is \
             the folder `.oddstack` in it; what comes from there counts as changed by somebody else",
            root.display(),
            synced.display()
        ),
        Notice::CodePageGuessed { package, name } => format!(
            "{package}: it does not tell the code page of names such as `{name}`; where they look wrong, say which it is with \
             --names, such as --names shift_jis"
        ),
        Notice::NeverCleared { layer, refused } => {
            format!("{layer} asks to clear what is never cleared: {refused}")
        }
        Notice::LinksStay { first, count: 1 } => {
            format!("{first} is a link, which is no part of a layer; it stays where it is")
        }
        Notice::LinksStay { first, count } => format!(
            "{first} and {} more are links, which are no part of a layer; they stay where they are",
            count - 1
        ),
        Notice::CannotRenew { package, reason } => {
            format!("{} can't renew anything: {reason}", package.display())
        }
        Notice::TakenAgain { package, files: 1 } => {
            format!("one stored file was damaged or gone; it was taken again from {}", package.display())
        }
        Notice::TakenAgain { package, files } => {
            format!(
                "{files} stored files were damaged or gone; they were taken again from {}",
                package.display()
            )
        }
        Notice::FoldersHeld { first, count: 1 } => format!(
            "the folder {} is empty and could not be removed: another program stands in it or has it open; it goes with \
             the next command that changes the game",
            first.display()
        ),
        Notice::FoldersHeld { first, count } => format!(
            "{count} folders are empty and could not be removed: another program stands in them or has them open ({} \
             first); they go with the next command that changes the game",
            first.display()
        ),
        Notice::ChangedLate { path, saved } => {
            format!("{} was written to meanwhile; it is saved at {}", path.display(), saved.display())
        }
        Notice::ChangedLateAndUnsaved { path, reason, lies_at } => format!(
            "{} was written to meanwhile and can't be saved ({reason}); copy it now from {}",
            path.display(),
            lies_at.display()
        ),
        Notice::MadeWay { kept } => made_way(kept),
        Notice::GoneAlready { addresses } => {
            format!("{} {} gone already", listed(addresses), number(addresses, "was", "were"))
        }
        Notice::OriginalsGone { addresses } => format!(
            "{} of the game itself {} gone; {} can't come back later",
            listed(addresses),
            number(addresses, "is", "are"),
            number(addresses, "it", "they")
        ),
        Notice::NothingToChange { addresses, reason } => format!("{}: {reason}", listed(addresses)),
        Notice::NotBlended { addresses, whose, reason } => format!(
            "{} can't be merged, so one whole file counts{}: {}{reason}",
            listed(addresses),
            number(addresses, "", " for each"),
            whose.as_ref().map(|whose| format!("{whose}: ")).unwrap_or_default()
        ),
        Notice::FoldersStay { folders } => staying(folders),
    }
}

fn unnamable(first: &str, count: usize) -> String {
    // Of a path that is too long so much is shown.
    const MOST_LETTERS: usize = 200;
    let shown: String = first.chars().take(MOST_LETTERS).collect();
    match count {
        1 => format!("{shown} has a name that is not text, or too long a path; it is left alone"),
        _ => format!(
            "{count} files and folders have names that are not text, or too long a path; they are left alone: {shown} and \
             others"
        ),
    }
}

fn staying(folders: &[Address]) -> String {
    let shown: Vec<String> = folders.iter().take(MOST).map(ToString::to_string).collect();
    let shown = shown.join(", ");
    let (stay, it) = match folders.len() {
        1 => (format!("the folder {shown} stays"), "it"),
        count if count > MOST => (format!("{count} folders stay ({shown} and others)"), "them"),
        _ => (format!("the folders {shown} stay"), "them"),
    };
    format!("{stay}: something lies in {it} that is not Odd Stack's")
}

/// Of what was in the way of a command that was cut short.
fn made_way(kept: &[(PathBuf, PathBuf)]) -> String {
    let all_in = |folder: &&Path| kept.iter().all(|(_, saved)| saved.starts_with(folder));
    match kept {
        [] => String::new(),
        [(path, saved)] => format!(
            "{} was put there meanwhile and was in the way; it is saved at {}",
            path.display(),
            saved.display()
        ),
        [(_, first), ..] => format!(
            "{} were put there meanwhile and were in the way; they are saved in {}",
            some_of(kept.iter().map(|(path, _)| path.display())),
            first.ancestors().find(all_in).unwrap_or(first).display()
        ),
    }
}

fn listed(addresses: &[Address]) -> String {
    some_of(addresses.iter())
}

/// `game:a.ini, game:b.ini and 3 more`.
fn some_of<T: ToString>(mut things: impl Iterator<Item = T>) -> String {
    let shown: Vec<String> = things.by_ref().take(MOST).map(|thing| thing.to_string()).collect();
    match things.count() {
        0 => shown.join(", "),
        more => format!("{} and {more} more", shown.join(", ")),
    }
}

fn number(addresses: &[Address], one: &'static str, several: &'static str) -> &'static str {
    if addresses.len() == 1 { one } else { several }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_in_the_way_is_told_in_one_line() {
        let pair = |name: &str| {
            let (path, saved) = (Path::new("game").join(name), Path::new("kept").join("3").join(name));
            (path, saved)
        };
        let told = |names: &[&str]| made_way(&names.iter().map(|name| pair(name)).collect::<Vec<_>>());
        let (a, kept) = (Path::new("game").join("a"), Path::new("kept").join("3"));
        let one = "was put there meanwhile and was in the way; it is saved at";
        assert_eq!(told(&["a"]), format!("{} {one} {}", a.display(), kept.join("a").display()));
        let all = told(&["a", "b/c", "b/d", "e", "f", "g"]);
        assert!(
            all.contains("e and 2 more were put there") && all.ends_with(&kept.display().to_string()),
            "{all}"
        );
        let deep = told(&["b/c", "b/d"]);
        assert!(!deep.contains("more") && deep.ends_with(&kept.join("b").display().to_string()), "{deep}");
    }
}
