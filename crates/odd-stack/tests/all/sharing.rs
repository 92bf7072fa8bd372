//! Two installs of one game that use the same documents: each knows what the other has laid there.

use std::collections::BTreeMap;

use crate::sandbox::Sandbox;

/// Two installs with the same documents, both added, with nothing laid yet.
fn two() -> Sandbox {
    let sandbox = Sandbox::empty();
    for game in ["game", "nightly"] {
        sandbox.write(&format!("{game}/data/ferries.qtx"), "ferries\n");
    }
    sandbox.write("docs/settings.ini", "[view]\nfog=1\n");
    sandbox.write("docs/maps/harbour.map", "harbour\n");
    sandbox.run("game add stable game --root docs=docs").status(0);
    sandbox
}

fn both(sandbox: &Sandbox) {
    sandbox
        .run("game add nightly nightly --root docs=docs --shares docs")
        .status(0)
        .says("shared with stable");
}

fn tree(sandbox: &Sandbox) -> BTreeMap<String, String> {
    sandbox.files().into_iter().filter(|(path, _)| path.starts_with("docs/")).collect()
}

#[test]
fn a_folder_is_shared_when_it_is_said() {
    let sandbox = two();
    let refused = sandbox.run("game add nightly nightly --root docs=docs").status(4);
    refused.says("the root `docs` of the game `stable`").says("--shares docs");
    sandbox.run("game add nightly nightly --root notes=docs --shares docs").status(2).says("no further root");
    sandbox.run("game add nightly nightly --root maps=docs/maps --shares maps").status(1).says("overlaps");
    sandbox.run("game add nightly game --root docs=docs --shares docs").status(1).says("already added");
    both(&sandbox);
    // What was allowed once stays so, whichever of them is set up otherwise; the first one knows of it, too.
    for game in ["stable", "nightly"] {
        sandbox.run(&format!("game set {game} --spot maps=docs:maps")).status(0);
    }
    sandbox.run("game show stable").status(0).says("shared with nightly");
    sandbox.run("-g stable check --deep").status(0);
    sandbox.run("game add third nightly/data --root docs=docs --shares docs").status(1).says("overlaps");
    sandbox.write("third/a.txt", "a\n");
    sandbox.run("game add third third --root docs=docs").status(4);
    sandbox.run("game add third third").status(0);
    sandbox.run("game set third --root docs=docs").status(4).says("--shares docs");
    sandbox.run("game set third --root docs=docs --shares docs").status(0);
    sandbox.run("game show third").status(0).says("stable, nightly");
    // Each can go, and the others stay as they were.
    for game in ["stable", "third"] {
        sandbox.run(&format!("game forget {game}")).status(0);
        sandbox.run("-g nightly check --deep").status(0);
    }
    sandbox.run("game show nightly").status(0);
    sandbox.run("game forget nightly").status(0);
    assert!(!sandbox.path("docs/.oddstack").exists());
}

#[test]
fn what_one_game_laid_is_not_the_others_own() {
    let sandbox = two();
    let before = tree(&sandbox);
    sandbox.write("fog-1.0/docs/settings.ini", "[view]\nfog=9\n");
    sandbox.write("fog-1.0/docs/maps/island/fog.map", "fog\n");
    sandbox.run("-g stable add fog-1.0 --place docs=docs:").status(0);
    both(&sandbox);
    // Neither is a change of the other's own files, nor a stray.
    sandbox.run("-g nightly check --deep").status(0).says("other games have laid");
    sandbox.run("-g nightly trace docs:settings.ini").status(0);
    sandbox.run("-g stable lift fog").status(0);
    assert_eq!(tree(&sandbox), before);
    sandbox.run("-g nightly check --deep").status(0);
    sandbox.run("-g stable lay fog").status(0);
    // The client updates the one, and it is looked at as a whole.
    sandbox.run("-g nightly patchday begin").status(0);
    sandbox.write("nightly/data/ferries.qtx", "more ferries\n");
    sandbox.run("-g nightly patchday finish").status(0);
    sandbox.run("-g stable remove fog").status(0);
    assert_eq!(tree(&sandbox), before);
    for game in ["stable", "nightly"] {
        sandbox.run(&format!("-g {game} check --deep")).status(0);
    }
}

#[test]
fn neither_changes_what_the_other_laid_unless_told_so() {
    let sandbox = two();
    both(&sandbox);
    let before = tree(&sandbox);
    for (name, text) in [("mist-1.0", "mist\n"), ("rain-1.0", "much rain\n"), ("alike-1.0", "mist\n")] {
        sandbox.write(&format!("{name}/maps/harbour.map"), text);
        sandbox.write(&format!("{name}/maps/new.map"), text);
    }
    let all = "--place maps=docs:maps";
    sandbox.run(&format!("-g stable add mist-1.0 {all}")).status(0);
    let mist = tree(&sandbox);
    // To put over, to put beside, and to take away: none happens unasked, whatever is said of edits.
    for edits in ["", "--keep-edits", "--discard-edits"] {
        let asked = sandbox.run(&format!("-g nightly add rain-1.0 {all} {edits}")).status(4);
        asked.says("of mist in stable").says("take that layer off");
    }
    assert_eq!(tree(&sandbox), mist);
    sandbox.run(&format!("-g nightly add rain-1.0 {all} --over-other-game")).status(0);
    assert_eq!(sandbox.read("docs/maps/new.map"), "much rain\n");
    sandbox.run("-g nightly check --deep").status(0);
    sandbox.run("-g stable check").status(3).says("where rain of nightly lies");
    sandbox.run("-g stable lift mist").status(4).says("of rain in nightly");
    // Whatever tidies hidden folders away, each is known again.
    std::fs::remove_dir_all(sandbox.path("docs/.oddstack")).unwrap();
    sandbox.run("-g stable lift mist").status(4).says("of rain in nightly");
    // Whoever goes last leaves what was there before both.
    sandbox.run("-g nightly remove rain").status(0);
    sandbox.run("-g stable mend --restore").one_of(&[0, 3], "nothing is left to mend");
    assert_eq!(tree(&sandbox), mist);
    sandbox.run("-g stable lift mist").status(0);
    assert_eq!(tree(&sandbox), before);
    // The same content can be both's; it goes with the last.
    sandbox.run("-g stable lay mist").status(0);
    sandbox.run(&format!("-g nightly add alike-1.0 {all}")).status(0);
    sandbox.run("-g stable lift mist").status(4).says("of alike in nightly, and of this one");
    sandbox.run("-g stable lift mist --over-other-game").status(0);
    sandbox.run("-g nightly check").status(3).says("missing");
    sandbox.run("-g nightly mend --restore").one_of(&[0, 3], "nothing is left to mend");
    sandbox.run("-g nightly remove alike").status(0);
    assert_eq!(tree(&sandbox), before);
}

/// With ledgers on another disk the games' own files lie beside the documents while they are covered.
#[test]
fn on_a_disk_without_the_ledgers_each_keeps_its_files_apart() {
    let sandbox = two();
    sandbox.run("game forget stable").status(0);
    let elsewhere = tempfile::tempdir().unwrap();
    let ledger = |name: &str| elsewhere.path().join(name).to_str().unwrap().to_owned();
    let before = tree(&sandbox);
    sandbox
        .run_words(&["game", "add", "stable", "game", "--root", "docs=docs", "--ledger", &ledger("one")])
        .status(0);
    let words = ["game", "add", "nightly", "nightly", "--root", "docs=docs", "--shares", "docs", "--ledger"];
    sandbox.run_words(&[&words[..], &[&ledger("two")]].concat()).status(0);
    sandbox.write("mist-1.0/maps/harbour.map", "mist\n");
    sandbox.write("fog-1.0/settings.ini", "[view]\nfog=99\n");
    sandbox.run("-g stable add mist-1.0 --place maps=docs:maps").status(0);
    sandbox.run("-g nightly add fog-1.0 --place .=docs:").status(0);
    for game in ["stable", "nightly"] {
        sandbox.run(&format!("-g {game} check --deep")).status(0);
    }
    sandbox.run("-g stable remove mist").status(0);
    sandbox.run("-g nightly check --deep").status(0);
    sandbox.run("-g nightly remove fog").status(0);
    assert_eq!(tree(&sandbox), before);
}
