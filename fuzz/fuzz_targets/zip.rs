#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| odd_stack_fuzz::read_all(b"PK\x03\x04", bytes));
