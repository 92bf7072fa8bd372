//! Ranges of versions, as fit sheets and options write them.

use std::cmp::Ordering;

use crate::version::is_one_version;
use crate::version_order::{compare_versions, is_beneath};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Comparison {
    /// It, or anything beneath it: `8.7` is 8.7.0.1, too.
    Is,
    IsNot,
    Less,
    AtMost,
    More,
    AtLeast,
}

/// Versions that something goes with: `>=1.7 <1.8`, `17.1`, `1.7.*`, `8.7+`, `<2 | 3.1`. What stands beside each other
/// must all hold; of what a bar parts one must. Nothing, or `*`, is any version.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct VersionRange {
    /// One of these must hold in all its parts; none at all is any version.
    ways: Vec<Vec<(Comparison, String)>>,
}

const SIGNS: [char; 4] = ['<', '>', '=', '!'];

impl VersionRange {
    /// Reads a range.
    ///
    /// # Errors
    /// What can't be read in it.
    pub fn parse(text: &str) -> Result<Self, String> {
        if matches!(text.trim(), "" | "*") {
            return Ok(Self::default());
        }
        let ways = text.split('|').map(parse_way).collect::<Result<Vec<_>, _>>();
        Ok(Self {
            ways: ways.map_err(|word| {
                format!(
                    "`{word}` in `{text}` is no range of versions, such as `>=1.7 <1.8`, `1.7`, `1.7+` or `1.7.*`"
                )
            })?,
        })
    }

    /// Whether it says nothing.
    pub fn is_any(&self) -> bool {
        self.ways.is_empty()
    }

    /// Whether `version` lies in it.
    pub fn contains(&self, version: &str) -> bool {
        let holds = |(comparison, wanted): &(Comparison, String)| {
            let order = compare_versions(version, wanted);
            match comparison {
                Comparison::Is => is_beneath(version, wanted),
                Comparison::IsNot => !is_beneath(version, wanted),
                Comparison::Less => order == Ordering::Less,
                Comparison::AtMost => order == Ordering::Less || is_beneath(version, wanted),
                Comparison::More => order == Ordering::Greater,
                Comparison::AtLeast => order != Ordering::Less,
            }
        };
        self.ways.is_empty() || self.ways.iter().any(|way| way.iter().all(holds))
    }

    /// The number that may be meant for another part of `version` than the first: `3258` beside `1.0.3258.0`. Whether
    /// such a version lies in the range is doubtful.
    pub fn doubt(&self, version: &str) -> Option<&str> {
        let numbers: Vec<u64> =
            version.split(|c: char| !c.is_ascii_digit()).filter_map(|number| number.parse().ok()).collect();
        let (first, rest) = numbers.split_first()?;
        let is_of_the_rest = |wanted: &u64| {
            *wanted >= BUILDS_FROM && *first < BUILDS_FROM && rest.iter().any(|number| *number >= BUILDS_FROM)
        };
        let wanted = self.ways.iter().flatten().map(|(_, wanted)| wanted.as_str());
        wanted.into_iter().find(|wanted| wanted.parse().is_ok_and(|wanted| is_of_the_rest(&wanted)))
    }
}

/// Numbers from which one may count builds, and no releases.
const BUILDS_FROM: u64 = 100;

fn parse_way(text: &str) -> Result<Vec<(Comparison, String)>, String> {
    // A sign may stand apart from its version.
    let mut words: Vec<String> = Vec::new();
    for word in text.split([' ', '\t', ',']).filter(|word| !word.is_empty()) {
        match words.last_mut() {
            Some(last) if word == "+" || last.chars().all(|c| SIGNS.contains(&c)) => last.push_str(word),
            _ => words.push(word.to_owned()),
        }
    }
    if words.is_empty() {
        return Err(text.trim().to_owned());
    }
    words.into_iter().map(|word| parse_word(&word).ok_or(word)).collect()
}

fn parse_word(word: &str) -> Option<(Comparison, String)> {
    let signs = word.find(|c| !SIGNS.contains(&c)).unwrap_or(word.len());
    let (sign, version) = word.split_at(signs);
    let comparison = match sign {
        "" | "=" | "==" => Comparison::Is,
        "!=" => Comparison::IsNot,
        "<" => Comparison::Less,
        "<=" => Comparison::AtMost,
        ">" => Comparison::More,
        ">=" => Comparison::AtLeast,
        _ => return None,
    };
    let (comparison, version) = match (version.strip_suffix('+'), comparison) {
        (Some(version), Comparison::AtLeast) => (Comparison::AtLeast, version),
        (Some(version), Comparison::Is) if sign.is_empty() => (Comparison::AtLeast, version),
        (Some(_), _) => return None,
        (None, comparison) => (comparison, version),
    };
    let any_beneath = [".*", ".x", ".X"].iter().find_map(|end| version.strip_suffix(end));
    let version = match any_beneath {
        Some(start) if matches!(comparison, Comparison::Is | Comparison::IsNot) => start,
        Some(_) => return None,
        None => version,
    };
    is_one_version(version).then(|| (comparison, version.to_owned()))
}

/// Cuts `Harbour Core >=2 <3` into the name and the range, which may be empty.
pub fn cut_name_and_range(text: &str) -> (&str, &str) {
    let cut = text.find(SIGNS).unwrap_or(text.len());
    (text[..cut].trim(), text[cut..].trim())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_as_people_write_them() {
        let cases = [
            (">=1.7 <1.8", "1.7.3", true),
            (">=1.7 <1.8", "1.8", false),
            (">= 1.7, < 1.8", "v1.7", true),
            ("17.1", "17.1.0", true),
            ("17.1", "17.1.0.4", true),
            ("17.1", "17.10", false),
            ("17.1", "17", false),
            ("17.1", "17.2", false),
            ("17.1", "17.1-rc2", false),
            ("8.7", "8.7.0.1", true),
            ("=8.7", "8.7.0.1", true),
            ("==8.7", "8.7.12", true),
            ("8.7.0", "8.7.1", false),
            ("8.7.0", "8.7", true),
            ("8", "8.7.0.1", true),
            ("0", "1.0", false),
            ("=17.1", "17.1b", true),
            ("17.1b", "17.1", false),
            ("2_0_10", "2.0.10", true),
            ("2.0", "2_0_10", true),
            ("!=2", "2.0", false),
            ("!=2", "2.0.1", false),
            ("!=2", "3", true),
            ("<=8.7", "8.7.0.1", true),
            ("<=8.7", "8.8", false),
            ("<=8.7", "8.6.9", true),
            (">8.7", "8.7", false),
            (">8.7", "8.7.1", true),
            ("8.7+", "8.7", true),
            ("8.7+", "9", true),
            ("8.7+", "8.6.9", false),
            ("8.7 +", "8.8", true),
            (">=8.7+", "8.8", true),
            (">=8.7", "8.8", true),
            ("8.7+ <9", "9.1", false),
            ("1.7.*", "1.7", true),
            ("1.7.*", "1.70", false),
            ("1.7.x", "1.7.12", true),
            ("1.7.*", "v1.7.12-beta", true),
            ("!=1.7.*", "1.7.12", false),
            ("<2 | 3.1", "3.1", true),
            ("<2 | 3.1", "2.5", false),
            ("<1.0", "1.0-rc2", true),
            ("4.3.0-dev.11", "4.3.0-dev.11", true),
            ("4.3.0-dev.11", "4.3.0-dev.12", false),
            (">=4.3.0-dev.9", "4.3.0-dev.11", true),
            (">=4.3", "4.3.0-dev.11", false),
            ("2024-05-01", "2024.5.1", true),
            (">2024-05-01", "2024-06-01", true),
            ("r12", "r12", true),
            ("*", "anything", true),
            ("", "0", true),
        ];
        for (range, version, holds) in cases {
            assert_eq!(VersionRange::parse(range).unwrap().contains(version), holds, "{range} {version}");
        }
        for bad in [
            "=>1",
            "newer than 1",
            ">=",
            "1.7 -",
            "<1 |",
            "~1.7",
            "^1.7",
            "1.7-1.9",
            "1.7 to 1.9",
            "1.7 - 1.9",
            "<8.7+",
            "!=8.7+",
            ">=1.7.*",
            "+",
            "latest",
            "1.7?",
            "1..7",
            "1.7.",
            "*.7",
            "1.7 or later",
            "any",
        ] {
            assert!(VersionRange::parse(bad).is_err(), "{bad}");
        }
        assert_eq!(cut_name_and_range("Harbour Core >=2 <3"), ("Harbour Core", ">=2 <3"));
        assert_eq!(cut_name_and_range("Harbour 2"), ("Harbour 2", ""));
    }

    #[test]
    fn a_build_beside_a_whole_version_is_doubtful() {
        let doubt = |range: &str, version: &str| {
            VersionRange::parse(range).unwrap().doubt(version).map(str::to_owned)
        };
        assert_eq!(doubt("<3258", "1.0.3258.0").as_deref(), Some("3258"));
        assert_eq!(doubt(">=1.0 <3258", "1.0.3257.0").as_deref(), Some("3258"));
        assert_eq!(doubt("<3258", "3200"), None);
        assert_eq!(doubt("<3258", "1.0"), None);
        assert_eq!(doubt("<1.0.3258", "1.0.3257.0"), None);
        assert_eq!(doubt("<3", "1.0.3258"), None);
        assert_eq!(doubt(">=2023", "2024.5.1"), None);
    }
}
