#![no_main]

use odd_stack_core::blend::Format;
use odd_stack_fuzz::settings::hold_the_law;

// The first byte says which format it is taken for.
libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((first, rest)) = bytes.split_first() else { return };
    hold_the_law(Format::ALL[usize::from(*first) % Format::ALL.len()], rest);
});
