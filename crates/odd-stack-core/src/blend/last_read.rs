//! The file that was read last, for whoever needs the same one next.

use std::any::Any;
use std::sync::Mutex;

use super::Text;
use super::compare::parse;
use super::keyed::Keyed;
use crate::hash::ContentHash;

/// Holds a file that was read, until it is taken or another is put in its place. Reading is most of the work where one
/// key of a big file is looked up and then set.
#[derive(Default)]
pub struct LastRead {
    held: Mutex<Option<(ContentHash, Box<dyn Any + Send>)>>,
}

impl LastRead {
    /// Reads a whole file, unless it is the one that is held.
    pub(super) fn take_or_parse<D: Keyed + Send + 'static>(
        &self,
        content: &[u8],
    ) -> Result<(Text, D), String> {
        let held = self.held.lock().ok().and_then(|mut held| held.take());
        if let Some((hash, document)) = held
            && hash == ContentHash::of(content)
            && let Ok(read) = document.downcast::<(Text, D)>()
        {
            return Ok(*read);
        }
        parse(content)
    }

    /// Holds a file as it was read.
    pub(super) fn keep<D: Keyed + Send + 'static>(&self, content: &[u8], read: (Text, D)) {
        if let Ok(mut held) = self.held.lock() {
            *held = Some((ContentHash::of(content), Box::new(read)));
        }
    }
}
