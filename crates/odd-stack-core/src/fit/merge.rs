//! Rules over rules.

use super::{Rank, Rules, Wishes};

impl Rules {
    /// These rules with `upper` over them: places are told apart by their rank, patterns add up, of choices
    /// and parts of one id the upper one counts, and so does what `upper` chooses.
    #[must_use]
    pub fn with_over(mut self, upper: Rules) -> Rules {
        self.places.extend(upper.places);
        if !upper.only.is_empty() {
            self.only = upper.only;
        }
        add_new(&mut self.skip, upper.skip);
        self.choices.retain(|choice| upper.choices.iter().all(|other| other.id != choice.id));
        self.choices.extend(upper.choices);
        self.parts.retain(|part| upper.parts.iter().all(|other| other.id != part.id));
        self.parts.extend(upper.parts);
        self.chosen.extend(upper.chosen);
        self.skip_links |= upper.skip_links;
        self.tidy |= upper.tidy;
        self.names = upper.names.or(self.names);
        add_new(&mut self.passed_over, upper.passed_over);
        self.wishes = self.wishes.with_over(upper.wishes);
        self.said = self.said.with_over(upper.said);
        self.asked = self.asked.with_over(upper.asked);
        self
    }

    /// Without what the package itself said or what was found out.
    #[must_use]
    pub fn of_person(mut self) -> Rules {
        self.places.retain(|place| place.rank > Rank::Package);
        let by_person = |places: &[super::Place]| places.iter().any(|place| place.rank > Rank::Package);
        self.choices.retain(|choice| choice.options.iter().any(|option| by_person(&option.places)));
        self.parts.retain(|part| by_person(&part.places));
        self.wishes = Wishes::default();
        self.tidy = false;
        self
    }
}

impl Wishes {
    fn with_over(mut self, upper: Self) -> Self {
        self.needs = self.needs.with_over(upper.needs);
        self.patches = upper.patches.or(self.patches);
        self.whole |= upper.whole;
        self.keep_signature |= upper.keep_signature;
        self.as_members |= upper.as_members;
        add_new(&mut self.by_lines, upper.by_lines);
        add_new(&mut self.takes_away, upper.takes_away);
        self.sets
            .retain(|set| upper.sets.iter().all(|other| (&other.file, &other.key) != (&set.file, &set.key)));
        self.sets.extend(upper.sets);
        add_new(&mut self.starts, upper.starts);
        add_new(&mut self.clears, upper.clears);
        add_new(&mut self.proofs, upper.proofs);
        self
    }
}

fn add_new<T: PartialEq>(list: &mut Vec<T>, more: Vec<T>) {
    for item in more {
        if !list.contains(&item) {
            list.push(item);
        }
    }
}
