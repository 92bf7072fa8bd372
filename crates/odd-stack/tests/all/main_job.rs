//! The main job as a person does it.

use insta::assert_snapshot;
use serde_json::Value;

use crate::sandbox::Sandbox;

fn with_packages() -> Sandbox {
    let sandbox = Sandbox::with_game();
    let lamps = [
        ("Brass Lamps/data/lamps/brass.qtx", "lamps brass\n"),
        ("Brass Lamps/data/lamps/iron.qtx", "base iron\n"),
        ("Brass Lamps/data/glow/low.qtx", "glow\n"),
        ("Brass Lamps/readme.txt", "copy it over\n"),
    ];
    sandbox.zip("brass-lamps-1.2.zip", &lamps);
    sandbox.zip(
        "fog_2.0.zip",
        &[("data/lamps/brass.qtx", "fog brass, longer\n"), ("config/fog.ini", "fog=9\n")],
    );
    sandbox
}

#[test]
fn a_game_is_taken_into_care_and_shown() {
    let sandbox = Sandbox::with_game();
    assert_snapshot!(sandbox.run("game show").whole(), @"
    Quillhaven: 0 layers laid; 5 files of its own when it was added on 2026-01-02T03:04:05Z
      game       [HERE]/game
      docs       [HERE]/docs
      bin        game:bin
      program    not known
      version    1.7
      ledger     [HERE]/home/ledgers/quillhaven
    [exit 0]
    ");
    assert_snapshot!(sandbox.run("game list").whole(), @"
      game        version  layers  folder
      Quillhaven  1.7      0 laid  [HERE]/game
    [exit 0]
    ");
}

#[test]
fn adding_says_what_it_meets() {
    let sandbox = with_packages();
    assert_snapshot!(sandbox.run("inspect brass-lamps-1.2.zip").whole(), @"
    brass-lamps 1.2  zip brass-lamps-1.2.zip, 4 files, 40 B
      Brass Lamps/         40 B  4 files -> game:
        data/              27 B  3 files
          glow/             5 B  1 file
            low.qtx         5 B  new
          lamps/           22 B  2 files
            brass.qtx      12 B  over the game's own
            iron.qtx       10 B  left out: copies of the game's own
        readme.txt         13 B  left out: documents

    On top of Quillhaven's stack it would go like this:
      what is in `Brass Lamps` goes to game: (2 of 3 files exist there in the game)
      1 new file, 1 over the game's own; 17 B to write
      1 file left out: copies of the game's own
      1 file left out: documents
    [exit 0]
    ");
    let before = sandbox.files();
    assert_snapshot!(sandbox.run("add brass-lamps-1.2.zip --skip readme.txt --dry-run").whole(), @"
    brass-lamps 1.2  zip brass-lamps-1.2.zip, 2 files, 17 B
      what is in `Brass Lamps` goes to game: (2 of 3 files exist there in the game)
      left out (by --skip): Brass Lamps/readme.txt
      left out (copies of the game's own): Brass Lamps/data/lamps/iron.qtx
      1 new file, 1 over the game's own; 17 B to write
      add        game:data/glow/low.qtx      5 B
      overwrite  game:data/lamps/brass.qtx  12 B  over the game's own
      makes the folder game:data/glow
    Dry run: nothing was changed.
    You need no copy of the game's folder for this: `oddstack undo` takes it back, whole.
    [exit 0]
    ");
    assert_eq!(sandbox.files(), before);
    sandbox.run("add brass-lamps-1.2.zip --skip readme.txt").status(0);
    assert_snapshot!(sandbox.run("add fog_2.0.zip").whole(), @"
    fog 2.0  zip fog_2.0.zip, 2 files, 24 B
      it goes to game: as it is (2 of 2 files exist there in the game)
      1 over the game's own, 1 over other layers (brass-lamps 1); 24 B to write
      overwrite  game:config/fog.ini         6 B  over the game's own
      overwrite  game:data/lamps/brass.qtx  18 B  over brass-lamps
    fog is laid on top. (revision 2)
    `oddstack undo` takes this back.
    [exit 0]
    ");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "fog brass, longer\n");
    assert_snapshot!(sandbox.run("stack").whole(), @"
    Quillhaven 1.7: 2 layers  (revision 2)
      #  layer            version  state  files  size  wins  contested  open
      2  fog              2.0      laid       2  24 B     2          1     1
      1  brass-lamps      1.2      laid       2  17 B     1          1     1
         the game itself  1.7      base       5  58 B
    The upper layer wins. `oddstack conflicts` shows where layers disagree.
    [exit 0]
    ");
    assert_snapshot!(sandbox.run("show brass").whole(), @"
    brass-lamps 1.2, number 1 in the stack, laid
      package   zip [HERE]/brass-lamps-1.2.zip
      added     2026-01-02T03:04:05Z
      files     2, 17 B
      on disk   5 B in the game, 17 B in the ledger
      placed    the contents of its only folder to game:
      skipped   readme.txt
      covers    1 file of the game's own
      covered   1 file by fog
      game:data/glow/low.qtx      5 B  5f9fd2b7
      game:data/lamps/brass.qtx  12 B  83799dae  over the game's own  under fog
    [exit 0]
    ");
    assert_snapshot!(sandbox.run("conflicts").whole(), @"
    Layers disagree at 1 address.

    fog over brass-lamps: 1 open
      open  game:data/lamps/brass.qtx  18 B over 12 B  fog wins
          - lamps brass
          + fog brass, longer
    The upper layer of each pair wins for now. `oddstack settle ADDRESS --with LAYER` or `--keep-order` settles it, `oddstack settle` walks through them; `oddstack move LAYER --above OTHER` changes the order.
    [exit 3]
    ");
    assert_snapshot!(sandbox.run("trace DATA/lamps/BRASS.qtx").whole(), @"
    game:data/lamps/brass.qtx
            #  layer            version  size  hash               from
      wins  2  fog              2.0      18 B  52ef0367           data/lamps/brass.qtx
            1  brass-lamps      1.2      12 B  83799dae  covered  Brass Lamps/data/lamps/brass.qtx
               the game itself  1.7      11 B  30468a13  covered
      on disk: as it should be  [HERE]/game/data/lamps/brass.qtx
    [exit 0]
    ");
}

#[test]
fn moving_lifting_and_removing_bring_back_what_lay_beneath() {
    let sandbox = with_packages();
    let untouched = sandbox.files();
    sandbox.run("add brass-lamps-1.2.zip").status(0);
    sandbox.run("add fog_2.0.zip").status(0);
    assert_snapshot!(sandbox.run("move brass-lamps --top").whole(), @"
    move brass-lamps to the top: restores 1 file (12 B)
      restore  game:data/lamps/brass.qtx  12 B  from brass-lamps, in place of fog
    Moved brass-lamps to the top. (revision 3)
    `oddstack undo` takes this back.
    [exit 0]
    ");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps brass\n");
    sandbox.run("lift 2").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "fog brass, longer\n");
    sandbox.run("lay brass_LAMPS").status(0);
    assert_snapshot!(sandbox.run("remove fog").whole(), @"
    remove fog: restores 1 file (6 B)
      restore  game:config/fog.ini  6 B  the game's own, in place of fog
    Removed fog. (revision 6)
    `oddstack undo` takes this back.
    [exit 0]
    ");
    sandbox.run("lift --all").status(0).says("the game is itself again");
    assert_eq!(sandbox.files(), untouched);
    sandbox.run("lift --all").status(0).says("Nothing to do");
    sandbox.run("lay --all").status(0);
    sandbox.run("remove brass-lamps").status(0);
    assert_eq!(sandbox.files(), untouched);
    sandbox.run("check --deep").status(0);
}

#[test]
fn drift_is_found_told_and_never_overwritten() {
    let sandbox = with_packages();
    sandbox.run("add fog_2.0.zip").status(0);
    sandbox.write("game/config/fog.ini", "fog=9\nmine=1\n");
    assert_snapshot!(sandbox.run("check").whole(), @"
    4 files as laid  (compared by size and time; --deep compares contents)
    1 file of layers edited:
      fog 1
      edited  game:config/fog.ini  of fog
    `oddstack mend` goes through them; `oddstack mend --restore` puts layers' files again as the stack has them, `--keep` keeps your versions as edits of your own, `--accept` takes them as the game's own.
    [exit 3]
    ");
    assert_snapshot!(sandbox.run("remove fog").whole(), @"
    error: 1 file in the way is not as Odd Stack left it; nothing was changed:
      game:config/fog.ini  (edited since it was laid)
    Choose:
      --keep-edits     save what is on disk now and go on
      --discard-edits  discard what is on disk now and go on
    [exit 4]
    ");
    assert_snapshot!(sandbox.run("remove fog --keep-edits").whole(), @"
    remove fog: restores 2 files (17 B)
      restore  game:config/fog.ini         6 B  the game's own, in place of fog
      restore  game:data/lamps/brass.qtx  11 B  the game's own, in place of fog
      game:config/fog.ini as it was on disk is saved at [HERE]/home/ledgers/quillhaven/kept/2/game/config/fog.ini
    Removed fog. (revision 2)
    `oddstack undo` takes this back.
    [exit 0]
    ");
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=1\n");
    assert_eq!(sandbox.read("home/ledgers/quillhaven/kept/2/game/config/fog.ini"), "fog=9\nmine=1\n");
}

#[test]
fn places_go_to_roots_spots_and_other_names() {
    let sandbox = with_packages();
    sandbox.zip(
        "pack.zip",
        &[("w/hook.dll", "hook"), ("w/me.ini", "me"), ("w/skin_final.qtx", "skin"), ("w/notes.txt", "")],
    );
    let line = "add pack.zip --place hook.dll=bin: --place me.ini=docs:profiles/ --place skin_final.qtx=data/lamps/brass.qtx";
    sandbox
        .run(line)
        .status(0)
        .says("left out (no --place reaches it): w/notes.txt")
        .says("runs code: game:bin/hook.dll");
    assert_eq!(sandbox.read("game/bin/hook.dll"), "hook");
    assert_eq!(sandbox.read("docs/profiles/me.ini"), "me");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "skin");
}

#[test]
fn json_tells_the_same_with_whole_names() {
    let sandbox = with_packages();
    let added = sandbox.run("add brass-lamps-1.2.zip --json").status(0).json();
    assert_eq!((&added["command"], &added["game"]), (&"add".into(), &"Quillhaven".into()));
    let layer = &added["data"]["layer"];
    assert_eq!((&layer["name"], &layer["version"]), (&"brass-lamps".into(), &"1.2".into()));
    let effects = added["data"]["change"]["effects"].as_array().unwrap();
    let kinds: Vec<_> =
        effects.iter().map(|row| (row["address"].as_str().unwrap(), row["kind"].as_str().unwrap())).collect();
    assert_eq!(kinds, [("game:data/glow/low.qtx", "add"), ("game:data/lamps/brass.qtx", "overwrite")]);
    let left_out = layer["left_out"].as_array().unwrap();
    let reasons: Vec<&str> = left_out.iter().map(|row| row["reason"].as_str().unwrap()).collect();
    assert_eq!(reasons, ["original", "document"]);
    let traced = sandbox.run("trace data/lamps/brass.qtx --json").status(0).json();
    let hash = traced["data"]["rows"][0]["hash"].as_str().unwrap();
    assert!(hash.len() == 64 && hash.chars().all(|c| c.is_ascii_hexdigit() && !c.is_ascii_uppercase()));
    let stack = sandbox.run("stack --json").status(0).json();
    assert_eq!(stack["data"]["layers"][0]["added_at"], "2026-01-02T03:04:05Z");
    assert_eq!(stack["warnings"], Value::Array(Vec::new()));
    sandbox.write("game/data/glow/low.qtx", "changed");
    let failed = sandbox.run("remove brass-lamps --json").status(4).json();
    let error = &failed["error"];
    assert_eq!((&error["code"], &error["choices"][0]["option"]), (&"drifted".into(), &"--keep-edits".into()));
    assert!(error["list"][0].as_str().unwrap().starts_with("game:data/glow/low.qtx"));
    let drift = sandbox.run("check --json").status(3).json();
    assert_eq!(drift["data"]["drifted"][0]["kind"], "edited");
}

#[test]
fn games_are_chosen_set_and_forgotten() {
    let sandbox = with_packages();
    sandbox.write("second/data/x", "x");
    sandbox.run("game add Second second").status(0);
    assert_snapshot!(sandbox.run("stack").whole(), @r#"
    error: several games have been added; say which one you mean
    Choose:
      --game "Quillhaven"  this game
      --game "Second"      this game
    [exit 4]
    "#);
    sandbox.run("add fog_2.0.zip -g quill").status(0);
    sandbox.run("stack --game second").status(0).says("Second: 0 layers");
    sandbox.run("game set second --name Third --game-version 2").status(0);
    sandbox.run("stack -g third").status(0).says("Third 2");
    let before = sandbox.files();
    assert_snapshot!(sandbox.run("game forget quillhaven --dry-run").whole(), @"
    lifting all layers: restores 2 files (17 B)
      restore  game:config/fog.ini         6 B  the game's own, in place of fog
      restore  game:data/lamps/brass.qtx  11 B  the game's own, in place of fog
    Dry run: nothing was changed.
    [exit 0]
    ");
    assert_eq!(sandbox.files(), before);
    sandbox.run("game forget quillhaven").status(0);
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=1\n");
    assert!(!sandbox.path("home/ledgers/quillhaven").exists());
    sandbox.run("stack").status(0).says("Third");
    sandbox.run("game forget nobody").status(1).says("it can be: Third");
}

#[test]
fn a_package_can_be_looked_into_without_any_game() {
    let sandbox = Sandbox::empty();
    sandbox.zip("brass-lamps-1.2.zip", &[("data/a.qtx", "a"), ("data/b.qtx", "bb"), ("hook.dll", "x")]);
    assert_snapshot!(sandbox.run("inspect brass-lamps-1.2.zip").whole(), @"
    brass-lamps 1.2  zip brass-lamps-1.2.zip, 3 files, 4 B
      data/          3 B  2 files
        a.qtx        1 B
        b.qtx        2 B
      hook.dll       1 B  runs code
      brings files that run code: hook.dll
    No game was chosen (--game NAME), so nothing is said of where the files would go.
    [exit 0]
    ");
    assert!(!sandbox.path("home").exists());
}

#[test]
fn scripts_and_pages_for_the_shell() {
    let sandbox = Sandbox::empty();
    for shell in ["bash", "zsh", "fish", "powershell", "elvish"] {
        sandbox.run(&format!("completions {shell}")).status(0).says("oddstack");
    }
    sandbox.run("man pages").status(0).says("manual pages");
    assert!(sandbox.read("pages/oddstack-add.1").contains("PACKAGE"));
}

#[test]
fn the_current_folder_and_the_environment_choose_the_game() {
    let sandbox = with_packages();
    sandbox.write("second/data/x", "x");
    sandbox.run("game add Second second").status(0);
    sandbox.run_in("game/data", &["stack"], &[]).status(0).says("Quillhaven 1.7: 0 layers");
    sandbox.run_in("second", &["stack"], &[]).status(0).says("Second: 0 layers");
    sandbox.run_in("", &["stack"], &[("ODDSTACK_GAME", "second")]).status(0).says("Second: 0 layers");
    sandbox.run_in("second", &["stack", "-g", "Quill"], &[]).status(0).says("Quillhaven");
}

#[test]
fn colours_come_only_where_they_are_wanted() {
    let sandbox = with_packages();
    let is_coloured = |words: &[&str], set: &[(&str, &str)]| {
        let ran = sandbox.run_in("", words, set).status(0);
        ran.stdout.contains('\u{1b}')
    };
    assert!(!is_coloured(&["stack"], &[]), "not into a file");
    assert!(is_coloured(&["stack", "--color", "always"], &[]));
    assert!(!is_coloured(&["stack", "--color", "never"], &[]));
    assert!(!is_coloured(&["stack"], &[("NO_COLOR", "1")]));
    assert!(!is_coloured(&["stack", "--json", "--color", "always"], &[]));
}

#[test]
fn quiet_says_less_and_verbose_says_more() {
    let sandbox = Sandbox::with_game();
    let many: Vec<(String, &str)> = (0..30)
        .map(|n| (format!("data/many/{n:02}.txt"), "x"))
        .chain((0..15).map(|n| (format!("deep/{n}/x"), "x")))
        .collect();
    let members: Vec<(&str, &str)> = many.iter().map(|(name, content)| (name.as_str(), *content)).collect();
    sandbox.zip("many-1.zip", &members);
    let usual = sandbox.run("inspect many-1.zip").status(0);
    assert!(usual.stdout.contains("... 22 more") && !usual.stdout.contains("29.txt"), "{}", usual.stdout);
    sandbox.run("inspect many-1.zip -v").status(0).says("29.txt");
    let usual = sandbox.run("add many-1.zip").status(0);
    assert!(usual.stdout.contains("and 33 more (-v lists all)"), "{}", usual.stdout);
    assert!(usual.stdout.contains("makes 5 more folders"), "{}", usual.stdout);
    let quiet = sandbox.run("lift many -q").status(0);
    assert_eq!(quiet.stderr, "");
    sandbox.run("lay many -v").status(0).says("29.txt");
    sandbox.run("stack -q -v").status(2).says("cannot be used");
}

#[test]
fn a_layer_can_be_put_anywhere_and_kept_off() {
    let sandbox = with_packages();
    sandbox.run("add brass-lamps-1.2.zip").status(0);
    sandbox.run("add fog_2.0.zip --below brass").status(0).says("below brass-lamps");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps brass\n");
    sandbox.zip("third.zip", &[("data/lamps/brass.qtx", "third"), ("q", "q")]);
    sandbox.run("add third.zip --above fog --lifted --version 3").status(0).says("lifted");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps brass\n");
    let stack = sandbox.run("stack --json").status(0).json();
    let rows = stack["data"]["layers"].as_array().unwrap();
    let names: Vec<_> =
        rows.iter().map(|row| (row["name"].as_str().unwrap(), row["laid"].as_bool().unwrap())).collect();
    assert_eq!(names, [("brass-lamps", true), ("third", false), ("fog", true)]);
    sandbox.run("conflicts third").status(0).says("No unresolved conflicts");
    sandbox.run("move third --bottom").status(0);
    sandbox.run("lay third").status(0).says("adds 1 file (1 B)").says("Laid third");
    sandbox.run("conflicts third").status(3).says("brass-lamps wins");
}

#[test]
fn what_was_saved_outlives_a_forgotten_game() {
    let sandbox = with_packages();
    sandbox.run("add fog_2.0.zip").status(0);
    sandbox.write("game/config/fog.ini", "mine");
    sandbox.run("game forget quillhaven").status(4).says("--keep-edits");
    sandbox
        .run("game forget quillhaven --keep-edits")
        .status(0)
        .says("stay in [HERE]/home/ledgers/quillhaven/kept");
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=1\n");
    assert_eq!(sandbox.read("home/ledgers/quillhaven/kept/2/game/config/fog.ini"), "mine");
    // The same name gets a ledger of its own beside what was kept.
    sandbox.run("game add Quillhaven game").status(0).says("ledgers/quillhaven-2");
    sandbox.run("game forget quillhaven --leave-layers").status(0);
}

#[test]
fn a_layer_is_exchanged_in_its_place_and_placed_as_it_was() {
    let sandbox = Sandbox::with_game();
    let old = [("Pack/lamps/brass.qtx", "1"), ("Pack/lamps/old.qtx", "o"), ("Pack/lamps/same.qtx", "s")];
    sandbox.zip("lamps-1.0.zip", &old);
    sandbox.zip("fog.zip", &[("config/fog.ini", "fog=2\n")]);
    sandbox.run("add lamps-1.0.zip --place lamps=game:data/lamps --skip *.txt").status(0);
    sandbox.run("add fog.zip").status(0);
    let time = |path: &str| std::fs::metadata(sandbox.path(path)).unwrap().modified().unwrap();
    let before = (time("game/data/lamps/same.qtx"), time("game/config/fog.ini"));
    let new =
        [("lamps/brass.qtx", "2"), ("lamps/new.qtx", "n"), ("lamps/same.qtx", "s"), ("lamps/a.txt", "t")];
    sandbox.zip("lamps-1.1 (full).zip", &new);
    let asked = sandbox.run_words(&["add", "lamps-1.1 (full).zip"]).status(4);
    assert!(
        asked.stderr.contains("oddstack upgrade lamps \"[HERE]/lamps-1.1 (full).zip\""),
        "{}",
        asked.stderr
    );
    assert!(asked.stderr.contains("--name \"lamps 2\""), "{}", asked.stderr);
    assert_snapshot!(sandbox.run_words(&["upgrade", "lamps", "lamps-1.1 (full).zip"]).whole(), @"
    lamps 1.1 (full)  zip lamps-1.1 (full).zip, 3 files, 3 B
      placed by the rules given
      left out (by --skip): lamps/a.txt
      the new version, from 1.0 to 1.1: 1 added, 1 changed, 1 gone, 1 unchanged
      added    game:data/lamps/new.qtx
      changed  game:data/lamps/brass.qtx
      gone     game:data/lamps/old.qtx
    lamps took the place of lamps 1.0. (revision 3)
    `oddstack undo` takes this back.
    [exit 0]
    ");
    assert_eq!((time("game/data/lamps/same.qtx"), time("game/config/fog.ini")), before, "untouched");
    assert_snapshot!(sandbox.run("stack").whole(), @"
    Quillhaven 1.7: 2 layers  (revision 3)
      #  layer            version     state  files  size  wins  contested  open
      2  fog                          laid       1   6 B     1          0     0
      1  lamps            1.1 (full)  laid       3   3 B     3          0     0
         the game itself  1.7         base       5  58 B
    [exit 0]
    ");
    sandbox.run("lift --all").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "base brass\n");
    // A word of the author goes before the file name, and a word of the user before both.
    sandbox.zip("x-9.zip", &[("oddfit.toml", "name = \"Tide Bells\"\nversion = \"2\"\n"), ("data/b", "b")]);
    sandbox
        .run("add x-9.zip --variant loud -n")
        .status(0)
        .says("Tide Bells 2 (loud)")
        .says("left out (the package's fit sheet)");
    sandbox.zip("bad.zip", &[("oddfit.toml", "name = \"Tide Bells\"\nversion = 2\n"), ("data/b", "b")]);
    sandbox.run("add bad.zip").status(1).says("bad.zip: the fit sheet has a mistake in line 2, column 11");
}

#[test]
fn a_package_that_only_wraps_another_is_asked_about() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("inner.zip", &[("Pack/data/lamps/brass.qtx", "new"), ("Pack/hook.dll", "MZ")]);
    let inner = std::fs::read(sandbox.path("inner.zip")).unwrap();
    let outer = crate::archives::archive(
        crate::archives::Format::TarGz,
        &[crate::archives::file("w/inner.zip", inner)],
    );
    std::fs::write(sandbox.path("wrap.tar.gz"), outer).unwrap();
    assert_snapshot!(sandbox.run("inspect wrap.tar.gz").whole().replace('\'', "\""), @r#"
    wrap  tar.gz wrap.tar.gz, 1 file, 259 B
      w/                     259 B  1 file
        inner.zip!/Pack/       5 B  2 files
          data/lamps/          3 B  1 file
            brass.qtx          3 B
          hook.dll             2 B  runs code
        inner.zip            259 B

    On top of Quillhaven"s stack it would go like this:
      not placed yet: the package only wraps `w/inner.zip`: say whether that is to be unpacked
        --place "w/inner.zip!/Pack=game:" --tidy  unpack `inner.zip`: what is in `Pack` goes to game: (1 of 2 files exist there in the game); 1 new, 1 replaced
        --place ".=game:" --tidy  leave it packed, as the game reads it; 1 new
      brings files that run code: w/inner.zip!/Pack/hook.dll
    [exit 0]
    "#);
    // Shells and Windows know different quotes.
    assert_snapshot!(sandbox.run("add wrap.tar.gz").whole().replace('\'', "\""), @r#"
    error: [HERE]/wrap.tar.gz: the package only wraps `w/inner.zip`: say whether that is to be unpacked
    Choose:
      --place "w/inner.zip!/Pack=game:" --tidy  unpack `inner.zip`: what is in `Pack` goes to game: (1 of 2 files exist there in the game); 1 new, 1 replaced
      --place ".=game:" --tidy                  leave it packed, as the game reads it; 1 new
    [exit 4]
    "#);
    sandbox.run_words(&["add", "wrap.tar.gz", "--place", "w/inner.zip!/Pack=game:"]).status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "new");
    sandbox.run("show wrap").status(0).says("brings files that run code: game:hook.dll");
}

#[test]
fn a_sheet_alone_is_a_layer_and_what_installs_by_itself_is_captured() {
    let sandbox = Sandbox::with_game();
    let sheet = "format = 1\nclears = [\"cache/**\"]\n[[proof]]\nfile = \"data/ready.txt\"\n";
    sandbox.zip("loader-1.zip", &[("oddfit.toml", sheet), ("readme.txt", "read me")]);
    sandbox.run("add loader-1.zip").status(0).says("0 files").says("would clear cache/**");
    sandbox.run("check --proofs").status(3).says("data/ready.txt is there");
    sandbox.run("lift loader").status(0);
    sandbox.run("lay loader").status(0);
    sandbox.run("remove loader").status(0);
    sandbox.zip("empty-1.zip", &[("oddfit.toml", "format = 1\nname = \"Empty\"\n")]);
    sandbox.run("add empty-1.zip").status(1).says("nothing but a fit sheet");
    for name in ["setup.exe", "setup.msi"] {
        sandbox.write(name, "MZ, or something like it");
        sandbox.run_words(&["add", name]).status(1).says("oddstack capture setup -- ");
    }
    // What is new is something to read, whatever the file is called.
    sandbox.zip("news-1.zip", &[("data/lamps/b.qtx", "b"), ("whatsnew.txt", "n"), ("What's New.txt", "n")]);
    sandbox.run("add news-1.zip --place .=game: --tidy --dry-run").status(0).says("1 file,");
    // A sheet is tried on a package that has none, or another.
    sandbox.write("good.toml", "format = 1\nplace = [{ from = \"data\", to = \"game:data\" }]\n");
    sandbox.write("bad.toml", "format = 1\nplace = [{ from = \"dta\", to = \"game:data\" }]\n");
    sandbox.run("fit --check news-1.zip --fit good.toml").status(0).says("1 file placed");
    sandbox.run("fit --check news-1.zip --fit bad.toml").status(1).says("bad.toml").says("line 2, column 19");
}

#[test]
fn without_a_command_it_is_said_where_one_is_and_first_guesses_work() {
    let sandbox = Sandbox::empty();
    sandbox
        .run("")
        .status(0)
        .says("No game has been added yet")
        .says("oddstack game add FOLDER")
        .says("oddstack demo");
    let sandbox = Sandbox::with_game();
    sandbox.run("").status(0).says("0 layers laid").says("all is well").says("oddstack add PACKAGE");
    sandbox.zip("one-1.zip", &[("data/lamps/brass.qtx", "one\n")]);
    sandbox.zip("two-1.zip", &[("data/lamps/brass.qtx", "two\n")]);
    sandbox.run("install one-1.zip two-1.zip").status(0);
    sandbox.run("").status(0).says("2 layers laid").says("unresolved conflicts").says("oddstack conflicts");
    sandbox.run("disable two").status(0);
    sandbox.run("enable two").status(0);
    sandbox.write("game/data/lamps/brass.qtx", "changed by hand\n");
    sandbox.run("").status(0).says("1 file drifted").says("oddstack check");
    sandbox.run("verify").status(3);
    sandbox.run("mend --restore").status(0);
    let listed = sandbox.run("list").status(0).stdout;
    assert!(["ls", "status", "stack"].iter().all(|word| sandbox.run(word).status(0).stdout == listed));
    sandbox.run("uninstall one two").status(0);
    sandbox.run("capture Something --begin").status(0);
    sandbox.run("").status(0).says("a capture is under way").says("oddstack capture --cancel");
}
