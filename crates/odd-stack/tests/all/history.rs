//! What was done, and going back to any of it.

use std::collections::BTreeMap;

use insta::assert_snapshot;

use crate::sandbox::{Ran, Sandbox};
use crate::stored::stored;

const BRASS: &str = "game/data/lamps/brass.qtx";

/// Runs it as if it were that time.
fn at(sandbox: &Sandbox, time: &str, line: &str) -> Ran {
    let words: Vec<&str> = line.split(' ').collect();
    sandbox.run_in("", &words, &[("ODDSTACK_NOW", time)])
}

/// Lamps in version 1, replaced by version 2, with a fog above that is removed again.
fn lived_with() -> Sandbox {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "one\n"), ("data/lamps/only_one.qtx", "1\n")]);
    sandbox.zip("lamps-2.zip", &[("data/lamps/brass.qtx", "two\n"), ("config/fog.ini", "fog=2\n")]);
    sandbox.zip("fog-1.zip", &[("data/lamps/brass.qtx", "foggy\n")]);
    for line in ["add lamps-1.zip", "add fog-1.zip", "upgrade lamps lamps-2.zip", "remove fog"] {
        sandbox.run(line).status(0);
    }
    sandbox
}

#[test]
fn each_change_can_be_taken_back_and_done_again() {
    let sandbox = lived_with();
    assert_eq!(sandbox.read(BRASS), "two\n");
    sandbox.run("undo").status(0).says("back in the stack: fog 1").says("Undone: `remove fog`.");
    assert_eq!(sandbox.read(BRASS), "foggy\n");
    sandbox.run("undo").status(0).says("back in the stack: lamps 1").says("out of the stack: lamps 2");
    assert_eq!(sandbox.read("game/data/lamps/only_one.qtx"), "1\n");
    sandbox.run("undo 3").status(1).says("only 2 changes can be taken back");
    sandbox.run("undo 2").status(0).says("Undone: `add fog`, `add lamps`.");
    assert_eq!(sandbox.read(BRASS), "base brass\n");
    sandbox.run("undo").status(1).says("nothing has been done yet that could be taken back");
    for _ in 0..4 {
        sandbox.run("redo").status(0);
    }
    assert_eq!(sandbox.read(BRASS), "two\n");
    sandbox.run("redo").status(1).says("nothing was taken back that could be done again");
    sandbox.run("check --deep").status(0);
    // What is done after an undo is what can be taken back then.
    sandbox.run("undo 2").status(0);
    sandbox.run("lift fog").status(0);
    sandbox.run("redo").status(1);
    sandbox.run("undo").status(0).says("Undone: `lift fog`.");
    sandbox.run("undo").status(0).says("Undone: `add fog`.");
    assert_eq!(sandbox.read(BRASS), "one\n");
}

#[test]
fn a_rewind_goes_anywhere_and_is_taken_back_itself() {
    let sandbox = lived_with();
    sandbox.run("mark before-fog").status(0).says("Revision 4 is called `before-fog`.");
    sandbox.run("rewind 1 --yes").status(0).says("The stack is as it was after revision 1.");
    assert_eq!(sandbox.read(BRASS), "one\n");
    sandbox.run("rewind 0").status(0).says("as it was at the beginning");
    assert_eq!(sandbox.read(BRASS), "base brass\n");
    sandbox.run("undo 2").status(0);
    assert_eq!(sandbox.read(BRASS), "two\n");
    sandbox.run("rewind before_fog").status(1).says("the stack is as it was after revision 4 already");
    sandbox
        .run("rewind 99")
        .status(1)
        .says("there is no revision 99; the last one is 7")
        .says("oddstack history");
    sandbox.run("rewind never").status(1).says("no state is called `never` (there are: before-fog)");
    sandbox.run("mark 4th").status(1).says("it must not begin with a digit");
    sandbox.run("mark yesterday").status(1).says("it is a time");
    sandbox.run("mark before-fog --drop").status(0);
    sandbox.run("mark before-fog --drop").status(1).says("no state is called `before-fog`");
    assert_snapshot!(sandbox.run("history").status(0).stdout, @"
    #  when              what           files  note
    7  2026-01-02 03:04  undo 2         ~2     back to 4
    6  2026-01-02 03:04  rewind 0       ~1 -1
    5  2026-01-02 03:04  rewind 1       +1 ~2
    4  2026-01-02 03:04  remove fog     ~1     the stack is so now
    3  2026-01-02 03:04  upgrade lamps  ~1 -1
    2  2026-01-02 03:04  add fog        ~1
    1  2026-01-02 03:04  add lamps      +1 ~1
    ");
    assert_snapshot!(sandbox.run("history --diff 2 4").status(0).stdout, @"
    From 2 to 4:
      removed   fog
      replaced  lamps (1 to 2)
      3 files differ:
        game:config/fog.ini           no layer -> lamps 2
        game:data/lamps/brass.qtx     fog 1 -> lamps 2
        game:data/lamps/only_one.qtx  lamps 1 -> no layer
    ");
    assert_snapshot!(sandbox.run("stack --at 2").status(0).stdout, @"
    After revision 2, 2026-01-02 03:04: 2 layers
      2  fog    1  laid
      1  lamps  1  laid
    ");
}

#[test]
fn a_layer_is_shown_as_it_was() {
    let sandbox = lived_with();
    assert_snapshot!(sandbox.run("show lamps --at 2").status(0).stdout, @"
    lamps 1, number 1 in the stack, laid, after revision 2
      package   [HERE]/lamps-1.zip
      added     2026-01-02 03:04
      game:data/lamps/brass.qtx     4 B  e0e63aa4
      game:data/lamps/only_one.qtx  2 B  50cc1102
    ");
    sandbox.run("show fog --at 3").status(0).says("number 2 in the stack, laid, after revision 3");
    sandbox.run("show fog --at 4").status(1).says("fog");
    sandbox.run("show lamps --at 99").status(1).says("there is no revision 99");
    sandbox.run("tidy --keep 0").status(0);
    // The state that there is already is not offered.
    let refused = sandbox.run("rewind 1").status(1).says("oddstack history --all").whole();
    assert!(!refused.contains("oddstack rewind"), "{refused}");
    sandbox.run("show lamps --at 1").status(0).says("what it had was tidied away");
    sandbox.run("history --diff 1 4").status(0).says("which files differ can't be told");
}

#[test]
fn a_time_is_a_state_too() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "one\n")]);
    sandbox.zip("fog-1.zip", &[("data/lamps/brass.qtx", "foggy\n")]);
    at(&sandbox, "2026-05-01T10:00:00Z", "add lamps-1.zip").status(0);
    at(&sandbox, "2026-05-02T10:00:00Z", "add fog-1.zip").status(0);
    let now = "2026-05-02T20:00:00Z";
    at(&sandbox, now, "rewind 2026-05-01T23:00:00Z").status(0).says("after revision 1");
    assert_eq!(sandbox.read(BRASS), "one\n");
    at(&sandbox, now, "undo").status(0);
    at(&sandbox, now, "rewind yesterday").status(0).says("after revision 1");
    at(&sandbox, now, "undo").status(0);
    at(&sandbox, now, "rewind 2026-04-30 12:00").status(0).says("at the beginning");
    at(&sandbox, now, "rewind soon").status(1).says("times are written like `yesterday 18:00`");
}

#[test]
fn edits_of_settings_go_with_the_version_that_comes_back() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("fog-1.zip", &[("config/fog.ini", "fog=1\ngulls=1\n")]);
    sandbox.zip("fog-2.zip", &[("config/fog.ini", "fog=2\ngulls=1\n")]);
    sandbox.run("add fog-1.zip").status(0);
    sandbox.run("upgrade fog fog-2.zip").status(0);
    sandbox.write("game/config/fog.ini", "fog=2\ngulls=9\n");
    sandbox.run("undo").status(0).says("your own");
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=1\ngulls=9\n");
    // Where both changed the same, it is asked, and what is offered works.
    sandbox.write("game/config/fog.ini", "fog=7\ngulls=9\n");
    sandbox.run("redo").status(4).says("--both-changed mine").says("--both-changed new");
    sandbox.run("redo --both-changed mine").status(0);
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=7\ngulls=9\n");
}

#[test]
fn what_was_said_and_settled_goes_back_too_and_the_game_itself_stays() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "one\n")]);
    sandbox.zip("fog-1.zip", &[("data/lamps/brass.qtx", "foggy\n")]);
    sandbox.run("add lamps-1.zip").status(0);
    sandbox.run("add fog-1.zip").status(0);
    sandbox.run("settle data/lamps/brass.qtx --with lamps").status(0);
    sandbox.run("set fog --name mist --version 9").status(0);
    sandbox.run("undo").status(0);
    sandbox.run("show fog").status(0);
    sandbox.run("undo").status(0);
    assert_eq!(sandbox.read(BRASS), "foggy\n");
    sandbox.run("conflicts").status(3);
    sandbox.run("redo").status(0);
    assert_eq!(sandbox.read(BRASS), "one\n");
    sandbox.run("conflicts").status(0);
    // An official update in between.
    sandbox.run("patchday begin").status(0);
    sandbox.write(BRASS, "brass of 1.8\n");
    sandbox.run("patchday finish").one_of(&[0, 3], "");
    sandbox.run("rewind 1").status(0).says("the game's own files were changed in between");
    sandbox.run("lift --all").status(0);
    assert_eq!(sandbox.read(BRASS), "brass of 1.8\n");
    // While something is under way nothing is gone back from.
    sandbox.run("patchday begin").status(0);
    sandbox.run("undo").status(4).says("patchday finish");
}

#[test]
fn an_address_tells_who_supplied_it_when() {
    let sandbox = lived_with();
    sandbox.run("rewind 2").status(0);
    sandbox.run("settle data/lamps/brass.qtx --with lamps").status(0);
    sandbox.run("set lamps --name lanterns").status(0);
    sandbox.run("lift --all").status(0);
    assert_snapshot!(sandbox.run("trace data/lamps/brass.qtx --history").status(0).stdout, @"
    game:data/lamps/brass.qtx
      #  when              what                         from                                     size  hash
      8  2026-01-02 03:04  lift --all                   no layer: the game's own, if it has one
      7  2026-01-02 03:04  set lanterns                 lanterns 1                                4 B  e0e63aa4
                                                        fog 1                                     6 B  3c259082
      6  2026-01-02 03:04  settle data/lamps/brass.qtx  lamps 1                                   4 B  e0e63aa4
                                                        fog 1                                     6 B  3c259082
      5  2026-01-02 03:04  rewind 2                     fog 1                                     6 B  3c259082
                                                        lamps 1                                   4 B  e0e63aa4
      4  2026-01-02 03:04  remove fog                   lamps 2                                   4 B  ef40086a
      3  2026-01-02 03:04  upgrade lamps                fog 1                                     6 B  3c259082
                                                        lamps 2                                   4 B  ef40086a
      2  2026-01-02 03:04  add fog                      fog 1                                     6 B  3c259082
                                                        lamps 1                                   4 B  e0e63aa4
      1  2026-01-02 03:04  add lamps                    lamps 1                                   4 B  e0e63aa4
    ");
    sandbox.run("trace data/lamps/iron.qtx --history").status(1).says("no layer ever had anything at");
    sandbox.run("trace nowhere:x --history").status(1);
}

#[test]
fn rules_of_merging_go_back_too() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("five-5.zip", &[("config/fog.ini", "fog=1\ngulls=5\n")]);
    sandbox.zip("six-6.zip", &[("config/fog.ini", "fog=6\n")]);
    sandbox.run("add five-5.zip").status(0);
    sandbox.run("add six-6.zip").status(0);
    let merged = sandbox.read("game/config/fog.ini");
    assert_eq!(merged, "fog=6\ngulls=5\n");
    sandbox.run("game set --no-blend *.ini").status(0);
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=6\n");
    sandbox.run("undo").status(0);
    assert_eq!(sandbox.read("game/config/fog.ini"), merged);
    assert!(!sandbox.run("game show").status(0).stdout.contains("*.ini"));
    sandbox.run("redo").status(0);
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=6\n");
    sandbox.run("check --deep").status(0);
}

#[test]
fn files_changed_outside_are_not_lost_on_the_way_back() {
    let sandbox = lived_with();
    sandbox.write(BRASS, "scratched\n");
    let before = sandbox.files();
    sandbox.run("undo").status(4).says("--keep-edits").says("--discard-edits");
    assert_eq!(sandbox.files(), before);
    sandbox.run("undo --keep-edits").status(0).says("is saved at");
    assert_eq!(sandbox.read(BRASS), "foggy\n");
}

/// Two seasons: in winter the lamps win over the fog, and the snow lies; in summer it is kept off.
fn two_seasons() -> Sandbox {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "one\n"), ("config/fog.ini", "fog=1\ngulls=1\n")]);
    sandbox.zip("fog-1.zip", &[("data/lamps/brass.qtx", "foggy\n")]);
    sandbox.zip("snow-1.zip", &[("data/snow.qtx", "snow\n"), ("data/lamps/iron.qtx", "snowy\n")]);
    for line in ["add lamps-1.zip", "add fog-1.zip", "lineup save Summer", "add snow-1.zip"] {
        sandbox.run(line).status(0);
    }
    sandbox.run("settle data/lamps/brass.qtx --with lamps").status(0);
    sandbox.run("tweak config/fog.ini gulls=9").status(0);
    sandbox.run("lineup save winter").status(0).says("4 layers laid");
    sandbox
}

#[test]
fn a_lineup_is_switched_to_and_changes_only_what_differs() {
    let sandbox = two_seasons();
    let winter = sandbox.files();
    let told = sandbox.run("lineup switch summer --json").status(0).json();
    let effects = told["data"]["change"]["effects"].as_array().unwrap();
    assert_eq!(effects.len(), 4, "{told}");
    assert_eq!(told["data"]["was"], "winter");
    assert_eq!(sandbox.read(BRASS), "foggy\n");
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=1\ngulls=1\n");
    assert!(!sandbox.path("game/data/snow.qtx").exists());
    sandbox.run("stack").status(0).says("lifted");
    assert_snapshot!(sandbox.run("lineup list").status(0).stdout, @"
    Summer  2 layers laid  saved 2026-01-02 03:04  the stack is so now
    winter  4 layers laid  saved 2026-01-02 03:04
    ");
    assert_snapshot!(sandbox.run("lineup compare winter").status(0).stdout, @"
    From the stack as it is to `winter`:
      added     own edits
      laid      snow
      1 address is settled differently
      4 files differ:
        game:config/fog.ini        lamps 1 -> own edits
        game:data/lamps/brass.qtx  fog 1 -> lamps 1
        game:data/lamps/iron.qtx   no layer -> snow 1
        game:data/snow.qtx         no layer -> snow 1
    ");
    assert_snapshot!(sandbox.run("lineup compare winter summer").status(0).stdout, @"
    From `winter` to `summer`:
      removed   own edits
      lifted    snow
      1 address is settled differently
      4 files differ:
        game:config/fog.ini        own edits -> lamps 1
        game:data/lamps/brass.qtx  lamps 1 -> fog 1
        game:data/lamps/iron.qtx   snow 1 -> no layer
        game:data/snow.qtx         snow 1 -> no layer
    ");
    sandbox.run("lineup switch Winter").status(0);
    let is_of_game = |path: &&String| path.starts_with("game/");
    let game = |files: &BTreeMap<String, String>| -> Vec<(String, String)> {
        files
            .iter()
            .filter(|(path, _)| is_of_game(path))
            .map(|(path, it)| (path.clone(), it.clone()))
            .collect()
    };
    assert_eq!(game(&sandbox.files()), game(&winter));
    sandbox.run("check --deep").status(0);
    sandbox.run("conflicts").status(0);
    // It is a change like any other.
    sandbox.run("undo").status(0);
    assert_eq!(sandbox.read(BRASS), "foggy\n");
    sandbox.run("lineup switch summer").status(1).says("the stack is as in the lineup `Summer` already");
}

#[test]
fn lineups_follow_new_versions_and_bring_back_what_was_removed_or_chosen_otherwise() {
    let sandbox = two_seasons();
    sandbox.zip("lamps-2.zip", &[("data/lamps/brass.qtx", "two\n"), ("config/fog.ini", "fog=2\ngulls=1\n")]);
    sandbox.run("upgrade lamps lamps-2.zip").status(0);
    sandbox.run("remove fog").status(0);
    sandbox.run("lineup switch summer").status(0).says("fog").says("`oddstack undo` has it back");
    assert_eq!(sandbox.read(BRASS), "foggy\n");
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=2\ngulls=1\n");
    sandbox.run("stack").status(0).says("lamps").says("2");
    // Two sizes of the same.
    let sizes = [("Big/data/sizes.qtx", "big\n"), ("Small/data/sizes.qtx", "small\n")];
    sandbox.zip("sizes-1.zip", &sizes);
    sandbox.run("add sizes-1.zip --only Big/* --place Big=game: --name sizes").status(0);
    sandbox.run("lineup save big").status(0);
    sandbox.run("lift sizes").status(0);
    sandbox.run("lineup save none").status(0);
    sandbox.run("lineup switch big").status(0);
    assert_eq!(sandbox.read("game/data/sizes.qtx"), "big\n");
    sandbox.run("lineup switch none").status(0);
    assert!(!sandbox.path("game/data/sizes.qtx").exists());
}

#[test]
fn lineups_are_named_and_forgotten() {
    let sandbox = two_seasons();
    sandbox.run("lineup rename summer long-days").status(0);
    sandbox.run("lineup rename long-days winter").status(1).says("there is a lineup `winter` already");
    sandbox
        .run("lineup switch summer")
        .status(1)
        .says("there is no lineup `summer` (there are: long-days, winter)");
    sandbox.run("lineup drop winter").status(0).says("the layers stay as they are");
    sandbox.run("lineup list").status(0).says("long-days");
    sandbox.run_words(&["lineup", "save", " "]).status(1).says("give the lineup a name");
    sandbox.run("lineup save long-days").status(0).says("is saved anew");
    sandbox.run("play --lineup long-days -n").one_of(&[1], "no program is known");
}

#[test]
fn what_was_tidied_away_is_said_and_all_else_comes_back() {
    let sandbox = lived_with();
    sandbox.run("tidy").status(0).says("which going back needs  3 files").says("tidy --keep 20 -n");
    sandbox
        .run("tidy --keep 1")
        .status(0)
        .says("Dropped 2 files")
        .says("of 1 layer no longer in the stack: lamps 1");
    sandbox.run("undo 2").status(1).says("lamps 1, which it had, was tidied away").says("oddstack rewind 3");
    sandbox.run("undo 3").status(1).says("revision 1 can't come back");
    sandbox.run("history").status(0).says("tidied away");
    sandbox.run("history --diff 2 4").status(0).says("lamps (1 to 2)");
    sandbox.run("trace data/lamps/brass.qtx --history").status(0);
    sandbox.run("rewind 3").status(0).says("back in the stack: fog 1");
    assert_eq!(sandbox.read(BRASS), "foggy\n");
    sandbox.run("tidy --edits").status(2);
    sandbox.run("tidy --older soon").status(2).says("neither an age like 30d");
    // The beginning needs nothing.
    sandbox.run("rewind 0").status(0);
    assert_eq!(sandbox.read(BRASS), "base brass\n");
    sandbox.run("tidy --verify").status(0).says("of removed layers compared by content: all whole");
    for content in stored(&sandbox.path("home/ledgers/quillhaven")) {
        content.damage(b"xx");
    }
    sandbox.run("tidy --verify").status(5).says("contents are lost: fog 1, lamps 2");
}

#[test]
fn age_counts_from_the_moment_and_saved_edits_go_with_what_saved_them() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "one\n")]);
    sandbox.zip("lamps-2.zip", &[("data/lamps/brass.qtx", "two\n")]);
    at(&sandbox, "2026-05-01T10:00:00Z", "add lamps-1.zip").status(0);
    sandbox.write(BRASS, "edited by hand\n");
    at(&sandbox, "2026-05-02T10:00:00Z", "upgrade lamps lamps-2.zip --keep-edits").status(0);
    at(&sandbox, "2026-05-20T10:00:00Z", "lift lamps").status(0);
    let now = "2026-05-21T10:00:00Z";
    at(&sandbox, now, "tidy --older 30d").status(0).says("Nothing");
    at(&sandbox, now, "tidy --older 2w -n --edits").status(0).says("Would drop 1 file").says("1 saved edit");
    at(&sandbox, now, "tidy --older 2w").status(0).says("lamps 1");
    at(&sandbox, now, "tidy --older 2026-05-10 --edits").status(0).says("Dropped 1 saved edit, 15 B");
    at(&sandbox, now, "tidy --keep 9 --edits").status(0).says("Nothing to drop");
    at(&sandbox, now, "undo").status(0);
    assert_eq!(sandbox.read(BRASS), "two\n");
    at(&sandbox, now, "undo").status(1).says("tidied away");
}
