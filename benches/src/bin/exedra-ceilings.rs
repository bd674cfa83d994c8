//! The least that could be done with a log, as a program of its own: nothing of another measurement is in its memory, and it
//! allocates as any program does that chooses nothing.
//!
//! `exedra-ceilings newlines|unpack|counter FILE` does one of them ([`exedra_benches::ceilings`]) and prints a number that depends on
//! all of it.

use exedra_benches::ceilings;
use std::path::Path;
use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let result = match arguments.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        ["newlines", file] => ceilings::newlines(Path::new(file)),
        ["unpack", file] => ceilings::unpack(Path::new(file)),
        ["counter", file] => ceilings::counter(Path::new(file)),
        _ => {
            eprintln!("exedra-ceilings newlines, unpack, or counter, and a file");
            return ExitCode::FAILURE;
        }
    };
    match result {
        Ok(count) => {
            println!("{count}");
            ExitCode::SUCCESS
        }
        Err(error) => {
            eprintln!("{error}");
            ExitCode::FAILURE
        }
    }
}
