#![no_main]

// A file in a game's folder may be anything: changing it inside ends, and what comes of it is a container again.
libfuzzer_sys::fuzz_target!(|bytes: &[u8]| drop(odd_stack_core::front::for_tests::change_container(bytes)));
