//! Files that have no keys.

use super::keyed::{Change, Key, Keyed, Settings};

/// A file that has no keys: a text that is merged by lines, or nothing that blends. There is none that is read.
#[derive(Debug, Clone)]
pub(super) enum NoKeys<const IS_BY_LINES: bool> {}

impl<const IS_BY_LINES: bool> Keyed for NoKeys<IS_BY_LINES> {
    const IS_BY_LINES: bool = IS_BY_LINES;

    fn parse(_text: &str) -> Result<Self, String> {
        Err(match IS_BY_LINES {
            true => "such files are merged by lines and have no keys",
            false => "by its content it is no settings file",
        }
        .to_owned())
    }

    fn settings(&self) -> &Settings {
        match *self {}
    }

    fn sense(&self) -> String {
        match *self {}
    }

    fn key_of(&self, _written: &str) -> Result<Key, String> {
        match *self {}
    }

    fn changed(&self, _changes: &[(Key, Change<'_, Self>)]) -> Result<String, String> {
        match *self {}
    }
}
