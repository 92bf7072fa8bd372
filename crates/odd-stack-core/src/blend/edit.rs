//! Changes of single keys, as people and fit sheets ask for them and as the ledger keeps them.

use std::sync::Arc;

use serde::{Deserialize, Serialize};

/// A change of one key, as a person or a fit sheet asks for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyEdit {
    /// The key as people write it in files of that format.
    pub key: String,
    /// Its value; none to take the key out.
    pub value: Option<String>,
    /// The text in which the key means what it was meant for, where it names a place in a list; nothing else needs it.
    pub seen: Option<Arc<str>>,
}

impl KeyEdit {
    /// One whose key means the same in every version of the file, or which was not yet made in one.
    pub fn new(key: impl Into<String>, value: Option<String>) -> Self {
        Self { key: key.into(), value, seen: None }
    }
}

/// Edits as they are kept, those that need none as a plain list; each text once.
#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum Kept {
    Plain(Vec<KeptEdit>),
    WithTexts { edits: Vec<KeptEdit>, texts: Vec<Arc<str>> },
}

#[derive(Serialize, Deserialize)]
struct KeptEdit {
    key: String,
    value: Option<String>,
    /// The number of its text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    seen: Option<usize>,
}

/// Edits as the ledger keeps them: JSON, see [`read_edits`].
///
/// # Errors
/// None that a list of texts can cause.
pub fn write_edits(edits: &[KeyEdit]) -> Result<Vec<u8>, serde_json::Error> {
    let mut texts: Vec<Arc<str>> = Vec::new();
    let mut number = |text: &Arc<str>| {
        texts.iter().position(|known| known == text).unwrap_or_else(|| {
            texts.push(text.clone());
            texts.len() - 1
        })
    };
    let kept = edits.iter().map(|edit| KeptEdit {
        key: edit.key.clone(),
        value: edit.value.clone(),
        seen: edit.seen.as_ref().map(&mut number),
    });
    let kept: Vec<KeptEdit> = kept.collect();
    serde_json::to_vec(&match texts.is_empty() {
        true => Kept::Plain(kept),
        false => Kept::WithTexts { edits: kept, texts },
    })
}

/// Reads what [`write_edits`] wrote.
///
/// # Errors
/// That it is no such list.
pub fn read_edits(content: &[u8]) -> Result<Vec<KeyEdit>, serde_json::Error> {
    let (edits, texts) = match serde_json::from_slice(content)? {
        Kept::Plain(edits) => (edits, Vec::new()),
        Kept::WithTexts { edits, texts } => (edits, texts),
    };
    let edit = |kept: KeptEdit| KeyEdit {
        key: kept.key,
        value: kept.value,
        seen: kept.seen.and_then(|number| texts.get(number).cloned()),
    };
    Ok(edits.into_iter().map(edit).collect())
}
