//! Wrong and bad input: what is said, how it ends, and that nothing changed.

use std::fs;

use insta::assert_snapshot;

use crate::sandbox::Sandbox;
use crate::stored::stored;

#[test]
fn mistakes_are_answered_with_what_to_do() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("fine-1.zip", &[("data/new.txt", "n")]);
    sandbox.run("add fine-1.zip").status(0);
    sandbox.write("text.zip", "no archive");
    let before = sandbox.files();
    for (line, status, words) in [
        ("stak", 2, "unrecognized subcommand"),
        ("move fine", 2, "--above"),
        ("move fine --above fine", 2, "above or below itself"),
        ("add fine-1.zip --place nonsense", 2, "not FROM=TO"),
        ("add fine-1.zip --only [", 2, "not a pattern"),
        ("add fine-1.zip --limit size=1", 2, "not a limit"),
        ("add fine-1.zip --names harbourish", 2, "no code page"),
        ("remove", 2, "LAYER"),
        ("lay --all fine", 2, "cannot be used"),
        ("lift fine --keep-edits --discard-edits", 2, "cannot be used"),
        ("add none.zip", 1, "there is no package at"),
        ("add text.zip", 1, "is not a package: it is a text"),
        ("add fine-1.zip", 4, "--name \"fine 2\""),
        ("add fine-1.zip --name again --place nope=data/x", 1, "no file or folder `nope`"),
        ("add fine-1.zip --name again --place .=saves:", 1, "neither a root nor a spot"),
        ("add fine-1.zip --name again --place .=game:../x", 1, "steps out of its folder"),
        ("add fine-1.zip --name again --skip *", 1, "--skip leaves out all"),
        ("remove nobody", 1, "there are: fine"),
        ("trace nowhere", 1, "neither the game nor a layer"),
        ("trace game:..", 1, "can't be an address"),
        ("show 7", 1, "there is no layer `7`"),
        ("game add Quillhaven game", 1, "already"),
        ("game add Other game", 1, "already added, as `Quillhaven`"),
        ("game add Other nowhere", 1, "is not a folder"),
        ("game add Other home", 1, "lie in each other"),
        ("game set", 2, "say what to set"),
        ("game set --spot x=y", 1, "two or more"),
        ("stack --game nobody", 1, "it can be: Quillhaven"),
        ("demo game", 1, "is not empty"),
    ] {
        let ran = sandbox.run(line).status(status).says(words);
        assert_eq!(ran.stdout, "", "{line}");
        assert!(!ran.stderr.contains("panicked"), "{}", ran.stderr);
    }
    assert_eq!(sandbox.files(), before);
    sandbox.run("stack").status(0).says("1 layer ");
}

#[test]
fn without_a_game_it_is_said_how_to_begin() {
    let sandbox = Sandbox::empty();
    assert_snapshot!(sandbox.run("stack").whole(), @"
    error: no game has been added yet; begin with `oddstack game add FOLDER`, or look at `oddstack demo`
    [exit 1]
    ");
    sandbox.run("game list").status(0).says("game add");
}

#[test]
fn a_hostile_archive_is_named_with_the_member_and_the_reason() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("hostile.zip", &[("data/fine.txt", "x"), ("../evil.txt", "x")]);
    let before = sandbox.files();
    assert_snapshot!(sandbox.run("add hostile.zip").whole(), @r#"
    error: [HERE]/hostile.zip has a file named "../evil.txt": it steps out of its folder with `..`
    [exit 1]
    "#);
    sandbox.run("inspect hostile.zip").status(1).says("../evil.txt");
    assert_eq!(sandbox.files(), before);
    assert!(!sandbox.path("evil.txt").exists());
}

#[test]
fn what_is_no_number_is_told_in_words() {
    let sandbox = Sandbox::with_game();
    for line in ["tidy --keep many", "history --last x", "undo two", "undo 99999999999999999999"] {
        sandbox.run(line).status(2).says("give a number, such as 20");
    }
    sandbox.run("undo 0").status(2).says("give 1 or more");
}

#[test]
fn a_damaged_ledger_ends_with_its_own_code() {
    let sandbox = Sandbox::with_game();
    let catalogue = sandbox.path("home/ledgers/quillhaven/catalogue.sqlite");
    let whole = fs::read(&catalogue).unwrap();
    fs::write(&catalogue, b"scribbled over").unwrap();
    sandbox.run("stack").status(5).says("damaged");
    fs::write(&catalogue, whole).unwrap();
    sandbox.zip("a-1.zip", &[("config/fog.ini", "fog=2"), ("x", "x")]);
    sandbox.run("add a-1.zip").status(0);
    // A content of a layer that is gone is told before anything changes.
    sandbox.run("lift a").status(0);
    for content in stored(&sandbox.path("home/ledgers/quillhaven")) {
        let _ = fs::remove_file(&content.path);
    }
    let packs = sandbox.path("home/ledgers/quillhaven/packs");
    assert_eq!(fs::read_dir(packs).unwrap().count(), 0, "small contents lie in packs");
    let before = sandbox.files();
    fs::remove_file(sandbox.path("a-1.zip")).unwrap();
    sandbox.run("lay a").status(5).says("the ledger has lost");
    assert_eq!(sandbox.files(), before);
    fs::remove_dir_all(sandbox.path("home/ledgers/quillhaven")).unwrap();
    sandbox.run("stack").status(5).says("there is no ledger");
}

#[cfg(unix)]
#[test]
fn a_game_that_may_not_be_written_is_left_as_it_was() {
    use std::os::unix::fs::PermissionsExt;
    let sandbox = Sandbox::with_game();
    sandbox.zip("a-1.zip", &[("config/fog.ini", "fog=2"), ("x", "x")]);
    let config = sandbox.path("game/config");
    let lock = |mode| fs::set_permissions(&config, fs::Permissions::from_mode(mode)).unwrap();
    lock(0o555);
    if fs::write(sandbox.path("game/config/probe"), "").is_ok() {
        // The superuser may write anywhere; nothing to see.
        fs::remove_file(sandbox.path("game/config/probe")).unwrap();
        lock(0o755);
        return;
    }
    let before = sandbox.files();
    sandbox.run("add a-1.zip").status(1).says("Everything is as it was");
    lock(0o755);
    assert_eq!(sandbox.files(), before);
    sandbox.run("add a-1.zip").status(0);
}

#[cfg(unix)]
#[test]
fn a_closed_pipe_ends_quietly_and_the_work_is_done() {
    use std::process::{Command, Stdio};
    let sandbox = Sandbox::with_game();
    sandbox.zip("a-1.zip", &[("config/fog.ini", "fog=2"), ("x", "x")]);
    for words in [["completions", "bash"], ["add", "a-1.zip"]] {
        let mut child = Command::new(assert_cmd::cargo::cargo_bin("oddstack"))
            .args(words)
            .current_dir(sandbox.path(""))
            .env("ODDSTACK_HOME", sandbox.path("home"))
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        drop(child.stdout.take());
        let output = child.wait_with_output().unwrap();
        assert_eq!(String::from_utf8_lossy(&output.stderr), "");
        assert!(output.status.success());
    }
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=2");
}

#[test]
fn a_second_command_waits_for_the_first_and_then_says_who_it_is() {
    use std::fs::File;
    let sandbox = Sandbox::with_game();
    sandbox.zip("a-1.zip", &[("config/fog.ini", "fog=2"), ("x", "x")]);
    let ledger = sandbox.path("home/ledgers/quillhaven");
    // Held as another process would hold it.
    let held = File::create(ledger.join("lock")).unwrap();
    held.lock().unwrap();
    fs::write(ledger.join("lock-holder"), "process 4711 (oddstack add)").unwrap();
    let begun = std::time::Instant::now();
    sandbox.run("add a-1.zip").status(1).says("process 4711 (oddstack add) is changing this game");
    assert!(begun.elapsed().as_secs() >= 10, "it waits before it gives up");
    sandbox.run("stack").status(0).says("0 layers");
    let waiting = std::thread::scope(|scope| {
        let waiting = scope.spawn(|| sandbox.run("add a-1.zip").status(0));
        std::thread::sleep(std::time::Duration::from_millis(300));
        drop(held);
        waiting.join().unwrap()
    });
    assert!(waiting.stdout.contains("a is laid on top"), "{}", waiting.stdout);
}

#[test]
fn wrong_usage_is_told_in_json_too() {
    let sandbox = Sandbox::empty();
    for line in ["stak --json", "move --json x", "add --json"] {
        let told = sandbox.run(line).status(2).json();
        assert_eq!(told["error"]["code"], "usage", "{line}");
    }
    sandbox.run("--version").status(0).says("oddstack 0.");
    sandbox.run("--help").status(0).says("Exit codes");
}

#[test]
fn a_command_that_is_killed_is_mended_by_the_next() {
    use std::process::{Command, Stdio};
    let sandbox = Sandbox::with_game();
    let big: Vec<(String, String)> =
        (0..400).map(|n| (format!("data/many/{n}.txt"), "x".repeat(2000))).collect();
    let members: Vec<(&str, &str)> =
        big.iter().map(|(name, content)| (name.as_str(), content.as_str())).collect();
    sandbox.zip("many-1.zip", &members);
    let untouched = sandbox.files();
    let mut done = 0;
    for delay in 0..25u64 {
        let mut child = Command::new(assert_cmd::cargo::cargo_bin("oddstack"))
            .args(["add", "many-1.zip"])
            .current_dir(sandbox.path(""))
            .env("ODDSTACK_HOME", sandbox.path("home"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(delay * 6));
        let _ = child.kill();
        child.wait().unwrap();
        sandbox.run("check").status(0);
        let files = sandbox.files();
        if files == untouched {
            continue;
        }
        assert_eq!(files.len(), untouched.len() + 400, "all or nothing");
        done += 1;
        sandbox.run("remove many").status(0);
        assert_eq!(sandbox.files(), untouched);
    }
    assert!(done < 25, "no kill came in time");
}

/// A change was cut short, and meanwhile somebody put a file where a folder of it was; and nothing can be kept, so it can go
/// neither way.
#[test]
fn a_change_that_is_stuck_stops_no_command_that_looks() {
    let sandbox = Sandbox::with_game();
    let (blocked, private) = (sandbox.path("game/blocked"), sandbox.path("game/.oddstack"));
    sandbox.write("game/blocked", "in the way");
    sandbox.write("game/.oddstack/taken", "taken out");
    sandbox.write("game/.oddstack/coming", "coming");
    sandbox.write("home/ledgers/quillhaven/kept", "no folder");
    let catalogue =
        rusqlite::Connection::open(sandbox.path("home/ledgers/quillhaven/catalogue.sqlite")).unwrap();
    let outcome = serde_json::json!({
        "command": "lay", "made_at": "", "arrangement": [], "removed": [], "tallies": [], "base": [], "sides": [],
    });
    let mark = "INSERT INTO journal VALUES (1, 1, 'lay lamps', '2026-01-02T03:04:05Z', ?1)";
    catalogue.execute(mark, [outcome.to_string()]).unwrap();
    for (number, kind, from, to) in [(0, 0, "taken", "old.txt"), (1, 3, "coming", "new.txt")] {
        let (private, public) = (private.join(from), blocked.join(to));
        let words = (number, kind, private.to_str().unwrap(), public.to_str().unwrap());
        catalogue.execute("INSERT INTO step VALUES (?1, ?2, ?3, ?4)", words).unwrap();
    }
    drop(catalogue);
    // As if nothing had been known of its pages.
    fs::remove_file(sandbox.path("home/ledgers/quillhaven/catalogue.sums")).unwrap();
    for line in ["stack", "trace config/fog.ini", "game show", "conflicts", "patchday status"] {
        sandbox.run(line).status(0).says("blocked").says("could not take back");
    }
    sandbox.run("check").one_of(&[0, 3], "check");
    sandbox.zip("a-1.zip", &[("data/x.txt", "x")]);
    for line in ["add a-1.zip", "mend --restore", "game forget Quillhaven"] {
        let ran = sandbox.run(line).status(1).says("could not take back");
        assert_eq!(ran.whole().matches("could not take back").count(), 1, "said once: {}", ran.whole());
    }
    fs::remove_file(sandbox.path("home/ledgers/quillhaven/kept")).unwrap();
    // What was in its way is kept.
    sandbox.run("stack").status(0).says("has now been taken back").says("was in the way; it is saved at");
    assert_eq!(sandbox.read("home/ledgers/quillhaven/kept/0/game/blocked"), "in the way");
    assert_eq!(sandbox.read("game/blocked/old.txt"), "taken out");
    sandbox.run("add a-1.zip").status(0);
}

#[test]
fn a_check_beside_changes_never_takes_them_for_drift() {
    let sandbox = Sandbox::with_game();
    for number in 0..150 {
        sandbox.write(&format!("game/data/many/{number}.txt"), &format!("base {number}\n"));
        sandbox.write(&format!("pack/data/many/{number}.txt"), &format!("layer {number}\n"));
    }
    sandbox.run("mend --accept").status(0);
    sandbox.run("add pack").status(0);
    let changes = (0..8).map(|number| if number % 2 == 0 { "lift" } else { "lay" });
    std::thread::scope(|scope| {
        let changer = scope.spawn(|| {
            for word in changes {
                let run = sandbox.command("", &[word, "--all", "--quiet"], &[]).output().unwrap();
                assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
            }
        });
        while !changer.is_finished() {
            let run = sandbox.command("", &["check", "--json"], &[]).output().unwrap();
            let told = String::from_utf8_lossy(&run.stdout);
            let is_busy = run.status.code() == Some(1) && told.contains("\"busy\"");
            assert!(run.status.success() || is_busy, "{told}");
        }
    });
    sandbox.run("check --deep").status(0);
}

#[cfg(unix)]
#[test]
fn names_that_no_address_can_have_are_left_alone_with_one_note() {
    use std::ffi::OsStr;
    use std::os::unix::ffi::OsStrExt;
    let sandbox = Sandbox::empty();
    sandbox.write("game/data/a.txt", "base a");
    for name in [&b"b\xffad.txt"[..], b"\xfe", b"w\xf6rse"] {
        fs::write(sandbox.path("game/data").join(OsStr::from_bytes(name)), "odd").unwrap();
    }
    fs::create_dir_all(sandbox.path("game/data").join(OsStr::from_bytes(b"fol\xffder/inner"))).unwrap();
    let deep = "d=$(printf 'x%.0s' $(seq 1 200)); for i in $(seq 1 25); do mkdir $d; cd $d; done; echo deep > deep.txt";
    let made = std::process::Command::new("sh").args(["-c", deep]).current_dir(sandbox.path("game")).status();
    assert!(made.unwrap().success());
    let told = sandbox.run("game add Quillhaven game").status(0);
    assert_eq!(told.stderr.matches("left alone").count(), 1, "{}", told.stderr);
    assert!(told.stderr.len() < 1_000, "{}", told.stderr);
    sandbox.zip("lamps.zip", &[("data/a.txt", "lamps a"), ("data/b.txt", "lamps b")]);
    for line in
        ["add lamps.zip", "check --deep", "stack", "lift --all", "check", "patchday begin", "patchday finish"]
    {
        sandbox.run(line).status(0);
    }
    assert_eq!(sandbox.read("game/data/a.txt"), "base a");
    sandbox.run("game forget Quillhaven").status(0);
    let odd = sandbox.path("").join(OsStr::from_bytes(b"g\xffame"));
    fs::create_dir(&odd).unwrap();
    let run = sandbox.command("", &["game", "add", "Odd"], &[]).arg(&odd).output().unwrap();
    assert_eq!(run.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&run.stderr).contains("not text"));
    sandbox.run("game list").status(0);
    let cleared = std::process::Command::new("rm").arg("-rf").arg(sandbox.path("game")).status();
    assert!(cleared.unwrap().success());
}

#[test]
fn clocks_and_time_zones_change_nothing() {
    let sandbox = Sandbox::with_game();
    let base = sandbox.files();
    sandbox.zip("lamps.zip", &[("data/lamps/brass.qtx", "lamps brass")]);
    let at = |words: &str, now: &str, zone: &str| {
        let words: Vec<&str> = words.split(' ').collect();
        sandbox.run_in("", &words, &[("ODDSTACK_NOW", now), ("TZ", zone)]).status(0)
    };
    at("add lamps.zip", "2031-06-01T00:00:00Z", "Asia/Tokyo");
    at("check --deep", "1999-01-01T00:00:00Z", "America/Lima");
    at("lift --all", "1999-01-01T00:00:00Z", "America/Lima");
    assert_eq!(sandbox.files(), base);
    at("lay --all", "1970-01-01T00:00:01Z", "UTC");
    at("check", "2100-01-01T00:00:00Z", "Pacific/Kiritimati");
    at("remove lamps", "1980-01-01T00:00:00Z", "Asia/Tokyo");
    at("check --deep", "2100-01-01T00:00:00Z", "UTC");
    assert_eq!(sandbox.files(), base);
}

/// A time that is none was taken for the beginning of 1970.
#[test]
fn a_time_that_is_none_is_refused() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("gulls-1.0.zip", &[("data/gulls.qtx", "gulls")]);
    for wrong in ["yesterday", "", "2026-01-02"] {
        let ran = sandbox.run_in(".", &["add", "gulls-1.0.zip"], &[("ODDSTACK_NOW", wrong)]);
        ran.status(2).says("ODDSTACK_NOW").says("2026-01-02T03:04:05Z");
    }
    assert!(!sandbox.path("game/data/gulls.qtx").exists());
    sandbox.run_in(".", &["add", "gulls-1.0.zip"], &[("ODDSTACK_NOW", "2026-01-02T03:04:05Z")]).status(0);
}
