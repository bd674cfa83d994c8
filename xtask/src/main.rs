//! `cargo xtask demo`, `cargo xtask build`, `cargo xtask test`, `cargo xtask bench`: what a person types, on a machine that has
//! only Rust, Node and Debian's packages within reach.
//!
//! - [`setup`]: what must be installed, and installing it
//! - [`console`]: the console's packages and its build
//! - [`cluster`]: SQL on several machines, whose engine is built apart
//! - [`steps`]: running a program and saying what it was for

mod cluster;
mod console;
mod setup;
mod steps;

use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};
use steps::{Failed, cargo, run};

const USAGE: &str = "\
cargo xtask demo [OPTIONS…]   build everything and open Port Lindry (options go to `exedra demo`)
cargo xtask build             the release program with its console, to be installed
cargo xtask test              formatting, lints, types and all tests
cargo xtask test --cluster    the same of the cluster, which has a build of its own
cargo xtask cluster           a scheduler and two workers on this machine, over Port Lindry's logs
cargo xtask bench NAME        a comparison with its ceiling, or without a name which there are
cargo xtask types             write the API's description and the console's types anew
";

fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let command = arguments.next().unwrap_or_default();
    let rest: Vec<String> = arguments.collect();
    let result = match command.as_str() {
        "demo" => demo(&rest),
        "build" => build(),
        "test" if rest == ["--cluster"] => cluster::test(&root()),
        "test" => test(),
        "cluster" => cluster::open(&root()),
        "bench" => bench(&rest),
        "types" => types(),
        _ => Err(Failed(USAGE.to_owned())),
    };
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(Failed(words)) => {
            eprintln!("{}", words.trim_end());
            ExitCode::FAILURE
        }
    }
}

/// The root of the repository.
fn root() -> PathBuf {
    let own = Path::new(env!("CARGO_MANIFEST_DIR"));
    own.parent().unwrap_or(own).to_owned()
}

fn demo(options: &[String]) -> Result<(), Failed> {
    setup::compiler()?;
    console::build(&root())?;
    run("building Exedra", cargo(&root()).args(["build", "--profile", "quick", "--package", "exedra"]))?;
    let target = setup::target_folder(&root());
    let folder = target.join("port-lindry");
    let mut program = Command::new(target.join("quick/exedra"));
    program.arg("demo").args(options);
    if !options.iter().any(|option| option.starts_with("--folder")) {
        program.arg("--folder").arg(folder);
    }
    run("opening Port Lindry", &mut program)
}

/// The program that people install: a plain `cargo build --release` has no console in it.
fn build() -> Result<(), Failed> {
    setup::compiler()?;
    console::build(&root())?;
    run("building Exedra", cargo(&root()).args(["build", "--release", "--package", "exedra"]))?;
    let program = setup::target_folder(&root()).join("release/exedra");
    let program = program.canonicalize().unwrap_or(program);
    eprintln!("── it is {}: copy it to where programs are, as in /usr/local/bin", program.display());
    Ok(())
}

fn test() -> Result<(), Failed> {
    let root = root();
    setup::compiler()?;
    setup::tests()?;
    run("formatting", cargo(&root).args(["fmt", "--all", "--check"]))?;
    console::check(&root)?;
    console::build(&root)?;
    let lint = ["clippy", "--profile", "quick", "--workspace", "--all-targets", "--", "-D", "warnings"];
    run("lints", cargo(&root).args(lint))?;
    // With the same choice of packages and targets as the tests, so that nothing is built twice.
    let everything = ["build", "--profile", "quick", "--workspace", "--bins", "--tests"];
    run("building Exedra and its tests", cargo(&root).args(everything))?;
    run("tests", cargo(&root).args(["test", "--profile", "quick", "--workspace"]))
}

/// Installs what a comparison needs that is not built here.
type Install = fn() -> Result<(), Failed>;

/// The comparisons, each with that.
const COMPARISONS: [(&str, Install); 6] = [
    ("read", || Ok(())),
    ("serve", setup::loader),
    ("store", setup::loader),
    ("query", setup::other_engine),
    ("rehearse", || Ok(())),
    ("rules", || Ok(())),
];

fn bench(names: &[String]) -> Result<(), Failed> {
    let asked = names.first().map_or("", String::as_str);
    let Some((name, install)) = COMPARISONS.iter().find(|(name, _)| *name == asked) else {
        let all = COMPARISONS.map(|(name, _)| name).join(", ");
        return Err(Failed(format!("which comparison? cargo xtask bench NAME, with one of {all}")));
    };
    let root = root();
    setup::compiler()?;
    install()?;
    run(
        "building",
        cargo(&root).args(["build", "--release", "--package", "exedra", "--package", "exedra-benches"]),
    )?;
    let folder = setup::target_folder(&root).join("release");
    let mut program = Command::new(folder.join("exedra-benches"));
    run("measuring", program.arg(name).arg(folder.join("exedra")).args(&names[1..]))
}

fn types() -> Result<(), Failed> {
    let root = root();
    let tests = ["test", "--profile", "quick", "--workspace", "--lib", "--bins"];
    let write = ["--", "the_description", "the_published"];
    run(
        "the API's description, the report's schema and the guide's lists",
        cargo(&root).args(tests).args(write).env("EXEDRA_WRITE_DESCRIPTION", "1"),
    )?;
    console::types(&root)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::{BTreeMap, BTreeSet};

    /// The features of each package of the engine, with some packages of ours chosen.
    fn features(chosen: &[&str]) -> BTreeMap<String, BTreeSet<String>> {
        let root = root();
        let tree = |more: &[&str]| {
            let fixed = ["tree", "--offline", "--prefix", "none", "--format", "{p}|{f}"];
            let output = cargo(&root).args(fixed).args(more).output().expect("cargo");
            String::from_utf8(output.stdout).expect("text").replace(" (*)", "")
        };
        let name = |line: &str| line.split('|').next().unwrap_or_default().trim().to_owned();
        let engine = tree(&["--package", "datafusion", "--edges", "normal,build"]);
        let engine: BTreeSet<String> = engine.lines().map(name).collect();
        assert!(engine.len() > 100, "{engine:?}");
        let mut features: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for line in tree(chosen).lines().filter(|line| engine.contains(&name(line))) {
            features.entry(name(line)).or_default().insert(line.to_owned());
        }
        features
    }

    /// The engine is most of the build: where tests gave one of its packages another feature than the program does, it would be built
    /// twice, for the demo and for the tests.
    #[test]
    fn the_engine_is_built_once_for_the_program_and_its_tests() {
        let program = features(&["--package", "exedra", "--edges", "normal,build"]);
        let tests = features(&["--workspace", "--edges", "normal,build,dev"]);
        for (package, of_program) in &program {
            // A package may be there twice, once for what runs while building: each of the program must be one of the tests'.
            assert!(
                of_program.is_subset(&tests[package]),
                "{package}: {of_program:?} and not {:?}: see `ahash` in Cargo.toml",
                tests[package]
            );
        }
    }
}
