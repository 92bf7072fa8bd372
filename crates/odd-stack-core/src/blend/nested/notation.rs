//! How files of values in one another are written down.

use std::collections::HashSet;

use super::value::{Kind, Node};

/// How such files are written down.
pub(in crate::blend) trait Notation: std::fmt::Debug + Clone {
    const COMMENTS: Comments;
    /// Around the elements of an array; around those of an object are always braces.
    const ARRAY: [char; 2];
    /// What may stand between elements; the first is what is written.
    const SEPARATORS: &'static [char];

    /// Reads a whole file.
    ///
    /// # Errors
    /// What is wrong with it, with the line where that is known.
    fn read(text: &str) -> Result<Outline, String>;

    /// What stands before the value of that name in an object.
    fn named(name: &str) -> String;

    /// How a value that a person types is written: over a text it is a text, else what it reads as.
    fn typed(text: &str, over: Option<&Kind>) -> String;

    /// The name of the statement that must be the last.
    const LAST_STATEMENT: &'static str = "";

    /// A statement that sets a value in a file which does not know its name; `others` are those that it knows.
    ///
    /// # Errors
    /// Why there can be no such statement.
    fn statement(name: &str, _value: &str, _others: &HashSet<&str>) -> Result<String, String> {
        Err(format!("`{name}` has no place in the file"))
    }

    /// Whether an empty array is written as an empty object is.
    fn is_empty_either() -> bool {
        Self::ARRAY[0] == '{'
    }
}

/// What comments stand between.
pub(in crate::blend) struct Comments {
    /// Up to the end of the line.
    pub(super) line: &'static str,
    pub(super) open: &'static str,
    pub(super) close: &'static str,
}

/// A file as it was read.
pub(in crate::blend) struct Outline {
    pub(super) root: Node,
    /// The root is no value in the text, but its properties are statements one after the other.
    pub(super) is_list_of_statements: bool,
}
