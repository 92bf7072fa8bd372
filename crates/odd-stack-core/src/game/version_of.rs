//! Reading a version out of a program or a text.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

use editpe::Image;

use crate::version::first_version_in;

/// How much of a text is searched.
const SEARCHED_BYTES: u64 = 64 * 1024;

/// The version that the file at `path` tells: of a Windows program its version resource (product
/// version, else file version), of anything else the first text that reads as one.
///
/// # Errors
/// When the file can't be read. A file that tells nothing is `None`.
pub fn version_of_file(path: &Path) -> io::Result<Option<String>> {
    let mut head = Vec::new();
    File::open(path)?.take(SEARCHED_BYTES).read_to_end(&mut head)?;
    if head.starts_with(b"MZ") {
        return Ok(version_of_program(path));
    }
    Ok(first_version_in(&String::from_utf8_lossy(&head)).map(str::to_owned))
}

fn version_of_program(path: &Path) -> Option<String> {
    let image = Image::parse_file(path).ok()?;
    let info = image.resource_directory()?.get_version_info().ok()??;
    let string = |wanted: &str| {
        info.strings.iter().find_map(|table| {
            let (_, value) = table.strings.iter().find(|(key, _)| key.as_str() == wanted)?;
            let tidy = value.trim().trim_end_matches('\0').replace(", ", ".");
            (!tidy.is_empty()).then_some(tidy)
        })
    };
    string("ProductVersion").or_else(|| string("FileVersion")).or_else(|| {
        let (high, low) = (info.info.product_version.major, info.info.product_version.minor);
        let packed = [high >> 16, high & 0xffff, low >> 16, low & 0xffff];
        packed.iter().any(|part| *part != 0).then(|| packed.map(|part| part.to_string()).join("."))
    })
}
