//! Writing the demo's files.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::Path;
use std::time::{Duration, SystemTime};

use include_dir::{Dir, DirEntry, include_dir};
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

static DEMO: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo");

/// Packages that are left as loose folders; all others become zip archives.
const LOOSE: [&str; 2] = ["quiet-bells-1.0", "paper-lantern-0.3"];

/// All of the game's files are of one day in May 2024.
const GAME_TIME: Duration = Duration::from_secs(1_714_557_600);

/// Writes game, documents and packages below `folder`.
pub fn build(folder: &Path) -> io::Result<()> {
    for part in ["game", "documents", "update-1.8", "repair", "patches"] {
        if let Some(tree) = DEMO.get_dir(part) {
            write_tree(tree, &folder.join(part), tree.path())?;
        }
    }
    // Containers of the game are zip files under another ending.
    for container in DEMO.get_dir("containers").map(Dir::dirs).into_iter().flatten() {
        let name = container.path().file_name().unwrap_or_default();
        let file = File::create(folder.join("game/data").join(name))?;
        let mut archive = ZipWriter::new(file);
        write_archive(container, &mut archive, container.path())?;
        archive.finish()?.set_modified(SystemTime::UNIX_EPOCH + GAME_TIME)?;
    }
    let packages = folder.join("packages");
    fs::create_dir_all(&packages)?;
    for package in DEMO.get_dir("packages").map(Dir::dirs).into_iter().flatten() {
        let name = package.path().file_name().unwrap_or_default().to_string_lossy();
        if LOOSE.contains(&&*name) {
            write_tree(package, &packages.join(&*name), package.path())?;
        } else {
            let mut archive = ZipWriter::new(File::create(packages.join(format!("{name}.zip")))?);
            write_archive(package, &mut archive, package.path())?;
            archive.finish()?;
        }
    }
    Ok(())
}

/// Writes the files of `from` over those in `to`, and gives their paths.
pub fn copy_over(from: &Path, to: &Path) -> io::Result<Vec<String>> {
    let mut copied = Vec::new();
    let mut entries = fs::read_dir(from)?.collect::<io::Result<Vec<_>>>()?;
    entries.sort_by_key(fs::DirEntry::file_name);
    for entry in entries {
        let (name, target) = (entry.file_name(), to.join(entry.file_name()));
        if entry.file_type()?.is_dir() {
            fs::create_dir_all(&target)?;
            let below = copy_over(&entry.path(), &target)?;
            copied.extend(below.into_iter().map(|path| format!("{}/{path}", name.to_string_lossy())));
        } else {
            fs::write(&target, fs::read(entry.path())?)?;
            copied.push(name.to_string_lossy().into_owned());
        }
    }
    Ok(copied)
}

fn write_tree(tree: &Dir<'_>, to: &Path, top: &Path) -> io::Result<()> {
    fs::create_dir_all(to)?;
    for entry in tree.entries() {
        let below = entry.path().strip_prefix(top).unwrap_or(entry.path());
        let name = below.file_name().unwrap_or_default();
        match entry {
            DirEntry::Dir(folder) => write_tree(folder, &to.join(name), folder.path())?,
            DirEntry::File(file) => {
                let mut written = File::create(to.join(name))?;
                written.write_all(file.contents())?;
                written.set_modified(SystemTime::UNIX_EPOCH + GAME_TIME)?;
            }
        }
    }
    Ok(())
}

fn write_archive(tree: &Dir<'_>, archive: &mut ZipWriter<File>, top: &Path) -> io::Result<()> {
    for entry in tree.entries() {
        match entry {
            DirEntry::Dir(folder) => write_archive(folder, archive, top)?,
            DirEntry::File(file) => {
                let below = file.path().strip_prefix(top).unwrap_or(file.path());
                let name = below.to_string_lossy().replace('\\', "/");
                archive.start_file(name, SimpleFileOptions::default())?;
                archive.write_all(file.contents())?;
            }
        }
    }
    Ok(())
}
