//! Layouts of packages, with where each file belongs.

use super::kinds::Kind;

/// What is right for one layout.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Right {
    /// It is plain: place it.
    Place,
    /// Placing it and asking are both right.
    PlaceOrAsk,
    /// It can't be known: ask.
    Ask,
}

/// A package with where each file belongs; empty for nowhere.
pub(super) struct Layout {
    pub says: &'static str,
    pub right: Right,
    pub files: Vec<(String, String)>,
    pub choose: Option<&'static str>,
    pub copies: Vec<String>,
}

impl Kind {
    fn lamp(&self, name: &str) -> String {
        format!("{}{name}.{}", self.lamps, self.ending)
    }

    fn bell(&self, name: &str) -> String {
        format!("{}{name}.{}", self.bells, self.bell_ending)
    }

    /// The path without its first folder, if it has one above the last.
    fn cut(path: &str) -> String {
        match path.split_once('/') {
            Some((_, rest)) if rest.contains('/') => rest.to_owned(),
            _ => path.to_owned(),
        }
    }

    /// All layouts, in the names of this game.
    pub(super) fn layouts(&self) -> Vec<Layout> {
        use Right::{Ask, Place, PlaceOrAsk};
        let (a, b, c) = (self.lamp("lamp_a"), self.lamp("lamp_b"), self.lamp("lamp_c"));
        let (fog, noon) = (self.bell("fog"), self.bell("noon"));
        let new = self.lamp("lamp_new");
        let flat = |path: &str| path.rsplit('/').next().unwrap_or_default().to_owned();
        let is_flat = self.lamps.is_empty();
        let deep = self.lamps.matches('/').count() > 1;
        let mut all: Vec<Layout> = Vec::new();
        let mut add = |says: &'static str, right: Right, files: Vec<(String, &str)>| {
            let files = files.into_iter().map(|(path, to)| (path, to.to_owned())).collect();
            all.push(Layout { says, right, files, choose: None, copies: Vec::new() });
        };
        let under = |top: &str, path: &str| format!("{top}{path}");
        add("as it is in the game", Place, vec![(a.clone(), &a), (b.clone(), &b)]);
        add("one file as in the game", Place, vec![(a.clone(), &a)]);
        add("a wrapper", Place, vec![(under("Brass Lamps/", &a), &a), (under("Brass Lamps/", &b), &b)]);
        add(
            "a wrapper in a wrapper",
            Place,
            vec![(under("lamps-1.2/Brass Lamps/", &a), &a), (under("lamps-1.2/Brass Lamps/", &fog), &fog)],
        );
        add("three wrappers", Place, vec![(under("x/y/z/", &a), &a), (under("x/y/z/", &b), &b)]);
        add(
            "a wrapper with things to read",
            Place,
            vec![
                (under("Brass Lamps v1.2/", &a), &a),
                ("Brass Lamps v1.2/readme.txt".into(), ""),
                ("Brass Lamps v1.2/LICENSE".into(), ""),
            ],
        );
        add(
            "things to read beside the wrapper",
            Place,
            vec![
                ("How to install.txt".into(), ""),
                ("preview.jpg".into(), ""),
                (under("Files/", &a), &a),
                (under("Files/", &b), &b),
            ],
        );
        add(
            "a manual in a folder",
            Place,
            vec![
                (under("Lamps/", &a), &a),
                ("Lamps/docs/manual.pdf".into(), ""),
                ("Lamps/docs/pages/1.html".into(), ""),
            ],
        );
        add(
            "pictures in a folder",
            Place,
            vec![
                (a.clone(), &a),
                (b.clone(), &b),
                ("screenshots/1.png".into(), ""),
                ("screenshots/2.jpg".into(), ""),
            ],
        );
        add(
            "sources",
            Place,
            vec![
                (a.clone(), &a),
                (under(self.lamps, "lamp_a.psd"), ""),
                ("src/make.py".into(), ""),
                ("src/lamps.blend".into(), ""),
            ],
        );
        add(
            "what systems leave behind",
            Place,
            vec![
                (a.clone(), &a),
                (under("__MACOSX/", &a), ""),
                (under(self.lamps, ".DS_Store"), ""),
                ("Thumbs.db".into(), ""),
                (".git/config".into(), ""),
            ],
        );
        add(
            "from below the root",
            if deep { Place } else { PlaceOrAsk },
            vec![(Self::cut(&a), &a), (Self::cut(&b), &b), (Self::cut(&c), &c)],
        );
        add(
            "a wrapper from below the root",
            if deep { Place } else { PlaceOrAsk },
            vec![
                (under("W/", &Self::cut(&a)), &a),
                (under("W/", &Self::cut(&b)), &b),
                (under("W/", &Self::cut(&c)), &c),
            ],
        );
        add(
            "two folders from below the root",
            PlaceOrAsk,
            vec![
                (Self::cut(&a), &a),
                (Self::cut(&b), &b),
                (Self::cut(&fog), &fog),
                (Self::cut(&noon), &noon),
            ],
        );
        add("loose files of one folder", Place, vec![(flat(&a), &a), (flat(&b), &b), (flat(&c), &c)]);
        add(
            "loose files in a wrapper",
            Place,
            vec![(under("Brass/", &flat(&a)), &a), (under("Brass/", &flat(&b)), &b)],
        );
        add("one loose file", PlaceOrAsk, vec![(flat(&a), &a)]);
        add(
            "loose files, half of them new",
            PlaceOrAsk,
            vec![
                (flat(&a), &a),
                (flat(&b), &b),
                (flat(&new), &new),
                (under("", &flat(&self.lamp("lamp_x"))), &self.lamp("lamp_x")),
            ],
        );
        add(
            "loose new files of a kind",
            PlaceOrAsk,
            vec![(flat(&new), &new), (flat(&self.lamp("lamp_y")), &self.lamp("lamp_y"))],
        );
        add(
            "loose files of two folders",
            if is_flat { Place } else { Ask },
            vec![(flat(&a), &a), (flat(&b), &b), (flat(&fog), &fog), (flat(&noon), &noon)],
        );
        add(
            "a new file in a known folder",
            if is_flat { PlaceOrAsk } else { Place },
            vec![(new.clone(), &new)],
        );
        add(
            "a wrapped new file in a known folder",
            if is_flat { PlaceOrAsk } else { Place },
            vec![(under("Brass/", &new), &new)],
        );
        add("new files from below the root", PlaceOrAsk, vec![(Self::cut(&new), &new)]);
        add(
            "few known and many new",
            if is_flat { PlaceOrAsk } else { Place },
            (0..8)
                .map(|number| self.lamp(&format!("lamp_new_{number}")))
                .chain([a.clone()])
                .map(|path| (path.clone(), Box::leak(path.into_boxed_str()) as &str))
                .collect(),
        );
        add(
            "a new folder beside known ones",
            if is_flat { PlaceOrAsk } else { Place },
            vec![(a.clone(), &a), ("extra_quays/one.qmd".into(), "extra_quays/one.qmd")],
        );
        add("all in other case", Place, vec![(a.to_uppercase(), &a), (b.to_uppercase(), &b)]);
        add(
            "backslash-free deep wrapper named like a folder",
            PlaceOrAsk,
            vec![(under("sound pack/", &fog), &fog), (under("sound pack/", &noon), &noon)],
        );
        let hook = under(self.program_folder, "dinput8.dll");
        let hook_ini = under(self.program_folder, "hook.ini");
        add("a library that the program loads", Place, vec![("dinput8.dll".into(), &hook)]);
        add(
            "a loader in a wrapper",
            Place,
            vec![
                ("Hook 0.9/dinput8.dll".into(), &hook),
                ("Hook 0.9/hook.ini".into(), &hook_ini),
                ("Hook 0.9/readme.txt".into(), ""),
            ],
        );
        let other = under(self.program_folder, "harbour_hook.dll");
        let plugin = under(self.program_folder, "plugins/one.dll");
        add(
            "a library with plugins",
            Place,
            vec![
                ("harbour_hook.dll".into(), &other),
                ("plugins/one.dll".into(), &plugin),
                ("hook.ini".into(), &hook_ini),
            ],
        );
        add(
            "a library with its place written out",
            if self.program_folder.is_empty() { PlaceOrAsk } else { Place },
            vec![(other.clone(), &other)],
        );
        let program = under(self.program_folder, self.program);
        add("another main program", Place, vec![(self.program.to_owned(), &program)]);
        add(
            "a library and known folders",
            PlaceOrAsk,
            vec![("harbour_hook.dll".into(), &other), (a.clone(), &a), (b.clone(), &b)],
        );
        add(
            "named like the game's folder",
            Place,
            vec![(under("Quillhaven/", &a), &a), (under("Quillhaven/", &b), &b)],
        );
        add(
            "from above the root",
            Place,
            vec![
                (under("Program Files/Harbour Works/Quillhaven/", &a), &a),
                (under("Program Files/Harbour Works/Quillhaven/", &fog), &fog),
            ],
        );
        let docs = if self.has_docs { Place } else { Ask };
        add(
            "two roots by their words",
            docs,
            vec![
                (under("game/", &a), &a),
                ("documents/profiles/default.ini".into(), "docs:profiles/default.ini"),
            ],
        );
        add(
            "two roots, in the other a new file",
            docs,
            vec![
                (under("Game Folder/", &a), &a),
                ("My Documents/profiles/new.ini".into(), "docs:profiles/new.ini"),
            ],
        );
        add(
            "the other root alone",
            docs,
            vec![("Documents/Quillhaven/profiles/new.ini".into(), "docs:profiles/new.ini")],
        );
        add(
            "a saved game for the other root",
            docs,
            vec![("saves/second.qsv".into(), "docs:saves/second.qsv")],
        );
        add("nothing known", Ask, vec![("stuff/one.abc".into(), ""), ("more/two.def".into(), "")]);
        add(
            "a wrapper of nothing known",
            Ask,
            vec![("lamp-oil-0.4.1-2/one.abc".into(), ""), ("lamp-oil-0.4.1-2/two.def".into(), "")],
        );
        add("an unknown program", Ask, vec![("Setup_Lamps.exe".into(), "")]);
        let addon = self.addons.map(|folder| format!("{folder}lamp_oil/addon.json"));
        let code = self.addons.map(|folder| format!("{folder}lamp_oil/oil.lua"));
        if let (Some(addon), Some(code)) = (&addon, &code) {
            add(
                "an add-on without its folder",
                Ask,
                vec![("addon.json".into(), addon), ("oil.lua".into(), code)],
            );
            add(
                "an add-on in a wrapper",
                Ask,
                vec![
                    ("lamp-oil-0.4.1-2/addon.json".into(), addon),
                    ("lamp-oil-0.4.1-2/oil.lua".into(), code),
                ],
            );
            add(
                "an add-on in its folder",
                PlaceOrAsk,
                vec![("lamp_oil/addon.json".into(), addon), ("lamp_oil/oil.lua".into(), code)],
            );
            add(
                "an add-on with its place written out",
                Place,
                vec![(addon.clone(), addon), (code.clone(), code)],
            );
            let known = "mods/fog_ferries/addon.json";
            add(
                "an add-on of the same name",
                PlaceOrAsk,
                vec![
                    ("fog_ferries/addon.json".into(), known),
                    ("fog_ferries/fog.lua".into(), "mods/fog_ferries/fog.lua"),
                ],
            );
            let files = vec![("oil.json".into(), ""), ("data/oil.abc".into(), ""), ("more.abc".into(), "")];
            add("loose files beside a folder that the game has, too", Ask, files);
        } else {
            add(
                "an add-on for a game without any",
                Ask,
                vec![("addon.json".into(), ""), ("oil.lua".into(), "")],
            );
            add(
                "a wrapped add-on for a game without any",
                Ask,
                vec![("lamp-oil-1/addon.json".into(), ""), ("lamp-oil-1/oil.lua".into(), "")],
            );
        }
        if let Some((folder, ending)) = self.containers {
            let to = format!("{folder}fog.{ending}");
            add("a container", Place, vec![(format!("fog.{ending}"), &to), ("readme.txt".into(), "")]);
            add("a wrapped container", Place, vec![(format!("Fog 1.0/fog.{ending}"), &to)]);
        } else {
            add("a container of a kind the game has not", Ask, vec![("fog.qqpk".into(), "")]);
        }
        add(
            "with a part that is off",
            if is_flat { PlaceOrAsk } else { Place },
            vec![(a.clone(), &a), (b.clone(), &b), (under("Optional/", &c), "")],
        );
        add(
            "with parts that are off",
            if is_flat { PlaceOrAsk } else { Place },
            vec![(a.clone(), &a), (under("extras/Darker/", &b), ""), (under("extras/Noisy/", &fog), "")],
        );
        let mut choice =
            |says: &'static str, right: Right, choose: &'static str, files: Vec<(String, &str)>| {
                let files = files.into_iter().map(|(path, to)| (path, to.to_owned())).collect();
                all.push(Layout { says, right, files, choose: Some(choose), copies: Vec::new() });
            };
        choice(
            "two finishes",
            Place,
            "variant=matte",
            vec![
                (under("Polished/", &a), ""),
                (under("Matte/", &a), &a),
                (under("Polished/", &b), ""),
                (under("Matte/", &b), &b),
            ],
        );
        choice(
            "two finishes of loose files",
            Place,
            "finish=polished",
            vec![
                ("Lamps/finish - polished/".to_owned() + &flat(&a), &a),
                ("Lamps/finish - matte/".to_owned() + &flat(&a), ""),
            ],
        );
        choice(
            "three resolutions",
            Place,
            "resolution=2k",
            vec![(under("1k/", &a), ""), (under("2k/", &a), &a), (under("4k/", &a), "")],
        );
        choice(
            "what is always there and two makes",
            Place,
            "variant=big",
            vec![(under("Core/", &fog), &fog), (under("Big/", &a), &a), (under("Small/", &a), "")],
        );
        let copies = vec![under("originals/", &a), under("originals/", &b)];
        all.push(Layout {
            says: "copies of the originals",
            right: Place,
            files: vec![
                (copies[0].clone(), String::new()),
                (copies[1].clone(), String::new()),
                (under("new/", &a), a.clone()),
                (under("new/", &b), b.clone()),
            ],
            choose: None,
            copies,
        });
        all
    }
}
