#![no_main]

libfuzzer_sys::fuzz_target!(|octets: &[u8]| exedra_fuzz::search(octets));
