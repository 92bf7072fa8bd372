//! What is known of layers beside their files: what they wait for, what starts them, how one sees that they work, and under
//! which names their files lie.

use crate::over_time::{update, with_version};
use crate::sandbox::Sandbox;

#[test]
fn a_layer_that_waited_since_patch_day_is_laid_when_its_upgrade_fits() {
    let sandbox = with_version();
    let sheet = |range: &str| {
        format!("format = 1\nplace = [{{ from = \"data\", to = \"data\" }}]\n[needs]\ngame = \"{range}\"\n")
    };
    for (version, range) in [("1.0", "<1.8"), ("1.1", "<1.8"), ("1.2", ">=1.8")] {
        let name = format!("gulls-{version}.zip");
        sandbox.zip(&name, &[("data/gulls.qtx", version), ("oddfit.toml", &sheet(range))]);
    }
    sandbox.run("add gulls-1.0.zip").status(0);
    update(&sandbox, &["game/version.txt", "game/data/ferries.qtx"]);
    sandbox.run("patchday finish").status(3).says("gulls");
    assert!(!sandbox.path("game/data/gulls.qtx").exists());
    sandbox.run("upgrade gulls gulls-1.1.zip").status(0).says("stays off").says("the game is 1.8");
    // Its new version is another layer; that it waits is known of it, too.
    assert!(!sandbox.path("game/data/gulls.qtx").exists());
    sandbox.run("upgrade gulls gulls-1.2.zip").status(0).says("is laid again");
    assert_eq!(sandbox.read("game/data/gulls.qtx"), "1.2");
    // What a person lifted stays as they want it.
    sandbox.run("lift gulls").status(0);
    sandbox.run("upgrade gulls gulls-1.0.zip --despite").status(0).says("lifted as that was");
    assert!(!sandbox.path("game/data/gulls.qtx").exists());
    sandbox.run("check --deep").status(0);
}

#[test]
fn layers_that_waited_are_laid_together_when_they_need_each_other() {
    let sandbox = with_version();
    let package = |name: &str, version: &str, needs: &str| {
        let sheet = format!(
            "format = 1\nname = \"{name}\"\nversion = \"{version}\"\nplace = [{{ from = \"data\", to = \"data\" }}]\n[needs]\n{needs}\n"
        );
        let (file, path) = (format!("{name}-{version}.zip"), format!("data/{name}.qtx"));
        sandbox.zip(&file, &[(&path, version), ("oddfit.toml", &sheet)]);
    };
    package("gulls", "1.0", "game = \"<1.8\"");
    package("terns", "1.0", "game = \"<1.8\"");
    package("gulls", "2.0", "layers = [\"terns >=2\"]");
    package("terns", "2.0", "layers = [\"gulls >=2\"]");
    package("terns", "1.5", "game = \"<1.8\"");
    sandbox.run("add gulls-1.0.zip terns-1.0.zip").status(0);
    update(&sandbox, &["game/version.txt", "game/data/ferries.qtx"]);
    sandbox.run("patchday finish").status(3);
    // Neither goes with what the other has now.
    sandbox.run("upgrade gulls-2.0.zip terns-1.5.zip").status(0).says("stays off: it needs terns >=2");
    assert!(!sandbox.path("game/data/gulls.qtx").exists() && !sandbox.path("game/data/terns.qtx").exists());
    sandbox.run("lay gulls").status(4).says("terns is 1.5, and lifted");
    sandbox.run("upgrade terns-2.0.zip gulls-2.0.zip").status(0).says("is laid again");
    for name in ["gulls", "terns"] {
        assert_eq!(sandbox.read(&format!("game/data/{name}.qtx")), "2.0");
    }
}

#[test]
fn what_a_sheet_says_of_options_counts_when_they_are_chosen() {
    let sandbox = with_version();
    let sheet = "format = 1\n[[place]]\nfrom = \".\"\nto = \"data/winter\"\n[[choice]]\nid = \"finish\"\n\
                 [[choice.option]]\nname = \"deep\"\nplace = [{ from = \"Deep\", to = \"data/winter\" }]\n\
                 [[choice.option.start]]\nprogram = \"bin/nowhere.bin\"\n\
                 [[choice.option.proof]]\nsays = \"the snow is deep\"\nlog = \"winter.log\"\ncontains = \"deep * ready\"\n\
                 [[choice.option]]\nname = \"thin\"\nplace = [{ from = \"Thin\", to = \"data/winter\" }]\n\
                 [[part]]\nid = \"ice\"\nplace = [{ from = \"Ice\", to = \"data/winter\" }]\n[[part.proof]]\nfile = \"data/winter/ice.txt\"\n";
    let files = [
        ("Winter 1.0/oddfit.toml", sheet),
        ("Winter 1.0/snow.qtx", "snow\n"),
        ("Winter 1.0/Deep/a.txt", "deep\n"),
        ("Winter 1.0/Thin/a.txt", "thin\n"),
        ("Winter 1.0/Ice/ice.txt", "ice\n"),
    ];
    sandbox.zip("winter-1.0.zip", &files);
    sandbox.run("fit --check winter-1.0.zip").status(3).says("no such program");
    sandbox.run("add winter-1.0.zip --choose finish=thin --lifted").status(0);
    sandbox.run("lay winter").status(0);
    // The folder around everything is none of what the sheet means by all.
    assert_eq!(sandbox.read("game/data/winter/snow.qtx"), "snow\n");
    let proofs = sandbox.run("check --proofs --json").status(0).json();
    assert_eq!(proofs["data"]["proofs"], serde_json::json!([]), "of neither option nor part");
    sandbox.run("remove Winter").status(0);
    let added = sandbox.run("add winter-1.0.zip --choose finish=deep --choose ice=on").status(0);
    added.says("wants bin/nowhere.bin started, and there is no such program");
    let proofs = sandbox.run("check --proofs --json").status(3).json();
    assert_eq!(proofs["data"]["proofs"].as_array().unwrap().len(), 2, "{proofs}");
    // A log by which it shows is written by the game, and no drift; nor can another file be hidden by calling it one.
    sandbox.write("game/winter.log", "Deep Snow is Ready\n");
    let checked = sandbox.run("check --json").status(0).json();
    assert_eq!(checked["data"]["volatile_files"], 1);
}

#[test]
#[cfg(unix)]
fn facts_are_said_of_a_captured_layer_and_go_with_its_next_version() {
    use std::fs;
    use std::os::unix::fs::PermissionsExt;
    use std::time::{Duration, SystemTime};
    let sandbox = with_version();
    sandbox.write("game/bin/start.sh", "#!/bin/sh\necho \"started $1 with $SNOW\" > ../snow.log\n");
    fs::set_permissions(sandbox.path("game/bin/start.sh"), fs::Permissions::from_mode(0o755)).unwrap();
    sandbox.run("mend --accept").status(0);
    let script = |text: &'static str| ["capture", "Snow", "--", "/bin/sh", "-c", text];
    sandbox.run_words(&script("echo one > data/snow.qtx; echo mine > data/lamps/brass.qtx")).status(0);
    let said = [
        "set",
        "Snow",
        "--version",
        "1.0",
        "--needs-game",
        ">=1.7",
        "--needs",
        "lamps",
        "--start",
        "bin/start.sh",
        "--argument",
        "-deep",
        "--env",
        "SNOW=white",
        "--proof-log",
        "snow.log=started * with white",
        "--clears",
        "cache/**",
    ];
    let files = sandbox.files();
    sandbox.run_words(&[&said[..], &["--dry-run"]].concat()).status(0).says("What would be known of Snow");
    sandbox.run("show Snow --json").status(0);
    sandbox.run_words(&said).status(0).says("starts bin/start.sh -deep SNOW=white").says("needs lamps");
    assert_eq!(sandbox.files(), files);
    sandbox.run("stack").status(0).says("1.0");
    let played = sandbox.run("play --trust").status(0);
    played.says("starting game:bin/start.sh").says("works").says("started -deep with white");
    // A log of before this start proves nothing of it, and the game by its own name nothing of the layer.
    sandbox.write("game/bin/start.sh", "#!/bin/sh\n");
    let path = sandbox.path("game/snow.log");
    let old = SystemTime::now() - Duration::from_secs(60);
    fs::File::options().append(true).open(path).unwrap().set_modified(old).unwrap();
    sandbox.run("play").status(3).says("it was written before this start");
    sandbox.run("game set --exe bin/start.sh").status(0);
    let plain = sandbox.run("play Quillhaven").status(0);
    assert!(!plain.whole().contains("Snow"), "{}", plain.whole());
    // The installer's next version is the same layer.
    let next = ["upgrade", "Snow", "--version", "1.1", "--", "/bin/sh", "-c", "echo two > data/snow.qtx"];
    sandbox.run_words(&next).status(0);
    sandbox.run("show Snow").status(0).says("bin/start.sh");
    sandbox.run("remove lamps").status(4).says("Snow needs lamps");
    sandbox.run("set Snow --forget needs --forget start --name Drift").status(0);
    sandbox.run("remove lamps").status(0);
    sandbox.run("set Drift --needs Nobody").status(0).says("no layer Nobody is laid");
    sandbox.run("check --deep").status(3);
    sandbox.run("set Drift --start nowhere.exe").status(0).says("there is no such program");
    // What can't be is refused, and nothing is changed by it.
    for (words, why) in [
        (["--needs-game", "1.7 to 1.9"], "is no range of versions"),
        (["--start", "../evil.sh"], "`..`"),
        (["--clears", "**"], "reaches all of the game's folder"),
        (["--proof-log", "snow.log"], "is not FILE=TEXT"),
        (["--name", "fog"], "there is a layer named `fog` already"),
    ] {
        let line = [&["set", "Drift"][..], &words[..]].concat();
        let ended = sandbox.run_words(&line).says(why).one_of(&[2, 4], why);
        assert!(ended == 2 || words[0] == "--name", "{why}");
    }
    sandbox.run("set Drift").status(2).says("say what to set");
}

#[test]
fn what_was_renamed_or_edited_by_hand_is_adopted_as_it_lies() {
    let sandbox = Sandbox::empty();
    let long = |text: &str| text.repeat(40);
    sandbox.write("docs/notes.txt", "not of the game\n");
    sandbox.write("game/data/lamps/brass.qtx", &long("base brass\n"));
    sandbox.write("game/config/harbour.ini", "[Fog]\nthick=1\nslow=2\nearly=yes\n");
    // Put there by hand before: one file under another name, one in another folder, and settings changed since.
    sandbox.write("game/data/lamps/background_v4.qtx", &long("picture\n"));
    sandbox.write("game/extras/gulls.qtx", &long("gulls\n"));
    sandbox.write("game/config/lamps.ini", "[Lamps]\nbright=9\nwarm=yes\ncount=3\nflicker=no\n");
    sandbox.run("game add Quillhaven game").status(0);
    let ini = "[Lamps]\nbright=5\nwarm=yes\ncount=3\nflicker=no\n";
    let (picture, gulls, more) = (long("picture\n"), long("gulls\n"), long("more\n"));
    let files = [
        ("data/lamps/background_final.qtx", picture.as_str()),
        ("data/lamps/gulls.qtx", &gulls),
        ("data/lamps/more.qtx", &more),
        ("config/lamps.ini", ini),
    ];
    sandbox.zip("lamps-1.0.zip", &files);
    let before = sandbox.files();
    let looked = sandbox.run("adopt lamps-1.0.zip --place .=game: --dry-run").status(0);
    looked
        .says("background_final.qtx lies at game:data/lamps/background_v4.qtx")
        .says("settings you have edited");
    assert_eq!(sandbox.files(), before);
    let adopted = sandbox.run("adopt lamps-1.0.zip --place .=game: --json").status(0).json();
    assert_eq!(adopted["data"]["renamed"].as_array().unwrap().len(), 2, "{adopted}");
    assert_eq!(adopted["data"]["edited"], serde_json::json!(["game:config/lamps.ini"]));
    assert_eq!(adopted["data"]["not_there"].as_array().unwrap().len(), 1, "{adopted}");
    assert_eq!(sandbox.files(), before, "no file is another one now");
    sandbox.run("check --deep").status(0);
    sandbox.run("tweak list").status(0).says("Lamps.bright");
    // The next version goes under the names that the files have, and the setting stays.
    let (picture, ini) = (long("newer picture\n"), "[Lamps]\nbright=6\nwarm=no\ncount=3\nflicker=no\n");
    sandbox.zip("lamps-1.1.zip", &[("data/lamps/background_final.qtx", &picture), ("config/lamps.ini", ini)]);
    sandbox.run("upgrade lamps lamps-1.1.zip --whole").status(0);
    assert_eq!(sandbox.read("game/data/lamps/background_v4.qtx"), picture);
    assert!(!sandbox.path("game/data/lamps/background_final.qtx").exists());
    assert_eq!(sandbox.read("game/config/lamps.ini"), "[Lamps]\nbright=9\nwarm=no\ncount=3\nflicker=no\n");
    sandbox.run("remove lamps").status(0);
    assert!(!sandbox.path("game/data/lamps/background_v4.qtx").exists());
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), long("base brass\n"));
}

#[test]
#[cfg(unix)]
fn a_cache_of_before_is_cleared_once_and_saves_never_are() {
    use std::fs;
    use std::os::unix::fs::PermissionsExt;
    let sandbox = Sandbox::empty();
    sandbox.write("docs/notes.txt", "not of the game\n");
    sandbox.write("game/data/a.qtx", "a\n");
    sandbox.write("game/engine/ShaderCache/old.bin", "made before\n");
    sandbox.write("game/saves/old.sav", "of years\n");
    sandbox.write("game/bin/play.sh", "#!/bin/sh\necho new > ../engine/ShaderCache/new.bin\n");
    fs::set_permissions(sandbox.path("game/bin/play.sh"), fs::Permissions::from_mode(0o755)).unwrap();
    sandbox.run("game add Quillhaven game --exe bin/play.sh").status(0);
    sandbox.zip("lamps-1.zip", &[("data/lamps.qtx", "lamps\n")]);
    let clears = ["--clears", "engine/ShaderCache/**", "--clears", "saves/**"];
    sandbox.run_words(&[&["add", "lamps-1.zip", "--place", ".=game:"][..], &clears].concat()).status(0);
    sandbox.run("play --trust").status(0).says("1 file cleared");
    assert!(!sandbox.path("game/engine/ShaderCache/old.bin").exists());
    assert_eq!(sandbox.read("game/engine/ShaderCache/new.bin"), "new\n");
    assert_eq!(sandbox.read("game/saves/old.sav"), "of years\n");
    // It is no file of the game any more, so that its going is no drift.
    let checked = sandbox.run("check --json").status(3).json();
    let kinds = checked["data"]["kinds"].as_array().unwrap();
    assert!(kinds.iter().all(|kind| kind["of"] == "base_added"), "{kinds:?}");
    sandbox.run("mend --cleared").status(0).says("1 file back");
    assert_eq!(sandbox.read("game/engine/ShaderCache/old.bin"), "made before\n");
}
