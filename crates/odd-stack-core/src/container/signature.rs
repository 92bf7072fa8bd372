//! Signatures of containers.

use std::collections::BTreeMap;
use std::io::{Read, Seek};

use super::{Directory, Packed, open_member};
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

/// Folders at the top that look like a signature nobody has specified: a few small files, one of which names many of the
/// other members, with a digest for each.
pub(crate) fn like_signatures(file: &(impl Read + Seek + Clone), directory: &Directory) -> Vec<String> {
    const MOST_FILES: usize = 8;
    const MOST_BYTES: u64 = 1 << 20;
    const FEWEST_NAMED: usize = 3;
    let mut tops: BTreeMap<&str, Vec<&Packed>> = BTreeMap::new();
    let files = directory.members.iter().filter(|member| !member.is_folder);
    for member in files.clone() {
        if let Some((top, _)) = member.path.as_str().split_once('/')
            && !top.eq_ignore_ascii_case("META-INF")
        {
            tops.entry(top).or_default().push(member);
        }
    }
    let names = |text: &[u8], top: &str| {
        let text = String::from_utf8_lossy(text);
        let others = files.clone().filter(|other| !other.path.as_str().starts_with(&format!("{top}/")));
        let others: Vec<&str> = others.map(|other| other.path.as_str()).collect();
        let named = others.iter().filter(|other| text.contains(**other)).count();
        named >= FEWEST_NAMED.min(others.len())
            && named * 2 >= others.len().min(64)
            && named > 0
            && digests(&text) >= named.min(others.len().min(64) / 2).max(1)
    };
    let is_like = |(top, members): &(&str, Vec<&Packed>)| {
        let is_small = members.len() <= MOST_FILES && members.iter().all(|it| it.size_bytes <= MOST_BYTES);
        is_small
            && members.iter().any(|member| {
                let mut text = Vec::new();
                let read = open_member(file.clone(), directory, member);
                read.and_then(|mut content| content.read_to_end(&mut text)).is_ok() && names(&text, top)
            })
    };
    tops.into_iter().filter(is_like).map(|(top, _)| top.to_owned()).collect()
}

/// How many words of a text may be digests: 16 bytes or more in hexadecimal digits, or in Base64 with its padding (RFC 4648).
fn digests(text: &str) -> usize {
    let is_digest = |word: &&str| {
        let bare = word.trim_end_matches('=');
        let is_hex = bare.len() >= 32 && bare.bytes().all(|byte| byte.is_ascii_hexdigit());
        is_hex || (bare.len() >= 22 && bare.len() < word.len())
    };
    text.split(|c: char| !c.is_ascii_alphanumeric() && !"+/=".contains(c)).filter(is_digest).count()
}
