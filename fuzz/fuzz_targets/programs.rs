#![no_main]

use odd_stack_core::game::{imports_of, plays, program_kind, version_of_file};

// What is read of a program: its kind, its version, what it loads.
libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let folder = std::env::temp_dir().join(format!("oddstack-fuzz-{}", std::process::id()));
    std::fs::create_dir_all(&folder).expect("a folder for the programs");
    let path = folder.join("program.exe");
    std::fs::write(&path, bytes).expect("the memory disk takes it");
    let _ = program_kind(&path);
    let _ = plays(&imports_of(&path).unwrap_or_default());
    let _ = version_of_file(&folder, &path, None);
    let _ = version_of_file(&folder, &path, Some("Build = {}"));
});
