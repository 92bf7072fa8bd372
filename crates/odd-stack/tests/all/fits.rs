//! Where files go: found out, asked, chosen, written down, remembered.

use std::fs;

use insta::assert_snapshot;

use crate::sandbox::Sandbox;

#[test]
fn what_is_not_clear_is_asked_and_each_answer_can_be_pasted() {
    let sandbox = Sandbox::with_game();
    sandbox.write("game/mods/fog_ferries/addon.json", "{}");
    sandbox.write("game/mods/gull_songs/addon.json", "{}");
    sandbox.run("game forget Quillhaven").status(0);
    sandbox.run("game add Quillhaven game --root docs=docs").status(0);
    sandbox.zip(
        "lamp-oil-0.4.1-2.zip",
        &[
            ("lamp-oil-0.4.1-2/addon.json", "{ \"name\": \"Lamp Oil\", \"id\": \"lampoil\" }"),
            ("lamp-oil-0.4.1-2/oil.lua", "x"),
            ("lamp-oil-0.4.1-2/readme.txt", "r"),
        ],
    );
    assert_snapshot!(sandbox.run("add lamp-oil-0.4.1-2.zip").whole(), @r#"
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
    assert_snapshot!(sandbox.run("inspect lamp-oil-0.4.1-2.zip").whole(), @r#"
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
    sandbox.run("add lamp-oil-0.4.1-2.zip --place *=game:mods/lampoil --tidy").status(0);
    assert_eq!(sandbox.read("game/mods/lampoil/oil.lua"), "x");
    assert!(!sandbox.path("game/mods/lampoil/readme.txt").exists());
    sandbox.zip("fog-1.zip", &[("saves/one.qsv", "s"), ("data/lamps/brass.qtx", "fog")]);
    sandbox.run("add fog-1.zip").status(4).says("game set --root saves=DIR").says("--skip \"saves\"");
    sandbox.run("add fog-1.zip --skip saves").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "fog");
}

#[test]
fn one_of_several_is_chosen_and_remembered() {
    let sandbox = Sandbox::with_game();
    let version = |name: &str, mark: &str| {
        let lamp = format!("{mark} lamp");
        sandbox.zip(
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
    assert_snapshot!(sandbox.run("add lamps-1.0.zip").whole(), @"
    error: [HERE]/lamps-1.0.zip: choose first: finish (polished or matte)
    Choose:
      --choose finish=polished                       take polished
      --choose finish=matte                          take matte
      --choose finish=polished --choose optional=on  take polished, and `Optional`, which is left out otherwise
    [exit 4]
    ");
    assert_snapshot!(sandbox.run("inspect lamps-1.0.zip").whole(), @"
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
    sandbox.run("add lamps-1.0.zip --choose finish=golden").status(4).says("--choose finish=matte");
    sandbox
        .run("add lamps-1.0.zip --choose shine=matte")
        .status(1)
        .says("what can be chosen is: finish, optional");
    sandbox.run("add lamps-1.0.zip --choose matte").status(2).says("ID=OPTION");
    sandbox.run("add lamps-1.0.zip --choose finish=matte --choose optional=on").status(0);
    assert_snapshot!(sandbox.run("show lamps").whole(), @"
    lamps 1.0, number 1 in the stack, laid
      package   zip [HERE]/lamps-1.0.zip
      added     2026-01-02T03:04:05Z
      files     2, 22 B
      on disk   22 B in the game, 22 B in the ledger
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
    sandbox.run("upgrade lamps lamps-1.1.zip").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "matte new lamp");
    assert_eq!(sandbox.read("game/data/lamps/iron.qtx"), "new lamp");
    sandbox
        .run("upgrade lamps lamps-1.0.zip --choose finish=polished --choose optional=off")
        .status(0)
        .says("going back");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "polished old lamp");
    assert_eq!(sandbox.read("game/data/lamps/iron.qtx"), "base iron\n");
}

#[test]
fn a_fit_is_written_down_edited_checked_and_used() {
    let sandbox = Sandbox::with_game();
    sandbox.write("pack-1.0/Pack/data/lamps/brass.qtx", "new");
    sandbox.write("pack-1.0/Pack/skin_v4_final.qtx", "skin");
    sandbox.write("pack-1.0/Pack/readme.txt", "r");
    let sheet = sandbox.run("fit pack-1.0").status(0).stdout;
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
    sandbox.write(
        "my.toml",
        &format!("{sheet}\n[[place]]\nfrom = \"skin_v4_final.qtx\"\nto = \"game:data/lamps/iron.qtx\"\n"),
    );
    sandbox.run("fit --check my.toml").status(0).says("2 places");
    sandbox.run("add pack-1.0 --fit my.toml").status(0);
    assert_eq!(sandbox.read("game/data/lamps/iron.qtx"), "skin");
    assert!(!sandbox.path("game/skin_v4_final.qtx").exists() && !sandbox.path("game/readme.txt").exists());
    sandbox.write("bad.toml", "[[place]]\nfrom = \"a\"\nto = \"nowhere:b\"\n");
    sandbox.run("fit --check bad.toml").status(1).says("line 3, column 6").says("`nowhere:`");
    sandbox.write("bad.toml", "format = 1\nplaces = 3\n");
    sandbox
        .run("add pack-1.0 --name other --fit bad.toml")
        .status(1)
        .says("bad.toml")
        .says("line 2, column 1");
    sandbox.run("add pack-1.0 --name other --fit none.toml").status(1).says("can't read the fit sheet");
    // In a package: each option and part is tried.
    let sheet = "[[choice]]\nid = \"lamp\"\n[[choice.option]]\nname = \"a\"\nplace = [{ from = \"a\", to = \"data/lamps\" }]\n\
                 [[choice.option]]\nname = \"b\"\nplace = [{ from = \"b\", to = \"data/lamps\" }]\n";
    sandbox.write("own/oddfit.toml", sheet);
    sandbox.write("own/a/brass.qtx", "a");
    sandbox.run("fit --check own").status(1).says("line 8, column 19").says("no file or folder `b`");
    sandbox.write("own/b/brass.qtx", "b");
    assert_snapshot!(sandbox.run("fit --check own").whole(), @"
    The fit sheet is right: 2 places, a choice lamp (a, b)
      lamp=a: 1 file placed, 1 left out (the package's fit sheet), 1 left out (of options not chosen)
      lamp=b: 1 file placed, 1 left out (the package's fit sheet), 1 left out (of options not chosen)
    [exit 0]
    ");
}

#[test]
fn a_new_version_tells_what_is_new_and_keeps_settings() {
    let sandbox = Sandbox::with_game();
    sandbox.zip(
        "lamps-1.0.zip",
        &[
            ("L1/data/lamps/brass.qtx", "1"),
            ("L1/data/lamps/old.qtx", "o"),
            ("L1/config/lamps.ini", "[a]\nx=1\ny=1\n"),
        ],
    );
    sandbox.zip(
        "lamps-1.1.zip",
        &[
            ("L2/data/lamps/brass.qtx", "2"),
            ("L2/data/lamps/iron.qtx", "i"),
            ("L2/config/lamps.ini", "[a]\nx=1\ny=2\nz=3\n"),
        ],
    );
    sandbox.zip("iron-1.zip", &[("data/lamps/iron.qtx", "other")]);
    sandbox.run("add lamps-1.0.zip").status(0);
    sandbox.run("add iron-1.zip").status(0);
    sandbox.write("game/config/lamps.ini", "[a]\nx=9\ny=1\n");
    assert_snapshot!(sandbox.run("upgrade lamps lamps-1.1.zip").whole(), @"
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
    `oddstack undo` takes this back.
    [exit 0]
    ");
    assert_eq!(sandbox.read("game/config/lamps.ini"), "[a]\nx=9\ny=2\nz=3\n");
    sandbox.write("game/config/lamps.ini", "[a]\nx=9\ny=5\nz=3\n");
    assert_snapshot!(sandbox.run("upgrade lamps lamps-1.0.zip").whole(), @"
    error: you and the new version changed the same; nothing was changed:
      game:config/lamps.ini  a.y: yours 5, the new version's 1 (it was 2)
    Choose:
      --both-changed mine  where both changed something, keep yours
      --both-changed new   where both changed something, take the new version's
      --keep-edits         save your whole files and take the new version's
      --discard-edits      discard your whole files and take the new version's
    [exit 4]
    ");
    sandbox
        .run("upgrade lamps lamps-1.0.zip --both-changed new")
        .status(0)
        .says("going back, from 1.1 to 1.0");
    assert_eq!(sandbox.read("game/config/lamps.ini"), "[a]\nx=9\ny=1\n");
    sandbox.zip("lamps-1.0.1.zip", &[("data/lamps/old.qtx", "patched")]);
    sandbox.run("upgrade lamps lamps-1.0.1.zip --patch").status(4).says("--onto 1.0");
    sandbox.run("upgrade lamps lamps-1.0.1.zip --patch --onto 1.0").status(0).says("1 changed, 2 unchanged");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "1");
}

#[test]
fn what_was_put_there_by_hand_is_adopted() {
    let sandbox = Sandbox::with_game();
    sandbox.zip(
        "lamps-1.0.zip",
        &[("L/data/lamps/brass.qtx", "base brass\n"), ("L/data/lamps/iron.qtx", "other iron")],
    );
    assert_snapshot!(sandbox.run("adopt lamps-1.0.zip").whole(), @"
    lamps 1.0  zip lamps-1.0.zip, 1 file, 11 B
      what is in `L` goes to game: (2 of 2 files exist there in the game)
      1 file of it lies in the game just so
        game:data/lamps/brass.qtx
      1 file there with other content, and no part of the layer
        game:data/lamps/iron.qtx
      At 1 address the game may have had a file of its own before; nobody knows it any more.
      When the layer is lifted, let the game's client repair its files and run `oddstack mend --accept`.
    lamps is adopted, beneath all other layers; no file was written. (revision 1)
    [exit 0]
    ");
    assert_snapshot!(sandbox.run("lift lamps").whole(), @"
    lift lamps: deletes 1 file (11 B)
      delete  game:data/lamps/brass.qtx  11 B  of lamps
      1 file of the game's own may be missing now: game:data/lamps/brass.qtx
      the layer was adopted, so these are not known here; let the game's client repair its files, then run `oddstack mend --accept`
    Lifted lamps. (revision 2)
    `oddstack undo` takes this back.
    [exit 0]
    ");
    sandbox.run("mend --accept data/lamps/brass.qtx").status(1).says("let the game's client repair");
    sandbox.write("game/data/lamps/brass.qtx", "repaired");
    assert_snapshot!(sandbox.run("mend --accept").whole(), @"
      accepted  game:data/lamps/brass.qtx
    1 file counts as the game's own. (revision 3)
    [exit 0]
    ");
    sandbox.run("lay lamps").status(0);
    sandbox.run("lift lamps").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "repaired");
}

#[test]
fn originals_that_lie_aside_are_found_when_their_stand_ins_are_adopted() {
    let sandbox = Sandbox::empty();
    sandbox.write("game/core.qpk", "the game's own");
    sandbox.write("game/data/map.qtx", "map\n");
    sandbox.write("game/addon/a.lua", "a\n");
    sandbox.run("game add Quillhaven game").status(0);
    sandbox.zip("more-1.zip", &[("core.qpk", "changed"), ("addon/a.lua", "a\n")]);
    fs::rename(sandbox.path("game/core.qpk"), sandbox.path("game/core.qpk.orig")).unwrap();
    sandbox.write("game/core.qpk", "changed");
    let asked = sandbox.run("adopt more-1.zip --place .=game:").status(4);
    asked.says("lies at game:core.qpk.orig (by its size and time)").says("--originals take");
    sandbox.run("adopt more-1.zip --place .=game: --originals take --dry-run").status(0);
    assert_eq!(sandbox.read("game/core.qpk.orig"), "the game's own");
    sandbox.run("adopt more-1.zip --place .=game: --originals take").status(0).says("was found at");
    sandbox.run("check --deep").status(0);
    sandbox.run("lift more").status(0);
    assert_eq!(sandbox.read("game/core.qpk"), "the game's own");
    assert!(!sandbox.path("game/core.qpk.orig").exists() && !sandbox.path("game/addon").exists());
    // When the game was added with the stand-in, its name tells it.
    sandbox.run("lay more").status(0);
    sandbox.run("game forget Quillhaven --leave-layers").status(0);
    sandbox.write("game/backup/core.qpk", "the game's own");
    sandbox.run("game add Quillhaven game").status(0);
    sandbox.run("adopt more-1.zip --place .=game:").status(4).says("game:backup/core.qpk (by its name)");
    sandbox.run("adopt more-1.zip --place .=game: --originals leave").status(0).says("At 2 addresses");
    assert_eq!(sandbox.read("game/backup/core.qpk"), "the game's own");
}

#[test]
fn a_sheet_takes_folders_and_patterns_away() {
    let sandbox = Sandbox::with_game();
    sandbox.write("game/old/a.qtx", "a\n");
    sandbox.write("game/old/deep/b.bak", "b\n");
    sandbox.write("game/data/lamps/brass.bak", "bak\n");
    sandbox.run("patchday finish").status(0);
    let before = sandbox.files();
    let sheet = "takes_away = [\"old\", \"data/**/*.bak\", \"none/*\"]\n\
                 place = [{ from = \"new.qtx\", to = \"game:data/new.qtx\" }]\n";
    sandbox.zip("clean-1.zip", &[("oddfit.toml", sheet), ("new.qtx", "n")]);
    sandbox.run("fit --check clean-1.zip").status(0);
    let added = sandbox.run("add clean-1.zip").status(0);
    added.says("takes away: game:old/, game:data/lamps/brass.bak").says("drops the folder game:old");
    assert!(!sandbox.path("game/old").exists());
    sandbox.run("check --deep").status(0);
    // A file that nobody knows keeps its folder, and that is told.
    sandbox.run("lift clean").status(0);
    sandbox.write("game/old/mine.txt", "mine\n");
    sandbox.run("lay clean").status(0).says("the folder game:old stays: something lies in it");
    sandbox.run("remove clean").status(0);
    fs::remove_file(sandbox.path("game/old/mine.txt")).unwrap();
    assert_eq!(sandbox.files(), before);
    sandbox.run("check --deep").status(0);
}

#[test]
fn a_backup_of_the_games_own_files_stays_out() {
    let sandbox = Sandbox::with_game();
    for backup in ["backup/brass.qtx", "Original/data/lamps/brass.qtx"] {
        sandbox.zip(
            "shiny-1.zip",
            &[("data/lamps/brass.qtx", "shiny"), (backup, "base brass\n"), ("data/lamps/iron.qtx", "new")],
        );
        for line in ["inspect shiny-1.zip", "add shiny-1.zip"] {
            sandbox.run(line).status(0).says("copies of the game's own");
        }
        assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "shiny");
        assert!(!sandbox.path("game/backup").exists() && !sandbox.path("game/Original").exists());
        sandbox.run("remove shiny").status(0);
    }
    // One that differs is no copy, but stays out all the same unless it is asked for.
    sandbox
        .zip("dull-1.zip", &[("data/lamps/brass.qtx", "dull"), ("backup/data/lamps/brass.qtx", "another")]);
    sandbox.run("add dull-1.zip").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "dull");
    assert!(!sandbox.path("game/backup").exists());
}

/// The answers that a question offers: the options, and what is said of them.
fn answers(asked: &str) -> Vec<(String, String)> {
    let lines = asked.lines().filter_map(|line| line.trim().strip_prefix("--place "));
    let answers = lines.filter_map(|line| line.split_once("  "));
    answers.map(|(option, does)| (format!("--place {}", option.trim()), does.trim().to_owned())).collect()
}

#[test]
fn what_to_choose_is_asked_before_where_it_goes_and_an_answer_loses_nothing() {
    let sandbox = Sandbox::empty();
    for number in 1..5 {
        sandbox.write(&format!("game/sound/bells/bell_1{number}.qbl"), "b");
        sandbox.write(&format!("game/sound/bells/bell_2{number}.qbl"), "b");
        sandbox.write(&format!("game/text/bell_9{number}.qbl"), "elsewhere");
    }
    sandbox.write("game/data/lamps/brass.qtx", "base");
    sandbox.run("game add Quillhaven game").status(0);
    sandbox.zip(
        "chimes.zip",
        &[
            ("chimes/Loud/bell_07.qbl", "loud"),
            ("chimes/Soft/bell_07.qbl", "soft"),
            ("chimes/data/lamps/brass.qtx", "new"),
            ("chimes/Optional/data/lamps/extra.qtx", "x"),
            ("chimes/readme.txt", "r"),
        ],
    );
    sandbox.run("add chimes.zip").status(4).says("--choose variant=loud").says("--choose variant=soft");
    let answers = answers(&sandbox.run("add chimes.zip --choose variant=soft").status(4).whole());
    assert!(answers.len() <= 7 && answers[0].0.contains("game:sound/bells"), "{answers:?}");
    // Pasted as it is printed; what was chosen, the rest of the package and what stays out are not lost.
    let mut words = vec!["add", "chimes.zip", "--choose", "variant=soft"];
    words.extend(answers[0].0.split(' ').map(|word| word.trim_matches(['"', '\''])));
    sandbox.run_words(&words).status(0);
    assert_eq!(sandbox.read("game/sound/bells/bell_07.qbl"), "soft");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "new");
    // Another variant later goes where the first one went.
    sandbox.run("upgrade chimes chimes.zip --choose variant=loud").status(0);
    assert_eq!(sandbox.read("game/sound/bells/bell_07.qbl"), "loud");
    for stray in ["game/data/lamps/extra.qtx", "game/readme.txt", "game/Loud", "game/Soft", "game/Optional"] {
        assert!(!sandbox.path(stray).exists(), "{stray}");
    }
}

#[test]
fn places_that_the_game_speaks_against_are_said_and_those_inside_files_refused() {
    let sandbox = Sandbox::empty();
    for name in ["brass", "iron", "paper", "tin"] {
        sandbox.write(&format!("game/data/lamps/{name}.qtx"), "base");
    }
    sandbox.write("game/mods/fog/addon.json", "{}");
    sandbox.write("game/core.qpk", "container");
    sandbox.run("game add Quillhaven game").status(0);
    let files = ["brass", "iron", "paper", "new"].map(|name| (format!("lamps/{name}.qtx"), "n"));
    let files = files.each_ref().map(|(path, text)| (path.as_str(), *text));
    sandbox.zip("lamps.zip", &files);
    sandbox.run("add lamps.zip --place .=game:mods --dry-run").status(0).says(
        "3 of its 4 files exist in the game as `.=game:data` would put them, and none where they were placed",
    );
    sandbox
        .run("add lamps.zip --place .=game:core.qpk!/lamps")
        .status(1)
        .says("nothing can be put into game:core.qpk: it is no zip-based container");
    sandbox.run("add lamps.zip --place .=game:data").status(0);
}

#[test]
fn an_answer_counts_for_the_next_package_of_that_shape_until_the_layer_goes() {
    let sandbox = Sandbox::with_game();
    sandbox.write("game/mods/fog_ferries/addon.json", "{}");
    sandbox.write("game/mods/gull_songs/addon.json", "{}");
    sandbox.write("game/addons/old_pier/addon.json", "{}");
    sandbox.write("game/addons/old_quay/addon.json", "{}");
    sandbox.run("game forget Quillhaven").status(0);
    sandbox.run("game add Quillhaven game").status(0);
    for name in ["one", "two"] {
        sandbox.zip(&format!("{name}.zip"), &[("addon.json", "{}"), (&format!("{name}.lua"), "x")]);
    }
    let first = |sandbox: &Sandbox| answers(&sandbox.run("add two.zip").status(4).whole()).swap_remove(0);
    let (before, _) = first(&sandbox);
    let other = if before.contains("game:mods") { "addons" } else { "mods" };
    sandbox.run(&format!("add one.zip --place .=game:{other}/one --tidy")).status(0);
    let (after, does) = first(&sandbox);
    assert!(after.contains(&format!("game:{other}/two")), "{before} -> {after}");
    assert!(does.starts_with("as you placed `one`"), "{does}");
    sandbox.run("remove one").status(0);
    assert_eq!(first(&sandbox).0, before, "gone with the layer");
}
