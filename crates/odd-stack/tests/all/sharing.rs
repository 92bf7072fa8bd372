//! Two installs of one game that use the same documents: each knows what the other has laid there.

use std::collections::BTreeMap;

use crate::closed::Closed;

/// Two installs with the same documents, both in care, with nothing laid yet.
fn two() -> Closed {
    let closed = Closed::empty();
    for game in ["game", "nightly"] {
        closed.write(&format!("{game}/data/ferries.qtx"), "ferries\n");
    }
    closed.write("docs/settings.ini", "[view]\nfog=1\n");
    closed.write("docs/maps/harbour.map", "harbour\n");
    closed.run("game add stable game --root docs=docs").status(0);
    closed
}

fn both(closed: &Closed) {
    closed
        .run("game add nightly nightly --root docs=docs --shares docs")
        .status(0)
        .says("shared with stable");
}

fn tree(closed: &Closed) -> BTreeMap<String, String> {
    closed.files().into_iter().filter(|(path, _)| path.starts_with("docs/")).collect()
}

#[test]
fn a_folder_is_shared_when_it_is_said() {
    let closed = two();
    let refused = closed.run("game add nightly nightly --root docs=docs").status(4);
    refused.says("the root `docs` of the game `stable`").says("--shares docs");
    closed.run("game add nightly nightly --root notes=docs --shares docs").status(2).says("no further root");
    closed.run("game add nightly nightly --root maps=docs/maps --shares maps").status(1).says("overlaps");
    closed.run("game add nightly game --root docs=docs --shares docs").status(1).says("in care already");
    both(&closed);
    // What was allowed once stays so, whichever of them is set up otherwise; the first one knows of it, too.
    for game in ["stable", "nightly"] {
        closed.run(&format!("game set {game} --spot maps=docs:maps")).status(0);
    }
    closed.run("game show stable").status(0).says("shared with nightly");
    closed.run("-g stable check --deep").status(0);
    closed.run("game add third nightly/data --root docs=docs --shares docs").status(1).says("overlaps");
    closed.write("third/a.txt", "a\n");
    closed.run("game add third third --root docs=docs").status(4);
    closed.run("game add third third").status(0);
    closed.run("game set third --root docs=docs").status(4).says("--shares docs");
    closed.run("game set third --root docs=docs --shares docs").status(0);
    closed.run("game show third").status(0).says("stable, nightly");
    // Each can go, and the others stay as they were.
    for game in ["stable", "third"] {
        closed.run(&format!("game forget {game}")).status(0);
        closed.run("-g nightly check --deep").status(0);
    }
    closed.run("game show nightly").status(0);
    closed.run("game forget nightly").status(0);
    assert!(!closed.path("docs/.oddstack").exists());
}

#[test]
fn what_one_game_laid_is_not_the_others_own() {
    let closed = two();
    let before = tree(&closed);
    closed.write("fog-1.0/docs/settings.ini", "[view]\nfog=9\n");
    closed.write("fog-1.0/docs/maps/island/fog.map", "fog\n");
    closed.run("-g stable add fog-1.0 --place docs=docs:").status(0);
    both(&closed);
    // Neither is a change of the other's own files, nor a stray.
    closed.run("-g nightly check --deep").status(0).says("other games have laid");
    closed.run("-g nightly trace docs:settings.ini").status(0);
    closed.run("-g stable lift fog").status(0);
    assert_eq!(tree(&closed), before);
    closed.run("-g nightly check --deep").status(0);
    closed.run("-g stable lay fog").status(0);
    // The client updates the one, and it is looked at as a whole.
    closed.run("-g nightly patchday begin").status(0);
    closed.write("nightly/data/ferries.qtx", "more ferries\n");
    closed.run("-g nightly patchday finish").status(0);
    closed.run("-g stable remove fog").status(0);
    assert_eq!(tree(&closed), before);
    for game in ["stable", "nightly"] {
        closed.run(&format!("-g {game} check --deep")).status(0);
    }
}

#[test]
fn neither_changes_what_the_other_laid_unless_told_so() {
    let closed = two();
    both(&closed);
    let before = tree(&closed);
    for (name, text) in [("mist-1.0", "mist\n"), ("rain-1.0", "much rain\n"), ("alike-1.0", "mist\n")] {
        closed.write(&format!("{name}/maps/harbour.map"), text);
        closed.write(&format!("{name}/maps/new.map"), text);
    }
    let all = "--place maps=docs:maps";
    closed.run(&format!("-g stable add mist-1.0 {all}")).status(0);
    let mist = tree(&closed);
    // To put over, to put beside, and to take away: none happens unasked, whatever is said of edits.
    for edits in ["", "--keep-edits", "--discard-edits"] {
        let asked = closed.run(&format!("-g nightly add rain-1.0 {all} {edits}")).status(4);
        asked.says("of mist in stable").says("take that layer off");
    }
    assert_eq!(tree(&closed), mist);
    closed.run(&format!("-g nightly add rain-1.0 {all} --over-other-game")).status(0);
    assert_eq!(closed.read("docs/maps/new.map"), "much rain\n");
    closed.run("-g nightly check --deep").status(0);
    closed.run("-g stable check").status(3).says("where rain of nightly lies");
    closed.run("-g stable lift mist").status(4).says("of rain in nightly");
    // Whatever tidies hidden folders away, each is known again.
    std::fs::remove_dir_all(closed.path("docs/.oddstack")).unwrap();
    closed.run("-g stable lift mist").status(4).says("of rain in nightly");
    // Whoever goes last leaves what was there before both.
    closed.run("-g nightly remove rain").status(0);
    closed.run("-g stable mend --restore").one_of(&[0, 3], "nothing is left to mend");
    assert_eq!(tree(&closed), mist);
    closed.run("-g stable lift mist").status(0);
    assert_eq!(tree(&closed), before);
    // The same content can be both's; it goes with the last.
    closed.run("-g stable lay mist").status(0);
    closed.run(&format!("-g nightly add alike-1.0 {all}")).status(0);
    closed.run("-g stable lift mist").status(4).says("of alike in nightly, and of this one");
    closed.run("-g stable lift mist --over-other-game").status(0);
    closed.run("-g nightly check").status(3).says("missing");
    closed.run("-g nightly mend --restore").one_of(&[0, 3], "nothing is left to mend");
    closed.run("-g nightly remove alike").status(0);
    assert_eq!(tree(&closed), before);
}

/// With ledgers on another disk the games' own files lie beside the documents while they are covered.
#[test]
fn on_a_disk_without_the_ledgers_each_keeps_its_files_apart() {
    let closed = two();
    closed.run("game forget stable").status(0);
    let elsewhere = tempfile::tempdir().unwrap();
    let ledger = |name: &str| elsewhere.path().join(name).to_str().unwrap().to_owned();
    let before = tree(&closed);
    closed
        .run_words(&["game", "add", "stable", "game", "--root", "docs=docs", "--ledger", &ledger("one")])
        .status(0);
    let words = ["game", "add", "nightly", "nightly", "--root", "docs=docs", "--shares", "docs", "--ledger"];
    closed.run_words(&[&words[..], &[&ledger("two")]].concat()).status(0);
    closed.write("mist-1.0/maps/harbour.map", "mist\n");
    closed.write("fog-1.0/settings.ini", "[view]\nfog=99\n");
    closed.run("-g stable add mist-1.0 --place maps=docs:maps").status(0);
    closed.run("-g nightly add fog-1.0 --place .=docs:").status(0);
    for game in ["stable", "nightly"] {
        closed.run(&format!("-g {game} check --deep")).status(0);
    }
    closed.run("-g stable remove mist").status(0);
    closed.run("-g nightly check --deep").status(0);
    closed.run("-g nightly remove fog").status(0);
    assert_eq!(tree(&closed), before);
}
