#![no_main]

use odd_stack_core::blend::Format;
use odd_stack_fuzz::settings::hold_the_law;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| hold_the_law(Format::Ini, bytes));
