//! The one gate through which every package's list of members goes, whatever it was read from.

use std::collections::{BTreeMap, HashMap};

use super::{LimitBroken, Limits, PackageError};
use crate::address::{FoldedKey, Folding, NameProblem, RelPath};
use crate::members::{Folder, Member};

/// What a reader found under one name, before anything was judged.
#[derive(Debug, Clone)]
pub(super) struct RawMember {
    /// The name as read, or why it can't be text, with a readable stand-in.
    pub name: Result<String, (String, NameProblem)>,
    /// Whether `\` separates in this kind of package, as `/` does.
    pub backslash_separates: bool,
    pub kind: RawKind,
    pub modified: i64,
    pub executable: Option<bool>,
    /// The reader's own number of the member.
    pub source: usize,
}

#[derive(Debug, Clone)]
pub(super) enum RawKind {
    File {
        size_bytes: u64,
    },
    Folder,
    /// A symbolic link, whose target counts from the folder it lies in.
    Link {
        target: String,
    },
    /// A second name of another member, whose target counts from the package's top.
    HardLink {
        target: String,
    },
}

impl RawMember {
    /// The name, or its readable stand-in.
    pub(super) fn shown_name(&self) -> &str {
        match &self.name {
            Ok(name) | Err((name, _)) => name,
        }
    }

    /// Whether it is the package's top folder itself, which says nothing: some tools list it.
    pub(super) fn is_top(&self) -> bool {
        matches!(self.kind, RawKind::Folder) && matches!(self.shown_name(), "" | "." | "./" | ".\\")
    }
}

/// A link of a package that leads to nothing inside it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkOut {
    /// The link.
    pub path: RelPath,
    /// Where it leads, as written.
    pub target: String,
}

impl LinkOut {
    /// Where the link would lead from `at`, below the same folder; nothing where that is left.
    pub fn leads_to(&self, at: &RelPath) -> Option<RelPath> {
        target_of(&Link { path: at.clone(), target: self.target.clone(), from_top: false })
    }
}

/// Everything in a package: files, folders, and links that lead elsewhere.
#[derive(Debug, Clone, Default)]
pub(super) struct Listing {
    pub members: Vec<Member>,
    pub folders: Vec<Folder>,
    pub links_out: Vec<LinkOut>,
}

const MOST_LINK_HOPS: usize = 16;

/// A link before it is known where it leads.
#[derive(Debug, Clone)]
struct Link {
    path: RelPath,
    target: String,
    /// Whether the target counts from the package's top.
    from_top: bool,
}

/// Judges names, finds clashes, spells every folder in one way and turns links into copies.
///
/// What links multiply is held against the limits before it is made.
pub(super) fn build(package: &str, raw: Vec<RawMember>, limits: &Limits) -> Result<Listing, PackageError> {
    let mut gate = Gate::new(package);
    gate.listing.members.reserve_exact(raw.len());
    let mut links = Vec::new();
    for member in raw.into_iter().filter(|member| !member.is_top()) {
        let path = judge_name(package, &member)?;
        match member.kind {
            RawKind::Folder => gate.add_folder(&path)?,
            RawKind::File { size_bytes } => gate.add_file(Member {
                path,
                size_bytes,
                modified: member.modified.div_euclid(2) * 2,
                executable: member.executable,
                copy_of: None,
                inner: None,
                content: member.source,
            })?,
            RawKind::Link { target } => {
                links.push(Link { path: gate.claim_file(&path, None)?, target, from_top: false });
            }
            RawKind::HardLink { target } => {
                links.push(Link { path: gate.claim_file(&path, None)?, target, from_top: true });
            }
        }
    }
    resolve_links(&mut gate, links, limits)?;
    Ok(gate.listing)
}

/// Holds one name against the rules.
pub(super) fn judge_name(package: &str, member: &RawMember) -> Result<RelPath, PackageError> {
    let refuse = |name: &str, problem: NameProblem| PackageError::HostileName {
        package: package.to_owned(),
        name: name.to_owned(),
        problem,
    };
    let name = match &member.name {
        Ok(name) => name,
        Err((shown, problem)) => return Err(refuse(shown, problem.clone())),
    };
    let is_archive = member.backslash_separates;
    let separators: &[char] = if is_archive { &['/', '\\'] } else { &['/'] };
    let is_folder = matches!(member.kind, RawKind::Folder);
    let trimmed = if is_folder { name.strip_suffix(separators).unwrap_or(name) } else { name };
    // Some tools begin every name of an archive with `./`.
    let trimmed = trimmed.strip_prefix("./").filter(|_| is_archive).unwrap_or(trimmed);
    let parsed = if is_archive { RelPath::parse(trimmed) } else { RelPath::parse_slashes_only(trimmed) };
    parsed.map_err(|problem| refuse(name, problem))
}

enum NameTaken {
    Folder(RelPath),
    File(RelPath, Option<usize>),
}

struct Gate<'a> {
    package: &'a str,
    taken: foldhash::HashMap<FoldedKey, NameTaken>,
    /// The folder that was spelled last, as it came and as it is spelled: most files come in rows of one folder.
    last_folder: Option<(RelPath, RelPath)>,
    listing: Listing,
}

impl<'a> Gate<'a> {
    fn new(package: &'a str) -> Self {
        Self { package, taken: foldhash::HashMap::default(), last_folder: None, listing: Listing::default() }
    }

    /// The path with each of its folders spelled as first seen; notes folders not seen before.
    fn spell(&mut self, path: &RelPath) -> Result<RelPath, PackageError> {
        let Some(cut) = path.as_str().rfind('/') else { return Ok(path.clone()) };
        let spelled = match &self.last_folder {
            Some((last, spelled)) if last.as_str() == &path.as_str()[..cut] => spelled.clone(),
            _ => {
                let folder = path.parent();
                self.add_folder(&folder)?;
                let spelled = match self.taken.get(&Folding::Folded.key(folder.as_str())) {
                    Some(NameTaken::Folder(spelled)) => spelled.clone(),
                    _ => folder.clone(),
                };
                self.last_folder = Some((folder, spelled.clone()));
                spelled
            }
        };
        Ok(path.spelled_in(&spelled))
    }

    fn add_folder(&mut self, path: &RelPath) -> Result<(), PackageError> {
        let key = Folding::Folded.key(path.as_str());
        match self.taken.get(&key) {
            Some(NameTaken::Folder(_)) => Ok(()),
            Some(NameTaken::File(file, _)) => Err(self.file_against_folder(file, path)),
            None => {
                let spelled = self.spell(path)?;
                self.listing.folders.push(Folder { path: spelled.clone(), inner: None });
                self.taken.insert(key, NameTaken::Folder(spelled));
                Ok(())
            }
        }
    }

    /// Takes the name for a file, or for a link if it has no number yet, and gives it as it is spelled.
    fn claim_file(&mut self, path: &RelPath, number: Option<usize>) -> Result<RelPath, PackageError> {
        let key = Folding::Folded.key(path.as_str());
        match self.taken.get(&key) {
            Some(NameTaken::Folder(folder)) => return Err(self.file_against_folder(path, folder)),
            Some(NameTaken::File(other, _)) => {
                return Err(PackageError::Duplicate {
                    package: self.package.to_owned(),
                    first: other.clone(),
                    second: path.clone(),
                });
            }
            None => {}
        }
        let spelled = self.spell(path)?;
        self.taken.insert(key, NameTaken::File(spelled.clone(), number));
        Ok(spelled)
    }

    fn add_file(&mut self, mut member: Member) -> Result<(), PackageError> {
        member.path = self.claim_file(&member.path, Some(self.listing.members.len()))?;
        self.listing.members.push(member);
        Ok(())
    }

    fn file_against_folder(&self, file: &RelPath, folder: &RelPath) -> PackageError {
        PackageError::FileAgainstFolder {
            package: self.package.to_owned(),
            file: file.clone(),
            folder: folder.clone(),
        }
    }
}

/// Turns each link that leads to a member into a copy of that member, or of a folder's members.
fn resolve_links(gate: &mut Gate<'_>, links: Vec<Link>, limits: &Limits) -> Result<(), PackageError> {
    if links.is_empty() {
        return Ok(());
    }
    let mut copies = Copies::new(&gate.listing, limits);
    let by_key: HashMap<FoldedKey, Link> =
        links.iter().map(|link| (Folding::Folded.key(link.path.as_str()), link.clone())).collect();
    for link in links {
        let out = LinkOut { path: link.path.clone(), target: link.target.clone() };
        let Some(target) = final_target(&by_key, &link) else {
            gate.listing.links_out.push(out);
            continue;
        };
        let key = Folding::Folded.key(target.as_str());
        match gate.taken.get(&key) {
            Some(NameTaken::File(_, Some(index))) => {
                let copy = Member {
                    path: link.path.clone(),
                    copy_of: Some(target),
                    ..gate.listing.members[*index].clone()
                };
                copies.come(gate.package, &[copy.size_bytes])?;
                copies.note(&copy.path, gate.listing.members.len());
                gate.listing.members.push(copy);
            }
            Some(NameTaken::Folder(folder)) if link.path.below(folder).is_none() => {
                let folder = folder.clone();
                gate.taken.remove(&Folding::Folded.key(link.path.as_str()));
                copy_folder(gate, &mut copies, &folder, &link.path)?;
            }
            _ => gate.listing.links_out.push(out),
        }
    }
    Ok(())
}

fn copy_folder(
    gate: &mut Gate<'_>,
    copies: &mut Copies<'_>,
    folder: &RelPath,
    to: &RelPath,
) -> Result<(), PackageError> {
    gate.add_folder(to)?;
    let below = copies.below(folder);
    let sizes: Vec<u64> = below.iter().map(|index| gate.listing.members[*index].size_bytes).collect();
    copies.come(gate.package, &sizes)?;
    for index in below {
        let member = &gate.listing.members[index];
        let Some(rest) = member.path.below(folder) else { continue };
        let copy = Member { path: to.join(&rest), copy_of: Some(member.path.clone()), ..member.clone() };
        copies.note(&copy.path, gate.listing.members.len());
        gate.add_file(copy)?;
    }
    Ok(())
}

/// All files by their paths, and how many there may be: links to folders that hold links multiply.
struct Copies<'a> {
    limits: &'a Limits,
    /// In order, so that those of one folder lie together; their numbers.
    by_path: BTreeMap<String, usize>,
    files: u64,
    bytes: u64,
    copies: u64,
}

impl<'a> Copies<'a> {
    fn new(listing: &Listing, limits: &'a Limits) -> Self {
        let mut copies = Self { limits, by_path: BTreeMap::new(), files: 0, bytes: 0, copies: 0 };
        for (index, member) in listing.members.iter().enumerate() {
            copies.note(&member.path, index);
            copies.bytes = copies.bytes.saturating_add(member.size_bytes);
        }
        copies.files = (listing.members.len() + listing.folders.len()) as u64;
        copies
    }

    fn note(&mut self, path: &RelPath, index: usize) {
        self.by_path.insert(path.as_str().to_owned(), index);
    }

    /// The files below a folder.
    fn below(&self, folder: &RelPath) -> Vec<usize> {
        let (from, until) = (format!("{}/", folder.as_str()), format!("{}0", folder.as_str()));
        self.by_path.range(from..until).map(|(_, index)| *index).collect()
    }

    /// Refuses copies that would be too many.
    fn come(&mut self, package: &str, sizes: &[u64]) -> Result<(), PackageError> {
        let over = |limit| PackageError::OverLimit { package: package.to_owned(), limit };
        self.copies += sizes.len() as u64;
        self.bytes = sizes.iter().fold(self.bytes, |bytes, size| bytes.saturating_add(*size));
        let limit = self.limits.most_files / Limits::FILES_A_COPY;
        if self.copies > limit {
            return Err(over(LimitBroken::Copies { found: self.copies, limit }));
        }
        self.limits.check(self.files + self.copies, self.bytes, u64::MAX).map_err(over)
    }
}

/// Follows a chain of links; `None` when it leaves the package or never ends.
fn final_target(links: &HashMap<FoldedKey, Link>, link: &Link) -> Option<RelPath> {
    let mut link = link;
    for _ in 0..MOST_LINK_HOPS {
        let at = target_of(link)?;
        match links.get(&Folding::Folded.key(at.as_str())) {
            Some(next) => link = next,
            None => return Some(at),
        }
    }
    None
}

fn target_of(link: &Link) -> Option<RelPath> {
    let target = link.target.replace('\\', "/");
    if target.starts_with('/') || target.contains(':') {
        return None;
    }
    let folder = if link.from_top { RelPath::root() } else { link.path.parent() };
    let mut parts: Vec<String> = folder.parts().map(str::to_owned).collect();
    for part in target.split('/') {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop()?;
            }
            name => parts.push(name.to_owned()),
        }
    }
    (!parts.is_empty()).then(|| RelPath::from_disk(parts.join("/")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn raw(name: &str, kind: RawKind) -> RawMember {
        RawMember {
            name: Ok(name.to_owned()),
            backslash_separates: true,
            kind,
            modified: 101,
            executable: None,
            source: name.len(),
        }
    }
    fn file(name: &str) -> RawMember {
        raw(name, RawKind::File { size_bytes: 1 })
    }
    fn link(name: &str, target: &str) -> RawMember {
        raw(name, RawKind::Link { target: target.to_owned() })
    }
    fn paths(listing: &Listing) -> Vec<&str> {
        listing.members.iter().map(|member| member.path.as_str()).collect()
    }

    #[test]
    fn clashes_are_refused() {
        let clash = |members: Vec<RawMember>| build("p", members, &Limits::default()).unwrap_err();
        assert!(matches!(clash(vec![file("A/b"), file("a/B")]), PackageError::Duplicate { .. }));
        assert!(matches!(clash(vec![file("a\\b"), file("a/b")]), PackageError::Duplicate { .. }));
        assert!(matches!(clash(vec![file("a/b"), file("A")]), PackageError::FileAgainstFolder { .. }));
        assert!(matches!(clash(vec![file("a"), file("a/b/c")]), PackageError::FileAgainstFolder { .. }));
        assert!(matches!(clash(vec![file("x"), file("..\\y")]), PackageError::HostileName { .. }));
        assert!(matches!(clash(vec![raw("nul/", RawKind::Folder)]), PackageError::HostileName { .. }));
    }

    #[test]
    fn one_spelling_for_each_folder() {
        let listing =
            build("p", vec![file("Mods/a"), file("mods\\Sub/b"), file("MODS/sub/c")], &Limits::default())
                .unwrap();
        assert_eq!(paths(&listing), ["Mods/a", "Mods/Sub/b", "Mods/Sub/c"]);
        assert_eq!(listing.folders.len(), 2);
        assert_eq!(listing.members[0].modified, 100, "times are even");
    }

    #[test]
    fn the_top_folder_itself_says_nothing() {
        let top = |name: &str| raw(name, RawKind::Folder);
        let members = vec![top("./"), top("."), top(".\\"), top("./data/"), file("./data/a.txt")];
        let listing = build("p", members, &Limits::default()).unwrap();
        assert_eq!((paths(&listing), listing.folders.len()), (vec!["data/a.txt"], 1));
        for hostile in [file("."), file("./"), top("../"), top("./.")] {
            assert!(build("p", vec![hostile], &Limits::default()).is_err());
        }
    }

    #[test]
    fn links_become_copies_or_are_listed() {
        let listing = build(
            "p",
            vec![
                file("data/real.txt"),
                link("alias.txt", "data/real.txt"),
                link("data/again.txt", "../alias.txt"),
                link("folder", "data"),
                link("out", "../../etc/passwd"),
                link("absolute", "/etc/passwd"),
                link("drive", "c:\\x"),
                link("loop1", "loop2"),
                link("loop2", "loop1"),
                link("data/self", "."),
            ],
            &Limits::default(),
        )
        .unwrap();
        assert_eq!(paths(&listing)[..3], ["data/real.txt", "alias.txt", "data/again.txt"]);
        assert!(paths(&listing).contains(&"folder/real.txt"));
        let out: Vec<_> = listing.links_out.iter().map(|link| link.path.as_str()).collect();
        assert_eq!(out, ["out", "absolute", "drive", "loop1", "loop2", "data/self"]);
    }

    #[test]
    fn links_that_double_are_refused_before_they_are_made() {
        let mut members = vec![file("f0/a"), file("f0/b")];
        for number in 1..64 {
            let (folder, above) = (format!("f{number}"), format!("../f{}", number - 1));
            members.push(link(&format!("{folder}/left"), &above));
            members.push(link(&format!("{folder}/right"), &above));
        }
        assert!(matches!(build("p", members, &Limits::default()), Err(PackageError::OverLimit { .. })));
        let big = vec![
            raw("f/a", RawKind::File { size_bytes: 200 << 30 }),
            link("again", "f"),
            link("alias", "f/a"),
        ];
        assert!(matches!(build("p", big, &Limits::default()), Err(PackageError::OverLimit { .. })));
    }

    proptest! {
        #[test]
        fn what_passes_the_gate_can_lie_in_one_folder(
            names in proptest::collection::vec("[aAbB]([/\\\\][aAbB.]{1,2}){0,3}", 1..6),
        ) {
            let Ok(listing) = build("p", names.iter().map(|name| file(name)).collect(), &Limits::default()) else { return Ok(()) };
            prop_assert_eq!(listing.members.len(), names.len());
            let key = |path: &RelPath| Folding::Folded.key(path.as_str());
            let mut files: Vec<_> = listing.members.iter().map(|member| key(&member.path)).collect();
            let folders: Vec<_> = listing.folders.iter().map(|folder| key(&folder.path)).collect();
            prop_assert!(files.iter().all(|file| !folders.contains(file)), "no file where a folder is");
            files.sort();
            files.dedup();
            prop_assert_eq!(files.len(), names.len(), "no two files of one name");
            for member in &listing.members {
                for folder in member.path.ancestors() {
                    prop_assert!(listing.folders.iter().any(|known| known.path.as_str() == folder), "one spelling");
                }
            }
        }
    }
}
