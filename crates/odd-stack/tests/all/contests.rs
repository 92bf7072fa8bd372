//! Where layers meet: contests and who settles them, settings that blend, what layers need.

use insta::assert_snapshot;

use crate::sandbox::Sandbox;

/// Three layers over one lamp; two of them change the settings.
fn with_meeting_layers() -> Sandbox {
    let sandbox = Sandbox::empty();
    sandbox.write("game/data/lamps/brass.qtx", "base brass\n");
    sandbox.write("game/config/harbour.ini", "; harbour\n[Fog]\nthick=1\nhigh=1\n[Gulls]\ncount=60 ; many\n");
    sandbox.run("game add Quillhaven game --game-version 1.7").status(0);
    let settings = |from: &str, to: &str| sandbox.read("game/config/harbour.ini").replace(from, to);
    sandbox.zip(
        "fog-1.zip",
        &[("data/lamps/brass.qtx", "fog\n"), ("config/harbour.ini", &settings("thick=1", "thick=7"))],
    );
    sandbox.zip(
        "gulls-1.zip",
        &[("data/lamps/brass.qtx", "gulls\n"), ("config/harbour.ini", &settings("60", "200"))],
    );
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "lamps\n")]);
    for name in ["fog-1.zip", "gulls-1.zip", "lamps-1.zip"] {
        sandbox.run(&format!("add {name}")).status(0);
    }
    sandbox
}

#[test]
fn contests_are_shown_by_pair_and_settled() {
    let sandbox = with_meeting_layers();
    assert_snapshot!(sandbox.run("conflicts").status(3).stdout, @"
    Layers disagree at 1 address.

    gulls over fog: 1 open, 1 merged
      open  game:data/lamps/brass.qtx  6 B over 4 B  lamps wins
          - fog
          + gulls

    lamps over fog: 1 open
      open  game:data/lamps/brass.qtx  6 B over 4 B  lamps wins
          - fog
          + lamps

    lamps over gulls: 1 open
      open  game:data/lamps/brass.qtx  6 B over 6 B  lamps wins
          - gulls
          + lamps
    ");
    sandbox.run("settle data/lamps/brass.qtx --with fog").status(0).says("fog  over lamps, gulls");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "fog\n");
    sandbox.run("conflicts").status(0).says("no unresolved conflicts");
    sandbox.run("conflicts --all fog").status(0).says("won").says("both are kept");
    assert!(!sandbox.run("show fog").status(0).stdout.contains("under gulls"), "what blends is not covered");
    sandbox.run("stack").status(0).says("lamps");
    sandbox.run("trace data/lamps/brass.qtx").status(0).says("settled: fog wins here");
    // Lifting the winner lets the order decide, and it wins again when it is back.
    sandbox.run("lift fog").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps\n");
    sandbox.run("lay fog").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "fog\n");
    // Another content opens the contest again, and says why; the same content does not.
    sandbox.zip("gulls-2.zip", &[("data/lamps/brass.qtx", "gulls\n"), ("new", "n")]);
    sandbox.run("upgrade gulls gulls-2.zip").status(0);
    sandbox.run("conflicts").status(0);
    sandbox.zip("lamps-2.zip", &[("data/lamps/brass.qtx", "new lamps\n")]);
    sandbox.run("upgrade lamps lamps-2.zip").status(0).says("newly contested");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "new lamps\n");
    sandbox.run("conflicts").status(3).says("it was settled, and lamps has changed there since");
    sandbox.run("settle data/* --keep-order").status(0);
    sandbox.run("conflicts").status(0);
    sandbox.run("settle data --clear").status(0);
    sandbox.run("conflicts --at *.qtx").status(3);
    sandbox.run("conflicts --at config").status(0);
    sandbox.run("check --deep").status(0);
}

#[test]
fn what_cannot_be_settled_is_refused() {
    let sandbox = with_meeting_layers();
    for (line, status, words) in [
        ("settle data/lamps/brass.qtx", 2, "--keep-order"),
        ("settle", 2, "there is no terminal to ask on"),
        ("settle nowhere --keep-order", 1, "no two laid layers disagree at nowhere"),
        ("settle config/harbour.ini --keep-order", 1, "no two laid layers disagree"),
        ("settle data --clear", 1, "nothing was settled at data"),
        ("settle data --with nobody", 1, "there is no layer `nobody`"),
        ("settle data --with fog --clear", 2, "cannot be used with"),
        ("settle docs:x --with fog", 1, "docs"),
        ("settle data/[ --with fog", 2, "is no pattern"),
    ] {
        sandbox.run(line).status(status).says(words);
    }
    sandbox.run("conflicts --at config").status(0);
}

#[test]
fn settings_of_layers_and_of_the_person_blend() {
    let sandbox = with_meeting_layers();
    let base = "; harbour\n[Fog]\nthick=1\nhigh=1\n[Gulls]\ncount=60 ; many\n";
    let both = base.replace("thick=1", "thick=7").replace("60", "200");
    assert_eq!(sandbox.read("game/config/harbour.ini"), both);
    sandbox.run("tweak config/harbour.ini gulls.Count=9 Fog.low=2").status(0).says("2 edits of yours kept");
    let mine = both.replace("200", "9").replace("high=1\n", "high=1\nlow=2\n");
    assert_eq!(sandbox.read("game/config/harbour.ini"), mine);
    assert_snapshot!(sandbox.run("trace config/harbour.ini --keys").status(0).stdout, @"
    game:config/harbour.ini
              #  layer            version  size  hash                    from
      merged  4  own edits                 65 B  5a93b1f1  changes keys
      merged  2  gulls            1        56 B  6dcb024d                config/harbour.ini
      merged  1  fog              1        55 B  47da6741                config/harbour.ini
                 the game itself  1.7      55 B  38eb991e  covered
      the file on disk is merged from these, key by key
      key          value  set by     over
      Fog.thick    7      fog        the game itself 1
      Gulls.count  9      own edits  gulls 200, the game itself 60
      Fog.low      2      own edits  not set before
      on disk: as it should be  [HERE]/game/config/harbour.ini
    ");
    sandbox.run("conflicts --at config").status(0);
    // They stay on top, through moves, new layers and upgrades of what lies beneath.
    sandbox.run("move gulls --top").status(0);
    sandbox.run("add lamps-1.zip --name more-lamps").status(0);
    sandbox.run("stack").status(0).says("own edits");
    assert_eq!(sandbox.run("stack --json").json()["data"]["layers"][0]["name"], "own edits");
    sandbox.zip(
        "gulls-2.zip",
        &[("config/harbour.ini", &base.replace("60", "300").replace("high=1", "high=4"))],
    );
    sandbox.run("upgrade gulls gulls-2.zip").status(0);
    assert_eq!(sandbox.read("game/config/harbour.ini"), mine.replace("high=1", "high=4"));
    sandbox.run("check --deep").status(0);
    sandbox.run("tweak list").status(0).says("Gulls.count").says("300");
    sandbox.run("tweak drop config/harbour.ini gulls.count").status(0);
    assert!(sandbox.read("game/config/harbour.ini").contains("count=300 ; many"));
    sandbox.run("tweak config/harbour.ini --unset Fog.thick").status(0);
    assert!(!sandbox.read("game/config/harbour.ini").contains("thick"));
    sandbox.run("tweak drop --all").status(0);
    let beneath = base.replace("thick=1", "thick=7").replace("60", "300").replace("high=1", "high=4");
    assert_eq!(sandbox.read("game/config/harbour.ini"), beneath);
    sandbox.run("tweak list").status(0).says("no edits of your own");
    sandbox.run("lift --all").status(0);
    assert_eq!(sandbox.read("game/config/harbour.ini"), base);
    for (line, status, words) in [
        ("tweak config/harbour.ini", 2, "say what to change"),
        ("tweak nowhere.ini a=1", 1, "there is no file at game:nowhere.ini"),
        ("tweak data/lamps/brass.qtx a=1", 1, "game set --blend"),
        ("tweak config/harbour.ini a", 2, "`a` is not KEY=VALUE"),
        ("tweak drop", 2, "say which edits to drop"),
        ("tweak drop config/harbour.ini", 1, "you have no edit of game:config/harbour.ini"),
    ] {
        sandbox.run(line).status(status).says(words);
    }
}

/// Layers come and go beneath an edit of an item that only its place tells.
#[test]
fn an_edit_of_an_item_stays_with_the_item() {
    let sandbox = Sandbox::empty();
    sandbox.write("game/s.ini", "[P]\npath=a\npath=b\n");
    sandbox.run("game add Quillhaven game").status(0);
    sandbox.run("tweak s.ini P.path[2]=z P.path[3]=own").status(0);
    assert_eq!(sandbox.read("game/s.ini"), "[P]\npath=a\npath=z\npath=own\n");
    sandbox.zip("first-1.zip", &[("s.ini", "[P]\npath=x\npath=a\npath=b\n")]);
    sandbox.run("add first-1.zip").status(0);
    assert_eq!(sandbox.read("game/s.ini"), "[P]\npath=x\npath=a\npath=z\npath=own\n");
    sandbox.run("trace s.ini --keys").status(0).says("P.path[3]  z").says("P.path[1]  x");
    sandbox.run("tweak list").status(0).says("P.path[3]  z").says("P.path[4]  own");
    // Set again under the name it has now, and by hand.
    sandbox.run("tweak s.ini P.path[3]=w").status(0);
    assert_eq!(sandbox.read("game/s.ini"), "[P]\npath=x\npath=a\npath=w\npath=own\n");
    sandbox.write("game/s.ini", "[P]\npath=x\npath=a\npath=v\npath=other\n");
    sandbox.run("mend s.ini --keep").status(0);
    assert_eq!(sandbox.read("game/s.ini"), "[P]\npath=x\npath=a\npath=v\npath=other\n");
    sandbox.run("lift first").status(0);
    assert_eq!(sandbox.read("game/s.ini"), "[P]\npath=a\npath=v\npath=other\n");
    // A layer takes the item out: that is told, and it comes back with the edit.
    sandbox.zip("last-1.zip", &[("s.ini", "[P]\npath=a\n")]);
    sandbox.run("add last-1.zip").status(0).says("`P.path[3]`, which was `b`, is not there any more");
    assert_eq!(sandbox.read("game/s.ini"), "[P]\npath=a\npath=other\n");
    sandbox.run("remove last").status(0);
    sandbox.run("tweak drop s.ini P.path[2]").status(0);
    assert_eq!(sandbox.read("game/s.ini"), "[P]\npath=a\npath=b\npath=other\n");
}

#[test]
fn what_blends_can_be_said() {
    let sandbox = with_meeting_layers();
    let blended = sandbox.read("game/config/harbour.ini");
    sandbox.run("game set --no-blend config/*").status(0).says("config/*=no");
    assert!(sandbox.read("game/config/harbour.ini").contains("thick=1"), "gulls' whole file counts");
    sandbox.run("conflicts --at config").status(3).says("1 open");
    sandbox.run("check --deep").status(0);
    sandbox.run("game set --blend-as-usual").status(0);
    assert_eq!(sandbox.read("game/config/harbour.ini"), blended);
    sandbox
        .run("game set --blend *.qtx=docx")
        .status(2)
        .says("there are ini, json, toml, xml, lua and lines");
    sandbox.run("game set --blend [=ini").status(2).says("no pattern");
    // A sheet can say it of its own files; one that can't be read counts as a whole, and that is said.
    sandbox.zip(
        "whole-1.zip",
        &[
            ("config/harbour.ini", "[Fog]\nthick=9\n"),
            ("oddfit.toml", "format = 1\nblend = false\nplace = [{ from = \"config\", to = \"config\" }]\n"),
        ],
    );
    sandbox.run("add whole-1.zip").status(0);
    assert_eq!(sandbox.read("game/config/harbour.ini"), "[Fog]\nthick=9\n");
    sandbox.run("remove whole").status(0);
    sandbox.zip("broken-1.zip", &[("config/harbour.ini", "words and words\nand more\n")]);
    sandbox.run("add broken-1.zip").status(0).says("can't be merged").says("broken");
    assert_eq!(sandbox.read("game/config/harbour.ini"), "words and words\nand more\n");
    sandbox.run("remove broken").status(0);
    // What a person sets counts although what layers bring can't be merged.
    let twice = |first: &str| format!("[Fog]\nthick={first}\nhigh=1\n[Gulls]\ncount=60\n[Gulls]\ncount=9\n");
    sandbox.zip("twice-1.zip", &[("config/harbour.ini", &twice("2").replace("60", "5"))]);
    sandbox.run("add twice-1.zip").status(0).says("can't be merged");
    sandbox
        .run("tweak config/harbour.ini Fog.high=8")
        .status(0)
        .says("the topmost file counts, with what is set in it");
    assert_eq!(
        sandbox.read("game/config/harbour.ini"),
        twice("2").replace("60", "5").replace("high=1", "high=8")
    );
    sandbox.run("conflicts --at config").status(3).says("open");
    sandbox.run("check --deep").status(0);
}

#[test]
fn settings_under_any_name_blend_and_texts_only_when_it_is_said() {
    let sandbox = Sandbox::empty();
    let wind = "[Wind]\nfrom=south\nforce=2\ngusts=1\n";
    let notes = "one\ntwo\nthree\nfour\n";
    sandbox.write("game/data/wind.qset", wind);
    sandbox.write("game/data/notes (old).qnote", notes);
    sandbox.run("game add Quillhaven game").status(0);
    for (name, old, new, line) in [("low", "force=2", "force=5", "1"), ("high", "gusts=1", "gusts=9", "4")] {
        let number = ["1", "2", "3", "4"].iter().position(|own| *own == line).unwrap_or(0);
        let mut lines: Vec<&str> = notes.lines().collect();
        lines[number] = line;
        let files =
            [("data/wind.qset", wind.replace(old, new)), ("data/notes (old).qnote", lines.join("\n") + "\n")];
        let files: Vec<(&str, &str)> = files.iter().map(|(path, text)| (*path, text.as_str())).collect();
        sandbox.zip(&format!("{name}-1.zip"), &files);
        sandbox.run(&format!("add {name}-1.zip --place .=game:")).status(0);
    }
    assert_eq!(
        sandbox.read("game/data/wind.qset"),
        wind.replace("force=2", "force=5").replace("gusts=1", "gusts=9")
    );
    assert_eq!(
        sandbox.read("game/data/notes (old).qnote"),
        "one\ntwo\nthree\n4\n",
        "the upper counts as a whole"
    );
    let told = sandbox.run("conflicts").status(3);
    told.says("these changes lie apart: `oddstack game set --blend \"data/notes (old).qnote=lines\"` would keep both");
    sandbox.run_words(&["game", "set", "--blend", "data/notes (old).qnote=lines"]).status(0);
    assert_eq!(sandbox.read("game/data/notes (old).qnote"), "1\ntwo\nthree\n4\n");
    sandbox.run_words(&["trace", "data/notes (old).qnote"]).status(0).says("merged from these, by lines");
    sandbox.run_words(&["game", "set", "--no-blend", "*.qset"]).status(0);
    assert_eq!(sandbox.read("game/data/wind.qset"), wind.replace("gusts=1", "gusts=9"));
    sandbox.run("game set --blend *.qset=ini").status(0);
    sandbox.run("tweak data/wind.qset Wind.from=north").status(0);
    sandbox.run("tweak data/wind.qset --unset Wind.none").status(1).says("nothing to take out");
    sandbox.run("check --deep").status(0);
    sandbox.run("lift --all").status(0);
    assert_eq!(sandbox.read("game/data/wind.qset"), wind);
    assert_eq!(sandbox.read("game/data/notes (old).qnote"), notes);
}

#[test]
fn a_fit_sheet_lets_texts_be_merged_by_lines_unless_the_person_says_otherwise() {
    let sandbox = Sandbox::empty();
    let notes = "one\ntwo\nthree\nfour\n";
    sandbox.write("game/notes/old.qnote", notes);
    sandbox.run("game add Quillhaven game").status(0);
    let low = notes.replace("one", "1");
    sandbox.zip("low-1.zip", &[("notes/old.qnote", &low)]);
    let sheet = "format = 1\nby_lines = [\"*.qnote\"]\n";
    let high = notes.replace("four", "4");
    sandbox.zip("high-1.zip", &[("notes/old.qnote", &high), ("oddfit.toml", sheet)]);
    sandbox.run("add low-1.zip --place .=game:").status(0);
    sandbox.run("add high-1.zip --place .=game:").status(0);
    assert_eq!(sandbox.read("game/notes/old.qnote"), "1\ntwo\nthree\n4\n");
    sandbox.run("conflicts").status(0);
    sandbox.run("trace notes/old.qnote").status(0).says("merged from these, by lines");
    sandbox
        .run_words(&["game", "set", "--no-blend", "*.qnote"])
        .status(0)
        .says("1 file changes with what is merged");
    assert_eq!(sandbox.read("game/notes/old.qnote"), high);
    sandbox.run("conflicts").status(3);
    sandbox.run("conflicts --at notes/none.qnote").status(0).says("No layer has a file there.");
    sandbox.run("game set --blend-as-usual").status(0);
    assert_eq!(sandbox.read("game/notes/old.qnote"), "1\ntwo\nthree\n4\n");
    // What both change is no more merged than anywhere else, and without the sheet's layer there is nothing to merge.
    sandbox.zip("low-2.zip", &[("notes/old.qnote", &notes.replace("four", "IV"))]);
    sandbox.run("upgrade low low-2.zip").status(0);
    assert_eq!(sandbox.read("game/notes/old.qnote"), high);
    sandbox.run("conflicts").status(3);
    sandbox.run("remove high").status(0);
    assert_eq!(sandbox.read("game/notes/old.qnote"), notes.replace("four", "IV"));
    sandbox.run("check --deep").status(0);
}

#[test]
fn a_fit_sheet_sets_keys() {
    let sandbox = with_meeting_layers();
    let sheet = "format = 1\nplace = [{ from = \"data\", to = \"data\" }]\n[[set]]\nfile = \"config/harbour.ini\"\nkey = \"Fog.high\"\nvalue = \"5\"\n\
                 [[set]]\nfile = \"config/none.ini\"\nkey = \"a\"\nvalue = \"1\"\n";
    sandbox.zip("tall-1.zip", &[("data/tall.qtx", "t"), ("oddfit.toml", sheet)]);
    sandbox.run("add tall-1.zip").status(0).says("sets Fog.high = 5 in config/harbour.ini");
    assert!(sandbox.read("game/config/harbour.ini").contains("thick=7\nhigh=5\n"));
    sandbox.run("conflicts").says("game:config/none.ini").says("there is no such file");
    sandbox.run("remove tall").status(0);
    assert!(sandbox.read("game/config/harbour.ini").contains("high=1"));
}

#[test]
fn needs_are_judged_before_a_change() {
    let sandbox = with_meeting_layers();
    sandbox.zip("tide-2.zip", &[("data/tide", "t")]);
    let refused = sandbox
        .run("add tide-2.zip --place .=game: --needs-game >=1.8 --needs Gulls>=2 --clashes fog")
        .status(4);
    refused
        .says("tide needs game >=1.8, and the game is 1.7")
        .says("upgrade Gulls first, or in the same command")
        .says("tide is incompatible with fog, and fog is laid")
        .says("--despite");
    sandbox.run("stack").says("3 layers");
    sandbox.run("add tide-2.zip --place .=game: --needs-game =>1.8").status(2).says("no range of versions");
    sandbox
        .run("add tide-2.zip --place .=game: --needs gulls --goes-below lamps --lifted")
        .status(0)
        .says("below lamps");
    sandbox.run("lay tide").status(0);
    // What others need is not taken from under them, unless that is wanted.
    sandbox
        .run("lift gulls")
        .status(4)
        .says("tide needs gulls, and no layer gulls is laid")
        .says("oddstack lift tide");
    sandbox.run("move tide --top").status(4).says("tide must lie below lamps, and it lies above it");
    sandbox.run("move tide --top --despite").status(0);
    sandbox.run("stack").says("tide must lie below lamps: it lies above it (you wanted it so)");
    sandbox.run("lift gulls tide").status(0);
    sandbox.zip("gulls-3.zip", &[("data/gulls", "g")]);
    sandbox.run("lay --all").status(0);
    sandbox.run("show tide").status(0).says("needs gulls").says("goes below lamps");
    sandbox.run("game set --game-version 1.8").status(0);
    // Rules that can't all be kept are told by name.
    sandbox.zip("one-1.zip", &[("data/one", "1")]);
    sandbox
        .run("add one-1.zip --place .=game: --goes-above tide --goes-below fog")
        .status(4)
        .says("must lie below fog");
    sandbox
        .run("add one-1.zip --place .=game: --goes-above lamps --goes-below tide")
        .status(4)
        .says("in a circle");
}

#[test]
fn an_order_rule_accepts_what_it_asks_for() {
    let sandbox = with_meeting_layers();
    sandbox.zip("over-1.zip", &[("data/lamps/brass.qtx", "over\n")]);
    sandbox.run("add over-1.zip --goes-above lamps --goes-above gulls --goes-above fog").status(0);
    let answer = sandbox.run("conflicts over --json").status(0).json();
    assert_eq!(answer["data"]["pairs"][0]["won_files"], 1);
    assert_eq!(sandbox.run("stack --json").json()["data"]["layers"][0]["open_files"], 0);
}

#[test]
fn odd_things_are_found() {
    let sandbox = with_meeting_layers();
    sandbox.zip("hook-1.zip", &[("bin/hook.dll", "one"), ("bin/hook.ini", "a=1\n"), ("bin/other.dll", "x")]);
    sandbox.zip("lock-1.zip", &[("bin/hook.dll", "two")]);
    sandbox.run("add hook-1.zip --place .=game:").status(0);
    sandbox.run("add lock-1.zip --place .=game:").status(0);
    let away = "format = 1\ntakes_away = [\"bin/other.dll\", \"data/nothing\"]\nplace = [{ from = \"data\", to = \"data\" }]\n";
    sandbox.zip("away-1.zip", &[("data/away", "a"), ("oddfit.toml", away)]);
    sandbox.run("add away-1.zip").status(0);
    let found = sandbox.run("conflicts").status(3);
    found
        .says("hook has both hook.dll and hook.ini")
        .says("away takes it away, hook puts it: it is away")
        .says("away takes it away, and there is nothing");
}

#[test]
fn the_games_version_is_read_by_a_pattern() {
    let sandbox = Sandbox::empty();
    sandbox.write("game/about.cfg", "Engine 4.2.0\nBuild   = 1.7.2b\n");
    sandbox.run("game add Quillhaven game --version-from about.cfg").status(0).says("4.2.0");
    sandbox.run("game set --version-pattern build={}").status(1).says("no version can be read");
    sandbox
        .run_words(&["game", "set", "--version-pattern", "build = {}"])
        .status(0)
        .says("1.7.2b, read from");
}

#[test]
fn what_drifted_is_mended() {
    let sandbox = with_meeting_layers();
    sandbox.run("mend").status(2).says("--restore");
    sandbox.run("mend --restore").status(0).says("Nothing to mend");
    sandbox.run("mend nowhere --restore").status(1).says("nothing lies there");
    let laid = sandbox.read("game/config/harbour.ini");
    sandbox
        .write("game/config/harbour.ini", &laid.replace("thick=7", "thick=3").replace("; harbour", "; mine"));
    sandbox.write("game/data/lamps/brass.qtx", "scratched\n");
    sandbox.run("check").status(3).says("`--keep` keeps");
    sandbox.run("mend --keep --dry-run").status(0).says("Fog.thick").says("Dry run");
    let kept = sandbox.run("mend config --keep").status(0);
    kept.says("1 file is kept as yours").says("Fog.thick").says("is saved at");
    assert_eq!(sandbox.read("game/config/harbour.ini"), laid.replace("thick=7", "thick=3"));
    sandbox.run("tweak list").status(0).says("Fog.thick");
    sandbox.run("mend data/* --keep").status(0).says("as a whole file");
    sandbox.run("tweak list").status(0).says("data/lamps/brass.qtx").says("the whole file");
    sandbox.run("tweak drop data/lamps/brass.qtx").status(0);
    sandbox.write("game/data/lamps/brass.qtx", "scratched\n");
    sandbox.run("mend data/* --restore").status(0).says("1 file is as the stack has it").says("is saved at");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps\n");
    // One file is one file: another that drifted stays as it is.
    sandbox.write("game/config/harbour.ini", "mine\n");
    std::fs::remove_file(sandbox.path("game/data/lamps/brass.qtx")).unwrap();
    sandbox.run("mend data/lamps/brass.qtx --restore").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps\n");
    assert_eq!(sandbox.read("game/config/harbour.ini"), "mine\n");
    sandbox.run("mend --restore").status(0);
    sandbox.run("check --deep").status(0);
    // What is the game's own is not ours to put again.
    sandbox.run("lift --all").status(0);
    sandbox.write("game/data/lamps/brass.qtx", "repaired\n");
    sandbox.run("mend data --restore").status(0).says("only the game's client can repair");
    sandbox.run("mend data/lamps/brass.qtx --accept").status(0);
    sandbox.run("check").status(0);
}

/// The states of what `conflicts --all` lists, by address.
fn states(sandbox: &Sandbox) -> Vec<(String, String)> {
    let report = sandbox.run("conflicts --all --json").json();
    let pairs = report["data"]["pairs"].as_array().unwrap().iter();
    let rows = pairs.flat_map(|pair| pair["contests"].as_array().unwrap().iter());
    rows.map(|row| (row["address"].as_str().unwrap().to_owned(), row["state"].as_str().unwrap().to_owned()))
        .collect()
}

#[test]
fn a_need_is_an_order_and_a_move_between_two_is_a_decision() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("core-1.zip", &[("data/a.qtx", "core a"), ("data/b.qtx", "core b")]);
    sandbox.zip("lamps-1.zip", &[("data/a.qtx", "lamps a"), ("data/c.qtx", "lamps c")]);
    sandbox.zip("fog-1.zip", &[("data/c.qtx", "fog c"), ("data/d.qtx", "fog d")]);
    sandbox.zip("gulls-1.zip", &[("data/d.qtx", "gulls d")]);
    sandbox.run("add core-1.zip --place .=game:").status(0);
    sandbox.run_words(&["add", "lamps-1.zip", "--place", ".=game:", "--needs", "core >=1"]).status(0);
    assert_eq!(
        states(&sandbox),
        [("game:data/a.qtx".to_owned(), "won".to_owned())],
        "what it needs it may cover"
    );
    // What is needed and comes later lies beneath.
    sandbox.run("remove core --despite").status(0);
    sandbox.run("add core-1.zip --place .=game:").status(0);
    assert_eq!(sandbox.run("stack --json").json()["data"]["layers"][0]["name"], "lamps");
    sandbox.run("add fog-1.zip --place .=game:").status(0);
    sandbox.run("add gulls-1.zip --place .=game:").status(0);
    let open = |sandbox: &Sandbox| states(sandbox).into_iter().filter(|(_, state)| state == "open").count();
    assert_eq!(open(&sandbox), 2);
    sandbox.run("move lamps --above fog --leave-open").status(0);
    assert_eq!(open(&sandbox), 2);
    // Where it lies so already, it is said once more and decided.
    let moved = sandbox.run("move lamps --above fog").status(0);
    moved.says("1 open contest between just these two settled so");
    assert_eq!(open(&sandbox), 1, "of others nothing is decided");
    assert_eq!(sandbox.read("game/data/c.qtx"), "lamps c");
    sandbox.run("move lamps --above fog").status(0).says("Nothing to do");
    sandbox.run("move lamps --below fog").status(0);
    assert_eq!((sandbox.read("game/data/c.qtx"), open(&sandbox)), ("fog c".to_owned(), 1));
    sandbox.run("check --deep").status(0);
}

/// Of each layer from the top: its name, files, what it takes away, files that count, and whether it has no effect.
fn counted(sandbox: &Sandbox) -> Vec<(String, [u64; 3], bool)> {
    let stack = sandbox.run("stack --json").status(0).json();
    let row = |row: &serde_json::Value| {
        let count = |key: &str| row[key].as_u64().unwrap();
        let counts = [count("files"), count("takes_away"), count("wins_files")];
        (row["name"].as_str().unwrap().to_owned(), counts, row["has_no_effect"].as_bool().unwrap())
    };
    stack["data"]["layers"].as_array().unwrap().iter().map(row).collect()
}

#[test]
fn what_layers_take_away_is_told_apart_from_their_files() {
    let sandbox = Sandbox::empty();
    sandbox.write("game/data/lamp.qtx", "lamp\n");
    sandbox.write("game/data/moth.qtx", "moth\n");
    sandbox.run("game add Quillhaven game --game-version 1.7").status(0);
    sandbox.zip("fog-1.zip", &[("data/fog.qtx", "fog\n")]);
    sandbox.zip("lamps-1.zip", &[("data/lamp.qtx", "bright\n")]);
    sandbox.zip("moths-1.zip", &[("data/moth.qtx", "bright\n")]);
    let named = |name: &str, counts: [u64; 3], is_without: bool| (name.to_owned(), counts, is_without);
    sandbox.run("add fog-1.zip --take-away data/lamp.qtx --take-away data/moth.qtx").status(0);
    assert_eq!(counted(&sandbox), [named("fog", [1, 2, 1], false)]);
    sandbox.run("stack").status(0).says("laid, takes off 2");
    sandbox.run("add lamps-1.zip").status(0);
    sandbox.run("add moths-1.zip").status(0);
    let [moths, lamps] = [named("moths", [1, 0, 1], false), named("lamps", [1, 0, 1], false)];
    assert_eq!(counted(&sandbox), [moths.clone(), lamps, named("fog", [1, 2, 1], false)]);
    // Beneath a layer that takes its file away one has no effect.
    sandbox.run("move lamps --bottom").status(0);
    let covered = named("lamps", [1, 0, 0], true);
    assert_eq!(counted(&sandbox), [moths.clone(), named("fog", [1, 2, 1], false), covered]);
    sandbox.run("conflicts").one_of(&[0, 3], "");
    // A settlement counts as well.
    sandbox.run("settle data/lamp.qtx --with lamps").status(0);
    assert_eq!(sandbox.read("game/data/lamp.qtx"), "bright\n");
    let lamps = named("lamps", [1, 0, 1], false);
    assert_eq!(counted(&sandbox), [moths.clone(), named("fog", [1, 2, 1], false), lamps.clone()]);
    // Where all that it has is covered, what it takes away too.
    sandbox.zip("mist-1.zip", &[("data/fog.qtx", "mist\n")]);
    sandbox.run("add mist-1.zip").status(0);
    let mist = named("mist", [1, 0, 1], false);
    assert_eq!(counted(&sandbox), [mist, moths.clone(), named("fog", [1, 2, 0], true), lamps.clone()]);
    let shown = sandbox.run("lift fog --json").status(0).json();
    assert_eq!(shown["data"]["layers"][0]["takes_away"], 2, "{shown}");
    sandbox.run("remove mist").status(0);
    assert_eq!(counted(&sandbox), [moths, named("fog", [1, 2, 0], false), lamps]);
}
