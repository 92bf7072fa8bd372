//! Layers inside containers, as a person meets them.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{Read, Write};

use zip::write::SimpleFileOptions;
use zip::{ZipArchive, ZipWriter};

use crate::sandbox::Sandbox;

const CORE: &str = "game/data/core.qpk";
const LIGHT: &str = "[Light]\nglow = 1\nfog = 2\n\n[Sea]\nwaves = 3\n";

/// What a container has when the game comes.
const GAME: [(&str, &str); 6] = [
    ("menu/Title.txt", "title of the game\n"),
    ("menu/help.txt", "help of the game\n"),
    ("settings.ini", LIGHT),
    ("META-INF/MANIFEST.MF", "Manifest-Version: 1.0\n"),
    ("META-INF/QUILL.SF", "Signature-Version: 1.0\n"),
    ("META-INF/QUILL.RSA", "block"),
];

fn with_container() -> Sandbox {
    let sandbox = Sandbox::empty();
    sandbox.write("game/version.txt", "1.7\n");
    sandbox.write("game/data/broken.qpk", "PK and no more");
    sandbox.zip("core.zip", &GAME);
    std::fs::copy(sandbox.path("core.zip"), sandbox.path(CORE)).unwrap();
    sandbox.run("game add Quillhaven game --version-from version.txt").status(0);
    let light = LIGHT.replace("glow = 1", "glow = 5");
    sandbox.zip("lamps-1.zip", &[("menu/title.txt", "title of lamps\n"), ("settings.ini", &light)]);
    let sea = LIGHT.replace("waves = 3", "waves = 9");
    sandbox.zip("gulls-1.zip", &[("menu/help.txt", "help of gulls\n"), ("settings.ini", &sea)]);
    sandbox
}

/// The members of the container in the game.
fn members(sandbox: &Sandbox) -> BTreeMap<String, String> {
    let mut archive = ZipArchive::new(File::open(sandbox.path(CORE)).unwrap()).unwrap();
    let mut members = BTreeMap::new();
    for at in 0..archive.len() {
        let mut member = archive.by_index(at).unwrap();
        let mut content = String::new();
        member.read_to_string(&mut content).unwrap();
        members.insert(member.name().unwrap().into_owned(), content);
    }
    members
}

/// Packs the container of the game anew, as another program would.
fn edit(sandbox: &Sandbox, change: impl FnOnce(&mut BTreeMap<String, String>)) {
    let mut members = members(sandbox);
    change(&mut members);
    let mut writer = ZipWriter::new(File::create(sandbox.path(CORE)).unwrap());
    for (name, content) in members {
        writer.start_file(name, SimpleFileOptions::default()).unwrap();
        writer.write_all(content.as_bytes()).unwrap();
    }
    writer.finish().unwrap();
}

/// Puts a member into the container of the game, as an archiver does.
fn put(sandbox: &Sandbox, name: &str, content: &[u8]) {
    let mut before = ZipArchive::new(File::open(sandbox.path(CORE)).unwrap()).unwrap();
    let mut writer = ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for at in 0..before.len() {
        let member = before.by_index_raw(at).unwrap();
        if member.name().unwrap() != name {
            writer.raw_copy_file(member).unwrap();
        }
    }
    writer.start_file(name, SimpleFileOptions::default()).unwrap();
    writer.write_all(content).unwrap();
    std::fs::write(sandbox.path(CORE), writer.finish().unwrap().into_inner()).unwrap();
}

#[test]
fn two_layers_in_one_container_come_and_go_by_themselves() {
    let sandbox = with_container();
    let original = std::fs::read(sandbox.path(CORE)).unwrap();
    sandbox
        .run("add lamps-1.zip --place .=data/core.qpk!/")
        .status(0)
        .says("changes 2 members of game:data/core.qpk")
        .says("its signature no longer holds and is taken away: META-INF/QUILL.SF, META-INF/QUILL.RSA")
        .says("overwrite  game:data/core.qpk!/menu/Title.txt");
    // A member that a layer has is no file in a folder: the container is found again.
    let found = sandbox.run("add gulls-1.zip").status(0).says("it goes into game:data/core.qpk!/");
    found.says("1 merged with other layers");
    let now = members(&sandbox);
    assert_eq!(now["menu/Title.txt"], "title of lamps\n");
    assert_eq!(now["settings.ini"], "[Light]\nglow = 5\nfog = 2\n\n[Sea]\nwaves = 9\n");
    assert!(!now.contains_key("META-INF/QUILL.SF") && now.contains_key("META-INF/MANIFEST.MF"));
    sandbox.run("conflicts").status(0).says("no unresolved conflicts");
    sandbox.run("check --deep").status(0);
    sandbox
        .run("trace data/core.qpk!/menu/title.txt")
        .status(0)
        .says("game:data/core.qpk!/menu/Title.txt")
        .says("on disk: as it should be");
    sandbox.run("trace data/core.qpk!/menu/nothing.txt").status(1).says("neither the game nor a layer");
    sandbox.run("trace data/core.qpk").status(0).says("changes members");
    sandbox.run("lift lamps").status(0);
    let now = members(&sandbox);
    assert_eq!(now["menu/Title.txt"], "title of the game\n");
    assert_eq!(now["settings.ini"], LIGHT.replace("waves = 3", "waves = 9"));
    sandbox.run("undo").status(0);
    assert_eq!(members(&sandbox)["menu/Title.txt"], "title of lamps\n");
    sandbox.run("remove lamps gulls").status(0);
    assert_eq!(std::fs::read(sandbox.path(CORE)).unwrap(), original);
}

#[test]
fn a_whole_container_counts_as_a_whole_or_by_its_members() {
    let sandbox = with_container();
    let mut brought = GAME;
    brought[0].1 = "title of quays\n";
    std::fs::create_dir(sandbox.path("quays-1")).unwrap();
    std::fs::create_dir(sandbox.path("quays-2")).unwrap();
    sandbox.zip("quays-1/core.qpk", &brought);
    // A stub before it changes nothing of what it is.
    let zip = std::fs::read(sandbox.path("quays-1/core.qpk")).unwrap();
    let whole = "replaces game:data/core.qpk whole: 1 of 6 members differ (--as-members takes only these)";
    for (start, command) in [("inspect", ""), ("add", " -n"), ("add", "")]
        .into_iter()
        .flat_map(|it| [("", it), ("a stub", it)])
        .map(|(stub, (verb, rest))| (stub, format!("{verb} quays-1{rest}")))
    {
        std::fs::write(sandbox.path("quays-1/core.qpk"), [start.as_bytes(), &zip].concat()).unwrap();
        sandbox.run(&command).status(0).says(whole);
        if command == "add quays-1" {
            sandbox.run("undo").status(0);
        }
    }
    std::fs::write(sandbox.path("quays-1/core.qpk"), &zip).unwrap();
    sandbox.run("add quays-1").status(0).says(whole);
    // What lies above a whole container goes into it; what lies beneath is covered.
    sandbox.run("add lamps-1.zip --place .=data/core.qpk!/ --below quays").status(0);
    assert_eq!(members(&sandbox)["menu/Title.txt"], "title of quays\n");
    sandbox.run("conflicts").status(3).says("data/core.qpk!/menu/Title.txt");
    sandbox.run("settle data/core.qpk!/menu/Title.txt --with lamps").status(0);
    assert_eq!(members(&sandbox)["menu/Title.txt"], "title of lamps\n");
    sandbox.run("settle --clear data/core.qpk!/menu/Title.txt").status(0);
    sandbox.run("move lamps --top").status(0);
    assert_eq!(members(&sandbox)["menu/Title.txt"], "title of lamps\n");
    sandbox.run("remove quays lamps").status(0);
    let added = sandbox.run("add quays-1 --as-members --keep-signature").status(0);
    added
        .says("changes 1 member of game:data/core.qpk")
        .says("its signature stays, though it no longer holds");
    assert!(members(&sandbox).contains_key("META-INF/QUILL.SF"));
    brought[1].1 = "help of quays\n";
    sandbox.zip("quays-2/core.qpk", &brought[..3]);
    // What the next version has no more goes; that members alone count is remembered.
    sandbox.run("upgrade quays quays-2").status(0).says("added  game:data/core.qpk!/menu/help.txt");
    let now = members(&sandbox);
    assert_eq!(now["menu/Title.txt"], "title of quays\n");
    assert_eq!(now["menu/help.txt"], "help of quays\n");
    assert!(!now.contains_key("META-INF/MANIFEST.MF"));
    sandbox.run("add lamps-1.zip --as-members --place .=game:x").status(1).says("brings no container");
}

/// A name typed wrongly would be found out in the game only.
#[test]
fn what_is_to_be_taken_away_and_is_not_there_is_told() {
    let sandbox = with_container();
    sandbox.write("game/data/lamp.qtx", "lamp\n");
    sandbox.run("game forget Quillhaven --yes").status(0);
    sandbox.run("game add Quillhaven game").status(0);
    sandbox.write("bare/x.txt", "x");
    let there = ["data/lamp.qtx", "data/l*", "data/core.qpk!/menu/help.txt", "data/core.qpk!/META-INF/**"];
    let missing = ["data/lmap.qtx", "data/w*", "data/core.qpk!/menu/hlep.txt", "data/core.qpk!/SIGN/**"];
    let options = there.iter().chain(&missing).map(|text| format!(" --take-away {text}"));
    let done = sandbox.run(&format!("add bare --place .=game:data{}", options.collect::<String>())).status(0);
    for (text, is_missing) in
        there.map(|text| (text, false)).into_iter().chain(missing.map(|text| (text, true)))
    {
        let told = done.stdout.contains(&format!("takes away {text} (nothing there has such a name)"));
        assert_eq!(told, is_missing, "{text}\n{}", done.stdout);
    }
}

#[test]
fn members_are_taken_away_and_what_is_no_container_is_left_alone() {
    let sandbox = with_container();
    sandbox.write("bare/x.txt", "x");
    let line = "add bare --place .=game:data --take-away data/core.qpk!/META-INF/** --take-away data/core.qpk!/menu/help.txt";
    sandbox.run(line).status(0).says("changes 4 members");
    let names: Vec<String> = members(&sandbox).into_keys().collect();
    assert_eq!(names, ["menu/Title.txt", "settings.ini"]);
    sandbox.run("lift --all").status(0);
    assert_eq!(members(&sandbox).len(), 6);
    for (place, reason) in [
        (".=data/broken.qpk!/", "nothing can be put into game:data/broken.qpk: it is no zip-based container"),
        (".=data/none.qpk!/", "nothing can be put into game:data/none.qpk: there is no such file"),
    ] {
        sandbox.run(&format!("add lamps-1.zip --place {place}")).status(1).says(reason);
    }
    // A folder may be named so.
    sandbox.write("game/odd.qpk!/x.txt", "x");
    sandbox.run("game forget Quillhaven --yes").status(0);
    sandbox.run("game add Quillhaven game").status(0);
    sandbox.run("add lamps-1.zip --place .=odd.qpk!/").status(0);
    assert_eq!(sandbox.read("game/odd.qpk!/menu/title.txt"), "title of lamps\n");
}

#[test]
fn what_a_person_changes_inside_is_told_and_kept_by_members() {
    let sandbox = with_container();
    sandbox.run("add lamps-1.zip --place .=data/core.qpk!/").status(0);
    edit(&sandbox, |members| {
        members.insert("mine/note.txt".into(), "mine".into());
        members.remove("menu/help.txt");
        let settings = members["settings.ini"].replace("waves = 3", "waves = 8");
        members.insert("settings.ini".into(), settings);
    });
    let told = sandbox.run("check").status(3);
    told.says("added      !/mine/note.txt")
        .says("gone       !/menu/help.txt")
        .says("changed    !/settings.ini");
    sandbox.run("lift lamps").status(4).says("not as Odd Stack left it");
    sandbox.run("mend data/core.qpk --keep").status(0).says("Sea.waves in settings.ini");
    sandbox.run("check --deep").status(0);
    sandbox.run("lift lamps").status(0);
    let now = members(&sandbox);
    assert_eq!(now["settings.ini"], LIGHT.replace("waves = 3", "waves = 8"));
    assert_eq!((now.get("menu/help.txt"), now["mine/note.txt"].as_str()), (None, "mine"));
    // The signature does not hold for a person's changes either.
    assert!(!now.contains_key("META-INF/QUILL.SF"));
    sandbox.run("tweak data/core.qpk!/settings.ini Light.fog=7").status(0);
    assert!(members(&sandbox)["settings.ini"].contains("fog = 7"));
    sandbox.run("tweak drop data/core.qpk!/settings.ini").status(0);
    assert_eq!(members(&sandbox)["settings.ini"], LIGHT);
    edit(&sandbox, |members| drop(members.insert("menu/Title.txt".into(), "spoilt".into())));
    sandbox.run("mend data/core.qpk --restore").status(0);
    assert_eq!(members(&sandbox)["menu/Title.txt"], "title of the game\n");
    sandbox.run("lift --all").status(0);
    assert_eq!(members(&sandbox).len(), 6);
}

/// What is the user's own as a whole stays so, however often it is edited, and what they had in it goes with it.
#[test]
fn a_container_that_is_the_users_own_is_so_as_a_whole() {
    let sandbox = with_container();
    sandbox.run("add lamps-1.zip --place .=data/core.qpk!/").status(0);
    let mine =
        |title: &str| sandbox.zip("game/data/mine.qpk", &[("menu/title.txt", title), ("a.txt", "a\n")]);
    for title in ["mine\n", "mine again\n"] {
        mine(title);
        sandbox.run("mend data/mine.qpk --keep").status(0).says("as a whole file");
        sandbox.run("check --deep").status(0);
    }
    // The same of one that they put into the game's container.
    for (number, inner) in ["mine.zip", "again.zip"].into_iter().enumerate() {
        sandbox.zip(inner, &[("x.txt", &format!("x {number}\n")), ("y.txt", "y\n")]);
        put(&sandbox, "mine.zip", &std::fs::read(sandbox.path(inner)).unwrap());
        sandbox.run("mend data/core.qpk --keep").status(0).says("mine.zip");
        sandbox.run("check --deep").status(0);
    }
    let told = sandbox.run("show own").status(0);
    assert!(!told.says("data/core.qpk!/mine.zip ").stdout.contains("mine.zip!/"));
    // And then the container is none any more, and gone.
    sandbox.write(CORE, "no container");
    sandbox.run("mend data/core.qpk --keep").status(0).says("as a whole file");
    assert!(!sandbox.run("show own").status(0).stdout.contains("core.qpk!/"));
    std::fs::remove_file(sandbox.path(CORE)).unwrap();
    sandbox.run("mend data/core.qpk --keep").status(0).says("that no file lies there");
    sandbox.run("check").status(0);
    sandbox.run("tweak drop data/core.qpk").status(0);
    assert_eq!(members(&sandbox)["menu/Title.txt"], "title of lamps\n");
    sandbox.run("lift --all").status(0);
    sandbox.run("check --deep").status(0);
    assert_eq!(members(&sandbox).len(), 6);
}

#[test]
fn an_update_is_met_member_by_member_planned_or_not() {
    for planned in [true, false] {
        let sandbox = with_container();
        let core = std::fs::read(sandbox.path(CORE)).unwrap();
        for package in ["lamps-1.zip", "gulls-1.zip"] {
            sandbox.run(&format!("add {package} --place .=data/core.qpk!/")).status(0);
        }
        if planned {
            sandbox.run("patchday begin").status(0);
            assert_eq!(std::fs::read(sandbox.path(CORE)).unwrap(), core);
        }
        std::fs::write(sandbox.path(CORE), &core).unwrap();
        edit(&sandbox, |members| {
            members.insert("menu/help.txt".into(), "help of the update\n".into());
            members.insert("settings.ini".into(), LIGHT.replace("fog = 2", "fog = 4"));
        });
        sandbox.write("game/version.txt", "1.8\n");
        sandbox
            .run("patchday finish")
            .status(3)
            .says("replaces a file that the update touched: game:data/core.qpk!/menu/help.txt")
            .says("oddstack lay gulls");
        let now = members(&sandbox);
        assert_eq!(now["menu/Title.txt"], "title of lamps\n", "planned: {planned}");
        assert_eq!(now["menu/help.txt"], "help of the update\n");
        // The layer's own change alone goes over the update's settings.
        assert_eq!(now["settings.ini"], LIGHT.replace("fog = 2", "fog = 4").replace("glow = 1", "glow = 5"));
        sandbox.run("check --deep").status(0);
        sandbox.run("lift --all").status(0);
        assert_eq!(members(&sandbox)["settings.ini"], LIGHT.replace("fog = 2", "fog = 4"));
        assert!(members(&sandbox).contains_key("META-INF/QUILL.SF"));
    }
}

#[test]
fn a_layer_may_want_a_container_unchanged_by_others_or_just_the_one_it_was_made_from() {
    let sandbox = with_container();
    sandbox.run("add gulls-1.zip --place .=data/core.qpk!/").status(0);
    let clean = "add lamps-1.zip --place .=data/core.qpk!/ --clean data/core.qpk";
    let told = sandbox.run(clean).status(4);
    told.says("lamps needs data/core.qpk unchanged by others, and gulls changes it")
        .says("oddstack lift gulls");
    sandbox.run("lift gulls").status(0);
    sandbox.run(clean).status(0);
    sandbox.run("lay gulls").status(4).says("gulls changes it");
    sandbox.run("lay gulls --despite").status(0);
    sandbox.run("remove lamps gulls").status(0);
    let trace = sandbox.run("trace data/core.qpk --json").status(0).json();
    let hash = trace["data"]["rows"][0]["hash"].as_str().unwrap().to_owned();
    let made =
        |hash: &str| format!("add lamps-1.zip --place .=data/core.qpk!/ --made-from data/core.qpk={hash}");
    sandbox.run(&made("0123456789")).status(4).says("lamps was made from data/core.qpk with hash 01234567");
    sandbox.run(&made("no hash")).status(2);
    sandbox.run(&made(&hash[..16])).status(0);
    sandbox.run("add gulls-1.zip --place .=data/core.qpk!/ --below lamps").status(4).says("was made from");
    // In a sheet, and of a member.
    let sheet = "place = [{ from = \"menu\", to = \"data/core.qpk!/menu\" }]\nneeds = { clean = [\"data/core.qpk!/menu/help.txt\"] }\n";
    sandbox.zip("quays-1.zip", &[("oddfit.toml", sheet), ("menu/map.txt", "map")]);
    sandbox.run("add quays-1.zip").status(0);
    sandbox.run("stack").status(0);
    let there = "needs data/core.qpk!/menu/help.txt unchanged by others, and gulls changes it";
    sandbox.run("add gulls-1.zip --place .=data/core.qpk!/").status(4).says(there);
}

#[test]
fn where_a_later_container_wins_what_it_hides_is_told() {
    let sandbox = with_container();
    sandbox.run("game set --containers data/*.qpk").status(2);
    sandbox.run("game set --containers data/*.qpk --each-alone").status(1).says("data/*.qpk");
    sandbox.run("game set --containers data/*.qpk --later-wins").status(0).says("data/*.qpk");
    sandbox.run("add lamps-1.zip --place .=data/core.qpk!/").status(0);
    std::fs::create_dir(sandbox.path("pier")).unwrap();
    sandbox.zip("pier/pier.qpk", &[("menu/title.txt", "title of pier\n"), ("map.txt", "map")]);
    sandbox.run("add pier --place .=data").status(0);
    let hidden = "menu/Title.txt of lamps in game:data/core.qpk never shows: game:data/pier.qpk (pier) is loaded later";
    sandbox.run("conflicts").one_of(&[0, 3], "it is odd, and no open contest");
    sandbox.run("conflicts").says(hidden);
    let told = sandbox.run("trace data/*.qpk!/menu/title.txt").status(0);
    told.says("wins  game:data/pier.qpk!/menu/title.txt");
    sandbox.run("lift pier").status(0);
    sandbox
        .run("trace data/*.qpk!/menu/title.txt")
        .status(0)
        .says("wins  game:data/core.qpk!/menu/title.txt");
    sandbox.run("game set --containers data/*.qpk --each-alone").status(0);
}

#[test]
fn what_a_program_changes_inside_becomes_a_layer_of_members() {
    let sandbox = with_container();
    let original = std::fs::read(sandbox.path(CORE)).unwrap();
    sandbox.run("capture patch --begin").status(0);
    edit(&sandbox, |members| {
        members.insert("menu/Title.txt".into(), "title of the patch\n".into());
        members.insert("menu/map.txt".into(), "map".into());
        members.insert("settings.ini".into(), LIGHT.replace("waves = 3", "waves = 7"));
    });
    sandbox
        .run("capture --end")
        .status(0)
        .says("changed     game:data/core.qpk!/menu/Title.txt")
        .says("added       game:data/core.qpk!/menu/map.txt");
    sandbox.run("check --deep").status(0);
    sandbox.run("add lamps-1.zip --place .=data/core.qpk!/ --below patch").status(0);
    let now = members(&sandbox);
    assert_eq!(now["menu/Title.txt"], "title of the patch\n");
    assert_eq!(now["settings.ini"], "[Light]\nglow = 5\nfog = 2\n\n[Sea]\nwaves = 7\n");
    assert!(!now.contains_key("META-INF/QUILL.SF"));
    sandbox.run("remove patch lamps").status(0);
    assert_eq!(std::fs::read(sandbox.path(CORE)).unwrap(), original);
}

/// The members of a container that is a member itself.
fn inner(sandbox: &Sandbox) -> BTreeMap<String, String> {
    let mut archive = ZipArchive::new(File::open(sandbox.path(CORE)).unwrap()).unwrap();
    let mut bytes = Vec::new();
    archive.by_name("in.zip").unwrap().read_to_end(&mut bytes).unwrap();
    let mut inner = ZipArchive::new(std::io::Cursor::new(bytes)).unwrap();
    let names: Vec<String> = inner.file_names().map(|name| name.unwrap().into_owned()).collect();
    let read = |name: String| {
        let mut content = String::new();
        inner.by_name(&name).unwrap().read_to_string(&mut content).unwrap();
        (name, content)
    };
    names.into_iter().map(read).collect()
}

/// By a program and by a person: what layers below had put there goes with them.
#[test]
fn what_is_changed_in_a_container_inside_is_told_and_kept_by_members() {
    for by_program in [true, false] {
        let sandbox = Sandbox::empty();
        let game = [("x.txt", "x"), ("y.txt", "y"), ("z.txt", "z")];
        sandbox.zip("in.zip", &game);
        let bytes = std::fs::read(sandbox.path("in.zip")).unwrap();
        sandbox.write(CORE, "");
        sandbox.zip_of_bytes(CORE, &[("title.txt", b"title"), ("in.zip", &bytes)]);
        let original = std::fs::read(sandbox.path(CORE)).unwrap();
        sandbox.run("game add Quillhaven game").status(0);
        sandbox.zip("lamps-1.zip", &[("y.txt", "y of lamps")]);
        sandbox.run("add lamps-1.zip --place .=data/core.qpk!/in.zip!/").status(0);
        if by_program {
            sandbox.run("capture patch --begin").status(0);
        }
        sandbox.zip("other.zip", &[("x.txt", "x of mine"), ("y.txt", "y of lamps"), ("new.txt", "new")]);
        put(&sandbox, "in.zip", &std::fs::read(sandbox.path("other.zip")).unwrap());
        if by_program {
            let told = sandbox.run("capture --end").status(0);
            told.says("changed     game:data/core.qpk!/in.zip!/x.txt")
                .says("added       game:data/core.qpk!/in.zip!/new.txt")
                .says("taken away  game:data/core.qpk!/in.zip!/z.txt");
        } else {
            let told = sandbox.run("mend data/core.qpk --keep").status(0);
            told.says("in.zip!/x.txt").says("in.zip!/new.txt").says("that in.zip!/z.txt is gone");
        }
        sandbox.run("check --deep").status(0);
        sandbox.run("remove lamps").status(0);
        let wanted = [("new.txt", "new"), ("x.txt", "x of mine"), ("y.txt", "y")];
        assert_eq!(inner(&sandbox), wanted.map(|(name, content)| (name.into(), content.into())).into());
        sandbox.run("lift --all").status(0);
        assert_eq!(std::fs::read(sandbox.path(CORE)).unwrap(), original);
    }
}

/// The container of the game as two packages' files put in by hand leave it: without its signature.
fn modded_by_hand(sandbox: &Sandbox) {
    std::fs::copy(sandbox.path(CORE), sandbox.path(&format!("{CORE}.orig"))).unwrap();
    edit(sandbox, |members| {
        members.retain(|path, _| !path.starts_with("META-INF/QUILL"));
        members.insert("menu/Title.txt".to_owned(), "title of lamps\n".to_owned());
        members.insert("menu/help.txt".to_owned(), "help of gulls\n".to_owned());
    });
}

#[test]
fn files_put_into_a_container_by_hand_are_adopted_with_the_original_beside_it() {
    let sandbox = with_container();
    let original = std::fs::read(sandbox.path(CORE)).unwrap();
    sandbox.zip("lamps-1.zip", &[("menu/title.txt", "title of lamps\n")]);
    sandbox.zip("gulls-1.zip", &[("menu/help.txt", "help of gulls\n"), ("menu/none.txt", "none\n")]);
    modded_by_hand(&sandbox);
    // The other order: the game is known only as it is now.
    sandbox.run("game forget Quillhaven").status(0);
    sandbox.run("game add Quillhaven game --version-from version.txt").status(0);
    sandbox
        .run("adopt lamps-1.zip --place .=data/core.qpk!/")
        .status(4)
        .says("game:data/core.qpk.orig (by its name)");
    sandbox
        .run("adopt lamps-1.zip --place .=data/core.qpk!/ --originals leave")
        .status(1)
        .says("it is not known what that was without them");
    let by_hand = std::fs::read(sandbox.path(CORE)).unwrap();
    sandbox.run("adopt lamps-1.zip --place .=data/core.qpk!/ --originals take -n").status(0);
    let adopted = sandbox.run("adopt lamps-1.zip --place .=data/core.qpk!/ --originals take").status(0);
    adopted
        .says("1 other member was changed too, so it stays as it is")
        .says("menu/help.txt")
        .says("was found at game:data/core.qpk.orig, and is kept")
        .says("no file was written");
    assert_eq!(std::fs::read(sandbox.path(CORE)).unwrap(), by_hand);
    assert!(!sandbox.path("game/data/core.qpk.orig").exists());
    sandbox.run("check").status(3).says("menu/help.txt");
    let adopted = sandbox.run("adopt gulls-1.zip --place .=data/core.qpk!/").status(0);
    adopted.says("1 container was made anew").says("menu/none.txt");
    assert_eq!(members(&sandbox)["menu/Title.txt"], "title of lamps\n");
    assert_eq!(members(&sandbox)["menu/help.txt"], "help of gulls\n");
    assert!(!members(&sandbox).contains_key("META-INF/QUILL.SF"));
    sandbox.run("check --deep").status(0);
    sandbox.run("lift lamps").status(0);
    assert_eq!(members(&sandbox)["menu/Title.txt"], "title of the game\n");
    assert_eq!(members(&sandbox)["menu/help.txt"], "help of gulls\n");
    sandbox.run("lift --all").status(0);
    assert_eq!(std::fs::read(sandbox.path(CORE)).unwrap(), original);
}

#[test]
fn a_container_put_aside_too_late_is_no_original_and_the_rest_becomes_the_users_own() {
    let sandbox = with_container();
    let original = std::fs::read(sandbox.path(CORE)).unwrap();
    sandbox.zip("lamps-1.zip", &[("menu/title.txt", "title of lamps\n")]);
    modded_by_hand(&sandbox);
    std::fs::copy(sandbox.path(CORE), sandbox.path(&format!("{CORE}.orig"))).unwrap();
    sandbox.run("adopt lamps-1.zip --place .=data/core.qpk!/ --originals take").status(1).says("not known");
    std::fs::write(sandbox.path(&format!("{CORE}.orig")), &original).unwrap();
    // The time is another one, the content is what the game had.
    sandbox.run("mend --accept data/core.qpk").status(0);
    sandbox.run("adopt lamps-1.zip --place .=data/core.qpk!/ --originals take").status(0);
    sandbox.run("mend --keep data/core.qpk").status(0);
    sandbox.run("check --deep").status(0);
    assert_eq!(members(&sandbox)["menu/help.txt"], "help of gulls\n");
    sandbox.run("lift lamps").status(0);
    assert_eq!(members(&sandbox)["menu/Title.txt"], "title of the game\n");
    assert_eq!(members(&sandbox)["menu/help.txt"], "help of gulls\n");
    sandbox.run("undo").status(0);
    sandbox.run("lift --all").status(0);
    assert_eq!(std::fs::read(sandbox.path(CORE)).unwrap(), original);
}

#[test]
fn a_folder_that_looks_like_a_signature_is_asked_about_once() {
    let sandbox = Sandbox::empty();
    sandbox.write("game/version.txt", "1.7\n");
    let digest = "9c56cc51b374c3ba189210d5b6d4bf57790d351c96c47c02190ecf1e430635ab";
    let names = ["menu/title.txt", "menu/help.txt", "art/sea.txt"];
    let list: String = names.iter().map(|name| format!("{name} {digest}\n")).collect();
    let mut members = vec![("SIGN/list.txt", list.as_str())];
    members.extend(names.map(|name| (name, "of the game\n")));
    // An index that names members is no signature.
    let index = names.join("\n");
    members.push(("index/all.txt", &index));
    sandbox.zip("core.zip", &members);
    for name in ["core.qpk", "more.qpk", "core.qpk.orig"] {
        std::fs::create_dir_all(sandbox.path("game/data")).unwrap();
        std::fs::copy(sandbox.path("core.zip"), sandbox.path(&format!("game/data/{name}"))).unwrap();
    }
    sandbox.run("game add Quillhaven game --version-from version.txt").status(0);
    for (name, content) in [("lamps-1.zip", "title of lamps\n"), ("gulls-1.zip", "title of gulls\n")] {
        sandbox.zip(name, &[("menu/title.txt", content)]);
    }
    let asked = sandbox.run("add lamps-1.zip --place .=data/more.qpk!/").status(4);
    let asked =
        asked.says("game:data/more.qpk has SIGN that looks like a signature").says("--keep-signature");
    assert!(!asked.whole().contains("index"), "{}", asked.whole());
    sandbox
        .run("add lamps-1.zip --place .=data/more.qpk!/ --take-away game:data/more.qpk!/SIGN/**")
        .status(0)
        .says("changes 2 members");
    sandbox.run("add gulls-1.zip --place .=data/more.qpk!/").status(0);
    sandbox.run("remove gulls").status(0);
    // Where somebody changed the container by hand, it is seen what he did with it.
    edit(&sandbox, |members| {
        members.remove("SIGN/list.txt");
        members.insert("menu/title.txt".to_owned(), "title of gulls\n".to_owned());
    });
    sandbox.run("adopt gulls-1.zip --place .=data/core.qpk!/ --originals take").status(0);
    assert!(!self::members(&sandbox).contains_key("SIGN/list.txt"));
    sandbox.run("check --deep").status(0);
}

#[test]
fn what_containers_have_is_known_until_they_change() {
    let sandbox = with_container();
    for _ in 0..2 {
        sandbox.run("game show").status(0).says("1 zip-based file, 6 members");
    }
    let chart = [("maps/chart.txt", "a chart\n"), ("maps/reef.txt", "a reef\n")];
    sandbox.zip("charts-1.zip", &chart);
    edit(&sandbox, |members| {
        members.extend(
            [("maps/chart.txt", "old chart"), ("maps/reef.txt", "old reef")]
                .map(|(path, text)| (path.to_owned(), text.to_owned())),
        );
    });
    sandbox.write("game/data/broken.qpk", "no container any more, or yet");
    sandbox.run("mend --accept").status(0);
    sandbox.run("game show").status(0).says("1 zip-based file, 8 members");
    let placed = sandbox.run("add charts-1.zip -n").whole();
    assert!(placed.contains("game:data/core.qpk!/"), "{placed}");
    std::fs::remove_file(sandbox.path(CORE)).unwrap();
    sandbox.run("mend --accept").status(0);
    assert!(!sandbox.run("game show").status(0).whole().contains("zip-based"));
}
