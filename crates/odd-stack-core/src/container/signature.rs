//! Signatures of containers.

use super::Directory;
use crate::address::RelPath;

/// The members that sign the others (JAR File Specification, "Signed JAR File"): signature files in `META-INF` and the blocks
/// beside them. What they sign may say nothing of it.
pub(crate) fn signature_of(directory: &Directory) -> Vec<RelPath> {
    const BLOCKS: [&str; 3] = ["RSA", "DSA", "EC"];
    let own = |path: &RelPath| {
        let (folder, name) = path.as_str().split_once('/')?;
        let is_there = folder.eq_ignore_ascii_case("META-INF") && !name.contains('/');
        is_there.then(|| name.to_ascii_uppercase())
    };
    let names: Vec<(String, &RelPath)> = directory
        .members
        .iter()
        .filter(|member| !member.is_folder)
        .filter_map(|member| Some((own(&member.path)?, &member.path)))
        .collect();
    if !names.iter().any(|(name, _)| name.ends_with(".SF")) {
        return Vec::new();
    }
    let is_of_it = |name: &str| {
        let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
        ending == "SF" || BLOCKS.contains(&ending) || name.starts_with("SIG-")
    };
    names.into_iter().filter(|(name, _)| is_of_it(name)).map(|(_, path)| path.clone()).collect()
}
