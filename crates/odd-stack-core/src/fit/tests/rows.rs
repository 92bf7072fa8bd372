//! New folders of rows, names that are met on the way, and loose files of several folders, in an invented harbour.

use super::game::{TestGame, fit_onto, shown};
use crate::fit::{FitError, Place, Rules, Unclear};

/// Ferries side by side, each built alike; charts by quay; bells in two folders.
fn harbour() -> TestGame {
    let mut files: Vec<String> = vec!["game:bin/quill.exe".into()];
    for ferry in ["amber", "brass", "cobalt", "dusk", "ember"] {
        files.push(format!("game:fleet/ferries/{ferry}/{ferry}.qmd"));
        files.push(format!("game:fleet/ferries/{ferry}/hull/planks.qtx"));
        files.push(format!("game:fleet/ferries/{ferry}/crew.txt"));
    }
    for quay in ["north", "south"] {
        files.push(format!("game:charts/quays/{quay}/depth.qmp"));
        files.push(format!("game:charts/quays/{quay}/light.qmp"));
    }
    files.extend(["game:sound/fog.qbl", "game:sound/noon.qbl", "game:sound/night/owl.qbl"].map(String::from));
    let files: Vec<&str> = files.iter().map(String::as_str).collect();
    TestGame::new(&[("game", "/games/Quillhaven")], &files, Some(("game:bin/quill.exe", &[])))
}

fn placed(files: &[&str]) -> Result<Vec<String>, Unclear> {
    match fit_onto(&harbour(), files, &Rules::default(), &[]) {
        Ok(fit) => Ok(shown(&fit)),
        Err(FitError::Unclear(unclear)) => Err(unclear),
        Err(other) => panic!("{other}"),
    }
}

#[test]
fn a_new_folder_of_a_row_goes_beside_the_others() {
    let new = ["flint/flint.qmd", "flint/hull/planks.qtx", "flint/crew.txt"];
    let at = |file: &str| format!("game:fleet/ferries/{file}");
    assert_eq!(placed(&new).unwrap(), new.map(at));
    // Also with folders around it.
    for top in ["Ferries Pack/", "a/b/", "fleet/ferries/", "ferries/"] {
        let files: Vec<String> = new.iter().map(|file| format!("{top}{file}")).collect();
        let files: Vec<&str> = files.iter().map(String::as_str).collect();
        let wanted: Vec<String> = files.iter().map(|file| at(&file[top.len()..])).collect();
        assert_eq!(placed(&files).unwrap(), wanted, "{top}");
    }
}

#[test]
fn what_may_be_a_folder_around_everything_is_asked_about() {
    // Its name has a version, or is that of the package, or is what hosts call an archive.
    for top in ["flint 1.2", "lamp-oil", "flint-master"] {
        let files = [format!("{top}/some.qmd"), format!("{top}/hull/planks.qtx"), format!("{top}/crew.txt")];
        let unclear = placed(&files.each_ref().map(String::as_str)).unwrap_err();
        let is_offered = |to: &str| unclear.candidates.iter().any(|candidate| candidate.places[0].to == to);
        assert!(is_offered("game:fleet/ferries"), "{top}: {:?}", unclear.candidates);
    }
}

#[test]
fn a_name_that_is_met_is_never_taken_for_another() {
    // `north` is there, and `west` is new: both are no other quay, though these have files of the same names.
    let north = placed(&["quays/north/depth.qmp", "quays/north/wind.qmp"]).unwrap();
    assert_eq!(north, ["game:charts/quays/north/depth.qmp", "game:charts/quays/north/wind.qmp"]);
    let west = placed(&["charts/quays/west/depth.qmp", "charts/quays/west/light.qmp"]).unwrap();
    assert_eq!(west, ["game:charts/quays/west/depth.qmp", "game:charts/quays/west/light.qmp"]);
}

#[test]
fn loose_files_of_several_folders_are_asked_and_the_first_answer_puts_each_in_its_own() {
    let files = ["fog.qbl", "noon.qbl", "owl.qbl"];
    let unclear = placed(&files).unwrap_err();
    let places: Vec<Place> = unclear.candidates[0].places.clone();
    let rules = Rules { places, tidy: true, ..Rules::default() };
    let fit = fit_onto(&harbour(), &files, &rules, &[]).unwrap();
    assert_eq!(shown(&fit), ["game:sound/fog.qbl", "game:sound/noon.qbl", "game:sound/night/owl.qbl"]);
    assert_eq!(placed(&["fog.qbl", "noon.qbl"]).unwrap(), ["game:sound/fog.qbl", "game:sound/noon.qbl"]);
}

#[test]
fn it_can_always_be_put_as_it_is_written() {
    let unclear = placed(&["some/odd/thing.zzz"]).unwrap_err();
    let offers: Vec<&str> =
        unclear.candidates.iter().map(|candidate| candidate.places[0].to.as_str()).collect();
    let froms: Vec<&str> =
        unclear.candidates.iter().map(|candidate| candidate.places[0].from.as_str()).collect();
    assert!(froms.contains(&".") && froms.contains(&"*") && froms.contains(&"*/*"), "{froms:?} {offers:?}");
}

#[test]
fn a_folder_for_a_root_of_another_name_is_offered_where_its_names_lie() {
    let files = ["game:bin/quill.exe", "other:logs/a.txt", "keeper:settings/keys.qcf"];
    let roots = [("game", "/games/Quillhaven"), ("other", "/me/Logs"), ("keeper", "/me/Quill")];
    let game = TestGame::new(&roots, &files, None);
    let run = |package: &[&str]| fit_onto(&game, package, &Rules::default(), &[]);
    let known = run(&["Documents/settings/keys.qcf", "Documents/settings/sound.qcf"]).unwrap();
    assert_eq!(shown(&known), ["keeper:settings/keys.qcf", "keeper:settings/sound.qcf"]);
    let Err(FitError::Unclear(unclear)) = run(&["Documents/new/sound.qcf"]) else { panic!("not asked") };
    let is_offered =
        |to: &str| unclear.candidates.iter().any(|it| it.places.first().is_some_and(|place| place.to == to));
    assert!(is_offered("keeper:") && is_offered("other:"), "{:?}", unclear.candidates);
    assert!(unclear.candidates.iter().any(|candidate| !candidate.skip.is_empty()), "it may be left out");
}
