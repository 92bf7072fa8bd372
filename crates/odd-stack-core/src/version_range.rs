//! Ranges of versions, as fit sheets and options write them.

use std::cmp::Ordering;

use crate::compare_versions;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Comparison {
    Is,
    IsNot,
    Less,
    AtMost,
    More,
    AtLeast,
    /// `1.7.*`
    Begins,
}

/// Versions that something goes with: `>=1.7 <1.8`, `17.1`, `1.7.*`, `<2 | 3.1`. What stands beside each other must
/// all hold; of what a bar parts one must. Nothing, or `*`, is any version.
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
                format!("`{word}` in `{text}` is no range of versions, such as `>=1.7 <1.8`")
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
                Comparison::Is => order == Ordering::Equal,
                Comparison::IsNot => order != Ordering::Equal,
                Comparison::Less => order == Ordering::Less,
                Comparison::AtMost => order != Ordering::Greater,
                Comparison::More => order == Ordering::Greater,
                Comparison::AtLeast => order != Ordering::Less,
                Comparison::Begins => begins(version, wanted),
            }
        };
        self.ways.is_empty() || self.ways.iter().any(|way| way.iter().all(holds))
    }
}

/// Whether the numbers of `wanted` are the first ones of `version`.
fn begins(version: &str, wanted: &str) -> bool {
    let version = version.trim().trim_start_matches(['v', 'V']);
    let cuts = version.match_indices(|c: char| !c.is_alphanumeric()).map(|(at, _)| at);
    cuts.chain([version.len()]).any(|end| compare_versions(&version[..end], wanted) == Ordering::Equal)
}

fn parse_way(text: &str) -> Result<Vec<(Comparison, String)>, String> {
    // A sign may stand apart from its version.
    let mut words: Vec<String> = Vec::new();
    for word in text.split([' ', '\t', ',']).filter(|word| !word.is_empty()) {
        match words.last_mut().filter(|last| last.chars().all(|c| SIGNS.contains(&c))) {
            Some(sign) => sign.push_str(word),
            None => words.push(word.to_owned()),
        }
    }
    if words.is_empty() {
        return Err(text.trim().to_owned());
    }
    let parse_word = |word: String| {
        let signs = word.find(|c| !SIGNS.contains(&c)).unwrap_or(word.len());
        let (sign, version) = word.split_at(signs);
        let comparison = match sign {
            "" | "=" | "==" => Comparison::Is,
            "!=" => Comparison::IsNot,
            "<" => Comparison::Less,
            "<=" => Comparison::AtMost,
            ">" => Comparison::More,
            ">=" => Comparison::AtLeast,
            _ => return Err(word.clone()),
        };
        let (comparison, version) = match version.strip_suffix(".*") {
            Some(start) if comparison == Comparison::Is => (Comparison::Begins, start),
            _ => (comparison, version),
        };
        let is_version = version.starts_with(|c: char| c.is_alphanumeric())
            && version.contains(|c: char| c.is_ascii_digit())
            && version.chars().all(|c| c.is_alphanumeric() || matches!(c, '.' | '-' | '_' | '+'));
        if is_version { Ok((comparison, version.to_owned())) } else { Err(word.clone()) }
    };
    words.into_iter().map(parse_word).collect()
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
            ("=17.1", "17.1b", false),
            ("!=2", "2.0", false),
            ("1.7.*", "1.7", true),
            ("1.7.*", "1.70", false),
            ("1.7.*", "v1.7.12-beta", true),
            ("<2 | 3.1", "3.1", true),
            ("<2 | 3.1", "2.5", false),
            ("<1.0", "1.0-rc2", true),
            ("*", "anything", true),
            ("", "0", true),
        ];
        for (range, version, holds) in cases {
            assert_eq!(VersionRange::parse(range).unwrap().contains(version), holds, "{range} {version}");
        }
        for bad in ["=>1", "newer than 1", ">=", "1.7 -", "<1 |", "~1.7"] {
            assert!(VersionRange::parse(bad).is_err(), "{bad}");
        }
        assert_eq!(cut_name_and_range("Harbour Core >=2 <3"), ("Harbour Core", ">=2 <3"));
        assert_eq!(cut_name_and_range("Harbour 2"), ("Harbour 2", ""));
    }
}
