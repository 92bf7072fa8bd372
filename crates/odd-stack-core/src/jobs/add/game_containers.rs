//! The containers of a game, by what is in its files.

use std::fs::File;
use std::io::Read;

use flate2::Compression;
use flate2::read::{DeflateDecoder, DeflateEncoder};
use rayon::prelude::*;

use crate::address::{Address, FoldedKey, Folding, RelPath};
use crate::container::Directory;
use crate::files::{Seen, open_regular};
use crate::fit::ContainerSeen;
use crate::ledger::{ContainerList, Ledger, LedgerError};
use crate::package::ArchiveFile;
use crate::stack::{BaseFile, BaseKind};

/// Endings of files that are of another kind, so that they need not be opened.
const OF_OTHER_KINDS: [&str; 42] = [
    "exe", "dll", "so", "dds", "png", "jpg", "jpeg", "tga", "bmp", "gif", "webp", "ogg", "wav", "mp3",
    "flac", "wem", "bnk", "bik", "mp4", "webm", "txt", "md", "ini", "cfg", "json", "xml", "toml", "yaml",
    "yml", "lua", "js", "py", "csv", "html", "css", "ttf", "otf", "pdf", "7z", "rar", "log", "bat",
];

/// All containers among the base's own files. What can't be opened is none. A file is opened once: what is in it is noted, and
/// known as long as it has the same size and time.
///
/// # Errors
/// [`LedgerError`], of the catalogue.
pub(in crate::jobs) fn game_containers(ledger: &Ledger) -> Result<Vec<ContainerSeen>, LedgerError> {
    let (site, game, catalogue) = (ledger.site(), ledger.game(), &ledger.catalogue);
    let mut found = Vec::new();
    for root in &game.roots {
        let known = catalogue.container_lists(root.id)?;
        let may_be = |file: &BaseFile| {
            let name = file.spelled.name().to_lowercase();
            let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
            file.kind == BaseKind::File && file.size_bytes >= 22 && !OF_OTHER_KINDS.contains(&ending)
        };
        let mut wanted = Vec::new();
        for (key, file) in catalogue.base_of(root.id)?.into_iter().filter(|(_, file)| may_be(file)) {
            let is_as_known = |list: &&ContainerList| {
                (list.size_bytes, list.modified_ns) == (file.size_bytes, file.modified_ns)
            };
            match known.get(key.as_str()).filter(is_as_known) {
                Some(list) => {
                    let address = Address { root: root.name.clone(), path: file.spelled };
                    let members = list.members.as_deref().map(unpacked);
                    found.extend(members.map(|members| ContainerSeen { address, members }));
                }
                None => {
                    let aside = catalogue.known_path(root.id, &key)?;
                    wanted.push((key, aside.map(|path| site.original(root, path)), file));
                }
            }
        }
        let seen = wanted.into_par_iter().map(|(key, aside, file)| {
            let own = file.spelled.on(&root.folder);
            let opened = aside.iter().chain([&own]).find_map(|path| open_regular(path).ok());
            let stamp = opened.as_ref().and_then(|opened| opened.metadata().ok());
            let is_base = stamp.map(|stamp| Seen::of(&stamp)).is_some_and(|seen| {
                (seen.size_bytes, seen.modified_ns) == (file.size_bytes, file.modified_ns)
            });
            let members = opened.and_then(|opened| members_of(opened, game.folding));
            let list = ContainerList {
                size_bytes: file.size_bytes,
                modified_ns: file.modified_ns,
                members: members.as_deref().map(packed),
            };
            let address = Address { root: root.name.clone(), path: file.spelled };
            (members.map(|members| ContainerSeen { address, members }), is_base.then_some((key, list)))
        });
        let (seen, new): (Vec<_>, Vec<_>) = seen.unzip();
        found.extend(seen.into_iter().flatten());
        let new: Vec<(FoldedKey, ContainerList)> = new.into_iter().flatten().collect();
        if !new.is_empty() {
            // Where nothing can be written they are opened again the next time.
            let _ = catalogue.note_container_lists(root.id, &new);
        }
    }
    found.sort_by(|one, two| one.address.cmp(&two.address));
    Ok(found)
}

/// The paths in a file, if it is a container.
fn members_of(file: File, folding: Folding) -> Option<Vec<RelPath>> {
    let mut opened = ArchiveFile::from_file(file).ok()?;
    let directory = Directory::read(&mut opened, folding).ok()?;
    let files = directory.members.into_iter().filter(|member| !member.is_folder);
    Some(files.map(|member| member.path).collect())
}

fn packed(members: &[RelPath]) -> Vec<u8> {
    let lines: Vec<&str> = members.iter().map(RelPath::as_str).collect();
    let mut deflated = Vec::new();
    // Nothing fails in memory.
    let _ = DeflateEncoder::new(lines.join("\0").as_bytes(), Compression::fast()).read_to_end(&mut deflated);
    deflated
}

fn unpacked(deflated: &[u8]) -> Vec<RelPath> {
    let mut text = String::new();
    // What is damaged is less than there is, and only costs a proposal.
    let _ = DeflateDecoder::new(deflated).read_to_string(&mut text);
    text.split('\0').filter(|path| !path.is_empty()).map(RelPath::from_disk).collect()
}
