//! Finding the layer that breaks the game.

use crate::sandbox::Sandbox;

/// Eight layers with a file each; `extra` needs `core`.
fn eight() -> Sandbox {
    let sandbox = Sandbox::with_game();
    for name in ["ash", "birch", "core", "dew", "elm", "fern", "gorse", "extra"] {
        let needs = if name == "extra" { " --needs core" } else { "" };
        sandbox.zip(&format!("{name}-1.zip"), &[(format!("data/{name}.qtx").as_str(), name)]);
        sandbox.run(&format!("add {name}-1.zip{needs}")).status(0);
    }
    sandbox
}

/// Answers as somebody does for whom it works unless all of `breaks` are laid; gives the last answer and the number of tries.
fn hunted(sandbox: &Sandbox, breaks: &[&str]) -> (serde_json::Value, usize) {
    let mut answer = sandbox.run("culprit --json").status(0).json();
    for tries in 1..40 {
        let is_there = |name: &&str| sandbox.path(&format!("game/data/{name}.qtx")).exists();
        let said = if breaks.iter().all(is_there) { "--broken" } else { "--works" };
        answer = sandbox.run(&format!("culprit {said} --json")).status(0).json();
        if answer["data"]["is_over"] == true {
            return (answer["data"].take(), tries);
        }
    }
    panic!("it never ends: {answer}");
}

#[test]
fn one_layer_is_found_and_the_stack_is_as_it_was() {
    let sandbox = eight();
    let (before, history) = (sandbox.files(), sandbox.run("history --json").json()["data"]["present"].take());
    for name in ["ash", "dew", "gorse"] {
        let (end, tries) = hunted(&sandbox, &[name]);
        assert_eq!(end["found"], serde_json::json!([[name]]), "{end}");
        // Seven things to try, as two layers go together.
        assert!(tries <= 4, "{tries} tries for {name}");
        assert_eq!(sandbox.files(), before, "{name}");
    }
    assert_eq!(sandbox.run("history --json").json()["data"]["present"], history);
    sandbox.run("undo").status(0).says("Undone: `add extra`.");
}

#[test]
fn pairs_are_found_and_what_needs_each_other_goes_together() {
    let sandbox = eight();
    let before = sandbox.files();
    let (end, _) = hunted(&sandbox, &["birch", "fern"]);
    assert_eq!(end["found"], serde_json::json!([["birch"], ["fern"]]), "{end}");
    let (end, _) = hunted(&sandbox, &["extra"]);
    assert_eq!(end["found"], serde_json::json!([["core", "extra"]]), "{end}");
    let (end, tries) = hunted(&sandbox, &[]);
    assert_eq!((&end["none_of_them"], end["found"].as_array().unwrap().len()), (&true.into(), 0), "{end}");
    assert!(tries <= 4, "{tries}");
    assert_eq!(sandbox.files(), before);
}

#[cfg(unix)]
#[test]
fn a_program_says_it() {
    let sandbox = eight();
    let before = sandbox.files();
    let words = ["culprit", "--yes", "--", "/bin/sh", "-c", "test ! -f data/elm.qtx"];
    sandbox.run_words(&words).status(0).says("elm breaks the game.").says("oddstack lift elm");
    assert_eq!(sandbox.files(), before);
    sandbox.run_words(&["culprit", "--", "no-such-program"]).status(1).says("can't be run");
    assert_eq!(sandbox.files(), before, "nothing was begun");
}

#[test]
fn it_goes_on_another_day_and_can_be_given_up() {
    let sandbox = eight();
    let before = sandbox.files();
    sandbox
        .run("culprit --works")
        .status(1)
        .says("no search for the layer that breaks the game is under way");
    sandbox.run("culprit --dry-run").status(0).says("Dry run");
    assert_eq!(sandbox.files(), before);
    sandbox.run("culprit").status(0).says("Try 1 of at most 4");
    let tried = sandbox.files();
    assert_ne!(tried, before);
    sandbox.run("culprit").status(0).says("Try 1 of at most 4").says("laid: ");
    sandbox.run("lift ash").status(4).says("oddstack culprit --cancel");
    sandbox.run("stack").status(0).says("a search for a culprit is under way");
    sandbox.run("").status(0).says("oddstack culprit");
    assert_eq!(sandbox.files(), tried);
    sandbox.run("culprit --broken").status(0).says("Try 2");
    sandbox.run("culprit --cancel").status(0).says("All layers are as they were.");
    assert_eq!(sandbox.files(), before);
    sandbox.run("lift --all").status(0);
    sandbox.run("culprit").status(1).says("no layer is laid");
}
