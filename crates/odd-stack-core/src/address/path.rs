//! A path below a root.

use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::name_rules::{self, NameProblem};

/// A path below a root: parts joined by `/`, never absolute, never climbing.
///
/// The empty path is the root itself. Everything except [`RelPath::from_disk`] has passed the name
/// rules, so joining it to a root's folder cannot lead out of that folder. A clone shares the text.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct RelPath(Arc<str>);

/// What follows the last `/`.
pub(crate) fn last_part(path: &str) -> &str {
    path.rfind('/').map_or(path, |cut| &path[cut + 1..])
}

impl RelPath {
    /// The root itself.
    pub fn root() -> Self {
        Self::default()
    }

    /// Takes a path in which both `/` and `\` separate, as packages and people write them.
    ///
    /// # Errors
    /// The first rule that the path breaks.
    pub fn parse(text: &str) -> Result<Self, NameProblem> {
        if text.contains('\\') {
            return Self::parse_slashes_only(&text.replace('\\', "/"));
        }
        Self::parse_slashes_only(text)
    }

    /// Takes a path in which only `/` separates, such as one walked on a disk where a backslash can
    /// be part of a name.
    ///
    /// # Errors
    /// The first rule that the path breaks.
    pub fn parse_slashes_only(text: &str) -> Result<Self, NameProblem> {
        name_rules::check_path(text)?;
        Ok(Self(text.into()))
    }

    /// Makes sure that a path put together of ones that passed the rules is not too long.
    ///
    /// # Errors
    /// [`NameProblem::PathTooLong`].
    pub fn check_length(&self) -> Result<(), NameProblem> {
        name_rules::check_length(&self.0)
    }

    /// Takes the path of something that already lies on disk, and so may have any name.
    ///
    /// Such paths are only ever read, compared and moved within their own root.
    pub fn from_disk(path: impl Into<Arc<str>>) -> Self {
        Self(path.into())
    }

    /// The parts joined by `/`.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    pub(super) fn shared(&self) -> Arc<str> {
        Arc::clone(&self.0)
    }

    /// Whether this is the root itself.
    pub fn is_root(&self) -> bool {
        self.0.is_empty()
    }

    /// The last part.
    pub fn name(&self) -> &str {
        last_part(&self.0)
    }

    /// The folder above; the root's own is the root.
    pub fn parent(&self) -> Self {
        Self(self.0.rfind('/').map(|cut| self.0[..cut].into()).unwrap_or_default())
    }

    /// This path's name in `folder`, another spelling of its own or the same; the text is shared where it is the same.
    #[must_use]
    pub fn spelled_in(&self, folder: &Self) -> Self {
        match self.0.rfind('/').map_or("", |cut| &self.0[..cut]) == folder.as_str() {
            true => self.clone(),
            false => folder.join(&Self::from_disk(self.name())),
        }
    }

    /// All folders above, from the top down, without the root.
    pub fn ancestors(&self) -> impl Iterator<Item = &str> {
        self.0.match_indices('/').map(|(cut, _)| &self.0[..cut])
    }

    /// The parts from the top down.
    pub fn parts(&self) -> impl Iterator<Item = &str> {
        self.0.split('/').filter(|part| !part.is_empty())
    }

    /// This path with `below` beneath it; either may be the root.
    #[must_use]
    pub fn join(&self, below: &Self) -> Self {
        match (self.is_root(), below.is_root()) {
            (true, _) => below.clone(),
            (_, true) => self.clone(),
            _ => Self(format!("{}/{}", self.0, below.0).into()),
        }
    }

    /// What remains beneath `folder`, compared letter by letter, or `None` if it is not inside.
    pub fn below(&self, folder: &Self) -> Option<Self> {
        if folder.is_root() {
            return Some(self.clone());
        }
        let rest = self.0.strip_prefix(folder.as_str())?;
        if rest.is_empty() {
            return Some(Self::root());
        }
        rest.strip_prefix('/').map(|rest| Self(rest.into()))
    }

    /// Where this path lies below `folder` on disk.
    pub fn on(&self, folder: &Path) -> PathBuf {
        let mut path = PathBuf::with_capacity(folder.as_os_str().len() + 1 + self.0.len());
        path.push(folder);
        path.extend(self.parts());
        path
    }
}

impl fmt::Display for RelPath {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn hostile_names_are_refused_with_their_reason() {
        use NameProblem as P;
        let long_name = "n".repeat(256);
        let long_path = vec!["folder"; 200].join("/");
        let cases: [(&str, P); 32] = [
            ("", P::Empty),
            ("..", P::Climbs("..")),
            ("a/../b", P::Climbs("..")),
            ("..\\evil.dll", P::Climbs("..")),
            ("a/./b", P::Climbs(".")),
            ("/etc/passwd", P::Absolute),
            ("\\windows\\x", P::Absolute),
            ("C:/windows", P::Drive),
            ("c:\\windows", P::Drive),
            ("c:file", P::Drive),
            ("//server/share/x", P::Network),
            ("\\\\server\\share", P::Network),
            ("\\\\?\\C:\\x", P::Network),
            ("a//b", P::EmptyPart),
            ("a/", P::EmptyPart),
            ("a\u{7}b", P::Control(7)),
            ("a\nb", P::Control(10)),
            ("a\u{85}b", P::Control(0x85)),
            ("lamp.dds:hidden", P::Stream),
            ("what?.txt", P::Refused('?')),
            ("a/<b>", P::Refused('<')),
            ("CON", P::Device("CON".into())),
            ("data/nul.txt", P::Device("nul.txt".into())),
            ("com1.tar.gz", P::Device("com1.tar.gz".into())),
            ("Lpt\u{b2}", P::Device("Lpt\u{b2}".into())),
            ("aux .txt", P::Device("aux .txt".into())),
            ("conin$", P::Device("conin$".into())),
            ("trail.", P::TrailingDotOrSpace("trail.".into())),
            ("trail /x", P::TrailingDotOrSpace("trail ".into())),
            ("dots...", P::TrailingDotOrSpace("dots...".into())),
            (&long_name, P::NameTooLong),
            (&long_path, P::PathTooLong),
        ];
        for (name, problem) in cases {
            assert_eq!(RelPath::parse(name), Err(problem), "{name:?}");
        }
        for good in ["common/console.txt", "com10.txt", "nullify", ".hidden", "a b/c.d", "Bücher/été"] {
            assert!(RelPath::parse(good).is_ok(), "{good:?}");
        }
        assert_eq!(RelPath::parse_slashes_only("a\\b"), Err(P::Backslash));
    }

    #[test]
    fn parts_and_folders() {
        let path = RelPath::parse("data\\lamps/brass.dds").unwrap();
        assert_eq!(path.as_str(), "data/lamps/brass.dds");
        assert_eq!(path.name(), "brass.dds");
        assert_eq!(path.ancestors().collect::<Vec<_>>(), ["data", "data/lamps"]);
        let data = RelPath::parse("data").unwrap();
        assert_eq!(path.below(&data).unwrap().as_str(), "lamps/brass.dds");
        assert_eq!(RelPath::parse("database/x").unwrap().below(&data), None);
        assert_eq!(data.join(&RelPath::root()), data);
    }

    proptest! {
        #[test]
        fn what_is_accepted_stays_inside(text in "[a-zA-Z0-9./\\\\: ~$*?\u{0}-\u{1f}\u{e9}-]{0,24}") {
            if let Ok(path) = RelPath::parse(&text) {
                let root = Path::new("/games/quillhaven");
                let on_disk = path.on(root);
                prop_assert!(on_disk.starts_with(root) && on_disk != root);
                let below = on_disk.strip_prefix(root).unwrap();
                prop_assert!(below.components().all(|part| matches!(part, std::path::Component::Normal(_))));
                prop_assert_eq!(path.parent().join(&RelPath::from_disk(path.name())), path);
            }
        }
    }
}
