//! A change is cut short, and the game and its owner go on with what lies there, before the next command finishes it or takes
//! it back.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::sync::Arc;

use odd_stack_core::jobs::Mending;

use crate::acts::{
    add_quays, add_sea, adopt_copper, carry_fog, drifted_world, front_lifted, lay_front, lift_lamps, mend,
    move_lamps, remove_both, settle_brass, take_folders_away, turn_lamps, tweak_both, two_layers,
    two_layers_laid, upgrade_lamps,
};
use crate::failing::Act;
use crate::faulty::{Fault, Faulty};
use crate::world::{Thing, Tree, World, permit, recover};

/// A name, the world in which it is done, and what is done.
type Deed = (&'static str, fn() -> World, Act);

/// Writes to every file of the game, and a new one into each folder; gives what was written.
pub fn go_on(folder: &Path, written: &mut BTreeSet<Vec<u8>>) {
    for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
        let path = entry.path();
        if entry.file_name() == ".oddstack" {
            continue;
        }
        if path.is_dir() {
            go_on(&path, written);
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

/// Brings every file again that is missing, as a game's client does that looks whether all is there.
fn put_again(world: &World, before: &Tree, written: &mut BTreeSet<Vec<u8>>) {
    for path in before.keys().filter(|path| path.starts_with("game/")) {
        let has_room = || fs::create_dir_all(world.path(path).parent().unwrap()).is_ok();
        if !world.path(path).exists() && matches!(before[path], Thing::File { .. }) && has_room() {
            let content = format!("brought again: {path}");
            world.write(path, &content);
            written.insert(content.into_bytes());
        }
    }
}

/// Stops a change at every `stride`th of its steps, from the `first` on. The game `is_verified` before the next command, which
/// takes the change back if the disk `refuses` to finish it.
fn stop_and_go_on(
    (name, world, act): Deed,
    (is_verified, refuses): (bool, bool),
    (first, stride): (u64, usize),
) {
    let one_at_a_time = rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap();
    for at in (first..).step_by(stride) {
        let world = world();
        let before = world.tree();
        let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
        let seam = |fault, at| Arc::new(Faulty::new(fault, at, aside.path().to_path_buf()));
        let stopping = seam(Fault::Stop, at);
        one_at_a_time.install(|| act(&world, &world.ledger_through(stopping.clone())));
        if !stopping.has_struck() {
            break;
        }
        let mut written = BTreeSet::new();
        go_on(&world.path("game"), &mut written);
        if is_verified {
            put_again(&world, &before, &mut written);
        }
        if refuses {
            let refusing = seam(Fault::Refuse, 0);
            let _ = one_at_a_time.install(|| permit(&world.ledger_through(refusing)).map(drop));
        }
        recover(&world.ledger());
        let left = world.all_contents();
        let lost: Vec<_> =
            written.difference(&left).map(|content| String::from_utf8_lossy(content)).collect();
        assert!(lost.is_empty(), "{name}, verified: {is_verified}, refused: {refuses}, step {at}: {lost:?}");
    }
}

#[test]
fn what_is_written_between_a_stop_and_the_next_command_is_never_lost() {
    let restore: Act = |_, ledger| mend(ledger, Mending::Restore);
    let linked = || two_layers_laid(true);
    let acts: [Deed; 17] = [
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
        ("lift linked lamps", linked, lift_lamps),
        ("upgrade linked lamps", linked, upgrade_lamps),
        ("add to linked", linked, add_quays),
    ];
    let all = [(false, false), (false, true), (true, false), (true, true)];
    for (number, act) in acts.into_iter().enumerate() {
        let first = number as u64 % 7;
        // Each costs ten times as much under Wine.
        match cfg!(windows) {
            true => stop_and_go_on(act, all[number % 4], (first, 29)),
            false => all.into_iter().for_each(|ways| stop_and_go_on(act, ways, (first, 7))),
        }
    }
}

/// A game's client that looks whether all is there brings what was taken out; that is the game's own, and lies aside already.
#[test]
fn what_is_brought_again_as_it_was_is_not_kept_twice() {
    let one_at_a_time = rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap();
    let mut brought = 0;
    for at in (0..).step_by(if cfg!(windows) { 9 } else { 1 }) {
        let world = two_layers();
        let before = world.tree();
        let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
        let seam = Arc::new(Faulty::new(Fault::Stop, at, aside.path().to_path_buf()));
        let was_done = one_at_a_time.install(|| add_quays(&world, &world.ledger_through(seam.clone())));
        if !seam.has_struck() {
            // Under Wine few steps are tried.
            assert!(was_done && (brought > 0 || cfg!(windows)));
            break;
        }
        let copper = "game/data/lamps/copper.dds";
        if !world.path(copper).exists() {
            world.write(copper, "base copper");
            brought += 1;
        }
        recover(&world.ledger());
        assert!(!world.ledger().folder().join("kept").join("0").exists(), "step {at}");
        let is_laid = world.tree().len() > before.len();
        let wanted = if is_laid { "quays copper" } else { "base copper" };
        assert_eq!(fs::read_to_string(world.path(copper)).unwrap(), wanted, "step {at}");
        assert!(world.check(true).drifted.is_empty(), "step {at}");
    }
}

/// A folder of the game lies elsewhere by then, with a link to it; that is its owner's, and stays.
#[cfg(unix)]
#[test]
fn links_to_folders_do_not_make_way() {
    let one_at_a_time = rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap();
    for at in (0..).step_by(5) {
        let world = two_layers();
        let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
        let seam = Arc::new(Faulty::new(Fault::Stop, at, aside.path().to_path_buf()));
        one_at_a_time.install(|| add_quays(&world, &world.ledger_through(seam.clone())));
        if !seam.has_struck() {
            break;
        }
        let (elsewhere, data) = (world.path("elsewhere"), world.path("game/data"));
        fs::rename(&data, &elsewhere).unwrap();
        fs::remove_dir_all(elsewhere.join("lamps")).unwrap();
        std::os::unix::fs::symlink(&elsewhere, &data).unwrap();
        let _ = permit(&world.ledger()).map(drop);
        assert_eq!(fs::read_link(&data).unwrap(), elsewhere, "step {at}");
    }
}
