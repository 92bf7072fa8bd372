//! The containers of a game, by what is in its files.

use rayon::prelude::*;

use crate::address::{Address, FoldedKey};
use crate::container::Directory;
use crate::files::open_regular;
use crate::fit::ContainerSeen;
use crate::ledger::{Ledger, LedgerError};
use crate::package::ArchiveFile;
use crate::stack::{BaseFile, BaseKind};

/// Endings of files that are of another kind, so that they need not be opened.
const OF_OTHER_KINDS: [&str; 42] = [
    "exe", "dll", "so", "dds", "png", "jpg", "jpeg", "tga", "bmp", "gif", "webp", "ogg", "wav", "mp3",
    "flac", "wem", "bnk", "bik", "mp4", "webm", "txt", "md", "ini", "cfg", "json", "xml", "toml", "yaml",
    "yml", "lua", "js", "py", "csv", "html", "css", "ttf", "otf", "pdf", "7z", "rar", "log", "bat",
];

/// All containers among the base's own files. What can't be opened is none.
///
/// # Errors
/// [`LedgerError`], of the catalogue.
pub(in crate::jobs) fn game_containers(ledger: &Ledger) -> Result<Vec<ContainerSeen>, LedgerError> {
    let (site, game) = (ledger.site(), ledger.game());
    let mut found = Vec::new();
    for root in &game.roots {
        let base: Vec<(FoldedKey, BaseFile)> = ledger.catalogue.base_of(root.id)?;
        let may_be = |file: &BaseFile| {
            let name = file.spelled.name().to_lowercase();
            let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
            file.kind == BaseKind::File && file.size_bytes >= 22 && !OF_OTHER_KINDS.contains(&ending)
        };
        let mut wanted = Vec::new();
        for (key, file) in base.into_iter().filter(|(_, file)| may_be(file)) {
            let aside = ledger.catalogue.known_path(root.id, &key)?.map(|path| site.original(root, path));
            wanted.push((aside, file));
        }
        let seen = wanted.par_iter().filter_map(|(aside, file)| {
            let own = file.spelled.on(&root.folder);
            let opened = aside.iter().chain([&own]).find_map(|path| open_regular(path).ok())?;
            let mut opened = ArchiveFile::from_file(opened).ok()?;
            let directory = Directory::read(&mut opened, game.folding).ok()?;
            let files = directory.members.into_iter().filter(|member| !member.is_folder);
            let members = files.map(|member| member.path).collect();
            let address = Address { root: root.name.clone(), path: file.spelled.clone() };
            Some(ContainerSeen { address, members })
        });
        found.extend(seen.collect::<Vec<_>>());
    }
    Ok(found)
}
