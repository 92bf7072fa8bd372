#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| odd_stack_fuzz::read_all(b"7z\xbc\xaf\x27\x1c", bytes));
