//! What becomes of one place in a second folder, by what is wanted there, what is known of it and what lies there.

use crate::hash::ContentHash;

/// What a file is made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Origin {
    pub hash: Option<ContentHash>,
    pub size_bytes: u64,
    /// The time of what it is made of, in nanoseconds since 1970.
    pub modified_ns: i64,
}

impl Origin {
    /// Whether both are of the same content, as far as is known.
    pub(super) fn is_as(&self, other: &Self) -> bool {
        match (self.hash, other.hash) {
            (Some(one), Some(two)) => one == two,
            _ => (self.size_bytes, self.modified_ns) == (other.size_bytes, other.modified_ns),
        }
    }
}

/// What is known of a place: what was put there, or was to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Known {
    pub origin: Origin,
    /// What lies there now is that, as far as a look tells.
    pub lies_there: bool,
    /// A build was cut short, so that it may not be whole.
    pub is_planned: bool,
}

/// What becomes of a place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Verdict {
    /// It is as it should be.
    Stays,
    /// It may be as it should be: its content tells, and it is put anew where that is another.
    Read,
    /// The file is put where nothing lies.
    Put,
    /// The file takes the place of what was put before.
    Replace,
    /// What was put before goes.
    Remove,
    /// Somebody changed it, and there is nothing new for it.
    EditStays,
    /// Somebody changed it, and something new is to lie there, or nothing.
    EditInTheWay,
}

/// Judges one place. `wanted` is what should lie there; `lies` whether anything does.
pub(super) fn judge(wanted: Option<Origin>, known: &[Known], lies: bool) -> Verdict {
    let Some(wanted) = wanted else {
        return match known.iter().any(|known| known.lies_there) {
            _ if !lies => Verdict::Stays,
            true => Verdict::Remove,
            false => Verdict::EditInTheWay,
        };
    };
    if !lies {
        return Verdict::Put;
    }
    match known.iter().find(|known| known.lies_there) {
        Some(there) if there.origin.is_as(&wanted) && !there.is_planned => Verdict::Stays,
        Some(there) if there.origin.is_as(&wanted) => Verdict::Read,
        Some(_) => Verdict::Replace,
        None if known.iter().any(|known| !known.is_planned && known.origin.is_as(&wanted)) => {
            Verdict::EditStays
        }
        None => Verdict::EditInTheWay,
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn origin() -> impl Strategy<Value = Origin> {
        (0..3u8, 0..2u64, 0..2i64).prop_map(|(hash, size_bytes, modified_ns)| Origin {
            hash: (hash > 0).then(|| ContentHash::of(&[hash])),
            size_bytes,
            modified_ns,
        })
    }

    fn known() -> impl Strategy<Value = Known> {
        let of = |(origin, lies_there, is_planned)| Known { origin, lies_there, is_planned };
        (origin(), any::<bool>(), any::<bool>()).prop_map(of)
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]
        #[test]
        fn nothing_that_somebody_changed_is_thrown_away_and_what_is_wanted_comes(
            wanted in proptest::option::of(origin()),
            known in proptest::collection::vec(known(), 0..3),
            lies in any::<bool>(),
        ) {
            let verdict = judge(wanted, &known, lies);
            let is_ours = known.iter().any(|known| known.lies_there);
            if lies && !is_ours {
                prop_assert!(matches!(verdict, Verdict::EditStays | Verdict::EditInTheWay));
            }
            if matches!(verdict, Verdict::Replace | Verdict::Remove) {
                prop_assert!(lies && is_ours);
            }
            prop_assert_eq!(verdict == Verdict::Put, wanted.is_some() && !lies);
            if let (Verdict::Stays, Some(wanted)) = (verdict, wanted) {
                prop_assert!(known.iter().any(|known| known.lies_there && known.origin.is_as(&wanted)));
            }
        }
    }
}
