//! What a change costs follows its size: ten times the folders with ten times the files take at most eleven times the steps on
//! disk, and of a game that grows around it a change takes none more.

use std::sync::Arc;

use crate::faulty::{Fault, Faulty};
use crate::world::{World, add, id, reorder};
use odd_stack_core::change::{ChangeOptions, Edits};
use odd_stack_core::jobs::Reorder;
use odd_stack_core::stack::Target;

const KEEP: ChangeOptions = ChangeOptions::with(Edits::Keep);

/// A deed, and how it is called.
type Deed = (&'static str, fn(&World, Arc<Faulty>));

const DEEDS: [Deed; 4] = [
    ("lift", |world, seam| {
        let ledger = world.ledger_through(seam);
        reorder(&ledger, &Reorder::Lift(vec![id(&ledger, "wide")]), KEEP).unwrap();
    }),
    ("lay", |world, seam| {
        let ledger = world.ledger_through(seam);
        reorder(&ledger, &Reorder::Lay(vec![id(&ledger, "wide")]), KEEP).unwrap();
    }),
    ("remove", |world, seam| {
        let ledger = world.ledger_through(seam);
        reorder(&ledger, &Reorder::Remove(vec![id(&ledger, "wide")]), KEEP).unwrap();
    }),
    ("add", |world, seam| {
        let ledger = world.ledger_through(seam);
        add(&ledger, &world.path("packages/wide"), &[".=game:"], Target::Top, KEEP).unwrap();
    }),
];

/// The steps that each deed takes, with so many folders of two files in the layer, and so many beside it in the game.
fn steps(folders: usize, beside: usize) -> Vec<u64> {
    let world = World::empty();
    for at in 0..beside {
        world.write(&format!("game/other/{at}/one.dds"), "one");
        world.write(&format!("game/other/{at}/two.dds"), "two");
    }
    world.write("game/data/0/one.dds", "of the game");
    world.care(&world.request());
    let files: Vec<(String, String)> = (0..folders)
        .flat_map(|at| ["one", "two"].map(|name| (format!("data/{at}/{name}.dds"), format!("{name} {at}"))))
        .collect();
    let files: Vec<(&str, &str)> =
        files.iter().map(|(path, content)| (path.as_str(), content.as_str())).collect();
    world.add(&world.package("wide", &files), &[".=game:"]).unwrap();
    let count = |(name, deed): &Deed| {
        let seam = Arc::new(Faulty::new(Fault::Refuse, u64::MAX, world.path("aside")));
        deed(&world, Arc::clone(&seam));
        assert!(seam.steps() > 0, "{name}");
        seam.steps()
    };
    DEEDS.iter().map(count).collect()
}

#[test]
fn ten_times_the_files_take_at_most_eleven_times_the_steps() {
    let (few, many) = (steps(12, 0), steps(120, 0));
    for ((name, _), (few, many)) in DEEDS.iter().zip(few.into_iter().zip(many)) {
        assert!(many <= few * 11, "{name}: {few} steps, then {many}");
    }
}

#[test]
fn a_change_takes_no_more_steps_in_a_bigger_game() {
    assert_eq!(steps(12, 3), steps(12, 300));
}
