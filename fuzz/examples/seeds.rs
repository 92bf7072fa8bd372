//! Writes archives to begin with into `corpus/TARGET/`, beside the current folder's Cargo.toml.

#[path = "../../crates/odd-stack-core/tests/all/archives.rs"]
#[allow(dead_code)]
mod archives;

use std::fs;
use std::path::Path;

use archives::{FORMATS, Format, archive, file, folder, hard_link, link};

fn main() -> std::io::Result<()> {
    let text: Vec<u8> = (0..400u32).flat_map(|number| (number / 3).to_le_bytes()).collect();
    let small = vec![folder("Pack"), file("Pack/data/a.txt", "brass"), file("Pack/b.bin", text)];
    let linked = vec![file("a.txt", "a"), link("b.txt", "a.txt"), hard_link("c.txt", "a.txt")];
    for format in FORMATS {
        let target = match format {
            Format::Zip => "zip",
            Format::SevenZ => "seven",
            Format::Rar4 | Format::Rar5 => "rar",
            _ => "tar",
        };
        for (name, things) in [("small", &small), ("linked", &linked), ("empty", &Vec::new())] {
            let bytes = archive(format, things);
            seed(target, &format!("{format:?}-{name}"), &bytes)?;
            if name == "small" {
                let inner = [file(format!("in.{}", format.ending()), &bytes)];
                seed("inner", &format!("{format:?}"), &archive(Format::Zip, &inner))?;
            }
        }
    }
    for (number, name) in
        ["brass-lamps_v1.2b (full).zip", "data\\a/b.txt", "gulls-2.0.part1.rar", "C:\\x", "a:b"].iter().enumerate()
    {
        seed("names", &number.to_string(), name.as_bytes())?;
    }
    Ok(())
}

fn seed(target: &str, name: &str, bytes: &[u8]) -> std::io::Result<()> {
    let folder = Path::new("corpus").join(target);
    fs::create_dir_all(&folder)?;
    fs::write(folder.join(name), bytes)
}
