//! What is said of where a package's files go: by its author, by a person, or by what was found.

use std::collections::BTreeMap;

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::FitError;
use crate::address::RelPath;
use crate::stack::Needs;
use crate::version_range::VersionRange;

/// One `FROM=TO`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    /// A file or folder inside the package; `.` is all of it, and `*` in the stead of a name is the one
    /// folder that lies there, whatever it is called.
    pub from: String,
    /// The address it goes to.
    pub to: String,
    /// Of two places that reach a file the one of higher rank decides, whatever their `from`.
    #[serde(default, skip_serializing_if = "is_lowest")]
    pub rank: Rank,
}

/// Who said it; the later one goes over the earlier.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Rank {
    /// Found out, or said by the package's own sheet.
    #[default]
    Package,
    /// A sheet that a person gave.
    Sheet,
    /// Options of the command line, when the layer was made.
    Option,
    /// Options of the command line, when it was exchanged.
    Again,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks for a reference")]
fn is_lowest(rank: &Rank) -> bool {
    *rank == Rank::Package
}

impl Place {
    /// A place of the lowest rank.
    pub fn new(from: String, to: String) -> Self {
        Self { from, to, rank: Rank::default() }
    }

    /// Cuts `FROM=TO` at its last `=`.
    ///
    /// # Errors
    /// [`FitError::BadPlace`].
    pub fn parse(text: &str) -> Result<Self, FitError> {
        match text.rsplit_once('=') {
            Some((from, to)) if !from.trim().is_empty() && !to.trim().is_empty() => {
                Ok(Self::new(from.trim().to_owned(), to.trim().to_owned()))
            }
            _ => Err(FitError::BadPlace { text: text.to_owned() }),
        }
    }
}

/// One of several ways to take a package, of which only one can be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Choice {
    /// Its name in `--choose ID=OPTION`.
    pub id: String,
    /// What to ask a person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ask: Option<String>,
    /// The option that is taken when nobody says another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub default: Option<String>,
    /// The options.
    pub options: Vec<ChoiceOption>,
}

/// One option of a choice.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChoiceOption {
    /// Its name.
    pub name: String,
    /// What it is, for a person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub says: Option<String>,
    /// The folder that belongs to it alone, besides those of its places.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// Where its files go.
    pub places: Vec<Place>,
    /// Programs that start the game with it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub starts: Vec<Start>,
    /// How one sees that it works.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub proofs: Vec<Proof>,
}

/// A part of a package that may be left out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Part {
    /// Its name in `--choose ID=on`.
    pub id: String,
    /// What it is, for a person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub says: Option<String>,
    /// It is taken when nobody says otherwise.
    #[serde(default)]
    pub on: bool,
    /// The folder that belongs to it alone, besides those of its places.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// Where its files go.
    pub places: Vec<Place>,
    /// Programs that start the game with it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub starts: Vec<Start>,
    /// How one sees that it works.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub proofs: Vec<Proof>,
}

/// The rules of one fit, kept with the layer.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rules {
    /// Where things go; with no choices and parts either, it is found out.
    pub places: Vec<Place>,
    /// Patterns of which a file must meet one, if there are any.
    pub only: Vec<String>,
    /// Patterns of which a file must meet none.
    pub skip: Vec<String>,
    /// Leave out links that lead to nothing inside the package.
    pub skip_links: bool,
    /// The code page of the package's names, where it does not tell it.
    #[serde(default)]
    pub names: Option<String>,
    /// Things to choose between.
    #[serde(default)]
    pub choices: Vec<Choice>,
    /// Things that may be left out.
    #[serde(default)]
    pub parts: Vec<Part>,
    /// What was chosen: an option of a choice, or `on` or `off` of a part, by id.
    #[serde(default)]
    pub chosen: BTreeMap<String, String>,
    /// Leave out documents, sources, pictures, what systems leave behind, and copies of the game's own
    /// files.
    #[serde(default)]
    pub tidy: bool,
    /// Files and folders that no place reached when the layer was made, in the words of places.
    #[serde(default)]
    pub passed_over: Vec<String>,
    /// What a sheet says beyond places.
    #[serde(default)]
    pub wishes: Wishes,
    /// What a person says the layer needs.
    #[serde(default, skip_serializing_if = "Needs::is_empty")]
    pub asked: Needs,
    /// What a person says of starts, proofs and what is cleared, whatever a sheet says.
    #[serde(default, skip_serializing_if = "is_nothing")]
    pub said: Wishes,
}

fn is_nothing(wishes: &Wishes) -> bool {
    *wishes == Wishes::default()
}

impl Rules {
    /// Whether they say where things go, so that nothing is to be found out.
    pub fn say_where(&self) -> bool {
        !(self.places.is_empty() && self.choices.is_empty() && self.parts.is_empty())
    }
}

impl Rules {
    /// Programs that start the game, those of what is chosen included.
    pub fn starts(&self) -> Vec<Start> {
        let taken = self.taken().flat_map(|(starts, _)| starts.iter());
        self.wishes.starts.iter().chain(taken).chain(&self.said.starts).cloned().collect()
    }

    /// How one sees that it works, what is chosen included.
    pub fn proofs(&self) -> Vec<Proof> {
        let taken = self.taken().flat_map(|(_, proofs)| proofs.iter());
        self.wishes.proofs.iter().chain(taken).chain(&self.said.proofs).cloned().collect()
    }

    /// What it takes away while it is laid.
    pub fn takes_away(&self) -> Vec<String> {
        let mut all = self.wishes.takes_away.clone();
        all.extend(
            self.said.takes_away.iter().filter(|said| !self.wishes.takes_away.contains(said)).cloned(),
        );
        all
    }

    /// Whether signatures of containers stay, though they no longer hold.
    pub fn keeps_signature(&self) -> bool {
        self.wishes.keep_signature || self.said.keep_signature
    }

    /// Whether of containers only the members in which they differ from those that are there count.
    pub fn takes_members(&self) -> bool {
        self.wishes.as_members || self.said.as_members
    }

    /// What the game must make anew after a change.
    pub fn clears(&self) -> Vec<String> {
        self.wishes.clears.iter().chain(&self.said.clears).cloned().collect()
    }

    /// Changes what options and parts bring of starts and proofs.
    pub fn drop_taken(&mut self, change: impl Fn(&mut Vec<Start>, &mut Vec<Proof>)) {
        let options = self.choices.iter_mut().flat_map(|choice| &mut choice.options);
        options.for_each(|option| change(&mut option.starts, &mut option.proofs));
        self.parts.iter_mut().for_each(|part| change(&mut part.starts, &mut part.proofs));
    }

    /// What the chosen options and the parts that are on bring of these.
    fn taken(&self) -> impl Iterator<Item = (&[Start], &[Proof])> {
        let options = self.choices.iter().filter_map(|choice| {
            let name = self.chosen.get(&choice.id).or(choice.default.as_ref())?;
            choice.options.iter().find(|option| option.name.eq_ignore_ascii_case(name))
        });
        let is_on =
            |part: &&Part| self.chosen.get(&part.id).map_or(part.on, |word| word.eq_ignore_ascii_case("on"));
        let options = options.map(|option| (option.starts.as_slice(), option.proofs.as_slice()));
        let parts = self.parts.iter().filter(is_on);
        options.chain(parts.map(|part| (part.starts.as_slice(), part.proofs.as_slice())))
    }
}

/// What a fit sheet says of a package beyond where its files go.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Wishes {
    /// What it needs.
    #[serde(flatten, with = "needs_as_kept")]
    pub needs: Needs,
    /// Addresses whose files it takes away.
    pub takes_away: Vec<String>,
    /// Keys of configuration files that it sets.
    pub sets: Vec<SetKey>,
    /// Programs that start the game with it.
    pub starts: Vec<Start>,
    /// Addresses, folders and patterns of what the game must make anew after a change, such as caches.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub clears: Vec<String>,
    /// How one sees that it works.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub proofs: Vec<Proof>,
    /// The version that it holds only the changed files against.
    pub patches: Option<String>,
    /// Patterns of paths in the game; texts that meet one are merged by lines with other layers' where changes lie apart.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub by_lines: Vec<String>,
    /// Its configuration files do not blend with others'.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub whole: bool,
    /// Signatures of containers in which it changes members stay, though they no longer hold.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub keep_signature: bool,
    /// Of containers that it brings where one is, only the members in which they differ count.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub as_members: bool,
}

/// How the needs that a sheet tells are kept with a layer: among the other wishes, by names that ledgers have long had.
mod needs_as_kept {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    use crate::stack::Needs;

    #[derive(Default, Serialize, Deserialize)]
    #[serde(default)]
    struct Kept {
        needs_game: Option<String>,
        needs: Vec<String>,
        clashes: Vec<String>,
        above: Vec<String>,
        below: Vec<String>,
        #[serde(skip_serializing_if = "Vec::is_empty")]
        clean: Vec<String>,
        #[serde(skip_serializing_if = "Vec::is_empty")]
        made_from: Vec<String>,
    }

    pub(super) fn serialize<S: Serializer>(needs: &Needs, to: S) -> Result<S::Ok, S::Error> {
        let Needs { game, layers, clashes, above, below, clean, made_from, .. } = needs.clone();
        Kept { needs_game: game, needs: layers, clashes, above, below, clean, made_from }.serialize(to)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Needs, D::Error> {
        let Kept { needs_game: game, needs: layers, clashes, above, below, clean, made_from } =
            Kept::deserialize(from)?;
        Ok(Needs { game, layers, clashes, above, below, clean, made_from, ..Needs::default() })
    }
}

/// A key of a configuration file and its value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct SetKey {
    /// The file's address.
    pub file: String,
    /// The key, with its section: `Section.key`.
    pub key: String,
    /// The value.
    pub value: String,
}

/// A program to start.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Start {
    /// What it is called, for `oddstack play NAME`; the layer's name otherwise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The program's address.
    pub program: String,
    /// What is given to it.
    #[serde(default)]
    pub arguments: Vec<String>,
    /// Variables in its environment.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub environment: BTreeMap<String, String>,
}

/// One sign by which it is seen that a layer works: a file that is there, a log that contains a text, or a file that
/// tells a version.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(deny_unknown_fields, default)]
pub struct Proof {
    /// What it proves, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub says: Option<String>,
    /// The address of a file that is there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The address of a log.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub log: Option<String>,
    /// What a line of the log contains, without regard to case; `*` is any text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub contains: Option<String>,
    /// The address of a file that tells its version.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version_of: Option<String>,
    /// The versions that it may be, such as `>=1.7 <1.8`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub is: Option<String>,
}

impl Proof {
    /// The one address that it is about.
    pub fn address(&self) -> Option<&str> {
        self.file.as_deref().or(self.log.as_deref()).or(self.version_of.as_deref())
    }

    /// Whether it is one whole sign.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn check(&self) -> Result<(), String> {
        let has = (self.file.is_some(), self.log.is_some(), self.version_of.is_some());
        match (has, self.contains.is_some(), self.is.as_deref()) {
            ((true, false, false), false, None) | ((false, true, false), true, None) => Ok(()),
            ((false, false, true), false, Some(range)) => VersionRange::parse(range).map(drop),
            _ => Err("a proof is one of `file`, `log` with `contains`, or `version_of` with `is`".to_owned()),
        }
    }
}

/// A question that only a person can answer, with what there is to say for each answer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Unclear {
    /// What is not clear.
    pub question: String,
    /// Possible answers, the likeliest first.
    pub candidates: Vec<Candidate>,
    /// Far more speaks for the first than for any other.
    pub is_first_far_ahead: bool,
    /// Small members that may tell more; the fit can be tried again with what they tell.
    pub to_read: Vec<usize>,
    /// The usual name of a root of the game that is not registered, and in which something would go.
    pub root_missing: Option<Box<str>>,
}

/// One answer: rules to go on with.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Candidate {
    /// Where things would go.
    pub places: Vec<Place>,
    /// What would be left out.
    pub skip: Vec<String>,
    /// What speaks for it, in words.
    pub evidence: String,
    /// What it would do, where that was tried.
    pub effect: Option<Effect>,
}

/// What placing a package in some way does, in numbers of files.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Effect {
    /// Files where nothing lies.
    pub new: u64,
    /// Files where one lies.
    pub over: u64,
    /// Files of the package that go nowhere.
    pub left_out: u64,
}

/// Compiled patterns. `*` is any text within one name, `**` any folders; a pattern without `/` is also held against each
/// single name of a path, and what matches a folder matches all inside. Case does not matter.
pub(crate) struct Patterns {
    whole: GlobSet,
    names: GlobSet,
    is_empty: bool,
}

impl Patterns {
    pub(crate) fn new(patterns: &[String]) -> Result<Self, FitError> {
        let mut whole = GlobSetBuilder::new();
        let mut names = GlobSetBuilder::new();
        for pattern in patterns {
            let normal = pattern.replace('\\', "/");
            let normal = normal.trim_end_matches('/');
            let glob =
                GlobBuilder::new(normal).case_insensitive(true).literal_separator(true).build().map_err(
                    |error| FitError::BadPattern {
                        pattern: pattern.clone(),
                        reason: error.kind().to_string(),
                    },
                )?;
            if !normal.contains('/') {
                names.add(glob.clone());
            }
            whole.add(glob);
        }
        let build = |builder: GlobSetBuilder| {
            builder.build().map_err(|error| FitError::BadPattern {
                pattern: patterns.join(" "),
                reason: error.kind().to_string(),
            })
        };
        Ok(Self { whole: build(whole)?, names: build(names)?, is_empty: patterns.is_empty() })
    }

    pub(super) fn is_empty(&self) -> bool {
        self.is_empty
    }

    /// Whether a pattern meets `path` or a folder above it.
    pub(crate) fn meet(&self, path: &RelPath) -> bool {
        !self.is_empty
            && (self.whole.is_match(path.as_str())
                || path.ancestors().any(|folder| self.whole.is_match(folder))
                || path.parts().any(|name| self.names.is_match(name)))
    }
}
