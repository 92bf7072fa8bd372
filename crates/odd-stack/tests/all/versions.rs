//! New versions: where their files go, of what they are told, and several at once.

use crate::sandbox::{Sandbox, some};

fn with_mods() -> Sandbox {
    let sandbox = Sandbox::with_game();
    sandbox.write("game/mods/Ferry/mod.txt", "ferry\n");
    sandbox.write("game/mods/Ferry/ferry.lua", "ferry\n");
    sandbox.write("game/mods/Fog/mod.txt", "fog\n");
    sandbox.run("game forget Quillhaven").status(0);
    sandbox.run("game add Quillhaven game --root docs=docs --spot bin=bin --spot mods=mods").status(0);
    sandbox
}

#[test]
fn a_new_version_goes_where_the_old_one_was_whatever_is_around_it() {
    let old = ["mod.txt", "gull.lua", "snd/cry.ogg", "snd/wing.ogg"];
    let wrappers = ["", "Gullwatch/", "gullwatch-main-7f3a/Gullwatch/", "a/b/c/"];
    let pairs = wrappers.into_iter().flat_map(|before| wrappers.map(|after| (before, after)));
    for (before, after) in some(pairs, 3) {
        let sandbox = with_mods();
        let members = |wrapper: &str, content: &'static str, names: &[&str]| -> Vec<(String, &'static str)> {
            names.iter().map(|name| (format!("{wrapper}{name}"), content)).collect()
        };
        let zip = |name: &str, members: &[(String, &str)]| {
            sandbox.zip(name, &members.iter().map(|(name, text)| (name.as_str(), *text)).collect::<Vec<_>>());
        };
        zip("gull-1.zip", &members(before, "1", &old));
        let mut new = members(after, "2", &old);
        new.extend(members(after, "2", &["snd/new.ogg"]));
        // Something to read beside it is no part of it.
        new.push((format!("{}README.md", after.split_inclusive('/').next().unwrap_or("")), "read me"));
        zip("gull-2.zip", &new);
        let from = if before.is_empty() { "." } else { before.trim_end_matches('/') };
        let place = format!("{from}=mods:Gullwatch");
        sandbox.run(&format!("add gull-1.zip --place {place}")).status(0);
        sandbox.run("upgrade gull gull-2.zip").status(0);
        let files = sandbox.files();
        let of_gull: Vec<&str> =
            files.keys().filter_map(|path| path.strip_prefix("game/mods/Gullwatch/")).collect();
        let wanted = ["gull.lua", "mod.txt", "snd/cry.ogg", "snd/new.ogg", "snd/wing.ogg"];
        let of_gull: Vec<&str> = of_gull.into_iter().filter(|name| *name != "README.md").collect();
        assert_eq!(of_gull, wanted, "from `{before}` to `{after}`");
        assert_eq!(sandbox.read("game/mods/Gullwatch/snd/cry.ogg"), "2");
        // And the other way round, by what is remembered of that.
        sandbox.run("upgrade gull gull-1.zip").status(0);
        assert_eq!(sandbox.read("game/mods/Gullwatch/snd/cry.ogg"), "1", "back from `{after}` to `{before}`");
        sandbox.run("remove gull").status(0);
        sandbox.run("check --deep").status(0);
    }
}

#[test]
fn of_a_version_that_has_little_again_it_is_asked() {
    let sandbox = with_mods();
    sandbox.zip("gull-1.zip", &[("G/a.lua", "1"), ("G/b.lua", "1"), ("G/c.lua", "1")]);
    sandbox.zip("gull-2.zip", &[("H/x.lua", "2"), ("H/y.lua", "2"), ("I/z.lua", "2"), ("I/a.txt", "2")]);
    sandbox.run("add gull-1.zip --place .=mods:Gullwatch").status(0);
    let files = sandbox.files();
    let asked = sandbox.run("upgrade gull gull-2.zip").status(4);
    asked.says("as the old version was placed").says("--place");
    assert_eq!(sandbox.files(), files);
    // Said again, it is done as said.
    sandbox.run("upgrade gull gull-2.zip --place H=mods:Gullwatch --skip I").status(0);
    assert_eq!(sandbox.read("game/mods/Gullwatch/x.lua"), "2");
    assert!(
        !sandbox.path("game/mods/Gullwatch/H").exists() && !sandbox.path("game/mods/Gullwatch/I").exists()
    );
}

#[test]
fn a_wrapper_of_another_name_is_the_wrapper_and_what_is_said_now_replaces_what_was() {
    let sandbox = with_mods();
    sandbox
        .zip("gull-1.zip", &[("Gull 1/main/a.lua", "1"), ("Gull 1/main/b.lua", "1"), ("Gull 1/x.txt", "1")]);
    sandbox.zip("gull-2.zip", &[("Final/main/a.lua", "2"), ("Final/main/b.lua", "2"), ("Final/x.txt", "2")]);
    sandbox.zip("gull-3.zip", &[("New/main/c.lua", "3"), ("New/main/d.lua", "3")]);
    sandbox.zip("gull-4.zip", &[("Newer/core/c.lua", "4"), ("Newer/core/d.lua", "4")]);
    sandbox.run_words(&["add", "gull-1.zip", "--place", "Gull 1/main=mods:Gullwatch"]).status(0);
    sandbox.run("upgrade gull gull-2.zip").status(0).says("what was `Gull 1/main`");
    assert_eq!(sandbox.read("game/mods/Gullwatch/b.lua"), "2");
    // With nothing of the old version in it, it is asked first.
    let asked = sandbox.run("upgrade gull gull-3.zip").status(4);
    asked.says("none of its files again").says("--place \"*/*=mods:Gullwatch\"");
    sandbox.run("upgrade gull gull-4.zip").status(4).says("--place \"*/*=mods:Gullwatch\"");
    // What is said now stands in place of what was said then, of which nothing is left.
    sandbox.run("upgrade gull gull-4.zip --place Newer/core=mods:Watch").status(0);
    assert_eq!(sandbox.read("game/mods/Watch/c.lua"), "4");
    assert!(!sandbox.path("game/mods/Gullwatch").exists());
    sandbox.run("upgrade gull gull-2.zip --place main=mods:Gullwatch --skip *.txt").status(0);
    assert!(!sandbox.path("game/mods/Watch").exists(), "one folder goes to one place");
    sandbox.run("check --deep").status(0);
}

#[test]
fn what_may_be_a_patch_is_asked_and_parts_of_a_pack_are_no_versions() {
    let sandbox = with_mods();
    let whole: Vec<(String, &str)> = (0..6).map(|number| (format!("Gull/{number}.lua"), "1")).collect();
    let whole: Vec<(&str, &str)> = whole.iter().map(|(name, text)| (name.as_str(), *text)).collect();
    sandbox.zip("Gull Watch 1.1.zip", &whole);
    sandbox.zip("Gull Watch 1.2.zip", &[("Gull/0.lua", "2"), ("Gull/new.lua", "2")]);
    sandbox.zip("Gull Watch 1.2 to 1.3.zip", &[("Gull/1.lua", "3")]);
    sandbox.zip("Gull Watch 1.4.zip", &[("Gull/0.lua", "4"), ("Gull/1.lua", "4"), ("Gull/2.lua", "4")]);
    let run = |words: &[&str]| sandbox.run_words(words);
    run(&["add", "Gull Watch 1.1.zip", "--place", "Gull=mods:Gull"]).status(0).says("Gull Watch 1.1");
    let files = sandbox.files();
    let asked = run(&["upgrade", "Gull Watch 1.2.zip"]).status(4);
    asked.says("so 5 would go").says("--patch --onto 1.1").says("--whole");
    assert_eq!(sandbox.files(), files);
    run(&["upgrade", "Gull Watch 1.2.zip", "--patch", "--onto", "1.1"]).status(0);
    assert_eq!(
        (sandbox.read("game/mods/Gull/0.lua"), sandbox.read("game/mods/Gull/5.lua")),
        ("2".into(), "1".into())
    );
    // Its name says what it goes onto, and what it gives.
    run(&["upgrade", "Gull Watch 1.2 to 1.3.zip"])
        .status(4)
        .says("what changed since 1.2 of Gull Watch")
        .says("--patch");
    run(&["upgrade", "Gull Watch 1.2 to 1.3.zip", "--patch"]).status(0);
    sandbox.run("stack").status(0).says("1.3");
    run(&["upgrade", "Gull Watch 1.2 to 1.3.zip", "--patch"]).status(4).says("goes onto version 1.2");
    assert_eq!(sandbox.read("game/mods/Gull/4.lua"), "1");
    run(&["upgrade", "Gull Watch 1.4.zip", "--whole"]).status(0);
    assert!(!sandbox.path("game/mods/Gull/4.lua").exists());
    sandbox.run("check --deep").status(0);
    // Two parts of one pack are two layers.
    for part in ["1", "2"] {
        let name = format!("Quay Pack Part {part}.zip");
        sandbox.zip(&name, &[(&format!("Quay/{part}.lua"), part)]);
        run(&["add", &name, "--place", "Quay=mods:Quay"]).status(0).says(&format!("Quay Pack Part {part}"));
    }
    assert_eq!(sandbox.run("stack --json").status(0).json()["data"]["layers"].as_array().unwrap().len(), 3);
}

#[test]
fn what_is_told_of_a_choice_is_what_was_taken() {
    let sandbox = Sandbox::with_game();
    let members = [
        ("crispy/a.bik", "crispy a"),
        ("crispy/b.bik", "crispy b"),
        ("blurred/a.bik", "blurred a"),
        ("blurred/b.bik", "blurred b"),
    ];
    sandbox.zip("videos-1.zip", &members);
    let option = |name: &str| {
        format!(
            "[[choice.option]]\nname = \"{name}\"\nplace = [{{ from = \"{name}\", to = \"game:panel/videos\" }}]\n"
        )
    };
    let sheet =
        format!("format = 1\n[[choice]]\nid = \"variant\"\n{}{}", option("crispy"), option("blurred"));
    sandbox.write("sheet.toml", &sheet);
    sandbox.run("add videos-1.zip --place crispy=game:panel/videos").status(0);
    sandbox
        .run("upgrade videos videos-1.zip --fit sheet.toml --choose variant=blurred")
        .status(0)
        .says("variant: blurred (not crispy)");
    assert_eq!(sandbox.read("game/panel/videos/a.bik"), "blurred a");
    sandbox.run("upgrade videos videos-1.zip --choose variant=crispy").status(0).says("variant: crispy");
    assert_eq!(sandbox.read("game/panel/videos/a.bik"), "crispy a");
    // A place that is said in the same breath goes over a choice, and that is told.
    let both = "upgrade videos videos-1.zip --choose variant=blurred --place crispy=game:panel/videos";
    sandbox.run(both).status(0).says("variant: crispy (not blurred)");
    assert_eq!(sandbox.read("game/panel/videos/a.bik"), "crispy a");
}

#[test]
fn of_several_makes_only_the_one_that_is_placed_comes() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("launcher-1.zip", &[("Launcher/start.bin", "1"), ("Launcher/start.cfg", "1")]);
    sandbox.run("add launcher-1.zip --place *=game:").status(0);
    let makes = [
        ("L 2/1 - Plain launcher/start.bin", "plain"),
        ("L 2/1 - Plain launcher/start.cfg", "plain"),
        ("L 2/2 - Dark launcher/start.bin", "dark"),
        ("L 2/2 - Dark launcher/start.cfg", "dark"),
        ("L 2/3 - Bright launcher/start.bin", "bright"),
        ("L 2/3 - Bright launcher/start.cfg", "bright"),
    ];
    sandbox.zip("launcher-2.zip", &makes);
    let words = ["upgrade", "launcher", "launcher-2.zip", "--place", "2 - Dark launcher=game:"];
    sandbox.run_words(&words).status(0);
    let files = sandbox.files();
    assert!(!files.keys().any(|path| path.contains("launcher/")), "{files:?}");
    assert_eq!(sandbox.read("game/start.bin"), "dark");
    // It is remembered, and who was never asked is asked.
    sandbox.run("upgrade launcher launcher-1.zip --place Launcher=game:").status(0);
    sandbox.run("upgrade launcher launcher-2.zip").status(0).says("launcher: dark");
    sandbox.run("remove launcher").status(0);
    sandbox.run("add launcher-1.zip --place *=game:").status(0);
    sandbox.run("upgrade launcher launcher-2.zip").status(4).says("--choose launcher=bright");
    sandbox.run("check --deep").status(0);
}

#[test]
fn an_archive_inside_is_found_under_its_next_name() {
    let sandbox = Sandbox::with_game();
    let wrapped = |outer: &str, inner: &str, content: &str| {
        sandbox.zip(inner, &[("hook.dll", content), ("hook.ini", "a=1\n"), ("more/x.dat", "x")]);
        let bytes = std::fs::read(sandbox.path(inner)).unwrap();
        sandbox.zip_of_bytes(outer, &[(&format!("w/{inner}"), &bytes), ("w/readme.txt", b"read")]);
    };
    wrapped("pack-1.zip", "Pack_0.7.7.zip", "one");
    wrapped("pack-2.zip", "Pack_0.7.8.zip", "two");
    wrapped("pack-3.zip", "Other name.zip", "three");
    sandbox.run("add pack-1.zip --place Pack_0.7.7.zip!/.=bin:").status(0);
    for (package, content) in [("pack-1", "one"), ("pack-2", "two"), ("pack-3", "three"), ("pack-2", "two")] {
        sandbox.run(&format!("upgrade pack {package}.zip")).status(0);
        assert_eq!(sandbox.read("game/bin/hook.dll"), content, "{package}");
        assert_eq!(sandbox.files().keys().filter(|path| path.starts_with("game/bin/")).count(), 4);
    }
    // What was inside may come unpacked one day.
    sandbox.zip("pack-4.zip", &[("hook.dll", "four"), ("hook.ini", "a=1\n"), ("more/x.dat", "x")]);
    sandbox.run("upgrade pack pack-4.zip").status(0);
    assert_eq!(sandbox.read("game/bin/hook.dll"), "four");
    sandbox.run("check --deep").status(0);
}

#[test]
fn changed_files_go_onto_a_layer_whose_wrapper_they_lack() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.0.zip", &[("Lamps/data/lamps/brass.qtx", "1"), ("Lamps/data/lamps/tin.qtx", "1")]);
    sandbox.run("add lamps-1.0.zip --place *=game:").status(0);
    sandbox.zip("lamps-1.1.zip", &[("data/lamps/brass.qtx", "2")]);
    sandbox.run("upgrade lamps lamps-1.1.zip --patch --onto 1.0").status(0).says("1 changed, 1 unchanged");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "2");
}

/// A package with a sheet that says what it is and needs.
fn with_sheet(sandbox: &Sandbox, file: &str, name: &str, version: &str, needs: &str, content: &str) {
    let sheet = format!(
        "format = 1\nname = \"{name}\"\nversion = \"{version}\"\n\
         place = [{{ from = \"data\", to = \"data\" }}]\n[needs]\nlayers = [{needs}]\n"
    );
    sandbox.zip(file, &[("oddfit.toml", &sheet), (&format!("data/{name}.qtx"), content)]);
}

#[test]
fn layers_that_need_each_other_come_in_one_change() {
    let sandbox = Sandbox::with_game();
    for version in ["1.0", "1.1"] {
        with_sheet(&sandbox, &format!("main-{version}.zip"), "Main", version, "", version);
        let needs = format!("\"Main ={version}\"");
        with_sheet(&sandbox, &format!("comp-{version}.zip"), "Comp", version, &needs, version);
    }
    sandbox.run("add comp-1.0.zip").status(4).says("no layer Main is laid");
    sandbox.run("add comp-1.0.zip main-1.0.zip").status(0).says("Comp and Main are laid on top");
    let before = sandbox.files();
    let alone = sandbox.run("upgrade Main main-1.1.zip").status(4);
    alone.says("oddstack lift Comp").says("upgrade Comp first, or in the same command");
    sandbox.run("upgrade comp-1.1.zip").status(4);
    sandbox.run("upgrade main-1.1.zip comp-1.1.zip --dry-run").status(0);
    assert_eq!(sandbox.files(), before);
    let both = sandbox.run("upgrade main-1.1.zip Comp=comp-1.1.zip --json").status(0).json();
    assert_eq!(both["data"]["layer"]["name"], "Main");
    assert_eq!(both["data"]["more_layers"][0]["name"], "Comp");
    assert_eq!(both["data"]["change"]["more_differences"][0]["layer"], "Comp");
    assert_eq!(sandbox.read("game/data/Main.qtx"), "1.1");
    // Whole or not at all.
    sandbox.zip("broken-1.0.zip", &[("x.qtx", "x"), ("oddfit.toml", "what = is this")]);
    let before = sandbox.files();
    sandbox.run("upgrade main-1.0.zip broken-1.0.zip comp-1.0.zip").status(1);
    sandbox.run("upgrade main-1.0.zip main-1.1.zip").status(2).says("two of these packages");
    sandbox.run("upgrade main-1.0.zip comp-1.0.zip --name x").status(2).says("--name is for one package");
    assert_eq!(sandbox.files(), before);
    sandbox.run("lift Comp").status(0);
    sandbox.run("upgrade Main main-1.0.zip").status(0);
    sandbox.run("lay Comp").status(4);
    sandbox.run("upgrade comp-1.0.zip").status(0);
    sandbox.run("lay Comp").status(0);
    sandbox.run("check --deep").status(0);
}

#[test]
fn of_several_packages_options_say_which_one_they_are_for() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.zip", &[("matte/data/lamps/brass.qtx", "m"), ("gold/data/lamps/brass.qtx", "g")]);
    sandbox.zip("gulls-1.zip", &[("data/gulls.qtx", "g"), ("data/notes.qtx", "n")]);
    let asked = sandbox.run("add lamps-1.zip gulls-1.zip").status(4);
    asked.says("lamps-1.zip!/variant=gold");
    let chosen =
        "add lamps-1.zip gulls-1.zip --choose lamps-1.zip!/variant=gold --skip gulls-1.zip!/data/notes*";
    sandbox.run(chosen).status(0).says("lamps and gulls are laid on top");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "g");
    assert!(!sandbox.path("game/data/notes.qtx").exists());
    sandbox.run("remove lamps gulls").status(0);
    let placed =
        "add lamps-1.zip gulls-1.zip --place lamps-1.zip!/gold=game: --place gulls-1.zip!/.=game:mods";
    sandbox.run(placed).status(0);
    assert_eq!(sandbox.read("game/mods/data/gulls.qtx"), "g");
    sandbox.run("add lamps-1.zip gulls-1.zip --place .=game:").status(2).says("lamps-1.zip!/.=game:");
}

#[test]
fn a_package_of_another_name_is_asked_about() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "1")]);
    sandbox.zip("lanterns-2.zip", &[("data/lamps/brass.qtx", "2")]);
    sandbox.run("add lamps-1.zip --name Bright").status(0);
    // What it was made of says it.
    sandbox.zip("lamps-1.1.zip", &[("data/lamps/brass.qtx", "1.1")]);
    sandbox.run("upgrade lamps-1.1.zip").status(0).says("Bright took the place of Bright 1");
    let asked = sandbox.run("upgrade lanterns-2.zip").status(4);
    asked.says("oddstack upgrade Bright ").says("[HERE]/lanterns-2.zip");
    sandbox.run("upgrade Bright=lanterns-2.zip").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "2");
    sandbox.run("upgrade Bright").status(2);
    sandbox.run("upgrade nothing.zip").status(1);
    sandbox.run("upgrade Dim lamps-1.zip").status(1).says("no layer `Dim`");
}
