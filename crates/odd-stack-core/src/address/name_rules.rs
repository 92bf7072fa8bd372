//! Which names may be written at all, on every system we run on.
//!
//! The rules are those of the strictest system (Windows), whatever the present one is: a layer must
//! not depend on where it was added. Sources: "Naming Files, Paths, and Namespaces" of the Windows
//! documentation for device names and refused characters; NTFS and ext4 for the length limits.

use thiserror::Error;

/// The longest single name, in UTF-8 bytes and in UTF-16 units.
pub const LONGEST_NAME: usize = 255;
/// The longest path below a root, in UTF-8 bytes.
pub const LONGEST_PATH_BYTES: usize = 1024;

/// Why a name is refused.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum NameProblem {
    /// Nothing was left to name a file.
    #[error("the name is empty")]
    Empty,
    /// Two separators in a row, or one at the start or end.
    #[error("it has an empty part")]
    EmptyPart,
    /// A part is `.` or `..`.
    #[error("it steps out of its folder with `{0}`")]
    Climbs(&'static str),
    /// The path starts at the top of a disk.
    #[error("it is an absolute path")]
    Absolute,
    /// The path starts with a drive letter.
    #[error("it names a drive")]
    Drive,
    /// The path starts with `\\` or `//`.
    #[error("it is a network (UNC) path")]
    Network,
    /// A backslash inside one name.
    #[error("it has a backslash inside a name")]
    Backslash,
    /// A character below U+0020, or U+007F to U+009F.
    #[error("it has the control character U+{0:04X}")]
    Control(u32),
    /// A colon, which on Windows names an alternate stream.
    #[error("it has a `:`, which on Windows names a hidden stream")]
    Stream,
    /// One of `< > " | ? *`.
    #[error("it has the character `{0}`, which Windows refuses")]
    Refused(char),
    /// CON, NUL, COM1 and the like.
    #[error("`{0}` is a device name on Windows")]
    Device(String),
    /// A part ends with a dot or a space, which Windows drops.
    #[error("the part `{0}` ends with a dot or a space")]
    TrailingDotOrSpace(String),
    /// One name is too long.
    #[error("a part of it is longer than {LONGEST_NAME} characters")]
    NameTooLong,
    /// The whole path is too long.
    #[error("it is longer than {LONGEST_PATH_BYTES} bytes")]
    PathTooLong,
    /// The bytes are not text.
    #[error("the name is not valid text")]
    NotText,
}

/// Looks at a whole path written with `/`, before it is cut into parts.
pub(super) fn check_path(path: &str) -> Result<(), NameProblem> {
    let bytes = path.as_bytes();
    let separator = |index: usize| matches!(bytes.get(index), Some(b'/' | b'\\'));
    if path.is_empty() {
        return Err(NameProblem::Empty);
    }
    if separator(0) && separator(1) {
        return Err(NameProblem::Network);
    }
    if separator(0) {
        return Err(NameProblem::Absolute);
    }
    if bytes[0].is_ascii_alphabetic() && bytes.get(1) == Some(&b':') {
        return Err(NameProblem::Drive);
    }
    check_length(path)?;
    path.split('/').try_for_each(check_part)
}

pub(super) fn check_length(path: &str) -> Result<(), NameProblem> {
    if path.len() > LONGEST_PATH_BYTES { Err(NameProblem::PathTooLong) } else { Ok(()) }
}

/// Looks at one name between two separators.
fn check_part(part: &str) -> Result<(), NameProblem> {
    match part {
        "" => return Err(NameProblem::EmptyPart),
        "." => return Err(NameProblem::Climbs(".")),
        ".." => return Err(NameProblem::Climbs("..")),
        _ => {}
    }
    let is_plain =
        |byte: u8| matches!(byte, b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'_' | b'-' | b'.' | b' ');
    if !part.bytes().all(is_plain) {
        part.chars().try_for_each(check_character)?;
    }
    if part.ends_with(['.', ' ']) {
        return Err(NameProblem::TrailingDotOrSpace(part.to_owned()));
    }
    if is_device_name(part) {
        return Err(NameProblem::Device(part.to_owned()));
    }
    // In UTF-16 it has no more units than bytes.
    if part.len() > LONGEST_NAME {
        return Err(NameProblem::NameTooLong);
    }
    Ok(())
}

fn check_character(character: char) -> Result<(), NameProblem> {
    match character {
        '\\' => Err(NameProblem::Backslash),
        ':' => Err(NameProblem::Stream),
        '<' | '>' | '"' | '|' | '?' | '*' => Err(NameProblem::Refused(character)),
        _ if character.is_control() => Err(NameProblem::Control(u32::from(character))),
        _ => Ok(()),
    }
}

fn is_device_name(part: &str) -> bool {
    /// That of `CONOUT$`, and of a name with a superscript digit.
    const MOST_BYTES: usize = 8;
    let stem = part.split('.').next().unwrap_or(part).trim_end_matches(' ');
    if stem.len() > MOST_BYTES || !stem.starts_with(['C', 'c', 'P', 'p', 'A', 'a', 'N', 'n', 'L', 'l']) {
        return false;
    }
    let upper = stem.to_uppercase();
    if matches!(upper.as_str(), "CON" | "PRN" | "AUX" | "NUL" | "CONIN$" | "CONOUT$") {
        return true;
    }
    let Some(rest) = upper.strip_prefix("COM").or_else(|| upper.strip_prefix("LPT")) else {
        return false;
    };
    let mut digits = rest.chars();
    matches!((digits.next(), digits.next()), (Some('0'..='9' | '\u{b9}' | '\u{b2}' | '\u{b3}'), None))
}
