//! Which of two versions is the later one, as modders write them.

use std::cmp::Ordering;

/// One piece of a version, in the order in which pieces rank where two versions part.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Piece {
    /// `alpha`, `beta`, `pre`, `rc` and the like come before what they lead to.
    Before(u8),
    /// Nothing, or a zero: `1.2` is `1.2.0`.
    Nothing,
    /// `1.2b` comes after `1.2` and before `1.2.1`.
    Word(String),
    /// By count of digits, then by digits, so that no number is too big.
    Number(usize, String),
}

/// Compares two versions; a total order in which `v1.2`, `1.2` and `1.02.0` are the same.
pub fn compare_versions(one: &str, two: &str) -> Ordering {
    let (one, two) = (pieces(one), pieces(two));
    let at = |pieces: &[Piece], index: usize| pieces.get(index).cloned().unwrap_or(Piece::Nothing);
    (0..one.len().max(two.len()))
        .map(|index| at(&one, index).cmp(&at(&two, index)))
        .find(|order| order.is_ne())
        .unwrap_or(Ordering::Equal)
}

/// Whether `version` is `wanted` or one beneath it: `8.7` has `8.7.0.1` and `8.7b` beneath it, and no `8.7-rc1`, which comes
/// before it.
pub fn is_beneath(version: &str, wanted: &str) -> bool {
    let (version, wanted) = (pieces(version), pieces(wanted));
    let begins_so =
        wanted.iter().enumerate().all(|(at, piece)| version.get(at).unwrap_or(&Piece::Nothing) == piece);
    let mut rest = version.iter().skip(wanted.len()).skip_while(|piece| **piece == Piece::Nothing);
    begins_so && !wanted.is_empty() && !matches!(rest.next(), Some(Piece::Before(_)))
}

fn pieces(version: &str) -> Vec<Piece> {
    let lower = version.trim().to_lowercase();
    let lower = match lower.strip_prefix('v') {
        Some(rest) if rest.starts_with(|c: char| c.is_ascii_digit()) => rest,
        _ => &lower,
    };
    let mut pieces = Vec::new();
    let mut rest = lower.trim_start_matches(|c: char| !c.is_alphanumeric());
    while let Some(first) = rest.chars().next() {
        let is_number = first.is_ascii_digit();
        let belongs = |c: char| c.is_alphanumeric() && c.is_ascii_digit() == is_number;
        let end = rest.find(|c| !belongs(c)).unwrap_or(rest.len());
        let text = &rest[..end];
        pieces.push(if is_number { number(text) } else { word(text) });
        rest = rest[end..].trim_start_matches(|c: char| !c.is_alphanumeric());
    }
    pieces
}

fn number(digits: &str) -> Piece {
    match digits.trim_start_matches('0') {
        "" => Piece::Nothing,
        digits => Piece::Number(digits.len(), digits.to_owned()),
    }
}

fn word(text: &str) -> Piece {
    const BEFORE: [&[&str]; 5] = [&["dev", "nightly"], &["alpha"], &["beta"], &["pre", "preview"], &["rc"]];
    match BEFORE.iter().position(|words| words.contains(&text)) {
        Some(rank) => Piece::Before(u8::try_from(rank).unwrap_or(0)),
        None => Piece::Word(text.to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn versions_as_modders_write_them() {
        let rising = [
            "0.7.7-dev",
            "0.7.7-alpha2",
            "0.7.7-beta",
            "0.7.7-pre13",
            "0.7.7-rc1",
            "0.7.7",
            "0.7.7a",
            "0.7.7b",
            "0.7.7.1",
            "v0.8",
            "0.10",
            "1",
            "1.2",
            "1.2b",
            "1.2.1",
            "2024-05-01",
            "20240502",
        ];
        for (at, lower) in rising.iter().enumerate() {
            for higher in &rising[at + 1..] {
                assert_eq!(compare_versions(lower, higher), Ordering::Less, "{lower} {higher}");
            }
        }
        for (one, two) in [("1.2", "v1.2.0"), ("08", "8"), ("1.2 B", "1.2b"), ("2024.05.01", "2024-5-1")] {
            assert_eq!(compare_versions(one, two), Ordering::Equal, "{one} {two}");
        }
    }

    proptest! {
        #[test]
        fn it_is_a_total_order(
            versions in proptest::collection::vec("[vV]?[0-3]{1,2}([._+ -]?([0-2]{1,2}|b|pre|rc|dev|build)){0,4}", 3)
        ) {
            let [a, b, c] = &versions[..] else { unreachable!() };
            prop_assert_eq!(compare_versions(a, b), compare_versions(b, a).reverse());
            prop_assert_eq!(compare_versions(a, a), Ordering::Equal);
            if compare_versions(a, b).is_le() && compare_versions(b, c).is_le() {
                prop_assert!(compare_versions(a, c).is_le());
            }
            prop_assert!(is_beneath(a, a));
            if is_beneath(a, b) {
                prop_assert!(compare_versions(a, b).is_ge(), "what is beneath does not come before");
                prop_assert!(!is_beneath(b, c) || is_beneath(a, c));
            }
        }
    }
}
