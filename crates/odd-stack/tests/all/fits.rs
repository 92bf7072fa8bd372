//! Where files go: found out, asked, chosen, written down, remembered.

use std::fs;

use insta::assert_snapshot;

use crate::closed::Closed;

#[test]
fn what_is_not_clear_is_asked_and_each_answer_can_be_pasted() {
    let closed = Closed::with_game();
    closed.write("game/mods/fog_ferries/addon.json", "{}");
    closed.write("game/mods/gull_songs/addon.json", "{}");
    closed.run("game forget Quillhaven").status(0);
    closed.run("game add Quillhaven game --root docs=docs").status(0);
    closed.zip(
        "lamp-oil-0.4.1-2.zip",
        &[
            ("lamp-oil-0.4.1-2/addon.json", "{ \"name\": \"Lamp Oil\", \"id\": \"lampoil\" }"),
            ("lamp-oil-0.4.1-2/oil.lua", "x"),
            ("lamp-oil-0.4.1-2/readme.txt", "r"),
        ],
    );
    assert_snapshot!(closed.run("add lamp-oil-0.4.1-2.zip").whole(), @r#"
    error: [HERE]/lamp-oil-0.4.1-2.zip: it looks like an add-on that wants a folder of its own below game:mods, where `fog_ferries/addon.json` lies
    Choose:
      --place "*=game:mods/lampoil" --tidy      its own file `addon.json` says so, as `fog_ferries/addon.json` lies there; 2 new, 1 left out
      --place "*=game:mods/lamp_oil" --tidy     after its folder's name, where other add-ons lie, as `fog_ferries/addon.json` lies there; 2 new, 1 left out
      --place "*=game:mods/fog_ferries" --tidy  1 of 2 files exist there in the game; 1 new, 1 replaced, 1 left out
      --place "*=game:mods/gull_songs" --tidy   1 of 2 files exist there in the game; 1 new, 1 replaced, 1 left out
      --place ".=game:mods" --tidy              `lamp-oil-0.4.1-2` is built like 2 folders there; 2 new, 1 left out
      --place "*=game:" --tidy                  into the game's own folder; 2 new, 1 left out
      --place ".=game:" --tidy                  into the game's own folder, with the folder `lamp-oil-0.4.1-2`; 2 new, 1 left out
    [exit 4]
    "#);
    assert_snapshot!(closed.run("inspect lamp-oil-0.4.1-2.zip").whole(), @r#"
    lamp-oil 0.4.1-2  zip lamp-oil-0.4.1-2.zip, 3 files, 41 B
      lamp-oil-0.4.1-2/      41 B  3 files
        addon.json           39 B
        oil.lua               1 B
        readme.txt            1 B

    On top of Quillhaven's stack it would go like this:
      not placed yet: it looks like an add-on that wants a folder of its own below game:mods, where `fog_ferries/addon.json` lies
        --place "*=game:mods/lampoil" --tidy  its own file `addon.json` says so, as `fog_ferries/addon.json` lies there; 2 new, 1 left out
        --place "*=game:mods/lamp_oil" --tidy  after its folder's name, where other add-ons lie, as `fog_ferries/addon.json` lies there; 2 new, 1 left out
        --place "*=game:mods/fog_ferries" --tidy  1 of 2 files exist there in the game; 1 new, 1 replaced, 1 left out
        --place "*=game:mods/gull_songs" --tidy  1 of 2 files exist there in the game; 1 new, 1 replaced, 1 left out
        --place ".=game:mods" --tidy  `lamp-oil-0.4.1-2` is built like 2 folders there; 2 new, 1 left out
        --place "*=game:" --tidy  into the game's own folder; 2 new, 1 left out
        --place ".=game:" --tidy  into the game's own folder, with the folder `lamp-oil-0.4.1-2`; 2 new, 1 left out
    [exit 0]
    "#);
    closed.run("add lamp-oil-0.4.1-2.zip --place *=game:mods/lampoil --tidy").status(0);
    assert_eq!(closed.read("game/mods/lampoil/oil.lua"), "x");
    assert!(!closed.path("game/mods/lampoil/readme.txt").exists());
    closed.zip("fog-1.zip", &[("saves/one.qsv", "s"), ("data/lamps/brass.qtx", "fog")]);
    closed.run("add fog-1.zip").status(4).says("game set --root saves=DIR").says("--skip \"saves\"");
    closed.run("add fog-1.zip --skip saves").status(0);
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "fog");
}

#[test]
fn one_of_several_is_chosen_and_remembered() {
    let closed = Closed::with_game();
    let version = |name: &str, mark: &str| {
        let lamp = format!("{mark} lamp");
        closed.zip(
            name,
            &[
                ("Finish - Polished/data/lamps/brass.qtx", &format!("polished {lamp}")),
                ("Finish - Matte/data/lamps/brass.qtx", &format!("matte {lamp}")),
                ("Optional/data/lamps/iron.qtx", &lamp),
            ],
        );
    };
    version("lamps-1.0.zip", "old");
    version("lamps-1.1.zip", "new");
    assert_snapshot!(closed.run("add lamps-1.0.zip").whole(), @"
    error: [HERE]/lamps-1.0.zip: choose first: finish (polished or matte)
    Choose:
      --choose finish=polished                       take polished
      --choose finish=matte                          take matte
      --choose finish=polished --choose optional=on  take polished, and `Optional`, which is left out otherwise
    [exit 4]
    ");
    assert_snapshot!(closed.run("inspect lamps-1.0.zip").whole(), @"
    lamps 1.0  zip lamps-1.0.zip, 3 files, 39 B
      Finish - Matte/data/lamps/         14 B  1 file
        brass.qtx                        14 B
      Finish - Polished/data/lamps/      17 B  1 file
        brass.qtx                        17 B
      Optional/data/lamps/                8 B  1 file
        iron.qtx                          8 B

    On top of Quillhaven's stack it would go like this:
      not placed yet: one of several must be chosen first
      choose: --choose finish=polished or --choose finish=matte
      without `Optional` (1 file; --choose optional=on takes it)
    [exit 0]
    ");
    closed.run("add lamps-1.0.zip --choose finish=golden").status(4).says("--choose finish=matte");
    closed
        .run("add lamps-1.0.zip --choose shine=matte")
        .status(1)
        .says("what can be chosen is: finish, optional");
    closed.run("add lamps-1.0.zip --choose matte").status(2).says("ID=OPTION");
    closed.run("add lamps-1.0.zip --choose finish=matte --choose optional=on").status(0);
    assert_snapshot!(closed.run("show lamps").whole(), @"
    lamps 1.0, number 1 in the stack, laid
      package   zip [HERE]/lamps-1.0.zip
      added     2026-01-02T03:04:05Z
      files     2, 22 B
      chosen    finish=matte, not polished
                Finish - Matte to game:
      part      optional is on
                Optional to game:
      covers    2 files of the game's own
      covered   nothing
      game:data/lamps/brass.qtx  14 B  85911fa2  over the game's own
      game:data/lamps/iron.qtx    8 B  9e991038  over the game's own
    [exit 0]
    ");
    closed.run("upgrade lamps lamps-1.1.zip").status(0);
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "matte new lamp");
    assert_eq!(closed.read("game/data/lamps/iron.qtx"), "new lamp");
    closed
        .run("upgrade lamps lamps-1.0.zip --choose finish=polished --choose optional=off")
        .status(0)
        .says("going back");
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "polished old lamp");
    assert_eq!(closed.read("game/data/lamps/iron.qtx"), "base iron\n");
}

#[test]
fn a_fit_is_written_down_edited_checked_and_used() {
    let closed = Closed::with_game();
    closed.write("pack-1.0/Pack/data/lamps/brass.qtx", "new");
    closed.write("pack-1.0/Pack/skin_v4_final.qtx", "skin");
    closed.write("pack-1.0/Pack/readme.txt", "r");
    let sheet = closed.run("fit pack-1.0").status(0).stdout;
    assert_snapshot!(sheet, @r#"
    # Where the files of this package go. Edit it, put it into the package or give it with --fit.
    format = 1
    name = "pack"
    version = "1.0"
    tidy = true

    # 1 of 2 files exist there in the game
    [[place]]
    from = "*"
    to = "game:"
    "#);
    closed.write(
        "my.toml",
        &format!("{sheet}\n[[place]]\nfrom = \"skin_v4_final.qtx\"\nto = \"game:data/lamps/iron.qtx\"\n"),
    );
    closed.run("fit --check my.toml").status(0).says("2 places");
    closed.run("add pack-1.0 --fit my.toml").status(0);
    assert_eq!(closed.read("game/data/lamps/iron.qtx"), "skin");
    assert!(!closed.path("game/skin_v4_final.qtx").exists() && !closed.path("game/readme.txt").exists());
    closed.write("bad.toml", "[[place]]\nfrom = \"a\"\nto = \"nowhere:b\"\n");
    closed.run("fit --check bad.toml").status(1).says("line 3, column 6").says("`nowhere:`");
    closed.write("bad.toml", "format = 1\nplaces = 3\n");
    closed
        .run("add pack-1.0 --name other --fit bad.toml")
        .status(1)
        .says("bad.toml")
        .says("line 2, column 1");
    closed.run("add pack-1.0 --name other --fit none.toml").status(1).says("can't read the fit sheet");
    // In a package: each option and part is tried.
    let sheet = "[[choice]]\nid = \"lamp\"\n[[choice.option]]\nname = \"a\"\nplace = [{ from = \"a\", to = \"data/lamps\" }]\n\
                 [[choice.option]]\nname = \"b\"\nplace = [{ from = \"b\", to = \"data/lamps\" }]\n";
    closed.write("own/oddfit.toml", sheet);
    closed.write("own/a/brass.qtx", "a");
    closed.run("fit --check own").status(1).says("line 8, column 19").says("no file or folder `b`");
    closed.write("own/b/brass.qtx", "b");
    assert_snapshot!(closed.run("fit --check own").whole(), @"
    The fit sheet is right: 2 places, a choice lamp (a, b)
      lamp=a: 1 file placed, 1 left out (the package's fit sheet), 1 left out (of options not chosen)
      lamp=b: 1 file placed, 1 left out (the package's fit sheet), 1 left out (of options not chosen)
    [exit 0]
    ");
}

#[test]
fn a_new_version_tells_what_is_new_and_keeps_settings() {
    let closed = Closed::with_game();
    closed.zip(
        "lamps-1.0.zip",
        &[
            ("L1/data/lamps/brass.qtx", "1"),
            ("L1/data/lamps/old.qtx", "o"),
            ("L1/config/lamps.ini", "[a]\nx=1\ny=1\n"),
        ],
    );
    closed.zip(
        "lamps-1.1.zip",
        &[
            ("L2/data/lamps/brass.qtx", "2"),
            ("L2/data/lamps/iron.qtx", "i"),
            ("L2/config/lamps.ini", "[a]\nx=1\ny=2\nz=3\n"),
        ],
    );
    closed.zip("iron-1.zip", &[("data/lamps/iron.qtx", "other")]);
    closed.run("add lamps-1.0.zip").status(0);
    closed.run("add iron-1.zip").status(0);
    closed.write("game/config/lamps.ini", "[a]\nx=9\ny=1\n");
    assert_snapshot!(closed.run("upgrade lamps lamps-1.1.zip").whole(), @"
    lamps 1.1  zip lamps-1.1.zip, 3 files, 18 B
      what is in `L2` goes to game: (3 of 3 files exist there in the game)
      the new version, from 1.0 to 1.1: 1 added, 2 changed, 1 gone
      added    game:data/lamps/iron.qtx
      changed  game:config/lamps.ini
      changed  game:data/lamps/brass.qtx
      gone     game:data/lamps/old.qtx
      newly contested: game:data/lamps/iron.qtx
      your own a.x is carried over in game:config/lamps.ini
        (the file as it was is saved at [HERE]/home/ledgers/quillhaven/kept/3/game/config/lamps.ini)
    lamps took the place of lamps 1.0. (revision 3)
    [exit 0]
    ");
    assert_eq!(closed.read("game/config/lamps.ini"), "[a]\nx=9\ny=2\nz=3\n");
    closed.write("game/config/lamps.ini", "[a]\nx=9\ny=5\nz=3\n");
    assert_snapshot!(closed.run("upgrade lamps lamps-1.0.zip").whole(), @"
    error: you and the new version changed the same; nothing was changed:
      game:config/lamps.ini  a.y: yours 5, the new version's 1 (it was 2)
    Choose:
      --both-changed mine  where both changed something, keep yours
      --both-changed new   where both changed something, take the new version's
      --keep-edits         save your whole files and take the new version's
      --discard-edits      let go of your whole files and take the new version's
    [exit 4]
    ");
    closed
        .run("upgrade lamps lamps-1.0.zip --both-changed new")
        .status(0)
        .says("going back, from 1.1 to 1.0");
    assert_eq!(closed.read("game/config/lamps.ini"), "[a]\nx=9\ny=1\n");
    closed.zip("lamps-1.0.1.zip", &[("data/lamps/old.qtx", "patched")]);
    closed.run("upgrade lamps lamps-1.0.1.zip --patch").status(4).says("--onto 1.0");
    closed.run("upgrade lamps lamps-1.0.1.zip --patch --onto 1.0").status(0).says("1 changed, 2 unchanged");
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "1");
}

#[test]
fn what_was_put_there_by_hand_is_adopted() {
    let closed = Closed::with_game();
    closed.zip(
        "lamps-1.0.zip",
        &[("L/data/lamps/brass.qtx", "base brass\n"), ("L/data/lamps/iron.qtx", "other iron")],
    );
    assert_snapshot!(closed.run("adopt lamps-1.0.zip").whole(), @"
    lamps 1.0  zip lamps-1.0.zip, 1 file, 11 B
      what is in `L` goes to game: (2 of 2 files exist there in the game)
      1 file of it lie in the game just so
        game:data/lamps/brass.qtx
      1 file there with other content, and no part of the layer
        game:data/lamps/iron.qtx
      At 1 address the game may have had a file of its own before; nobody knows it any more.
      When the layer is lifted, let the game's client repair its files and run `oddstack mend --accept`.
    lamps is adopted, beneath all other layers; no file was written. (revision 1)
    [exit 0]
    ");
    assert_snapshot!(closed.run("lift lamps").whole(), @"
    lift lamps: deletes 1 file (11 B)
      delete  game:data/lamps/brass.qtx  11 B  of lamps
      1 file of the game's own may be missing now: game:data/lamps/brass.qtx
      the layer was adopted, so these are not known here; let the game's client repair its files, then run `oddstack mend --accept`
    Lifted lamps. (revision 2)
    [exit 0]
    ");
    closed.run("mend --accept data/lamps/brass.qtx").status(1).says("let the game's client repair");
    closed.write("game/data/lamps/brass.qtx", "repaired");
    assert_snapshot!(closed.run("mend --accept").whole(), @"
      accepted  game:data/lamps/brass.qtx
    1 file counts as the game's own. (revision 3)
    [exit 0]
    ");
    closed.run("lay lamps").status(0);
    closed.run("lift lamps").status(0);
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "repaired");
}

#[test]
fn originals_that_lie_aside_are_found_when_their_stand_ins_are_adopted() {
    let closed = Closed::empty();
    closed.write("game/core.qpk", "the game's own");
    closed.write("game/data/map.qtx", "map\n");
    closed.write("game/addon/a.lua", "a\n");
    closed.run("game add Quillhaven game").status(0);
    closed.zip("more-1.zip", &[("core.qpk", "changed"), ("addon/a.lua", "a\n")]);
    fs::rename(closed.path("game/core.qpk"), closed.path("game/core.qpk.orig")).unwrap();
    closed.write("game/core.qpk", "changed");
    let asked = closed.run("adopt more-1.zip --place .=game:").status(4);
    asked.says("lies at game:core.qpk.orig (by its size and time)").says("--originals take");
    closed.run("adopt more-1.zip --place .=game: --originals take --dry-run").status(0);
    assert_eq!(closed.read("game/core.qpk.orig"), "the game's own");
    closed.run("adopt more-1.zip --place .=game: --originals take").status(0).says("was found at");
    closed.run("check --deep").status(0);
    closed.run("lift more").status(0);
    assert_eq!(closed.read("game/core.qpk"), "the game's own");
    assert!(!closed.path("game/core.qpk.orig").exists() && !closed.path("game/addon").exists());
    // When the game came into care with the stand-in, its name tells it.
    closed.run("lay more").status(0);
    closed.run("game forget Quillhaven --leave-layers").status(0);
    closed.write("game/backup/core.qpk", "the game's own");
    closed.run("game add Quillhaven game").status(0);
    closed.run("adopt more-1.zip --place .=game:").status(4).says("game:backup/core.qpk (by its name)");
    closed.run("adopt more-1.zip --place .=game: --originals leave").status(0).says("At 2 addresses");
    assert_eq!(closed.read("game/backup/core.qpk"), "the game's own");
}

#[test]
fn a_sheet_takes_folders_and_patterns_away() {
    let closed = Closed::with_game();
    closed.write("game/old/a.qtx", "a\n");
    closed.write("game/old/deep/b.bak", "b\n");
    closed.write("game/data/lamps/brass.bak", "bak\n");
    closed.run("patchday finish").status(0);
    let before = closed.files();
    let sheet = "takes_away = [\"old\", \"data/**/*.bak\", \"none/*\"]\n\
                 place = [{ from = \"new.qtx\", to = \"game:data/new.qtx\" }]\n";
    closed.zip("clean-1.zip", &[("oddfit.toml", sheet), ("new.qtx", "n")]);
    closed.run("fit --check clean-1.zip").status(0);
    let added = closed.run("add clean-1.zip").status(0);
    added.says("takes away: game:old/, game:data/lamps/brass.bak").says("drops the folder game:old");
    assert!(!closed.path("game/old").exists());
    closed.run("check --deep").status(0);
    // A file that nobody knows keeps its folder, and that is told.
    closed.run("lift clean").status(0);
    closed.write("game/old/mine.txt", "mine\n");
    closed.run("lay clean").status(0).says("the folder game:old stays: something lies in it");
    closed.run("remove clean").status(0);
    fs::remove_file(closed.path("game/old/mine.txt")).unwrap();
    assert_eq!(closed.files(), before);
    closed.run("check --deep").status(0);
}

#[test]
fn a_backup_of_the_games_own_files_stays_out() {
    let closed = Closed::with_game();
    for backup in ["backup/brass.qtx", "Original/data/lamps/brass.qtx"] {
        closed.zip(
            "shiny-1.zip",
            &[("data/lamps/brass.qtx", "shiny"), (backup, "base brass\n"), ("data/lamps/iron.qtx", "new")],
        );
        for line in ["inspect shiny-1.zip", "add shiny-1.zip"] {
            closed.run(line).status(0).says("copies of the game's own");
        }
        assert_eq!(closed.read("game/data/lamps/brass.qtx"), "shiny");
        assert!(!closed.path("game/backup").exists() && !closed.path("game/Original").exists());
        closed.run("remove shiny").status(0);
    }
    // One that differs is no copy, but stays out all the same unless it is asked for.
    closed.zip("dull-1.zip", &[("data/lamps/brass.qtx", "dull"), ("backup/data/lamps/brass.qtx", "another")]);
    closed.run("add dull-1.zip").status(0);
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "dull");
    assert!(!closed.path("game/backup").exists());
}

/// The answers that a question offers: the options, and what is said of them.
fn answers(asked: &str) -> Vec<(String, String)> {
    let lines = asked.lines().filter_map(|line| line.trim().strip_prefix("--place "));
    let answers = lines.filter_map(|line| line.split_once("  "));
    answers.map(|(option, does)| (format!("--place {}", option.trim()), does.trim().to_owned())).collect()
}

#[test]
fn what_to_choose_is_asked_before_where_it_goes_and_an_answer_loses_nothing() {
    let closed = Closed::empty();
    for number in 1..5 {
        closed.write(&format!("game/sound/bells/bell_1{number}.qbl"), "b");
        closed.write(&format!("game/sound/bells/bell_2{number}.qbl"), "b");
        closed.write(&format!("game/text/bell_9{number}.qbl"), "elsewhere");
    }
    closed.write("game/data/lamps/brass.qtx", "base");
    closed.run("game add Quillhaven game").status(0);
    closed.zip(
        "chimes.zip",
        &[
            ("chimes/Loud/bell_07.qbl", "loud"),
            ("chimes/Soft/bell_07.qbl", "soft"),
            ("chimes/data/lamps/brass.qtx", "new"),
            ("chimes/Optional/data/lamps/extra.qtx", "x"),
            ("chimes/readme.txt", "r"),
        ],
    );
    closed.run("add chimes.zip").status(4).says("--choose variant=loud").says("--choose variant=soft");
    let answers = answers(&closed.run("add chimes.zip --choose variant=soft").status(4).whole());
    assert!(answers.len() <= 7 && answers[0].0.contains("game:sound/bells"), "{answers:?}");
    // Pasted as it is printed; what was chosen, the rest of the package and what stays out are not lost.
    let mut words = vec!["add", "chimes.zip", "--choose", "variant=soft"];
    words.extend(answers[0].0.split(' ').map(|word| word.trim_matches(['"', '\''])));
    closed.run_words(&words).status(0);
    assert_eq!(closed.read("game/sound/bells/bell_07.qbl"), "soft");
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "new");
    // Another variant later goes where the first one went.
    closed.run("upgrade chimes chimes.zip --choose variant=loud").status(0);
    assert_eq!(closed.read("game/sound/bells/bell_07.qbl"), "loud");
    for stray in ["game/data/lamps/extra.qtx", "game/readme.txt", "game/Loud", "game/Soft", "game/Optional"] {
        assert!(!closed.path(stray).exists(), "{stray}");
    }
}

#[test]
fn places_that_the_game_speaks_against_are_said_and_those_inside_files_refused() {
    let closed = Closed::empty();
    for name in ["brass", "iron", "paper", "tin"] {
        closed.write(&format!("game/data/lamps/{name}.qtx"), "base");
    }
    closed.write("game/mods/fog/addon.json", "{}");
    closed.write("game/core.qpk", "container");
    closed.run("game add Quillhaven game").status(0);
    let files = ["brass", "iron", "paper", "new"].map(|name| (format!("lamps/{name}.qtx"), "n"));
    let files = files.each_ref().map(|(path, text)| (path.as_str(), *text));
    closed.zip("lamps.zip", &files);
    closed.run("add lamps.zip --place .=game:mods --dry-run").status(0).says(
        "3 of its 4 files exist in the game as `.=game:data` would put them, and none where they were placed",
    );
    closed
        .run("add lamps.zip --place .=game:core.qpk!/lamps")
        .status(1)
        .says("leads into a file")
        .says("game:core.qpk");
    closed.run("add lamps.zip --place .=game:data").status(0);
}

#[test]
fn an_answer_counts_for_the_next_package_of_that_shape_until_the_layer_goes() {
    let closed = Closed::with_game();
    closed.write("game/mods/fog_ferries/addon.json", "{}");
    closed.write("game/mods/gull_songs/addon.json", "{}");
    closed.write("game/addons/old_pier/addon.json", "{}");
    closed.write("game/addons/old_quay/addon.json", "{}");
    closed.run("game forget Quillhaven").status(0);
    closed.run("game add Quillhaven game").status(0);
    for name in ["one", "two"] {
        closed.zip(&format!("{name}.zip"), &[("addon.json", "{}"), (&format!("{name}.lua"), "x")]);
    }
    let first = |closed: &Closed| answers(&closed.run("add two.zip").status(4).whole()).swap_remove(0);
    let (before, _) = first(&closed);
    let other = if before.contains("game:mods") { "addons" } else { "mods" };
    closed.run(&format!("add one.zip --place .=game:{other}/one --tidy")).status(0);
    let (after, does) = first(&closed);
    assert!(after.contains(&format!("game:{other}/two")), "{before} -> {after}");
    assert!(does.starts_with("as you placed `one`"), "{does}");
    closed.run("remove one").status(0);
    assert_eq!(first(&closed).0, before, "gone with the layer");
}
