//! What the fuzz targets share: a package is written to a memory disk, opened and read whole.

pub mod settings;

use std::io::Read;
use std::path::PathBuf;

use odd_stack_core::observer::Silent;
use odd_stack_core::package::{Inner, Limits, OpenOptions, Package, PackageError};

/// Opens the bytes as a package that begins with `head`, and reads all that is in it.
///
/// # Panics
/// When something comes out that should not: more bytes than a member says, or a path that is not safe.
pub fn read_all(head: &[u8], bytes: &[u8]) {
    let whole = if bytes.starts_with(head) { bytes.to_vec() } else { [head, bytes].concat() };
    let path = here().join("package");
    std::fs::write(&path, whole).expect("the memory disk takes it");
    let limits = Limits { most_bytes: 16 << 20, most_files: 2000, most_ratio: 400, most_depth: 2 };
    let options = OpenOptions { limits, inner: Inner { unasked: true, ..Inner::default() }, names: None };
    let take = |_: usize, size_bytes: u64, content: &mut dyn Read| -> Result<(), PackageError> {
        let count = std::io::copy(content, &mut std::io::sink()).unwrap_or(0);
        assert!(count <= size_bytes, "{count} bytes of {size_bytes}");
        Ok(())
    };
    let Ok(package) = Package::open_taking(&path, &options, &take, &Silent) else { return };
    assert!(package.size_bytes() <= 16 << 20);
    for member in package.members() {
        let parts: Vec<&str> = member.path.parts().collect();
        assert!(!parts.is_empty() && parts.iter().all(|part| !matches!(*part, "" | "." | "..")));
        assert!(!member.path.as_str().contains([':', '\\', '\0']), "{}", member.path);
    }
    let wanted: Vec<usize> = package.members().iter().map(|member| member.content).collect();
    let _ = package.read(&wanted, &take, &Silent);
}

fn here() -> PathBuf {
    let folder = std::env::temp_dir().join(format!("oddstack-fuzz-{}", std::process::id()));
    std::fs::create_dir_all(&folder).expect("a folder for the packages");
    folder
}
