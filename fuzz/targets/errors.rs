#![no_main]

libfuzzer_sys::fuzz_target!(|octets: &[u8]| exedra_fuzz::errors(octets));
