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
        ["brass-lamps_v1.2b (full).zip", "data\\a/b.txt", "gulls-2.0.part1.rar", "C:\\x", "a:b"]
            .iter()
            .enumerate()
    {
        seed("names", &number.to_string(), name.as_bytes())?;
    }
    let sheet = "format = 1\nname = \"Lamps\"\nversion = \"1.2\"\nclears = [\"cache/**\"]\n[needs]\ngame = \">=1.7 <1.8\"\n\
                 [[place]]\nfrom = \"*\"\nto = \"game:data\"\n[[choice]]\nid = \"make\"\noption = [{ name = \"a\" }, { name = \"b\" }]\n\
                 [[start]]\nprogram = \"bin/x\"\narguments = [\"-a\"]\n[[set]]\nfile = \"a.ini\"\nkey = \"k\"\nvalue = \"v\"\n";
    seed("sheet", "whole", sheet.as_bytes())?;
    seed("sheet", "range", b">=1.7-pre2 <1.8")?;
    for (number, (base, lower, upper)) in [
        ("[a]\nk = 1\n; c\nj=2\n", "[a]\nk = 2\nj=2\n", "[a]\nk = 1\nj=3\n[b]\nx=1\n"),
        (
            "{\"a\": 1, /* c */ \"b\": [1, 2]}",
            "{\"a\": 2, \"b\": [1, 2]}",
            "{\"a\": 1, \"b\": [1], \"c\": {}}",
        ),
        ("a = 1\n[t]\nb = \"x\"\n", "a = 2\n[t]\nb = \"x\"\n", "a = 1\n[t]\nb = \"y\"\n[[u]]\nc = 1\n"),
        ("<r><a k=\"1\">x</a><b/></r>", "<r><a k=\"2\">x</a><b/></r>", "<r><a k=\"1\">y</a><b/><c/></r>"),
        (
            "a = 1 -- c\nt = { { id = 'x', v = 1 } }\n",
            "a = 2\nt = { { id = 'x', v = 1 } }\n",
            "a = 1\nt = { { id = 'x', v = 3 }, 'y' }\n",
        ),
    ]
    .into_iter()
    .enumerate()
    {
        let bytes = [base.as_bytes(), &[0xff], lower.as_bytes(), &[0xff], upper.as_bytes()].concat();
        seed("settings", &number.to_string(), &[&[number as u8], bytes.as_slice()].concat())?;
        seed(&format!("settings_{}", ["ini", "json", "toml", "xml", "lua"][number]), "small", &bytes)?;
    }
    seed("programs", "text", b"Build = 1.7.3\nversion: 2\n")?;
    seed("catalogue", "none", b"")?;
    Ok(())
}

fn seed(target: &str, name: &str, bytes: &[u8]) -> std::io::Result<()> {
    let folder = Path::new("corpus").join(target);
    fs::create_dir_all(&folder)?;
    fs::write(folder.join(name), bytes)
}
