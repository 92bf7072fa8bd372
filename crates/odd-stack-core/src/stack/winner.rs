//! Who supplies the file at an address under an order.

use super::Order;
use super::column::*;

impl Column {
    /// Entries of laid layers, from the bottom to the top, as what was settled here has it.
    pub fn laid(&self, order: &Order) -> Vec<&Entry> {
        let raised = order.raised_at(self);
        let height = |entry: &Entry| match raised {
            Some((layer, above)) if layer == entry.layer => Some((above, 1)),
            _ => Some((order.rank(entry.layer)?, 0)),
        };
        let mut laid: Vec<_> =
            self.entries.iter().filter_map(|entry| Some((height(entry)?, entry))).collect();
        laid.sort_by_key(|(height, _)| *height);
        laid.into_iter().map(|(_, entry)| entry).collect()
    }

    /// The entry that counts, the topmost; of those that blend the topmost too.
    pub fn winner(&self, order: &Order) -> Option<&Entry> {
        match self.entries.as_slice() {
            [only] => order.rank(only.layer).map(|_| only),
            _ => self.laid(order).last().copied(),
        }
    }

    /// Who supplies the file under `order`. Base hashes must be known wherever an entry has the base's size or
    /// may blend, and `blends` must hold what [`Column::recipe`] asks for; without it the topmost file counts.
    pub fn provider(&self, order: &Order) -> Provider<'_> {
        if let ([only], None) = (self.entries.as_slice(), &self.base) {
            // By far the most columns: nothing to compare.
            let is_there = order.rank(only.layer).is_some() && !only.takes_away() && only.kind.is_file();
            return if is_there { Provider::Layer(only) } else { Provider::Nothing };
        }
        if let Some(blend) = self.composed(order).or_else(|| self.blend(order))
            && let Ok(blended) = &blend.outcome
        {
            return Provider::Layer(&blended.entry);
        }
        self.whole_provider(order)
    }

    /// As [`Column::provider`], of whole files alone: without what blends or changes members.
    pub(crate) fn whole_provider(&self, order: &Order) -> Provider<'_> {
        let laid = self.laid(order);
        let files: Vec<&Entry> = laid.into_iter().filter(|entry| entry.kind.is_file()).collect();
        let Some(winner) = files.last() else {
            return self.base.as_deref().map_or(Provider::Nothing, Provider::Base);
        };
        if winner.takes_away() {
            return Provider::Nothing;
        }
        let lowest_alike = files.iter().rev().take_while(|entry| entry.hash == winner.hash).last();
        match (&self.base, lowest_alike) {
            (Some(base), Some(lowest))
                if base.hash == Some(winner.hash)
                    && base.kind == BaseKind::File
                    && files.first() == Some(lowest) =>
            {
                Provider::Base(base)
            }
            (_, lowest) => Provider::Layer(lowest.unwrap_or(winner)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::{LayerId, PathId, RootId};
    use super::*;
    use crate::address::{Folding, RelPath};
    use crate::hash::ContentHash;
    use proptest::prelude::*;

    fn entry(layer: i64, content: &str) -> Entry {
        Entry {
            layer: LayerId(layer),
            kind: EntryKind::File,
            spelled: RelPath::parse("a").unwrap(),
            hash: ContentHash::of(content.as_bytes()),
            size_bytes: content.len() as u64,
            modified: 0,
            executable: None,
        }
    }

    fn column(base: Option<&str>, entries: Vec<Entry>) -> Column {
        let base = base.map(|content| BaseFile {
            spelled: RelPath::parse("a").unwrap(),
            kind: BaseKind::File,
            size_bytes: content.len() as u64,
            modified_ns: 0,
            mode: 0o755,
            hash: Some(ContentHash::of(content.as_bytes())),
        });
        Column {
            base: base.map(Box::new),
            entries,
            ..Column::empty(PathId(1), RootId(1), Folding::Folded.key("a"))
        }
    }

    #[test]
    fn the_lowest_of_equal_contents_supplies_the_file() {
        let column = column(Some("x"), vec![entry(1, "x"), entry(2, "y"), entry(3, "y"), entry(4, "x")]);
        let supplier =
            |layers: &[i64]| match column.provider(&Order::new(layers.iter().map(|id| LayerId(*id)))) {
                Provider::Nothing => "nothing".to_owned(),
                Provider::Base(_) => "base".to_owned(),
                Provider::Layer(entry) => entry.layer.0.to_string(),
            };
        assert_eq!(supplier(&[]), "base");
        assert_eq!(supplier(&[1]), "base");
        assert_eq!(supplier(&[1, 4]), "base");
        assert_eq!(supplier(&[1, 2, 3]), "2");
        assert_eq!(supplier(&[3, 2]), "3");
        assert_eq!(supplier(&[1, 2, 4]), "4", "other content lies between it and the base");
        assert_eq!(column.winner(&Order::new([LayerId(2), LayerId(3)])).unwrap().layer, LayerId(3));
    }

    #[test]
    fn what_is_taken_away_is_not_there_until_a_layer_above_puts_it() {
        let away = Entry { hash: ContentHash::NOTHING, size_bytes: 0, ..entry(2, "") };
        let over_base = column(Some("x"), vec![entry(1, "y"), away.clone(), entry(3, "z")]);
        let supplier =
            |layers: &[i64]| over_base.provider(&Order::new(layers.iter().map(|id| LayerId(*id)))).hash();
        assert_eq!(supplier(&[1, 2]), None);
        assert_eq!(supplier(&[2, 1]), Some(ContentHash::of(b"y")));
        assert_eq!(supplier(&[1, 2, 3]), Some(ContentHash::of(b"z")));
        assert_eq!(column(None, vec![away]).provider(&Order::new([LayerId(2)])), Provider::Nothing);
    }

    #[test]
    fn a_patched_program_stays_runnable() {
        let over_base = column(Some("x"), vec![entry(1, "y")]);
        assert_eq!(over_base.mode_for(&over_base.entries[0]), 0o755);
        let new = column(None, vec![Entry { executable: Some(true), ..entry(1, "y") }]);
        assert_eq!(new.mode_for(&new.entries[0]), 0o755);
        assert_eq!(column(None, vec![]).mode_for(&entry(1, "y")), 0o644);
    }

    proptest! {
        #[test]
        fn the_supplier_has_the_content_that_wins(
            base in proptest::option::of(0..3u8),
            contents in proptest::collection::vec(0..3u8, 0..5),
            laid in proptest::collection::vec(any::<bool>(), 5),
        ) {
            let text = |content: u8| content.to_string();
            let entries = (1..).zip(&contents).map(|(layer, content)| entry(layer, &text(*content))).collect();
            let column = column(base.map(text).as_deref(), entries);
            let standing: Vec<i64> = (1..=contents.len() as i64).filter(|layer| laid[*layer as usize - 1]).collect();
            let order = Order::new(standing.iter().map(|layer| LayerId(*layer)));
            // The naive answer: the topmost laid layer, else the base.
            let wins = standing.last().map(|layer| contents[*layer as usize - 1]).or(base);
            let supplier = column.provider(&order);
            prop_assert_eq!(supplier.hash(), wins.map(|content| ContentHash::of(text(content).as_bytes())));
            if let Provider::Layer(entry) = supplier {
                // Right beneath it lies something else.
                let below = standing.iter().rev().find(|layer| **layer < entry.layer.0);
                let beneath = below.map(|layer| contents[*layer as usize - 1]).or(base);
                prop_assert_ne!(beneath, wins);
            }
        }
    }
}
