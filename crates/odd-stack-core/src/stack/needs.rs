//! What layers need of the game and of each other, and whether they have it.

use std::collections::{HashMap, HashSet};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Arrangement, LayerId, Target};
use crate::version_range::{VersionRange, cut_name_and_range};

/// What a layer asks for, from its fit sheet and from options.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Needs {
    /// Game versions that it works with, such as `>=1.7 <1.8`.
    pub game: Option<String>,
    /// Layers it needs, each a name with or without a version range.
    pub layers: Vec<String>,
    /// Layers it is incompatible with, written likewise.
    pub clashes: Vec<String>,
    /// Layers it must lie above.
    pub above: Vec<String>,
    /// Layers it must lie below.
    pub below: Vec<String>,
    /// Layers that it was made over: whole files of it hold what these had there.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub made_over: Vec<String>,
    /// Addresses of files and containers that nobody else may change.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub clean: Vec<String>,
    /// `ADDRESS=HASH`: a file that must lie beneath it, by the BLAKE3 hash of its content or the beginning of that; of several for
    /// one address any will do.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub made_from: Vec<String>,
    /// It waits since a patch day for a version that fits the game.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub waits: bool,
    /// What of this the user did without on purpose, in the words of [`Unmet::what`].
    pub despite: Vec<String>,
}

impl Needs {
    /// Whether it asks for nothing.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// These, and what else `upper` asks for, which has the last word on the game's version.
    #[must_use]
    pub fn with_over(mut self, upper: Self) -> Self {
        let add = |list: &mut Vec<String>, more: Vec<String>| {
            for item in more {
                if !list.contains(&item) {
                    list.push(item);
                }
            }
        };
        self.game = upper.game.or(self.game);
        add(&mut self.layers, upper.layers);
        add(&mut self.clashes, upper.clashes);
        add(&mut self.above, upper.above);
        add(&mut self.below, upper.below);
        add(&mut self.made_over, upper.made_over);
        add(&mut self.clean, upper.clean);
        add(&mut self.made_from, upper.made_from);
        self.waits |= upper.waits;
        add(&mut self.despite, upper.despite);
        self
    }

    /// Checks all versions in it.
    ///
    /// # Errors
    /// What can't be read, and why.
    pub fn check(&self) -> Result<(), String> {
        self.game.iter().try_for_each(|range| VersionRange::parse(range).map(drop))?;
        let is_hash =
            |hash: &str| (8..=64).contains(&hash.len()) && hash.bytes().all(|it| it.is_ascii_hexdigit());
        let is_source = |text: &&String| text.split_once('=').is_some_and(|(_, hash)| is_hash(hash));
        if let Some(text) = self.made_from.iter().find(|text| !is_source(text)) {
            return Err(format!("`{text}` is not ADDRESS=HASH, with 8 to 64 digits of a BLAKE3 hash"));
        }
        let layers = self.layers.iter().chain(&self.clashes);
        layers.map(|text| cut_name_and_range(text)).try_for_each(|(name, range)| {
            if name.is_empty() {
                return Err(format!("`{range}` names no layer"));
            }
            VersionRange::parse(range).map(drop)
        })
    }
}

/// What is to be known of a layer to judge needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LayerFacts {
    /// The layer.
    pub id: LayerId,
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: Option<String>,
    /// What it asks for.
    pub needs: Needs,
}

/// The kinds of unmet needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum UnmetKind {
    /// The game has another version, or none is known.
    GameVersion,
    /// A layer is not laid.
    LayerMissing,
    /// A layer has another version.
    LayerVersion,
    /// Two layers are incompatible with each other.
    Clash,
    /// A layer does not lie where it must.
    Order,
    /// A layer was made over another one, and that does not lie beneath it.
    MadeOver,
    /// A file is not as the game has it.
    FileChanged,
    /// Another file lies beneath it than it was made from.
    OtherFile,
}

/// One need of some laid layers that is not met: the judgement of [`unmet`], of which nothing is kept.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Unmet {
    /// The layer that needs it.
    pub layer: String,
    /// What it needs, such as `game >=1.7 <1.8` or `above harbour-core`.
    pub what: String,
    /// Of what kind that is.
    pub kind: UnmetKind,
    /// What there is instead, for a person.
    pub found: String,
    /// The other layer that it is about.
    pub other: Option<String>,
    /// The user did without it on purpose.
    pub despite: bool,
}

/// How names are compared: without regard to case, and to `-`, `_` and space.
pub fn plain_name(name: &str) -> String {
    name.chars().filter(|c| !matches!(c, '-' | '_' | ' ')).flat_map(char::to_lowercase).collect()
}

/// Pairs of layers, the upper one first, that a rule of one of them wants so, or of which the upper one needs the lower
/// or was made over it.
pub fn accepted_pairs(layers: &[LayerFacts]) -> HashSet<(LayerId, LayerId)> {
    let ordered = ordered_pairs(layers).into_iter().map(|(upper, lower, _)| (upper, lower));
    let ordered =
        ordered.chain(needing_pairs(layers)).map(|(upper, lower)| (layers[upper].id, layers[lower].id));
    let over = layers.iter().flat_map(|upper| {
        let is_beneath = |name: &&String, lower: &LayerFacts| plain_name(name) == plain_name(&lower.name);
        let beneath = layers.iter().filter(move |lower| {
            lower.id != upper.id && upper.needs.made_over.iter().any(|name| is_beneath(&name, lower))
        });
        beneath.map(|lower| (upper.id, lower.id))
    });
    ordered.chain(over).collect()
}

/// Pairs of which the upper layer needs the lower one: it is made to lie above, and what it covers of that is meant so.
fn needing_pairs(layers: &[LayerFacts]) -> Vec<(usize, usize)> {
    let needing = layers.iter().enumerate().flat_map(|(upper, layer)| {
        layer.needs.layers.iter().map(move |text| (upper, plain_name(cut_name_and_range(text).0)))
    });
    let lower = |(upper, name): (usize, String)| {
        let is_it =
            move |(lower, layer): &(usize, &LayerFacts)| *lower != upper && plain_name(&layer.name) == name;
        layers.iter().enumerate().filter(is_it).map(move |(lower, _)| (upper, lower)).collect::<Vec<_>>()
    };
    needing.flat_map(lower).collect()
}

/// Upper and lower as their rules have it, and whose rule that is, by their places in `layers`.
fn ordered_pairs(layers: &[LayerFacts]) -> Vec<(usize, usize, usize)> {
    if layers.iter().all(|layer| layer.needs.above.is_empty() && layer.needs.below.is_empty()) {
        return Vec::new();
    }
    let mut by_name: HashMap<String, Vec<usize>> = HashMap::new();
    for (at, layer) in layers.iter().enumerate() {
        by_name.entry(plain_name(&layer.name)).or_default().push(at);
    }
    let named = |name: &String| by_name.get(&plain_name(name)).cloned().unwrap_or_default();
    let mut pairs = Vec::new();
    for (at, layer) in layers.iter().enumerate() {
        let needs = &layer.needs;
        let above = needs.above.iter().flat_map(named).filter(|other| *other != at);
        pairs.extend(above.map(|other| (at, other, at)));
        let below = needs.below.iter().flat_map(named).filter(|other| *other != at);
        pairs.extend(below.map(|other| (other, at, at)));
    }
    pairs
}

fn has_version(layer: &LayerFacts, wanted: &VersionRange) -> bool {
    match &layer.version {
        Some(version) => wanted.contains(version),
        None => wanted.is_any(),
    }
}

/// Whether a layer of the right name has a version that the need on a layer allows.
pub(crate) fn would_meet(need: &str, layer: &LayerFacts) -> bool {
    VersionRange::parse(cut_name_and_range(need).1).is_ok_and(|wanted| has_version(layer, &wanted))
}

/// The needs of `laid` layers, from the bottom to the top, that are not met.
pub fn unmet(game_version: Option<&str>, laid: &[&LayerFacts]) -> Vec<Unmet> {
    let mut found = Vec::new();
    for layer in laid {
        found.extend(unmet_by_game(game_version, layer));
        found.extend(layer.needs.layers.iter().filter_map(|need| unmet_by_layer(need, layer, laid)));
        found.extend(layer.needs.clashes.iter().filter_map(|clash| unmet_by_clash(clash, layer, laid)));
    }
    for (at, layer) in laid.iter().enumerate() {
        found.extend(layer.needs.made_over.iter().filter_map(|name| unmet_beneath(name, (at, layer), laid)));
    }
    found.extend(unmet_order(laid));
    found
}

impl Unmet {
    /// A need of a file that is not met.
    pub(crate) fn of_file(
        layer: &LayerFacts,
        kind: UnmetKind,
        what: String,
        found: String,
        other: Option<&str>,
    ) -> Self {
        Self::new(layer, kind, what, found, other)
    }

    fn new(layer: &LayerFacts, kind: UnmetKind, what: String, found: String, other: Option<&str>) -> Self {
        let despite = layer.needs.despite.contains(&what);
        Self { layer: layer.name.clone(), what, kind, found, other: other.map(str::to_owned), despite }
    }
}

fn with_name<'a>(laid: &'a [&'a LayerFacts], text: &str) -> impl Iterator<Item = &'a LayerFacts> {
    let name = plain_name(text);
    laid.iter().copied().filter(move |layer| plain_name(&layer.name) == name)
}

fn unmet_by_game(game_version: Option<&str>, layer: &LayerFacts) -> Option<Unmet> {
    let range = layer.needs.game.as_ref()?;
    if game_version.is_some_and(|is| VersionRange::parse(range).is_ok_and(|range| range.contains(is))) {
        return None;
    }
    let is = match game_version {
        None => "the game's version is not known".to_owned(),
        Some(version) => format!("the game is {version}"),
    };
    Some(Unmet::new(layer, UnmetKind::GameVersion, format!("game {range}"), is, None))
}

fn unmet_by_layer(need: &str, layer: &LayerFacts, laid: &[&LayerFacts]) -> Option<Unmet> {
    let (name, range) = cut_name_and_range(need);
    let wanted = VersionRange::parse(range).unwrap_or_default();
    let mut others = with_name(laid, name).peekable();
    let Some(first) = others.peek().map(|other| other.version.clone()) else {
        let is = format!("no layer {name} is laid");
        return Some(Unmet::new(layer, UnmetKind::LayerMissing, need.to_owned(), is, Some(name)));
    };
    if others.any(|other| has_version(other, &wanted)) {
        return None;
    }
    let is = first.map_or("has no version".to_owned(), |version| format!("is {version}"));
    Some(Unmet::new(layer, UnmetKind::LayerVersion, need.to_owned(), format!("{name} {is}"), Some(name)))
}

fn unmet_by_clash(clash: &str, layer: &LayerFacts, laid: &[&LayerFacts]) -> Option<Unmet> {
    let (name, range) = cut_name_and_range(clash);
    let range = VersionRange::parse(range).unwrap_or_default();
    let clashes = |other: &&LayerFacts| {
        other.id != layer.id
            && (range.is_any() || other.version.as_deref().is_some_and(|version| range.contains(version)))
    };
    let other = with_name(laid, name).find(clashes)?;
    let is = format!("{} is laid", other.name);
    Some(Unmet::new(layer, UnmetKind::Clash, format!("no {clash}"), is, Some(&other.name)))
}

/// What a captured layer was made over, and that does not lie beneath it.
fn unmet_beneath(name: &str, (at, layer): (usize, &LayerFacts), laid: &[&LayerFacts]) -> Option<Unmet> {
    let place = laid.iter().position(|other| plain_name(&other.name) == plain_name(name));
    let is = match place {
        Some(place) if place < at => return None,
        Some(_) => format!("{name} lies above it"),
        None => format!("{name} is not laid beneath it"),
    };
    Some(Unmet::new(layer, UnmetKind::MadeOver, format!("over {name}"), is, Some(name)))
}

fn unmet_order(laid: &[&LayerFacts]) -> Vec<Unmet> {
    let owned: Vec<LayerFacts> = laid.iter().map(|layer| (*layer).clone()).collect();
    let turned = ordered_pairs(&owned).into_iter().filter(|(upper, lower, _)| upper < lower);
    let unmet = turned.map(|(upper, lower, whose)| {
        let (layer, other) = (&owned[whose], if whose == upper { &owned[lower] } else { &owned[upper] });
        let (what, is) = if whose == upper { ("above", "below") } else { ("below", "above") };
        let what = format!("{what} {}", other.name);
        Unmet::new(layer, UnmetKind::Order, what, format!("it lies {is} it"), Some(&other.name))
    });
    unmet.collect()
}

/// Layers whose rules of order go round in a circle: each must lie above the next, the last above the first.
pub fn cycle(layers: &[LayerFacts]) -> Option<Vec<String>> {
    let mut below: HashMap<usize, Vec<usize>> = HashMap::new();
    for (upper, lower, _) in ordered_pairs(layers) {
        below.entry(upper).or_default().push(lower);
    }
    let mut done: HashSet<usize> = HashSet::new();
    for start in 0..layers.len() {
        let mut way: Vec<(usize, usize)> = vec![(start, 0)];
        while let Some((at, next)) = way.last_mut() {
            let (at, step) = (*at, *next);
            *next += 1;
            match below.get(&at).and_then(|below| below.get(step)).copied() {
                None => {
                    done.insert(at);
                    way.pop();
                }
                Some(lower) if done.contains(&lower) => {}
                Some(lower) => {
                    if let Some(from) = way.iter().position(|(on_way, _)| *on_way == lower) {
                        return Some(way[from..].iter().map(|(at, _)| layers[*at].name.clone()).collect());
                    }
                    way.push((lower, 0));
                }
            }
        }
    }
    None
}

/// Where a new layer goes as its rules and those of others have it: as high as they allow. Where they can't all be
/// kept, above those that it must lie above.
pub fn place_by_rules(layers: &[LayerFacts], before: &Arrangement, new: LayerId) -> Target {
    let height = |layer: LayerId| before.standings().iter().position(|standing| standing.layer == layer);
    let (mut lowest, mut highest) = (None, None);
    let ordered = ordered_pairs(layers).into_iter().map(|(upper, lower, _)| (upper, lower));
    for (upper, lower) in ordered.chain(needing_pairs(layers)) {
        let (upper, lower) = (layers[upper].id, layers[lower].id);
        if upper == new {
            lowest = lowest.max(height(lower));
        } else if lower == new
            && let Some(at) = height(upper)
        {
            highest = Some(highest.map_or(at, |known: usize| known.min(at)));
        }
    }
    let layer_at = |at: usize| before.standings()[at].layer;
    match (lowest, highest) {
        (_, None) => Target::Top,
        (Some(lowest), Some(highest)) if lowest >= highest => Target::Above(layer_at(lowest)),
        (_, Some(highest)) => Target::Below(layer_at(highest)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stack::Standing;

    fn facts(id: i64, name: &str, version: &str, needs: Needs) -> LayerFacts {
        let version = Some(version.to_owned()).filter(|version| !version.is_empty());
        LayerFacts { id: LayerId(id), name: name.to_owned(), version, needs }
    }

    fn list(names: &[&str]) -> Vec<String> {
        names.iter().map(|name| (*name).to_owned()).collect()
    }

    fn told(unmet: &[Unmet]) -> Vec<String> {
        unmet.iter().map(|unmet| format!("{}: {} ({})", unmet.layer, unmet.what, unmet.found)).collect()
    }

    #[test]
    fn each_kind_of_need_is_judged() {
        let core = facts(1, "Harbour Core", "17.1", Needs::default());
        let patch = facts(
            2,
            "core-patch",
            "17.2",
            Needs {
                game: Some(">=1.7 <1.8".into()),
                layers: list(&["harbour_core =17.1"]),
                ..Needs::default()
            },
        );
        assert_eq!(told(&unmet(Some("1.7.3"), &[&core, &patch])), [""; 0]);
        let newer = LayerFacts { version: Some("17.2".into()), ..core.clone() };
        let both = unmet(Some("1.8"), &[&newer, &patch]);
        assert_eq!(
            told(&both),
            [
                "core-patch: game >=1.7 <1.8 (the game is 1.8)",
                "core-patch: harbour_core =17.1 (harbour_core is 17.2)"
            ]
        );
        assert_eq!(told(&unmet(None, &[&patch])).len(), 2);
        let lone = facts(3, "gulls", "", Needs { clashes: list(&["core-patch >=17"]), ..Needs::default() });
        assert_eq!(
            told(&unmet(Some("1.7"), &[&core, &patch, &lone])),
            ["gulls: no core-patch >=17 (core-patch is laid)"]
        );
        let low = facts(
            4,
            "low",
            "",
            Needs { below: list(&["gulls"]), above: list(&["absent"]), ..Needs::default() },
        );
        assert_eq!(told(&unmet(None, &[&lone, &low])), ["low: below gulls (it lies above it)"]);
        let low = LayerFacts { needs: Needs { despite: list(&["below gulls"]), ..low.needs.clone() }, ..low };
        assert!(unmet(None, &[&lone, &low])[0].despite);
    }

    #[test]
    fn rules_of_order_place_a_new_layer_and_may_not_go_in_a_circle() {
        let above = |names: &[&str]| Needs { above: list(names), ..Needs::default() };
        let below = |names: &[&str]| Needs { below: list(names), ..Needs::default() };
        let stack = Arrangement::new((1..=3).map(|id| Standing { layer: LayerId(id), laid: true }).collect());
        let with = |needs: [Needs; 4]| {
            let [one, two, three, new] = needs;
            [
                facts(1, "one", "", one),
                facts(2, "two", "", two),
                facts(3, "three", "", three),
                facts(9, "new", "", new),
            ]
        };
        let none = Needs::default;
        let place = |layers: &[LayerFacts]| place_by_rules(layers, &stack, LayerId(9));
        assert_eq!(place(&with([none(), none(), none(), none()])), Target::Top);
        assert_eq!(place(&with([none(), none(), none(), above(&["One"])])), Target::Top);
        assert_eq!(place(&with([none(), none(), none(), below(&["two"])])), Target::Below(LayerId(2)));
        assert_eq!(place(&with([none(), none(), above(&["new"]), none()])), Target::Below(LayerId(3)));
        let torn = with([above(&["new"]), none(), none(), above(&["three"])]);
        assert_eq!(place(&torn), Target::Above(LayerId(3)));
        assert_eq!(cycle(&torn), None);
        let round = with([above(&["new"]), none(), above(&["one"]), above(&["three"])]);
        let names = cycle(&round).unwrap();
        assert_eq!(names.len(), 3, "{names:?}");
        assert!(!names.contains(&"two".to_owned()));
    }
}
