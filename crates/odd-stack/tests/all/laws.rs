//! Laws that hold for every command.

use std::fs;
use std::path::PathBuf;

use serde_json::Value;

use crate::sandbox::{Sandbox, some};

fn with_three_layers() -> Sandbox {
    let sandbox = Sandbox::with_game();
    sandbox.zip(
        "one-1.zip",
        &[("data/lamps/brass.qtx", "one"), ("new/deep/a", "a"), ("config/fog.ini", "fog=1\n")],
    );
    sandbox.zip("two-2.zip", &[("data/lamps/brass.qtx", "two"), ("new/b", "b")]);
    sandbox.zip("three-3.zip", &[("data/lamps/brass.qtx", "two"), ("new/b", "c"), ("docs.txt", "d")]);
    sandbox.zip("four-4.zip", &[("data/lamps/iron.qtx", "four"), ("new/b", "four")]);
    // Of these two settings files each changes another key.
    sandbox.zip("five-5.zip", &[("config/fog.ini", "fog=1\ngulls=5\n")]);
    sandbox.zip("six-6.zip", &[("config/fog.ini", "fog=6\n")]);
    for name in ["six-6.zip", "one-1.zip", "two-2.zip", "three-3.zip"] {
        sandbox.run(&format!("add {name}")).status(0);
    }
    sandbox
}

/// What lies there before a command is tried.
fn prepare(sandbox: &Sandbox, line: &str) {
    let edit = || {
        sandbox.write("game/config/fog.ini", "fog=6\nmine=1\n");
        sandbox.write("game/data/lamps/brass.qtx", "edited");
        fs::remove_file(sandbox.path("game/new/deep/a")).unwrap();
        sandbox.write("game/new/stray", "?");
    };
    match line.split(' ').next() {
        Some("mend") => edit(),
        _ if line.contains("--keep-edits") => edit(),
        Some("capture") => {
            sandbox.run("capture Hand --begin").status(0);
            edit();
        }
        Some("patchday") if line.contains("finish") => {
            sandbox.run("patchday begin").status(0);
            sandbox.write("game/data/lamps/iron.qtx", "new iron");
            sandbox.write("game/config/fog.ini", "fog=1\nwind=2\n");
        }
        _ => {}
    }
}

#[test]
fn what_a_dry_run_says_is_what_the_real_run_does() {
    let lines = [
        "mend --restore",
        "mend game:* --restore",
        "mend game:* --keep",
        "mend game:* --accept",
        "capture --end",
        "capture --end --skip new/stray",
        "capture --cancel",
        "patchday begin",
        "patchday finish",
        "add four-4.zip",
        "add four-4.zip --below two --skip data/*",
        "lift one",
        "lift --all",
        "move one --top",
        "move three --below two",
        "remove two three",
        "game forget quillhaven",
        "settle data/lamps/brass.qtx --with one",
        "settle new --keep-order",
        "tweak config/fog.ini fog=5 gulls=9",
        "add five-5.zip",
        "add four-4.zip five-5.zip",
        "upgrade one four-4.zip",
        "upgrade one=four-4.zip two=five-5.zip --keep-edits",
        "lift one two --keep-edits",
        "undo",
        "undo 3",
        "rewind 1",
        "rewind 0 --keep-edits",
    ];
    for line in some(lines, 3) {
        let sandbox = with_three_layers();
        prepare(&sandbox, line);
        let (before, stack) = (sandbox.files(), sandbox.run("stack --json").status(0).stdout);
        let told = sandbox.run(&format!("{line} --dry-run --json")).status(0).json();
        assert_eq!(sandbox.files(), before, "{line}");
        assert_eq!(sandbox.run("stack --json").status(0).stdout, stack, "{line}");
        let done = sandbox.run(&format!("{line} --json")).status(0).json();
        assert_eq!(told["warnings"], done["warnings"], "{line}");
        let change = |answer: &mut Value| answer["data"]["change"].take();
        let (mut told_data, mut done_data) = (told, done);
        let (mut told, mut done) = (change(&mut told_data), change(&mut done_data));
        // What is only known once it is done.
        for data in [&mut told_data, &mut done_data] {
            for later in ["proof", "forgotten"] {
                data["data"].as_object_mut().unwrap().remove(later);
            }
        }
        assert_eq!(told_data, done_data, "{line}");
        assert_eq!((told["dry_run"].take(), done["dry_run"].take()), (true.into(), false.into()), "{line}");
        assert!(told["revision"].take().is_null() && done["revision"].take().is_u64(), "{line}");
        assert_eq!(told, done, "{line}");
        // And the effects are what happened to the files.
        let after = sandbox.files();
        for effect in done["effects"].as_array().unwrap() {
            let path = effect["address"].as_str().unwrap().replace(':', "/");
            let (was, is) = (before.get(&path), after.get(&path));
            match effect["kind"].as_str().unwrap() {
                "add" => assert!(was.is_none() && is.is_some(), "{line}: {path}"),
                "delete" => assert!(was.is_some() && is.is_none(), "{line}: {path}"),
                _ => assert!(was.is_some() && is.is_some(), "{line}: {path}"),
            }
            if let Some(is) = is {
                assert_eq!(effect["size_bytes"], is.len(), "{line}: {path}");
            }
        }
        let named: Vec<String> = done["effects"]
            .as_array()
            .unwrap()
            .iter()
            .map(|effect| effect["address"].as_str().unwrap().replace(':', "/"))
            .collect();
        for (path, content) in &before {
            assert!(
                after.get(path) == Some(content) || named.contains(path),
                "{line}: {path} changed unsaid"
            );
        }
    }
}

/// The shape documented for a command's data.
fn schema(name: &str) -> Value {
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/json");
    serde_json::from_str(&fs::read_to_string(folder.join(format!("{name}.schema.json"))).unwrap()).unwrap()
}

/// Holds a value to the parts of JSON Schema that ours use: types, properties, items and references.
fn hold(value: &Value, shape: &Value, all: &Value, at: &str) {
    if let Some(reference) = shape["$ref"].as_str() {
        let name = reference.rsplit('/').next().unwrap();
        return hold(value, &all["$defs"][name], all, at);
    }
    if let Some(any) = shape["anyOf"].as_array() {
        let is_null = |shape: &&Value| shape["type"] == "null";
        if !value.is_null() {
            hold(value, any.iter().find(|shape| !is_null(shape)).unwrap(), all, at);
        }
        return;
    }
    if let Some(one_of) = shape["oneOf"].as_array() {
        // Words, or objects that are told apart by their kind.
        let told = if value.is_object() { &value["kind"] } else { value };
        let is_it = |shape: &&Value| shape["const"] == *told || shape["properties"]["kind"]["const"] == *told;
        let shape = one_of.iter().find(is_it).unwrap_or_else(|| panic!("{at} is {value}"));
        return hold(value, shape, all, at);
    }
    let kind = match value {
        Value::Null => "null",
        Value::Bool(_) => "boolean",
        Value::Number(_) => "integer",
        Value::String(_) => "string",
        Value::Array(_) => "array",
        Value::Object(_) => "object",
    };
    let allowed: Vec<&str> = match &shape["type"] {
        Value::Array(kinds) => kinds.iter().filter_map(Value::as_str).collect(),
        other => other.as_str().into_iter().collect(),
    };
    assert!(allowed.contains(&kind), "{at} is {kind}, documented as {allowed:?}");
    if let (Value::Object(fields), true) = (value, shape["additionalProperties"].is_object()) {
        // A map from names to values of one kind.
        let each = &shape["additionalProperties"];
        fields.iter().for_each(|(name, field)| hold(field, each, all, &format!("{at}.{name}")));
        return;
    }
    if let Value::Object(fields) = value {
        for (name, field) in fields {
            let documented = &shape["properties"][name];
            let is_said = ["description", "$ref", "const"].iter().any(|key| documented[*key].is_string());
            assert!(is_said, "{at}.{name}");
            hold(field, documented, all, &format!("{at}.{name}"));
        }
        for name in shape["required"].as_array().into_iter().flatten() {
            assert!(fields.contains_key(name.as_str().unwrap()), "{at} lacks {name}");
        }
    }
    for (index, item) in value.as_array().into_iter().flatten().enumerate() {
        hold(item, &shape["items"], all, &format!("{at}[{index}]"));
    }
}

#[test]
fn every_answer_in_json_has_its_documented_shape() {
    let sandbox = with_three_layers();
    sandbox.write(
        "sheet.toml",
        "format = 1\n[[part]]\nid = \"a\"\nplace = [{ from = \"a\", to = \"game:\" }]\n",
    );
    sandbox.write("game/data/by_hand.qtx", "mine");
    sandbox.write("by-hand/data/by_hand.qtx", "mine");
    sandbox.write("second/x", "x");
    sandbox.write("game/new/strange.txt", "?");
    for (line, status, name) in [
        ("game add Second second", 0, "game-add"),
        ("game list", 0, "game-list"),
        ("game show second", 0, "game-show"),
        ("game set second --game-version 9", 0, "game-show"),
        ("game forget second", 0, "game-forget"),
        ("inspect one-1.zip", 0, "inspect"),
        ("add four-4.zip", 0, "add"),
        ("upgrade four four-4.zip --version 5", 0, "add"),
        ("fit four-4.zip", 0, "fit"),
        ("fit --check sheet.toml", 0, "fit-check"),
        ("adopt by-hand --name hand", 0, "adopt"),
        ("mend --accept", 0, "mend"),
        ("mend --restore", 0, "mend"),
        ("stack", 0, "stack"),
        ("", 0, "overview"),
        ("open --print", 0, "open"),
        ("show four", 0, "show"),
        ("set four --version 5.1 --proof-file data/x", 0, "set"),
        ("conflicts", 3, "conflicts"),
        ("conflicts --all", 3, "conflicts"),
        ("settle data/lamps/brass.qtx --keep-order", 0, "settle"),
        ("tweak config/fog.ini gulls=7", 0, "tweak"),
        ("tweak list", 0, "tweak-list"),
        ("trace config/fog.ini --keys", 0, "trace"),
        ("tweak drop --all", 0, "tweak"),
        ("trace data/lamps/brass.qtx", 0, "trace"),
        ("check --deep", 3, "check"),
        ("move one --top", 0, "lay"),
        ("lift one", 0, "lay"),
        ("lay one", 0, "lay"),
        ("check --proofs", 3, "check"),
        ("capture Bench --begin", 0, "capture-begin"),
        ("capture --cancel", 0, "capture-cancel"),
        ("capture Bench --begin", 0, "capture-begin"),
        ("capture --end", 0, "capture"),
        ("game set --exe bin/harbour.txt", 0, "game-show"),
        ("play --dry-run", 0, "play"),
        ("game find game", 0, "game-find"),
        ("patchday status", 0, "patchday-status"),
        ("patchday begin", 0, "patchday-begin"),
        ("patchday status", 0, "patchday-status"),
        ("patchday finish", 0, "patchday-finish"),
        ("remove one", 0, "lay"),
        ("mark as-it-is", 0, "mark"),
        ("undo", 0, "undo"),
        ("history", 0, "history"),
        ("history --diff 1 as-it-is", 0, "history-diff"),
        ("tidy", 0, "tidy"),
        ("tidy --verify", 0, "tidy"),
        ("stack --at 3", 0, "stack-at"),
        ("show two --at 3", 0, "show-at"),
        ("redo", 0, "undo"),
        ("rewind 3", 0, "undo"),
        ("trace data/lamps/brass.qtx --history", 0, "trace-history"),
        ("culprit", 0, "culprit"),
        ("culprit --cancel", 0, "culprit"),
        ("lineup save three", 0, "lineup-list"),
        ("undo", 0, "undo"),
        ("lineup compare three", 0, "lineup-compare"),
        ("lineup switch three", 0, "lineup-switch"),
        ("lineup build three built --without-root docs", 0, "lineup-build"),
        ("check --lineup three", 0, "check-lineup"),
        ("lineup rename three four", 0, "lineup-list"),
        ("lineup drop four", 0, "lineup-list"),
        ("undo", 0, "undo"),
        ("game forget quillhaven", 0, "game-forget"),
    ] {
        let answer = sandbox.run(&format!("{line} --json")).status(status).json();
        assert!(answer["command"].is_string() && answer["warnings"].is_array(), "{line}");
        let schema = schema(name);
        hold(&answer["data"], &schema, &schema, line);
    }
}
