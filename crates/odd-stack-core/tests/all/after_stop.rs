//! A change is cut short, and the game and its owner go on with what lies there, before the next command finishes it or takes
//! it back.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::sync::Arc;

use odd_stack_core::jobs::Mending;

use crate::crash::{
    Act, add_quays, add_sea, adopt_copper, carry_fog, drifted_world, front_lifted, lay_front, lift_lamps,
    mend, move_lamps, remove_both, settle_brass, take_folders_away, turn_lamps, tweak_both, two_layers,
    upgrade_lamps,
};
use crate::faulty::{Fault, Faulty};
use crate::world::{World, permit, recover};

/// Writes to every file of the game, and a new one into each folder; gives what was written.
fn go_on(world: &World, folder: &Path, written: &mut BTreeSet<Vec<u8>>) {
    for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
        let path = entry.path();
        if entry.file_name() == ".oddstack" {
            continue;
        }
        if path.is_dir() {
            go_on(world, &path, written);
        } else {
            let content = format!("written after the stop: {}", path.display()).into_bytes();
            fs::write(&path, &content).unwrap();
            written.insert(content);
        }
    }
    let content = format!("new after the stop: {}", folder.display()).into_bytes();
    fs::write(folder.join("of the game.sav"), &content).unwrap();
    written.insert(content);
}

/// Stops a change at every `stride`th of its steps, from the `first` on.
fn stop_and_go_on(world: fn() -> World, act: Act, is_taken_back: bool, (first, stride): (u64, usize)) {
    let one_at_a_time = rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap();
    for at in (first..).step_by(stride) {
        let world = world();
        let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
        let seam = |fault, at| Arc::new(Faulty::new(fault, at, aside.path().to_path_buf()));
        let stopping = seam(Fault::Stop, at);
        one_at_a_time.install(|| act(&world, &world.ledger_through(stopping.clone())));
        if !stopping.has_struck() {
            break;
        }
        let mut written = BTreeSet::new();
        go_on(&world, &world.path("game"), &mut written);
        if is_taken_back {
            // Where the disk refuses to go on, all goes back.
            let refusing = seam(Fault::Refuse, 0);
            let _ = one_at_a_time.install(|| permit(&world.ledger_through(refusing)).map(drop));
        }
        recover(&world.ledger());
        let left = world.all_contents();
        let lost: Vec<_> =
            written.difference(&left).map(|content| String::from_utf8_lossy(content)).collect();
        assert!(lost.is_empty(), "step {at}: {lost:?}");
    }
}

#[test]
fn what_is_written_between_a_stop_and_the_next_command_is_never_lost() {
    let restore: Act = |_, ledger| mend(ledger, Mending::Restore);
    let acts: [(&str, fn() -> World, Act); 14] = [
        ("add quays", two_layers, add_quays),
        ("lift lamps", two_layers, lift_lamps),
        ("move lamps", two_layers, move_lamps),
        ("remove both", two_layers, remove_both),
        ("upgrade lamps", two_layers, upgrade_lamps),
        ("turn lamps", two_layers, turn_lamps),
        ("adopt copper", two_layers, adopt_copper),
        ("carry fog", drifted_world, carry_fog),
        ("lay front", front_lifted, lay_front),
        ("take folders away", two_layers, take_folders_away),
        ("settle brass", two_layers, settle_brass),
        ("tweak both", two_layers, tweak_both),
        ("add sea", two_layers, add_sea),
        ("restore", drifted_world, restore),
    ];
    let stride = 1;
    for ((name, world, act), first) in acts.into_iter().zip(0..) {
        for is_taken_back in [false, true] {
            eprintln!("{name}, taken back: {is_taken_back}");
            stop_and_go_on(world, act, is_taken_back, (0 * first, stride));
        }
    }
}
