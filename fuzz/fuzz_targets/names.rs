#![no_main]

use std::path::Path;

use odd_stack_core::address::RelPath;
use odd_stack_core::version::parts_of_file_name;

libfuzzer_sys::fuzz_target!(|text: &str| {
    if let Ok(path) = RelPath::parse(text) {
        assert!(path.parts().all(|part| !matches!(part, "" | "." | "..")));
        let on_disk = path.on(Path::new("root"));
        assert!(on_disk.starts_with("root") && on_disk.components().count() == path.parts().count() + 1);
        assert_eq!(RelPath::parse(path.as_str()), Ok(path));
    }
    for is_archive in [true, false] {
        let told = parts_of_file_name(Path::new(text), is_archive);
        assert!(!told.name.is_empty());
    }
});
