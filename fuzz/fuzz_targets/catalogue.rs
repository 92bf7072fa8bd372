#![no_main]

use std::fs;
use std::path::PathBuf;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use odd_stack_core::change::ChangeOptions;
use odd_stack_core::files::RealDisk;
use odd_stack_core::front::for_tests;
use odd_stack_core::Moment;
use odd_stack_core::check::check;
use odd_stack_core::jobs::steps::{conflicts, prepare_add, prepare_reorder, show, stack, register_game};
use odd_stack_core::jobs::{AddRequest, RegisterRequest, Reorder};
use odd_stack_core::ledger::Home;
use odd_stack_core::observer::Silent;

const NOW: Moment = Moment::after_1970(1_767_323_045);

struct World {
    ledger: PathBuf,
    catalogue: Vec<u8>,
}

/// A game with two layers, and what its catalogue is.
fn world() -> &'static World {
    static WORLD: OnceLock<World> = OnceLock::new();
    WORLD.get_or_init(|| {
        let here = std::env::temp_dir().join(format!("oddstack-fuzz-{}", std::process::id()));
        let write = |path: &str, content: &str| {
            let path = here.join(path);
            fs::create_dir_all(path.parent().expect("below a folder")).expect("the memory disk takes it");
            fs::write(path, content).expect("the memory disk takes it");
        };
        for (path, content) in [
            ("game/data/a.txt", "base"),
            ("game/config/fog.ini", "fog=1\n"),
            ("one/data/a.txt", "one"),
            ("one/config/fog.ini", "fog=2\n"),
            ("two/data/a.txt", "two"),
            ("two/config/fog.ini", "fog=1\nmist=2\n"),
        ] {
            write(path, content);
        }
        let home = Home::new(here.join("home"));
        let seam = || Arc::new(RealDisk::default());
        let request = RegisterRequest { name: "Quillhaven".into(), folder: here.join("game"), ..Default::default() };
        register_game(&home, &request, NOW, false, seam(), &Silent).expect("it is in care");
        let folder = home.games().expect("a list").remove(0).ledger;
        let ledger = for_tests::open_as_it_is(&folder, seam()).expect("it opens");
        for name in ["one", "two"] {
            let permit = for_tests::permit(&ledger, Duration::ZERO, None).expect("nobody else");
            let request = AddRequest::of(here.join(name));
            let options = ChangeOptions::default();
            let adding = prepare_add(&ledger, permit, &request, NOW, options, false, &Silent).expect("it goes on");
            adding.change.apply(&Silent).expect("it goes on");
        }
        drop(ledger);
        let catalogue = fs::read(folder.join("catalogue.sqlite")).expect("it is there");
        World { ledger: folder, catalogue }
    })
}

// Each three bytes put one byte elsewhere in a catalogue whose sums nobody knows: it may be told as damaged, and never
// ends the program.
libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let World { ledger: folder, catalogue } = world();
    let mut catalogue = catalogue.clone();
    let length = catalogue.len();
    for turn in bytes.chunks_exact(4) {
        let at = u32::from_le_bytes([turn[0], turn[1], turn[2], 0]) as usize % length;
        catalogue[at] = turn[3];
    }
    for name in ["catalogue.sums", "catalogue.second", "catalogue.sqlite-wal", "catalogue.sqlite-shm"] {
        let _ = fs::remove_file(folder.join(name));
    }
    fs::write(folder.join("catalogue.sqlite"), catalogue).expect("the memory disk takes it");
    let Ok(ledger) = for_tests::open_as_it_is(folder, Arc::new(RealDisk::default())) else { return };
    let _ = stack(&ledger);
    let _ = check(&ledger, true, &Silent);
    let _ = conflicts(&ledger, &Default::default());
    for layer in ledger.layers().unwrap_or_default() {
        let _ = show(&ledger, layer.id, &Silent);
    }
    let Ok(permit) = for_tests::permit(&ledger, Duration::ZERO, None) else { return };
    let laid = ledger.layers().unwrap_or_default().into_iter().map(|layer| layer.id).collect();
    let change = prepare_reorder(&ledger, permit, &Reorder::Lift(laid), "lift", NOW, ChangeOptions::default(), &Silent);
    drop(change);
});
