//! Which files are configuration that blends.

use globset::{GlobBuilder, GlobMatcher};
use serde::{Deserialize, Serialize};

use super::ini::Ini;
use super::keyed::Keyed;
use super::nested::Json;
use super::text::Text;
use super::xml::Xml;
use crate::address::last_part;

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
    /// Tables of Lua, without code.
    Lua,
    /// Any text: changes that lie apart are merged by lines; it has no keys.
    Lines,
    /// The name tells nothing: settings if the content is clearly such; see [`Format::of_content`].
    ByContent,
}

/// Files whose names tell nothing are not looked into beyond this size.
pub const MOST_GUESSED_BYTES: u64 = 1 << 20;

/// Endings of what is not taken for settings whatever it holds: code, pages, and what has no text.
const OTHER: [&str; 61] = [
    "asm", "bat", "c", "cc", "cmake", "cmd", "cpp", "cs", "css", "csv", "d", "fx", "fxh", "glsl", "go",
    "gsc", "h", "hlsl", "hpp", "htm", "html", "java", "js", "kt", "md", "nut", "nuc", "pas", "php", "pl",
    "po", "ps1", "py", "qc", "rb", "reg", "rs", "rst", "sc", "sh", "sql", "srt", "svg", "swift", "tex", "ts",
    "uc", "vbs", "wgsl", "zig", "dll", "exe", "pak", "zip", "7z", "rar", "dds", "png", "jpg", "tga", "ogg",
];

impl Format {
    /// What it is called in options and messages.
    pub fn name(self) -> &'static str {
        match self {
            Self::Ini => "ini",
            Self::Json => "json",
            Self::Toml => "toml",
            Self::Xml => "xml",
            Self::Lua => "lua",
            Self::Lines => "lines",
            Self::ByContent => "by content",
        }
    }

    /// All that can be said.
    pub const ALL: [Self; 6] = [Self::Ini, Self::Json, Self::Toml, Self::Xml, Self::Lua, Self::Lines];

    /// The format of that name.
    pub fn parse(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|format| format.name() == name)
    }

    /// What the ending of a name says.
    fn of_name(name: &str) -> Option<Self> {
        let (_, ending) = name.rsplit_once('.')?;
        const ENDINGS: [(&str, Format); 18] = [
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
            ("lua", Format::Lua),
            ("yml", Format::Lines),
            ("yaml", Format::Lines),
        ];
        ENDINGS.iter().find(|(known, _)| ending.eq_ignore_ascii_case(known)).map(|(_, format)| *format)
    }

    /// What it is by its content, where the ending says INI and many things are called so, or nothing. It stays
    /// [`Format::ByContent`] if it is nothing of that.
    pub fn of_content(self, content: &[u8]) -> Self {
        let text = content.strip_prefix(b"\xef\xbb\xbf").unwrap_or(content);
        match (self, text.iter().find(|byte| !byte.is_ascii_whitespace())) {
            (Self::Ini, Some(b'<')) => Self::Xml,
            (Self::Ini, Some(b'{')) => Self::Json,
            (Self::ByContent, _) => guessed(content).unwrap_or(self),
            _ => self,
        }
    }
}

/// The format of a file whose name tells nothing, where there is no doubt.
fn guessed(content: &[u8]) -> Option<Format> {
    if content.len() as u64 > MOST_GUESSED_BYTES || content.contains(&0) {
        return None;
    }
    let text = Text::decode(content)?.text;
    let is_one = match text.trim_start() {
        bare if bare.starts_with("<?xml") => return Xml::parse(&text).is_ok().then_some(Format::Xml),
        bare if bare.starts_with('{') => return Json::parse(&text).is_ok().then_some(Format::Json),
        _ => Ini::is_clearly(&text),
    };
    is_one.then_some(Format::Ini)
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
            let glob = GlobBuilder::new(&pattern).case_insensitive(true).literal_separator(true).build();
            let glob = glob.map_err(|error| format!("`{}` is no pattern: {}", rule.pattern, error.kind()))?;
            Ok((glob.compile_matcher(), pattern.contains('/'), rule.format))
        });
        Ok(Self { rules: compiled.collect::<Result<_, String>>()? })
    }

    /// As what the file at `path` may blend, by its name or, where that tells nothing, by its content. `by_lines` says that
    /// a layer's sheet lets it be merged so.
    pub fn may_blend_as(&self, path: &str, by_lines: bool) -> Option<Format> {
        let name = last_part(path);
        let is_other = |ending: &str| OTHER.iter().any(|own| ending.eq_ignore_ascii_case(own));
        match self.rule_for(path, name) {
            Some(format) => format,
            None => Format::of_name(name).or(by_lines.then_some(Format::Lines)).or_else(|| {
                let is_told = name.rsplit_once('.').is_some_and(|(_, ending)| is_other(ending));
                (!is_told).then_some(Format::ByContent)
            }),
        }
    }

    fn rule_for(&self, path: &str, name: &str) -> Option<Option<Format>> {
        let mut rules = self.rules.iter().rev();
        let told = rules.find(|(glob, whole, _)| glob.is_match(if *whole { path } else { name }));
        told.map(|(.., format)| *format)
    }

    /// The pattern that only `path` meets.
    pub fn pattern_of(path: &str) -> String {
        globset::escape(path)
    }

    /// As what the file at `path` may blend, by its name.
    pub fn format_of(&self, path: &str) -> Option<Format> {
        let name = last_part(path);
        self.rule_for(path, name).unwrap_or_else(|| Format::of_name(name))
    }
}
