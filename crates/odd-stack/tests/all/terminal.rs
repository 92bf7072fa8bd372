//! What a stranger wrote never drives the terminal of the person who looks at it: names and texts with sequences and
//! letters that turn lines around, through every command under a pseudo-terminal.

use std::fs;

use crate::pseudo_terminal::{ENTER, on_terminal};
use crate::sandbox::Sandbox;

/// None of these is ever sent by us.
const HOSTILE: [&str; 6] = ["\u{1b}[3J", "\u{1b}]0;", "\u{9b}31m", "\u{202e}", "\u{2028}", "\u{7}"];

/// All of them in one name, as a file on disk may have it.
const NAME: &str = "n\u{1b}[3J\u{1b}]0;t\u{7}\u{9b}31m\u{202e}\u{2028}";
/// As a package may have a member of it: control characters are refused there.
const MEMBER: &str = "m\u{202e}\u{2028}\u{2066}";

fn world() -> Sandbox {
    let sandbox = Sandbox::empty();
    sandbox.write("game/bin/harbour.txt", "the program's folder\n");
    sandbox.write(&format!("game/data/{NAME}.txt"), "of the game\n");
    sandbox.write("game/config/fog.ini", "fog=1\n");
    sandbox.write("game/log.txt", &format!("ready {NAME}\n"));
    sandbox.write("game/version.txt", &format!("1.7{MEMBER}\n"));
    sandbox.run("game add Quillhaven game --version-from version.txt").one_of(&[0, 1], "added");
    if !sandbox.path("home/games.toml").exists() {
        sandbox.run("game add Quillhaven game").status(0);
    }
    let escaped: String = NAME.chars().map(|letter| format!("\\u{:04x}", letter as u32)).collect();
    let sheet = |more: &str| {
        format!(
            "format = 1\nname = \"Lamps\"\nversion = \"1{escaped}\"\n\
             place = [{{ from = \"data\", to = \"data\" }}, {{ from = \"config\", to = \"config\" }}]\n\
             clears = [\"cache/{escaped}*\"]\n\
             [needs]\nlayers = [\"{escaped}\"]\n\
             [[part]]\nid = \"extra\"\nsays = \"says {escaped}\"\nplace = [{{ from = \"x\", to = \"x\" }}]\n\
             [[choice]]\nid = \"make\"\nask = \"{escaped}?\"\ndefault = \"{escaped}\"\n\
             option = [{{ name = \"{escaped}\", says = \"{escaped}\" }}, {{ name = \"b\" }}]\n\
             [[start]]\nprogram = \"bin/harbour.txt\"\narguments = [\"{escaped}\"]\nenvironment = {{ \"{escaped}\" = \"{escaped}\" }}\n\
             [[proof]]\nsays = \"{escaped}\"\nlog = \"log.txt\"\ncontains = \"ready *\"\n{more}"
        )
    };
    let member = format!("data/{MEMBER}.txt");
    let members =
        |content: &'static str| [("x/y.txt", "y"), ("config/fog.ini", "fog=2\n"), (&*member, content)];
    for (name, more, content) in [
        (format!("{NAME}-1.zip"), "", "one"),
        (
            "other-2.zip".to_owned(),
            "[[set]]\nfile=\"config/fog.ini\"\nkey=\"k\"\nvalue=\"\\u001b[3J\"\n",
            "two",
        ),
    ] {
        let sheet = sheet(more);
        let mut all = vec![("oddfit.toml", &*sheet)];
        all.extend(members(content));
        sandbox.zip(&name, &all);
    }
    sandbox.zip("plain.zip", &[(&*member, "plain"), ("config/fog.ini", "fog=3\n")]);
    sandbox.zip(&format!("bare{NAME}.zip"), &[(&format!("{MEMBER}/a.txt"), "a"), ("b.txt", "b")]);
    sandbox
}

#[test]
fn what_a_stranger_wrote_never_drives_the_terminal() {
    let sandbox = world();
    let (package, bare, member) =
        (format!("{NAME}-1.zip"), format!("bare{NAME}.zip"), format!("data/{MEMBER}.txt"));
    let lines: Vec<Vec<&str>> = vec![
        vec!["game", "list"],
        vec!["game", "show"],
        vec!["inspect", &package],
        vec!["inspect", &bare],
        vec!["fit", &package],
        vec!["add", &package],
        vec!["add", &package, "--despite", "--yes"],
        vec!["add", &bare],
        vec!["add", "plain.zip", "--place", ".=game:"],
        vec!["upgrade", "Lamps", "other-2.zip", "--despite"],
        vec!["adopt", &package],
        vec!["stack"],
        vec!["show", "Lamps"],
        vec!["show", "plain"],
        vec!["conflicts"],
        vec!["conflicts", "--all"],
        vec!["settle"],
        vec!["trace", &member],
        vec!["trace", "config/fog.ini", "--keys"],
        vec!["tweak", "list"],
        vec!["check", "--deep", "--proofs"],
        vec!["mend"],
        vec!["mend", "--keep"],
        vec!["play"],
        vec!["play", "--dry-run"],
        vec!["lift", "Lamps"],
        vec!["lay", "Lamps", "--despite"],
        vec!["lay", NAME],
        vec!["patchday", "status"],
        vec!["capture", "made", "--begin"],
        vec!["capture", "--end"],
        vec!["remove", "Lamps"],
    ];
    let mut escaped = 0;
    for words in &lines {
        if words[0] == "check" {
            sandbox.write(&format!("game/data/{NAME}-new.txt"), "new\n");
            fs::write(sandbox.path("game/config/fog.ini"), format!("fog={NAME}\n")).unwrap();
        }
        let sent = on_terminal(&sandbox, words, |_, _| Some(ENTER.to_owned())).sent;
        for hostile in HOSTILE {
            assert!(!sent.contains(hostile), "{words:?} sends {hostile:?}:\n{sent:?}");
        }
        assert!(!sent.contains("panicked"), "{words:?}: {sent}");
        escaped += usize::from(sent.contains("\\u{202e}"));
        // Neither does JSON.
        let told = sandbox.run_words(&[&words[..], &["--json", "--dry-run"]].concat());
        let told = told.whole();
        for hostile in
            HOSTILE.iter().filter(|hostile| !told.contains("unexpected argument") || **hostile != "\u{7}")
        {
            assert!(!told.contains(hostile), "{words:?} as JSON: {told:?}");
        }
    }
    assert!(escaped > 12, "names are shown: {escaped}");
}
