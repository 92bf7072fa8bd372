#![no_main]

use odd_stack_core::blend::{Format, KeyRow, carry_over, combine, edits_between, key_rows, text_difference};

// The first byte says which format it is taken for; 0xff parts the file of the game from those of two layers.
libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((first, rest)) = bytes.split_first() else { return };
    let format = Format::ALL[usize::from(*first) % Format::ALL.len()];
    let parts: Vec<&[u8]> = rest.splitn(3, |byte| *byte == 0xff).collect();
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
});

/// Whether a value is written alike in all files.
fn is_plain(value: &Option<String>) -> bool {
    value.as_ref().is_none_or(|value| !value.contains(['\n', '\r', '"', '\'', '&', ' ', '\t']))
}
