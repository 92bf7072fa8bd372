//! Which files are configuration that blends.

use globset::{GlobBuilder, GlobMatcher};
use serde::{Deserialize, Serialize};

/// A format of configuration.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Format {
    /// Sections, keys and values by line.
    Ini,
    /// JSON, with or without comments.
    Json,
    /// TOML.
    Toml,
    /// XML.
    Xml,
    /// Any text: changes that lie apart are merged by lines; it has no keys.
    Lines,
}

impl Format {
    /// What it is called in options and messages.
    pub fn name(self) -> &'static str {
        match self {
            Self::Ini => "ini",
            Self::Json => "json",
            Self::Toml => "toml",
            Self::Xml => "xml",
            Self::Lines => "lines",
        }
    }

    /// All there are.
    pub const ALL: [Self; 5] = [Self::Ini, Self::Json, Self::Toml, Self::Xml, Self::Lines];

    /// The format of that name.
    pub fn parse(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|format| format.name() == name)
    }

    /// What the ending of a name says.
    fn of_name(name: &str) -> Option<Self> {
        let (_, ending) = name.rsplit_once('.')?;
        const ENDINGS: [(&str, Format); 17] = [
            ("ini", Format::Ini),
            ("cfg", Format::Ini),
            ("conf", Format::Ini),
            ("config", Format::Ini),
            ("inf", Format::Ini),
            ("properties", Format::Ini),
            ("prefs", Format::Ini),
            ("settings", Format::Ini),
            ("options", Format::Ini),
            ("cvars", Format::Ini),
            ("json", Format::Json),
            ("jsonc", Format::Json),
            ("json5", Format::Json),
            ("toml", Format::Toml),
            ("xml", Format::Xml),
            ("yml", Format::Lines),
            ("yaml", Format::Lines),
        ];
        ENDINGS.iter().find(|(known, _)| ending.eq_ignore_ascii_case(known)).map(|(_, format)| *format)
    }

    /// What it is by its content, where the ending says INI and many things are called so.
    pub fn of_content(self, content: &[u8]) -> Self {
        let text = content.strip_prefix(b"\xef\xbb\xbf").unwrap_or(content);
        match (self, text.iter().find(|byte| !byte.is_ascii_whitespace())) {
            (Self::Ini, Some(b'<')) => Self::Xml,
            (Self::Ini, Some(b'{')) => Self::Json,
            _ => self,
        }
    }
}

/// One rule of a game: files that meet the pattern blend as that format, or not at all.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BlendRule {
    /// Of paths below a root; without `/` it is held against names.
    pub pattern: String,
    /// The format; none when such files do not blend.
    pub format: Option<Format>,
}

/// A game's rules, ready to be asked.
#[derive(Debug, Clone, Default)]
pub struct BlendRules {
    rules: Vec<(GlobMatcher, bool, Option<Format>)>,
}

impl BlendRules {
    /// Of several rules that meet a path the last counts.
    ///
    /// # Errors
    /// What is wrong with a pattern.
    pub fn new(rules: &[BlendRule]) -> Result<Self, String> {
        let compiled = rules.iter().map(|rule| {
            let pattern = rule.pattern.replace('\\', "/");
            let glob = GlobBuilder::new(&pattern).case_insensitive(true).build();
            let glob = glob.map_err(|error| format!("`{}` is no pattern: {}", rule.pattern, error.kind()))?;
            Ok((glob.compile_matcher(), pattern.contains('/'), rule.format))
        });
        Ok(Self { rules: compiled.collect::<Result<_, String>>()? })
    }

    /// The pattern that only `path` meets.
    pub fn pattern_of(path: &str) -> String {
        globset::escape(path)
    }

    /// As what the file at `path` may blend, by its name.
    pub fn format_of(&self, path: &str) -> Option<Format> {
        let name = path.rsplit('/').next().unwrap_or(path);
        let told =
            self.rules.iter().rev().find(|(glob, whole, _)| glob.is_match(if *whole { path } else { name }));
        match told {
            Some((.., format)) => *format,
            None => Format::of_name(name),
        }
    }
}
