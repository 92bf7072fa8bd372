//! Every question that a person is asked: answered, left with Ctrl-C, and left alone on a terminal that is closed. Whoever does not
//! answer changes nothing, and gets the terminal back as it was.

use crate::pseudo_terminal::{CTRL_C, DOWN, ENTER, HANG_UP, INTERRUPT, OnTerminal, answered};
use crate::sandbox::Sandbox;

const SHOW_CURSOR: &str = "\u{1b}[?25h";
const HIDE_CURSOR: &str = "\u{1b}[?25l";

/// One question: how it comes to it, what says it, and an answer with what that gives.
struct Question {
    name: &'static str,
    prepare: fn(&Sandbox),
    words: &'static [&'static str],
    says: &'static str,
    answers: &'static [&'static str],
    /// The same answer where nothing may move on the terminal.
    in_lines: &'static [&'static str],
    gives: fn(&Sandbox, &OnTerminal),
}

fn lamps(sandbox: &Sandbox) {
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "bright\n")]);
    sandbox.run("add lamps-1.zip").status(0);
}

fn is_done(sandbox: &Sandbox, path: &str, content: &str, seen: &OnTerminal) {
    assert_eq!(seen.code, Some(0), "{}", seen.sent);
    assert_eq!(sandbox.read(path), content, "{}", seen.sent);
}

fn two_lamps(sandbox: &Sandbox) {
    lamps(sandbox);
    sandbox.zip("glow-1.zip", &[("data/lamps/brass.qtx", "glowing\n")]);
    sandbox.run("add glow-1.zip").status(0);
}

const QUESTIONS: [Question; 8] = [
    Question {
        name: "go ahead",
        prepare: lamps,
        words: &["lift", "lamps"],
        says: "Go ahead?",
        answers: &["y"],
        in_lines: &["y\r"],
        gives: |sandbox, seen| is_done(sandbox, "game/data/lamps/brass.qtx", "base brass\n", seen),
    },
    Question {
        name: "name taken",
        prepare: |sandbox| {
            lamps(sandbox);
            sandbox.zip("lamps-2.zip", &[("data/lamps/brass.qtx", "brighter\n")]);
        },
        words: &["add", "lamps-2.zip"],
        says: "What is this package to be?",
        // The second answer: beside the one that is there.
        answers: &[DOWN, ENTER, "y"],
        in_lines: &["2\r", "y\r"],
        gives: |sandbox, seen| {
            is_done(sandbox, "game/data/lamps/brass.qtx", "brighter\n", seen);
            sandbox.run("stack").says("lamps 2");
        },
    },
    Question {
        name: "an address",
        prepare: |sandbox| sandbox.zip("odd-1.zip", &[("stuff/one.bin", "one"), ("stuff/two.bin", "two")]),
        words: &["add", "odd-1.zip"],
        says: "How is it to be?",
        // Up from nothing chosen is `leave it`, one before it the address that is typed.
        answers: &["\u{1b}[A", "\u{1b}[A", ENTER, "game:placed\r", "y"],
        in_lines: &["3\r", "game:placed\r", "y\r"],
        gives: |sandbox, seen| is_done(sandbox, "game/placed/one.bin", "one", seen),
    },
    Question {
        name: "mend",
        prepare: |sandbox| {
            lamps(sandbox);
            sandbox.write("game/data/lamps/brass.qtx", "scratched\n");
        },
        words: &["mend"],
        says: "put the layer's file again",
        answers: &[ENTER, "y"],
        in_lines: &["1\r", "y\r"],
        gives: |sandbox, seen| is_done(sandbox, "game/data/lamps/brass.qtx", "bright\n", seen),
    },
    Question {
        name: "settle",
        prepare: two_lamps,
        words: &["settle"],
        says: "1 of 1",
        answers: &["2", "y"],
        in_lines: &["2\r", "y\r"],
        gives: |sandbox, seen| is_done(sandbox, "game/data/lamps/brass.qtx", "bright\n", seen),
    },
    Question {
        name: "a program that fails",
        prepare: |_| {},
        words: &["capture", "forge", "--", "sh", "-c", "echo forged > data/forged.txt; exit 3"],
        says: "ended with exit code 3",
        answers: &[ENTER],
        in_lines: &["\r"],
        gives: |sandbox, seen| {
            is_done(sandbox, "game/data/forged.txt", "forged\n", seen);
            sandbox.run("stack").says("forge");
        },
    },
    Question {
        name: "what a layer wants started",
        prepare: |sandbox| {
            sandbox.write("game/start.sh", "#!/bin/sh\necho started > started.txt\n");
            sandbox.run("capture --help").status(0);
            let sheet =
                "format = 1\nplace = [{ from = \".\", to = \"game:\" }]\n[[start]]\nprogram = \"start.sh\"\n";
            sandbox.zip("starter-1.zip", &[("oddfit.toml", sheet), ("data/s.txt", "s")]);
            sandbox.run("add starter-1.zip").status(0);
            let script = sandbox.path("game/start.sh");
            let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
            std::fs::set_permissions(script, mode).unwrap();
        },
        words: &["play"],
        says: "Nobody has agreed to this yet.",
        answers: &["y"],
        in_lines: &["y\r"],
        gives: |sandbox, seen| is_done(sandbox, "game/started.txt", "started\n", seen),
    },
    Question {
        name: "rescue",
        prepare: |sandbox| {
            lamps(sandbox);
            for part in ["catalogue.sqlite", "catalogue.second"] {
                sandbox.write(&format!("home/ledgers/quillhaven/{part}"), "no catalogue\n");
            }
        },
        words: &["rescue", "Quillhaven", "--put-back"],
        says: "Put them back?",
        answers: &["y"],
        in_lines: &["y\r"],
        gives: |sandbox, seen| {
            assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "base brass\n", "{}", seen.sent);
        },
    },
];

fn sandbox_for(question: &Question) -> Sandbox {
    let sandbox = Sandbox::with_game();
    (question.prepare)(&sandbox);
    sandbox
}

/// The cursor is there again.
fn is_given_back(seen: &OnTerminal) -> bool {
    seen.sent.rfind(HIDE_CURSOR).is_none_or(|hidden| seen.sent[hidden..].contains(SHOW_CURSOR))
}

/// Asks it as people have it, or with lines alone.
fn asked(sandbox: &Sandbox, question: &Question, is_plain: bool, answers: &[&str]) -> OnTerminal {
    let plain: &[&str] = if is_plain { &["--plain"] } else { &[] };
    answered(sandbox, &[plain, question.words].concat(), question.says, answers)
}

#[test]
fn every_question_is_asked_and_its_answer_counts() {
    for question in &QUESTIONS {
        let sandbox = sandbox_for(question);
        let seen = asked(&sandbox, question, false, question.answers);
        assert!(seen.sent.contains(question.says), "{}: {}", question.name, seen.sent);
        assert!(is_given_back(&seen), "{}: {:?}", question.name, seen.sent);
        (question.gives)(&sandbox, &seen);
    }
}

#[test]
fn plain_questions_are_lines_without_anything_that_moves() {
    for question in &QUESTIONS {
        let sandbox = sandbox_for(question);
        let seen = asked(&sandbox, question, true, question.in_lines);
        assert!(seen.sent.contains(question.says), "{}: {}", question.name, seen.sent);
        assert!(!seen.sent.contains('\u{1b}'), "{}: {:?}", question.name, seen.sent);
        (question.gives)(&sandbox, &seen);
    }
}

#[test]
fn a_wrong_answer_in_a_line_is_asked_again_and_none_changes_nothing() {
    let question = &QUESTIONS[1];
    let sandbox = sandbox_for(question);
    let before = sandbox.files();
    let seen = asked(&sandbox, question, true, &["9\r", "no\r", "q\r"]);
    assert_eq!(seen.sent.matches("Type a number from 1 to").count(), 2, "{}", seen.sent);
    assert_eq!((seen.code, sandbox.files()), (Some(4), before), "{}", seen.sent);
}

#[test]
fn who_does_not_answer_changes_nothing_and_gets_the_terminal_back() {
    for (question, is_plain) in QUESTIONS.iter().flat_map(|question| [(question, false), (question, true)]) {
        // Where it reads lines a terminal makes a signal of the key.
        for leaves in [if is_plain { INTERRUPT } else { CTRL_C }, HANG_UP] {
            let sandbox = sandbox_for(question);
            let before = sandbox.files();
            let seen = asked(&sandbox, question, is_plain, &[leaves, leaves]);
            let told = format!("{} left with {leaves:?} ({:?}): {:?}", question.name, seen.code, seen.sent);
            assert!(seen.sent.contains(question.says), "{told}");
            assert_ne!(seen.code, Some(0), "{told}");
            assert!(leaves == HANG_UP || is_given_back(&seen), "{told}");
            if question.words[0] != "capture" {
                assert_eq!(sandbox.files(), before, "{told}");
            }
        }
    }
}
