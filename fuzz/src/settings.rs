//! The law of blending on any bytes: a change that a layer makes is in the result, or it is a contest, or there is none.

use odd_stack_core::blend::{
    Format, KeyEdit, KeyRow, LastRead, carry_over, combine, edits_between, key_rows, resolve_edits,
    text_difference,
};

/// `bytes` are the file of the game and those of two layers, parted by 0xff.
///
/// # Panics
/// When the law is broken.
pub fn hold_the_law(format: Format, bytes: &[u8]) {
    let parts: Vec<&[u8]> = bytes.splitn(3, |byte| *byte == 0xff).collect();
    let part = |number: usize| parts.get(number).copied().unwrap_or_default();
    let (base, lower, upper) = (part(0), part(1), part(2));
    if let Ok(made) = combine(format, Some(base), &[lower, upper], &[]) {
        // What was made can be read again, unless a format is not understood that stands in lines.
        let is_read = combine(format, Some(&made.content), &[&made.content], &[]).is_ok();
        assert!(is_read || matches!(format, Format::Ini | Format::Lines));
        // A change that one layer makes is in the result, and nothing else is.
        if let Ok(rows) = key_rows(format, Some(base), &[lower, upper, &made.content], &[])
            && made.clashes.is_empty()
        {
            // That something holds nothing is no change where the other puts something in.
            let holds = |value: Option<&String>| {
                value.is_some_and(|value| ["", "{}", "[]"].contains(&value.as_str()))
            };
            let is_holder = |row: &KeyRow| {
                row.files.iter().flatten().any(|value| holds(value.as_ref())) || holds(row.base.as_ref())
            };
            for row in rows.into_iter().filter(|row| !is_holder(row)) {
                let [lower, upper, made] = row.files.as_slice() else { continue };
                match (lower, upper) {
                    (None, None) => assert_eq!(made, &None, "{}", row.key),
                    (None, Some(one)) | (Some(one), None) if is_plain(one) => {
                        assert_eq!(made.as_ref(), Some(one), "{}", row.key);
                    }
                    _ => assert!(made.is_some(), "{}", row.key),
                }
            }
        }
    }
    let _ = edits_between(format, base, upper);
    let _ = carry_over(Some(format), base, lower, upper, None);
    let _ = text_difference(lower, upper);
    // An edit made in one file is made in another, or told.
    let rows = key_rows(format, Some(base), &[lower], &[]).unwrap_or_default();
    for row in rows.into_iter().take(4) {
        let asked = [KeyEdit::new(row.key, Some("7".to_owned()))];
        if let Ok(made) = resolve_edits(format, lower, &asked, &LastRead::default()) {
            let edits: Vec<KeyEdit> = made.into_iter().map(|(edit, _)| edit).collect();
            let _ = combine(format, Some(base), &[upper], &[&edits]);
        }
    }
}

/// Whether a value is written alike in all files.
fn is_plain(value: &Option<String>) -> bool {
    value.as_ref().is_none_or(|value| !value.contains(['\n', '\r', '"', '\'', '&', ' ', '\t']))
}
