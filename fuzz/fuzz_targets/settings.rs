#![no_main]

use odd_stack_core::blend::{Format, carry_over, combine, edits_between, key_clashes, text_difference};

// The first byte says which format it is taken for; 0xff parts the file of the game from those of two layers.
libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((first, rest)) = bytes.split_first() else { return };
    let format = [Format::Ini, Format::Json, Format::Toml, Format::Xml][usize::from(first % 4)];
    let parts: Vec<&[u8]> = rest.splitn(3, |byte| *byte == 0xff).collect();
    let part = |number: usize| parts.get(number).copied().unwrap_or_default();
    let (base, lower, upper) = (part(0), part(1), part(2));
    if let Ok(made) = combine(format, Some(base), &[lower, upper], &[]) {
        // What was made can be read again.
        assert!(combine(format, Some(&made.content), &[&made.content], &[]).is_ok());
    }
    let _ = key_clashes(format, Some(base), lower, upper);
    let _ = edits_between(format, base, upper);
    let _ = carry_over(Some(format), base, lower, upper, None);
    let _ = text_difference(lower, upper);
});
