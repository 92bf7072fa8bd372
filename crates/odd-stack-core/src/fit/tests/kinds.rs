//! Made-up games of different build.

use super::game::TestGame;

/// A game and the names in it that layouts are made of.
pub(super) struct Kind {
    pub name: &'static str,
    pub game: TestGame,
    /// A deep folder below the main root with files `lamp_a`, `lamp_b`, `lamp_c` of `ending`.
    pub lamps: &'static str,
    pub ending: &'static str,
    /// Another folder, with files `fog` and `noon` of its own ending.
    pub bells: &'static str,
    pub bell_ending: &'static str,
    /// The main program's folder and file.
    pub program_folder: &'static str,
    pub program: &'static str,
    /// The folder in which add-ons have folders of their own.
    pub addons: Option<&'static str>,
    /// The folder in which all containers lie, and their ending.
    pub containers: Option<(&'static str, &'static str)>,
    pub has_docs: bool,
}

/// All games.
pub(super) fn kinds() -> Vec<Kind> {
    let main = ("game", "/games/Quillhaven");
    let imports: &[&str] = &["dinput8.dll", "kernel32.dll"];
    let deep = |folder: &str, ending: &str, bells: &str, bell_ending: &str, more: &[&str]| -> Vec<String> {
        let lamps = ["lamp_a", "lamp_b", "lamp_c", "lamp_d"];
        let mut files: Vec<String> = lamps.iter().map(|name| format!("{folder}{name}.{ending}")).collect();
        files.extend(["fog", "noon", "storm"].map(|name| format!("{bells}{name}.{bell_ending}")));
        files.extend(more.iter().map(|file| (*file).to_owned()));
        files
    };
    let game = |roots: &[(&'static str, &'static str)], files: Vec<String>, program: &str| {
        let files: Vec<&str> = files.iter().map(String::as_str).collect();
        TestGame::new(roots, &files, Some((program, imports)))
    };
    let docs = ("docs", "/me/Documents/Quillhaven");
    vec![
        Kind {
            name: "flat",
            game: game(
                &[main],
                deep("", "qtx", "", "wav", &["quillhaven.exe", "launcher.exe", "harbour.ini", "readme.txt"]),
                "quillhaven.exe",
            ),
            lamps: "",
            ending: "qtx",
            bells: "",
            bell_ending: "wav",
            program_folder: "",
            program: "quillhaven.exe",
            addons: None,
            containers: None,
            has_docs: false,
        },
        Kind {
            name: "engine with a folder for binaries",
            game: game(
                &[main],
                deep(
                    "Harbour/Content/Lamps/",
                    "uas",
                    "Harbour/Content/Sound/Bells/",
                    "bnk",
                    &[
                        "Quillhaven.exe",
                        "Engine/Binaries/Win64/Quillhaven-Win64.exe",
                        "Engine/Binaries/Win64/sound.dll",
                        "Harbour/Config/DefaultGame.ini",
                        "Harbour/Content/Paks/base.pak",
                        "Harbour/Content/Paks/text.pak",
                        "Harbour/Content/Paks/voice.pak",
                        "Engine/Extras/redist.exe",
                    ],
                ),
                "Engine/Binaries/Win64/Quillhaven-Win64.exe",
            ),
            lamps: "Harbour/Content/Lamps/",
            ending: "uas",
            bells: "Harbour/Content/Sound/Bells/",
            bell_ending: "bnk",
            program_folder: "Engine/Binaries/Win64/",
            program: "Quillhaven-Win64.exe",
            addons: None,
            containers: Some(("Harbour/Content/Paks/", "pak")),
            has_docs: false,
        },
        Kind {
            name: "data folder",
            game: game(
                &[main],
                deep(
                    "data/textures/lamps/",
                    "dds",
                    "data/sound/bells/",
                    "wav",
                    &[
                        "quillhaven.exe",
                        "launcher.exe",
                        "data/harbour.qdb",
                        "data/scripts/start.lua",
                        "readme.txt",
                    ],
                ),
                "quillhaven.exe",
            ),
            lamps: "data/textures/lamps/",
            ending: "dds",
            bells: "data/sound/bells/",
            bell_ending: "wav",
            program_folder: "",
            program: "quillhaven.exe",
            addons: None,
            containers: None,
            has_docs: false,
        },
        Kind {
            name: "containers and add-ons",
            game: game(
                &[main],
                deep(
                    "data/lamps/",
                    "qtx",
                    "data/bells/",
                    "wav",
                    &[
                        "bin/quillhaven.exe",
                        "bin/engine.dll",
                        "packs/core.qpk",
                        "packs/text.qpk",
                        "packs/voice.qpk",
                        "mods/fog_ferries/addon.json",
                        "mods/fog_ferries/fog.lua",
                        "mods/gull_songs/addon.json",
                        "mods/gull_songs/songs.lua",
                    ],
                ),
                "bin/quillhaven.exe",
            ),
            lamps: "data/lamps/",
            ending: "qtx",
            bells: "data/bells/",
            bell_ending: "wav",
            program_folder: "bin/",
            program: "quillhaven.exe",
            addons: Some("mods/"),
            containers: Some(("packs/", "qpk")),
            has_docs: false,
        },
        Kind {
            name: "two roots",
            game: game(
                &[main, docs],
                deep(
                    "data/lamps/",
                    "qtx",
                    "sound/bells/",
                    "wav",
                    &[
                        "bin/quillhaven.exe",
                        "docs:profiles/default.ini",
                        "docs:profiles/wren.ini",
                        "docs:saves/first.qsv",
                        "docs:settings/window.ini",
                    ],
                ),
                "bin/quillhaven.exe",
            ),
            lamps: "data/lamps/",
            ending: "qtx",
            bells: "sound/bells/",
            bell_ending: "wav",
            program_folder: "bin/",
            program: "quillhaven.exe",
            addons: None,
            containers: None,
            has_docs: true,
        },
        Kind {
            name: "mixed case",
            game: game(
                &[main],
                deep(
                    "DATA/Textures/",
                    "DDS",
                    "DATA/SOUND/Bells/",
                    "WAV",
                    &["System/QUILLHAVEN.EXE", "System/Engine.DLL", "LAUNCH.EXE", "DATA/Maps/PIER.QMP"],
                ),
                "System/QUILLHAVEN.EXE",
            ),
            lamps: "DATA/Textures/",
            ending: "dds",
            bells: "DATA/SOUND/Bells/",
            bell_ending: "wav",
            program_folder: "System/",
            program: "quillhaven.exe",
            addons: None,
            containers: None,
            has_docs: false,
        },
    ]
}
