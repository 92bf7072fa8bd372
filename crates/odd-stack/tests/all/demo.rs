//! The demo runs, and leaves a game to play with.

use crate::sandbox::Sandbox;

#[test]
fn the_demo_walks_through_the_main_job() {
    let sandbox = Sandbox::empty();
    let ran = sandbox.run("demo here --color always").status(0);
    // What its commands print comes through with its styles.
    assert!(ran.stdout.contains("\u{1b}[1mAdded Quillhaven") && !ran.stdout.contains("u{1b}"));
    let told: String = ran
        .stdout
        .split('\u{1b}')
        .enumerate()
        .map(|(at, part)| if at == 0 { part } else { part.split_once('m').map_or(part, |(_, rest)| rest) })
        .collect();
    for words in [
        "Added Quillhaven: 62 files",
        "it goes into game:data/charts.qpk!/",
        "wins",
        "(exit code 3)",
        "--keep-edits",
        "Nothing drifted",
        "back in the stack: brass-lamps 1.2",
        "The stack is as in `summer`.",
        "Settled at 2 addresses",
        "merged with other layers",
        "and the game is 1.7",
        "night-ferries is a layer now",
        "The game is itself again",
        "1.7 -> 1.8",
        "the game's own, in place of foggy-harbour's",
    ] {
        assert!(told.contains(words), "`{words}` is not in\n{told}");
    }
    assert_eq!(ran.stderr, "");
    let home = sandbox.path("here/home").display().to_string();
    sandbox.run_words(&["stack", "--home", &home]).status(0).says("unofficial-patch").says("14 layers");
    sandbox.run_words(&["lift", "--all", "--home", &home]).status(0);
    assert!(sandbox.read("here/game/config/harbour.ini").contains("gulls=60"));
    sandbox.run("demo here").status(1).says("not empty");
}
