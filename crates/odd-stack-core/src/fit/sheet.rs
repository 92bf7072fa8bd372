//! The fit sheet: `oddfit.toml`, a fit written down by a package's author or by whoever installs it.
//!
//! Our own format, TOML 1.0. `format = 1` at the top says which make of it a file is; a later make is
//! refused with that word. [`FitSheet`] documents each key; its JSON Schema is made from it.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use toml::de::{DeTable, DeValue};

use super::rules::Patterns;
use super::sheet_rules::{check_address, check_places, check_wishes};
use super::sheet_text::{SheetText, Step};
use super::{Choice, ChoiceOption, FitError, Part, Place, Proof, Rank, Rules, SetKey, Start, Wishes};
use crate::address::{RelPath, cut_pattern};
use crate::stack::Needs;

/// The file in a package that says how it is to be placed.
pub const SHEET_NAME: &str = "oddfit.toml";
/// The biggest sheet that is read.
pub const MOST_SHEET_BYTES: u64 = 1 << 20;
/// The make of sheets that is written, and the latest that is read.
pub const SHEET_FORMAT: u32 = 1;

/// A whole fit sheet. Every key may be left out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(deny_unknown_fields, default)]
pub struct FitSheet {
    /// The make of this format; 1.
    pub format: Option<u32>,
    /// What the layer is to be called.
    pub name: Option<String>,
    /// The version, as its author writes it.
    pub version: Option<String>,
    /// Which of several variants it is.
    pub variant: Option<String>,
    /// The version of which this package holds only the changed files, for `upgrade --patch`.
    pub patches: Option<String>,
    /// Leave out documents, sources, pictures, what systems leave behind, and copies of the game's own files.
    pub tidy: Option<bool>,
    /// `false`: its configuration files count as whole files and do not blend with those of other layers.
    pub blend: Option<bool>,
    /// Patterns of paths in the game; texts that meet one, and are no settings, are merged with other layers' by lines
    /// where their changes lie apart.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub by_lines: Vec<String>,
    /// Patterns; what meets one is left out.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub skip: Vec<String>,
    /// Patterns; when there are any, only what meets one is taken.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<String>,
    /// What is to go while the layer is laid: files, folders with all in them, and patterns, as the game has them when
    /// the layer is made.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub takes_away: Vec<String>,
    /// `true`: signatures of containers in which it changes members stay, though they no longer hold.
    #[serde(skip_serializing_if = "is_default")]
    pub keep_signature: bool,
    /// `true`: of containers that it brings where one is, only the members count in which they differ.
    #[serde(skip_serializing_if = "is_default")]
    pub as_members: bool,
    /// Names of layers that it is incompatible with.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub clashes: Vec<String>,
    /// What it needs.
    #[serde(skip_serializing_if = "is_default")]
    pub needs: SheetNeeds,
    /// Where in the stack it must lie.
    #[serde(skip_serializing_if = "is_default")]
    pub order: SheetOrder,
    /// Where files go. When there are none, and no choices and parts, it is found out.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub place: Vec<SheetPlace>,
    /// Things of which one must be chosen.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub choice: Vec<SheetChoice>,
    /// Things that may be left out.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub part: Vec<SheetPart>,
    /// Keys of configuration files that it sets.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub set: Vec<SetKey>,
    /// Programs that start the game with it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub start: Vec<Start>,
    /// Addresses, folders and patterns of what the game makes by itself and must make anew after a change, such as caches.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub clears: Vec<String>,
    /// How one sees that it works.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub proof: Vec<Proof>,
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// What a package needs, as the table `needs` of a sheet has it; it becomes [`Needs`].
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(deny_unknown_fields, default)]
pub struct SheetNeeds {
    /// Game versions, such as `>=1.7 <1.8`.
    pub game: Option<String>,
    /// Layers, each with or without versions, such as `Harbour Core >=2`.
    pub layers: Vec<String>,
    /// Addresses of files and containers that no other layer may change.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub clean: Vec<String>,
    /// `ADDRESS=HASH`: files that must lie beneath it, by BLAKE3 hash; of several for one address any will do.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub made_from: Vec<String>,
}

/// Where in the stack a layer must lie.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(deny_unknown_fields, default)]
pub struct SheetOrder {
    /// Layers that it must lie above.
    pub above: Vec<String>,
    /// Layers that it must lie below.
    pub below: Vec<String>,
}

/// Where a file or folder of the package goes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct SheetPlace {
    /// A file or folder inside the package; `.` is all of it; `*` in the stead of a name is the one folder
    /// that lies there, whatever it is called.
    pub from: String,
    /// The address it goes to. A file whose address is no folder gets that name.
    pub to: String,
}

/// Something of which one option must be chosen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct SheetChoice {
    /// Its name in `--choose ID=OPTION`: letters, digits, `-` and `_`.
    pub id: String,
    /// What to ask.
    #[serde(default)]
    pub ask: Option<String>,
    /// The option taken when nobody says another.
    #[serde(default)]
    pub default: Option<String>,
    /// The options, two or more.
    pub option: Vec<SheetOption>,
}

/// One option of a choice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct SheetOption {
    /// Its name in `--choose ID=OPTION`.
    pub name: String,
    /// What it is.
    #[serde(default)]
    pub says: Option<String>,
    /// The folder that belongs to it alone, when its places name only parts of that.
    #[serde(default)]
    pub folder: Option<String>,
    /// Where its files go; an option may have none.
    #[serde(default)]
    pub place: Vec<SheetPlace>,
    /// Programs that start the game with it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub start: Vec<Start>,
    /// How one sees that it works.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub proof: Vec<Proof>,
}

/// Something that may be left out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct SheetPart {
    /// Its name in `--choose ID=on`: letters, digits, `-` and `_`.
    pub id: String,
    /// What it is.
    #[serde(default)]
    pub says: Option<String>,
    /// It is taken when nobody says otherwise.
    #[serde(default)]
    pub on: bool,
    /// The folder that belongs to it alone, when its places name only parts of that.
    #[serde(default)]
    pub folder: Option<String>,
    /// Where its files go.
    #[serde(default)]
    pub place: Vec<SheetPlace>,
    /// Programs that start the game with it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub start: Vec<Start>,
    /// How one sees that it works.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub proof: Vec<Proof>,
}

impl FitSheet {
    /// Reads a sheet and checks all that can be checked without a package and a game.
    ///
    /// # Errors
    /// [`FitError::BadSheet`], with line and column.
    pub fn parse(text: &str) -> Result<Self, FitError> {
        let source = SheetText { text };
        // What a later make has is not known; its number is read first.
        if let Ok(table) = DeTable::parse(text)
            && let Some((_, value)) = table.get_ref().iter().find(|(name, _)| name.get_ref() == "format")
            && let DeValue::Integer(number) = value.get_ref()
            && number.as_str().parse::<u32>().is_ok_and(|number| number > SHEET_FORMAT)
        {
            let reason = format!("this is format {}, and only {SHEET_FORMAT} is known here", number.as_str());
            return Err(source.mistake(value.span().start, reason));
        }
        let sheet: Self = toml::from_str(text).map_err(|error| {
            source.mistake(error.span().map_or(0, |span| span.start), error.message().trim().to_owned())
        })?;
        sheet.check(&source)?;
        Ok(sheet)
    }

    fn check(&self, source: &SheetText<'_>) -> Result<(), FitError> {
        use Step::{At, Key};
        let wrong = |steps: &[Step<'_>], reason: String| Err(source.mistake_at(steps, reason));
        if self.format.is_some_and(|format| format != SHEET_FORMAT) {
            return wrong(&[Key("format")], format!("the format is {SHEET_FORMAT}"));
        }
        self.check_addresses(source)?;
        check_wishes(&self.start, &self.proof, Vec::new(), source)?;
        let mut ids: Vec<&str> = Vec::new();
        for (index, choice) in self.choice.iter().enumerate() {
            check_id(&choice.id, &mut ids)
                .or_else(|reason| wrong(&[Key("choice"), At(index), Key("id")], reason))?;
            choice.check(index, source)?;
        }
        for (index, part) in self.part.iter().enumerate() {
            let of_part = || vec![Key("part"), At(index)];
            check_id(&part.id, &mut ids)
                .or_else(|reason| wrong(&[Key("part"), At(index), Key("id")], reason))?;
            check_places(&part.place, of_part(), source)?;
            check_wishes(&part.start, &part.proof, of_part(), source)?;
        }
        check_places(&self.place, Vec::new(), source)
    }

    /// Checks patterns, and addresses that are no places.
    fn check_addresses(&self, source: &SheetText<'_>) -> Result<(), FitError> {
        use Step::{At, Key};
        let wrong = |steps: &[Step<'_>], reason: String| Err(source.mistake_at(steps, reason));
        for (list, patterns) in [("skip", &self.skip), ("only", &self.only), ("by_lines", &self.by_lines)] {
            for (index, pattern) in patterns.iter().enumerate() {
                if let Err(error) = Patterns::new(std::slice::from_ref(pattern)) {
                    return wrong(&[Key(list), At(index)], error.to_string());
                }
            }
        }
        for (index, address) in self.takes_away.iter().enumerate() {
            let is_whole = |(before, pattern): (&str, Option<&str>)| pattern.is_none() || !before.is_empty();
            let before = Some(cut_pattern(address)).filter(|cut| is_whole(*cut)).map(|(before, _)| before);
            if let Some(Err(reason)) = before.map(check_address) {
                return wrong(&[Key("takes_away"), At(index)], reason);
            }
        }
        for (index, set) in self.set.iter().enumerate() {
            if let Err(reason) = check_address(&set.file) {
                return wrong(&[Key("set"), At(index), Key("file")], reason);
            }
        }
        for (index, pattern) in self.clears.iter().enumerate() {
            let (before, wild) = cut_pattern(pattern);
            let is_whole = |text: &str| text.is_empty() || text == ".";
            let rest = before.strip_prefix("game:").unwrap_or(before).trim_end_matches(['/', '\\']);
            if is_whole(rest) {
                let reason = format!(
                    "`{pattern}` reaches all of the game's folder; name the folder that is meant in full, such as `cache/**`"
                );
                return wrong(&[Key("clears"), At(index)], reason);
            }
            let is_root = wild.is_some() && before.ends_with(':');
            if let Some(Err(reason)) = (!is_root).then(|| check_address(before)) {
                return wrong(&[Key("clears"), At(index)], reason);
            }
        }
        Ok(())
    }

    /// Makes the whole package that which lies beside the sheet, which lies in the folder around everything.
    pub fn leave_out_wrapper(&mut self) {
        let options = self.choice.iter_mut().flat_map(|choice| &mut choice.option);
        let of_options = options.flat_map(|option| &mut option.place);
        let of_parts = self.part.iter_mut().flat_map(|part| &mut part.place);
        for place in self.place.iter_mut().chain(of_options).chain(of_parts) {
            if matches!(place.from.as_str(), "." | "./" | ".\\") {
                "*".clone_into(&mut place.from);
            }
        }
    }

    /// The rules that the sheet makes.
    pub fn rules(&self, rank: Rank) -> Rules {
        let places = |places: &[SheetPlace]| -> Vec<Place> {
            let ranked = |place: &SheetPlace| Place { from: place.from.clone(), to: place.to.clone(), rank };
            places.iter().map(ranked).collect()
        };
        let option = |option: &SheetOption| ChoiceOption {
            name: option.name.clone(),
            says: option.says.clone(),
            folder: option.folder.clone(),
            places: places(&option.place),
            starts: option.start.clone(),
            proofs: option.proof.clone(),
        };
        let choices = self.choice.iter().map(|choice| Choice {
            id: choice.id.clone(),
            ask: choice.ask.clone(),
            default: choice.default.clone(),
            options: choice.option.iter().map(option).collect(),
        });
        let parts = self.part.iter().map(|part| Part {
            id: part.id.clone(),
            says: part.says.clone(),
            on: part.on,
            folder: part.folder.clone(),
            places: places(&part.place),
            starts: part.start.clone(),
            proofs: part.proof.clone(),
        });
        Rules {
            places: places(&self.place),
            only: self.only.clone(),
            skip: self.skip.clone(),
            choices: choices.collect(),
            parts: parts.collect(),
            tidy: self.tidy.unwrap_or(false),
            wishes: Wishes {
                needs: Needs {
                    game: self.needs.game.clone(),
                    layers: self.needs.layers.clone(),
                    clean: self.needs.clean.clone(),
                    made_from: self.needs.made_from.clone(),
                    clashes: self.clashes.clone(),
                    above: self.order.above.clone(),
                    below: self.order.below.clone(),
                    ..Needs::default()
                },
                takes_away: self.takes_away.clone(),
                sets: self.set.clone(),
                starts: self.start.clone(),
                clears: self.clears.clone(),
                proofs: self.proof.clone(),
                patches: self.patches.clone(),
                by_lines: self.by_lines.clone(),
                whole: self.blend == Some(false),
                keep_signature: self.keep_signature,
                as_members: self.as_members,
            },
            ..Rules::default()
        }
    }

    /// The sheet that says what `rules` say; what was chosen becomes what is chosen by default.
    pub fn of(rules: &Rules) -> Self {
        let places = |places: &[Place]| -> Vec<SheetPlace> {
            places.iter().map(|place| SheetPlace { from: place.from.clone(), to: place.to.clone() }).collect()
        };
        let option = |option: &ChoiceOption| SheetOption {
            name: option.name.clone(),
            says: option.says.clone(),
            folder: option.folder.clone(),
            place: places(&option.places),
            start: option.starts.clone(),
            proof: option.proofs.clone(),
        };
        let choice = |choice: &Choice| SheetChoice {
            id: choice.id.clone(),
            ask: choice.ask.clone(),
            default: rules.chosen.get(&choice.id).or(choice.default.as_ref()).cloned(),
            option: choice.options.iter().map(option).collect(),
        };
        let part = |part: &Part| SheetPart {
            id: part.id.clone(),
            says: part.says.clone(),
            on: rules.chosen.get(&part.id).map_or(part.on, |word| word == "on"),
            folder: part.folder.clone(),
            place: places(&part.places),
            start: part.starts.clone(),
            proof: part.proofs.clone(),
        };
        let wishes = &rules.wishes;
        Self {
            format: Some(SHEET_FORMAT),
            patches: wishes.patches.clone(),
            tidy: rules.tidy.then_some(true),
            blend: wishes.whole.then_some(false),
            by_lines: wishes.by_lines.clone(),
            skip: rules.skip.clone(),
            only: rules.only.clone(),
            takes_away: rules.takes_away(),
            keep_signature: rules.keeps_signature(),
            as_members: rules.takes_members(),
            clashes: wishes.needs.clashes.clone(),
            needs: SheetNeeds {
                game: wishes.needs.game.clone(),
                layers: wishes.needs.layers.clone(),
                clean: wishes.needs.clean.clone(),
                made_from: wishes.needs.made_from.clone(),
            },
            order: SheetOrder { above: wishes.needs.above.clone(), below: wishes.needs.below.clone() },
            place: places(&rules.places),
            choice: rules.choices.iter().map(choice).collect(),
            part: rules.parts.iter().map(part).collect(),
            set: wishes.sets.clone(),
            start: wishes.starts.clone(),
            clears: wishes.clears.clone(),
            proof: wishes.proofs.clone(),
            ..Self::default()
        }
    }
}

impl SheetChoice {
    fn check(&self, index: usize, source: &SheetText<'_>) -> Result<(), FitError> {
        use Step::{At, Key};
        let wrong = |last: Step<'static>, reason: String| {
            Err(source.mistake_at(&[Key("choice"), At(index), last], reason))
        };
        if self.option.len() < 2 {
            return wrong(Key("option"), "a choice needs two options or more".to_owned());
        }
        let names: Vec<&str> = self.option.iter().map(|option| option.name.as_str()).collect();
        if let Some(default) = self.default.as_deref().filter(|default| !names.contains(default)) {
            let reason = format!("`{default}` is none of the options ({})", names.join(", "));
            return wrong(Key("default"), reason);
        }
        for (number, option) in self.option.iter().enumerate() {
            let of_option = || vec![Key("choice"), At(index), Key("option"), At(number)];
            if names[..number].contains(&option.name.as_str()) {
                let at = [of_option(), vec![Key("name")]].concat();
                return Err(source.mistake_at(&at, format!("`{}` is there twice", option.name)));
            }
            check_places(&option.place, of_option(), source)?;
            check_wishes(&option.start, &option.proof, of_option(), source)?;
        }
        Ok(())
    }
}

/// Checks an id, and adds it to those that are there.
fn check_id<'s>(id: &'s str, ids: &mut Vec<&'s str>) -> Result<(), String> {
    if id.is_empty() || !id.chars().all(|c| c.is_alphanumeric() || c == '-' || c == '_') {
        return Err(format!("`{id}` can't be an id: use letters, digits, `-` and `_`"));
    }
    if ids.contains(&id) {
        return Err(format!("the id `{id}` is there twice"));
    }
    ids.push(id);
    Ok(())
}

/// Whether `path` is the package's fit sheet, at its top or that of its wrapper folder.
pub fn is_sheet(path: &RelPath, wrapper: Option<&RelPath>) -> bool {
    path.name().eq_ignore_ascii_case(SHEET_NAME)
        && (path.parent().is_root() || Some(&path.parent()) == wrapper)
}

#[cfg(test)]
mod tests {
    use super::*;

    const WHOLE: &str = r#"format = 1
name = "Brass Lamps"
version = "1.2b"
patches = "1.1"
skip = ["*.psd"]
by_lines = ["notes/*.txt"]
clears = ["cache/**"]
takes_away = ["game:data/old.txt"]
clashes = ["Iron Lamps"]
needs = { game = ">=1.7", layers = ["Harbour Core >=2"] }
order = { above = ["Fog"], below = [] }

[[place]]
from = "*/data"
to = "game:data"

[[choice]]
id = "finish"
ask = "Which finish?"
[[choice.option]]
name = "polished"
place = [{ from = "polished", to = "data/lamps" }]
[[choice.option]]
name = "matte"
place = [{ from = "matte", to = "data/lamps" }]

[[part]]
id = "extras"
place = [{ from = "extras", to = "game:" }]

[[set]]
file = "game:config/harbour.ini"
key = "Gulls.count"
value = "40"

[[start]]
program = "bin:loader.exe"
arguments = ["-x"]
environment = { LAMPS = "bright" }

[[proof]]
log = "docs:lamps.log"
contains = "lamps * lit"

[[proof]]
version_of = "bin/lamps.dll"
is = ">=1.2"
"#;

    #[test]
    fn a_sheet_comes_back_from_its_rules() {
        let sheet = FitSheet::parse(WHOLE).unwrap();
        let rules = sheet.rules(Rank::Package);
        let again =
            FitSheet { name: sheet.name.clone(), version: sheet.version.clone(), ..FitSheet::of(&rules) };
        assert_eq!(again, sheet);
        let text = toml::to_string(&again).unwrap();
        assert_eq!(FitSheet::parse(&text).unwrap(), again, "{text}");
    }

    #[test]
    fn mistakes_are_placed() {
        let at = |text: &str, line: usize, column: usize, word: &str| match FitSheet::parse(text) {
            Err(FitError::BadSheet { line: l, column: c, reason }) => {
                assert_eq!((l, c), (line, column), "{text}: {reason}");
                assert!(reason.contains(word), "{reason}");
            }
            other => panic!("{text}: {other:?}"),
        };
        at("name = \"a\"\nversion = 1\n", 2, 11, "string");
        at("name = \"a\"\nvresion = \"1\"\n", 2, 1, "vresion");
        at("format = 2\nnew_key = 1\n", 1, 10, "format 2");
        at("x = [", 1, 6, "");
        at("[[place]]\nfrom = \"a\"\nto = \"../x\"\n", 3, 6, "steps out");
        at("[[place]]\nfrom = \"../a\"\nto = \"game:\"\n", 2, 8, "steps out");
        at("[[place]]\nfrom = \"a\"\n", 1, 1, "to");
        at("name = \"a\"\n[[proof]]\nlog = \"a.log\"\n", 2, 1, "contains");
        at("skip = [\"ok\", \"[\"]\n", 1, 15, "pattern");
        at("by_lines = [\"[\"]\n", 1, 13, "pattern");
        at("[[choice]]\nid = \"x\"\noption = [{ name = \"a\" }]\n", 3, 10, "two");
        let two = "option = [{ name = \"a\" }, { name = \"b\" }]\n";
        at(&format!("[[choice]]\nid = \"x y\"\n{two}"), 2, 6, "id");
        at(&format!("[[choice]]\nid = \"x\"\ndefault = \"c\"\n{two}"), 3, 11, "none of");
        at("[[part]]\nid = \"x\"\n[[part]]\nid = \"x\"\n", 4, 6, "twice");
        let deep = "[[choice]]\nid = \"x\"\n[[choice.option]]\nname = \"a\"\nplace = [{ from = \"a\", to = \"c:\\\\x\" }]\n";
        at(&format!("{deep}[[choice.option]]\nname = \"b\"\n"), 5, 29, "drive");
    }
}
