//! A scheduler and two workers on this machine, over the logs of Port Lindry.

use crate::steps::{Failed, cargo, run};
use crate::{console, setup};
use std::fs;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

/// Where the scheduler listens.
const SCHEDULER: &str = "127.0.0.1:50050";
const WORKERS: usize = 2;

/// A process that ends with this one.
struct Process(Child);

impl Drop for Process {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Builds the cluster's program, exports Port Lindry, and runs scheduler and workers until one ends.
pub fn open(root: &Path) -> Result<(), Failed> {
    setup::compiler()?;
    console::build(root)?;
    run("building Exedra", cargo(root).args(["build", "--profile", "quick", "--package", "exedra"]))?;
    let program = build(root)?;
    let folder = setup::target_folder(root).join("cluster");
    let lake = folder.join("lake");
    export(&setup::target_folder(root).join("quick/exedra"), &folder.join("port-lindry"), &lake)?;
    let mut running = vec![start(&program, &["scheduler", "--address", SCHEDULER])?];
    for _ in 0..WORKERS {
        running.push(start(&program, &["worker", "--scheduler", SCHEDULER, "--threads", "1"])?);
    }
    eprintln!(
        "── ask, as in\n{} query \"select site, count(*) as requests from requests group by site\" --from {}\n── Ctrl-C ends it",
        program.display(),
        lake.display()
    );
    let ended = running[0].0.wait();
    ended.map(|_| ()).map_err(|error| Failed(format!("the scheduler cannot be waited for: {error}")))
}

/// Runs its tests.
pub fn test(root: &Path) -> Result<(), Failed> {
    setup::compiler()?;
    let folder = root.join("cluster");
    run("formatting of the cluster", cargo(&folder).args(["fmt", "--check"]))?;
    let lint = ["clippy", "--profile", "quick", "--all-targets", "--", "-D", "warnings"];
    run("lints of the cluster", cargo(&folder).args(lint))?;
    run("tests of the cluster", cargo(&folder).args(["test", "--profile", "quick"]))
}

fn build(root: &Path) -> Result<PathBuf, Failed> {
    let folder = root.join("cluster");
    run("building the cluster", cargo(&folder).args(["build", "--profile", "quick"]))?;
    Ok(setup::target_folder(&folder).join("quick/exedra-cluster"))
}

/// Has Port Lindry built, and exports the logs of its sites.
fn export(exedra: &Path, town: &Path, lake: &Path) -> Result<(), Failed> {
    let failed = |error| Failed(format!("Port Lindry cannot be opened: {error}"));
    let free = "127.0.0.1:0";
    let mut opened = Command::new(exedra)
        .args(["demo", "--quiet", "--sites", free, "--secured", free, "--console", free, "--folder"])
        .arg(town)
        .stdout(Stdio::piped())
        .spawn()
        .map_err(failed)?;
    let lines = opened.stdout.take().map(BufReader::new).into_iter().flat_map(BufRead::lines);
    let running = Process(opened);
    // Its past has been written when it says where it is.
    let is_open = lines.map_while(Result::ok).any(|line| line.starts_with("console"));
    drop(running);
    if !is_open {
        return Err(Failed("Port Lindry did not open".to_owned()));
    }
    let _ = fs::remove_dir_all(lake);
    let sites = fs::read_dir(town.join("sites")).map_err(failed)?.flatten();
    let mut command = Command::new(exedra);
    command.arg("export").args(sites.map(|site| site.file_name()));
    run("exporting Port Lindry", command.arg("--config").arg(town.join("exedra.toml")).arg("--to").arg(lake))
}

fn start(program: &Path, arguments: &[&str]) -> Result<Process, Failed> {
    let started = Command::new(program).args(arguments).spawn();
    started.map(Process).map_err(|error| Failed(format!("{} cannot be run: {error}", program.display())))
}
