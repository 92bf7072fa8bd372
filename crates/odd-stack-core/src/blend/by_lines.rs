//! Texts that have no keys.

use super::keyed::{Change, Key, Keyed, Settings};

/// A text that is only merged by lines; there is none that is read.
#[derive(Debug, Clone)]
pub(super) enum ByLines {}

impl Keyed for ByLines {
    const IS_BY_LINES: bool = true;

    fn parse(_text: &str) -> Result<Self, String> {
        Err("such files are merged by lines and have no keys".to_owned())
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
