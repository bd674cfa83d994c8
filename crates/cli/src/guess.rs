//! The command that was meant, where somebody guesses; and the first ones, where nobody does.

use crate::failure::Failure;
use crate::out::{QUIET, STRONG};
use exedra_common::text::nearest;
use std::ffi::OsString;

/// Words that newcomers try, and the commands that do what they mean.
const GUESSES: &[(&[&str], &str)] = &[
    (&["start", "run", "server", "daemon", "up"], "serve --config exedra.toml"),
    (&["test", "validate", "verify", "lint"], "check --config exedra.toml"),
    (&["stats", "analyze", "analyse", "logs", "log", "parse", "read", "summary"], "report access.log"),
    (&["format", "detect", "formats", "layouts"], "layout access.log"),
    (&["client", "session", "visitor"], "trail ADDRESS access.log"),
    (&["tail", "follow", "list", "grep", "lines", "request"], "requests access.log --only status=5xx"),
    (&["why", "trace", "debug"], "explain http://host/path"),
    (&["scan", "security", "exposed"], "audit SITE --config exedra.toml"),
    (&["compress", "compression", "gzip", "bench"], "weigh SITE --config exedra.toml"),
    (&["login", "console", "dashboard", "web", "ui"], "sign-in --config exedra.toml"),
    (&["passwd", "user"], "password NAME"),
    (&["health", "info"], "status --config exedra.toml"),
    (&["restart", "apply"], "reload --config exedra.toml"),
    (&["find", "problems", "improve", "suggest"], "findings --config exedra.toml"),
    (&["history", "versions"], "revisions --config exedra.toml"),
    (&["rollback", "undo", "revert"], "restore NUMBER --config exedra.toml"),
    (&["options", "config", "defaults"], "settings"),
    (&["variables", "vars"], "facts"),
    (&["filters"], "columns"),
    (&["license", "licenses", "about"], "licences"),
    (&["example", "tour", "try", "init", "new"], "demo"),
];

/// Says which command does what was asked for.
pub fn lead(words: &[OsString], program: &clap::Command) -> Result<(), Failure> {
    let word = words.first().map(|word| word.to_string_lossy().into_owned()).unwrap_or_default();
    let guess = GUESSES.iter().find(|(guesses, _)| guesses.contains(&&*word)).map(|(_, meant)| *meant);
    let names = || program.get_subcommands().map(clap::Command::get_name);
    let near = guess.or_else(|| nearest(&word, names()));
    Err(Failure(match near {
        Some(near) => format!("there is no command `{word}`: try `exedra {near}`"),
        None => {
            let names: Vec<&str> = names().collect();
            format!("there is no command `{word}`. There is {}", names.join(", "))
        }
    }))
}

/// What somebody does first.
pub fn first_steps() {
    let steps = [
        ("exedra report access.log", "what is in any web server's access log"),
        ("exedra demo", "a made-up town with three sites, five weeks of past and the console"),
        ("exedra serve --config exedra.toml", "your own sites; the guide says how to write the file"),
    ];
    crate::out::line!("Exedra serves static websites and reads web servers' logs. Begin with one of these:");
    crate::out::line!();
    for (command, what) in steps {
        crate::out::line!("  {STRONG}{command:<36}{STRONG:#} {QUIET}{what}{QUIET:#}");
    }
    crate::out::line!();
    crate::out::line!("`exedra help` lists every command, `exedra help report` explains one.");
}
