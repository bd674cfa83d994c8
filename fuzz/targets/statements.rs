#![no_main]

#[path = "../src/statements.rs"]
mod statements;

libfuzzer_sys::fuzz_target!(|octets: &[u8]| statements::statement(octets));
