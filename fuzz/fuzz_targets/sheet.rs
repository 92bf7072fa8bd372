#![no_main]

use odd_stack_core::VersionRange;
use odd_stack_core::compare_versions;
use odd_stack_core::fit::{FitSheet, Rank};

libfuzzer_sys::fuzz_target!(|text: &str| {
    if let Ok(range) = VersionRange::parse(text) {
        let _ = range.contains("1.7.3");
    }
    assert!(compare_versions(text, text).is_eq());
    let Ok(sheet) = FitSheet::parse(text) else { return };
    // What is remembered of a sheet is the sheet.
    let rules = sheet.rules(Rank::Package);
    let again = FitSheet::of(&rules);
    assert_eq!(again.rules(Rank::Package), rules);
    // No start of a sheet leads out of the game, and no clearing reaches all of it.
    for pattern in &sheet.clears {
        assert!(!matches!(pattern.as_str(), "" | "." | "game:" | "game:." | "**" | "game:**"), "{pattern}");
    }
    for start in &sheet.start {
        assert!(!start.program.starts_with(['/', '\\']) && !start.program.contains(".."), "{}", start.program);
    }
});
