//! The main job, step by step.

/// One thing done in a step.
pub enum Act {
    /// A command, its words one space apart, and the exit code that is right for it.
    Run { line: &'static str, exit: i32 },
    /// A change made by hand.
    Edit { path: &'static str, from: &'static str, to: &'static str },
    /// The game's client updates the game: the files of a folder go over the game's own.
    Update { from: &'static str },
}

/// A step with what it is about.
pub struct Step {
    pub says: &'static str,
    pub acts: &'static [Act],
}

const fn run(line: &'static str) -> Act {
    Act::Run { line, exit: 0 }
}

/// An old patch program, a script that comes with the demo. It writes a log, which is no part of what it is for.
#[cfg(windows)]
const CAPTURE: &str = "capture night-ferries --skip *.log -- cmd /c ..\\patches\\night-ferries.bat";
#[cfg(not(windows))]
const CAPTURE: &str = "capture night-ferries --skip *.log -- /bin/sh ../patches/night-ferries.sh";

/// The walk.
pub const STEPS: &[Step] = &[
    Step {
        says: "Add the game: its folder, its documents, and a short name for the program's folder.",
        acts: &[run(
            "game add Quillhaven game --root docs=documents --spot bin=bin --version-from version.txt",
        )],
    },
    Step {
        says: "Look into a package before anything happens.",
        acts: &[run("inspect packages/brass-lamps-1.2.zip")],
    },
    Step {
        says: "Add it. The folder around its files goes, and its readme stays out of the game.",
        acts: &[run("add packages/brass-lamps-1.2.zip")],
    },
    Step {
        says: "Add a big overhaul; it wants some of the same files.",
        acts: &[run("add packages/foggy-harbour-overhaul-2.0.zip --name foggy-harbour")],
    },
    Step {
        says: "A loader goes beside the main program, not the launcher; a package may be for two folders, or wrapped twice.",
        acts: &[
            run("add packages/harbour-hook-0.9.zip"),
            run("add packages/keepers-journal-1.0.zip"),
            run("add packages/silver-ropes-1.0.zip"),
        ],
    },
    Step {
        says: "One of two finishes must be chosen; a part that may be left out is.",
        acts: &[
            Act::Run { line: "add packages/copper-works-1.4.zip", exit: 4 },
            run("add packages/copper-works-1.4.zip --choose finish=matte"),
        ],
    },
    Step {
        says: "An author says in a fit sheet where files go and what they are called there. You can say it, too.",
        acts: &[
            run("add packages/harbour-winter-1.0.zip"),
            run("add packages/paper-lantern-0.3 --place lantern_v3_final.qtx=data/lamps/paper.qtx"),
        ],
    },
    Step {
        says: "Two sound packs; the second covers all of the first. A package of changed files goes onto it.",
        acts: &[
            run("add packages/quiet-bells-1.0 -q"),
            run("add packages/grand-bells-3.1.zip -q"),
            run("upgrade grand-bells packages/grand-bells-3.1.1.zip --patch"),
        ],
    },
    Step {
        says: "The unofficial patch must lie on top of everything, and does.",
        acts: &[run("add packages/unofficial-patch-1.7.3.zip")],
    },
    Step { says: "The stack, from the top to the game itself.", acts: &[run("stack")] },
    Step {
        says: "Where layers disagree, who wins, and everything at one address.",
        acts: &[Act::Run { line: "conflicts", exit: 3 }, run("trace data/lamps/brass.qtx")],
    },
    Step {
        says: "The brass lamps should win over the fog: look first, then do it. What is left is settled.",
        acts: &[
            run("move brass-lamps --above foggy-harbour --dry-run"),
            run("move brass-lamps --above foggy-harbour"),
            run("settle data/lamps/copper.qtx --with brass-lamps"),
            run("settle sound/bells --keep-order"),
            Act::Run { line: "conflicts", exit: 3 },
        ],
    },
    Step {
        says: "Another package changes other keys of the same settings: both are kept. You can see who set what.",
        acts: &[run("add packages/long-days-1.1.zip"), run("trace config/harbour.ini --keys")],
    },
    Step {
        says: "Settings of your own lie on top of everything, and survive what comes beneath.",
        acts: &[run("tweak config/harbour.ini clock.weekdays=5"), run("tweak list")],
    },
    Step {
        says: "Some of the game's files are zip-based containers. Layers go into them side by side, and come out one by one.",
        acts: &[
            run("add packages/moonlit-charts-1.0.zip"),
            run("add packages/deep-water-1.1.zip"),
            run("trace data/charts.qpk!/legend.ini --keys"),
            run("remove moonlit-charts"),
        ],
    },
    Step {
        says: "A package for another version of the game is not added by accident.",
        acts: &[Act::Run { line: "add packages/spring-tide-2.0.zip", exit: 4 }],
    },
    Step {
        says: "You change a setting by hand. Odd Stack notices, and never overwrites it silently.",
        acts: &[
            Act::Edit { path: "game/config/harbour.ini", from: "gulls=40", to: "gulls=200" },
            Act::Run { line: "check", exit: 3 },
            Act::Run { line: "lift foggy-harbour", exit: 4 },
        ],
    },
    Step {
        says: "A new version of the overhaul: in its place, with the same placement, and your setting is carried over.",
        acts: &[
            run("upgrade foggy-harbour packages/foggy-harbour-overhaul-2.1.zip"),
            run("lift foggy-harbour --keep-edits"),
        ],
    },
    Step { says: "Take one layer out; the others stay as they are.", acts: &[run("remove brass-lamps")] },
    Step {
        says: "Not what you wanted? Any change can be taken back, without its package, and done again.",
        acts: &[run("undo"), run("redo"), run("history --last 6")],
    },
    Step {
        says: "Everything off: the game is itself again, to the byte.",
        acts: &[run("lift --all"), run("check --deep")],
    },
    Step { says: "And everything on again.", acts: &[run("lay --all"), run("stack")] },
    Step {
        says: "An old patch program changes files in place. What it does becomes a layer, and can go again.",
        acts: &[run(CAPTURE), run("trace config/sound.ini --keys")],
    },
    Step {
        says: "What such a layer can't say by itself you say: its version, what it goes with, how you can tell that it works.",
        acts: &[
            run(
                "set night-ferries --version 2 --needs harbour-hook --proof-file data/ferries/moon_ferry.qmd",
            ),
            run("check --proofs"),
        ],
    },
    Step {
        says: "The game gets its update to 1.8. Before it, all goes off.",
        acts: &[run("patchday begin"), Act::Update { from: "update-1.8" }],
    },
    Step {
        says: "After it, what still fits is laid again; the rest waits, and you are told why.",
        acts: &[Act::Run { line: "patchday finish", exit: 3 }, run("stack")],
    },
    Step {
        says: "Two new versions for 1.8 need each other: one alone is not laid, both together are.",
        acts: &[
            Act::Run { line: "upgrade packages/keepers-journal-1.1.zip", exit: 4 },
            run("upgrade packages/harbour-winter-2.0.zip packages/keepers-journal-1.1.zip"),
        ],
    },
    Step {
        says: "The client repairs a file that a layer covers. Odd Stack sees what happened, and puts the layer's back.",
        acts: &[Act::Update { from: "repair" }, Act::Run { line: "check", exit: 3 }, run("mend --restore")],
    },
    Step {
        says: "Two seasons, one command apart: a lineup is the stack under a name.",
        acts: &[
            run("lineup save summer"),
            run("lift long-days -q"),
            run("lineup save winter"),
            run("lineup switch summer"),
            run("lineup list"),
        ],
    },
];
