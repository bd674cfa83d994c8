//! A program on a terminal of its own: what it draws is read as a person would see it, and keys are pressed.
//!
//! The terminal is made by `script` (util-linux), so that signals, job control and changes of size are the real ones.

use crate::until;
use std::io::{Read, Write};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::{Arc, Mutex};

/// A terminal in which a shell command runs.
pub struct Terminal {
    child: Child,
    keys: ChildStdin,
    parser: Arc<Mutex<vt100::Parser>>,
    device: String,
}

impl Terminal {
    /// Runs a command line of a shell on a terminal of so many rows and columns.
    pub fn run(command: &str, rows: u16, columns: u16) -> Self {
        let folder = tempfile::tempdir().expect("a folder");
        let told = folder.path().join("device");
        let inside = format!("tty > {}; stty rows {rows} columns {columns}; {command}", told.display());
        let mut child = Command::new("script")
            .args(["--quiet", "--flush", "--return", "--command", &inside, "/dev/null"])
            .env("TERM", "xterm-256color")
            .env("SHELL", "/bin/bash")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("script runs");
        let keys = child.stdin.take().expect("keys");
        let mut output = child.stdout.take().expect("output");
        let parser = Arc::new(Mutex::new(vt100::Parser::new(rows, columns, 0)));
        let drawn = Arc::clone(&parser);
        std::thread::spawn(move || {
            let mut block = [0; 1 << 14];
            while let Ok(read @ 1..) = output.read(&mut block) {
                drawn.lock().expect("no panic").process(&block[..read]);
            }
        });
        let device = until("the terminal is there", || {
            let device = std::fs::read_to_string(&told).ok()?;
            device.ends_with('\n').then(|| device.trim().to_owned())
        });
        Terminal { child, keys, parser, device }
    }

    /// What stands on it, line by line.
    pub fn screen(&self) -> String {
        self.parser.lock().expect("no panic").screen().contents()
    }

    /// Waits until something is to be seen, and gives it.
    pub fn shows(&self, what: &str, is_seen: impl Fn(&str) -> bool) -> String {
        let look = || Some(self.screen()).filter(|screen| is_seen(screen));
        let found = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| until(what, look)));
        found.unwrap_or_else(|_| panic!("{what} is not seen:\n{}", self.screen()))
    }

    /// Presses keys.
    pub fn press(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).and_then(|()| self.keys.flush()).expect("keys");
    }

    /// Makes it another size.
    pub fn resize(&self, rows: u16, columns: u16) {
        self.parser.lock().expect("no panic").screen_mut().set_size(rows, columns);
        let size = ["rows", &rows.to_string(), "columns", &columns.to_string()].map(str::to_owned);
        let set = Command::new("stty").args(["-F", &self.device]).args(size).status();
        assert!(set.expect("stty runs").success());
    }

    /// Whether it has been given back as it was: no second screen, the cursor to be seen.
    pub fn is_given_back(&self) -> bool {
        let parser = self.parser.lock().expect("no panic");
        !parser.screen().alternate_screen() && !parser.screen().hide_cursor()
    }

    /// Whether letters are colourful anywhere.
    pub fn has_colour(&self) -> bool {
        let parser = self.parser.lock().expect("no panic");
        let (rows, columns) = parser.screen().size();
        let is_plain = |cell: &vt100::Cell| cell.fgcolor() == vt100::Color::Default;
        (0..rows).any(|row| {
            (0..columns).any(|at| parser.screen().cell(row, at).is_some_and(|cell| !is_plain(cell)))
        })
    }

    /// Waits for its end; whether all was well.
    pub fn ends_well(mut self) -> bool {
        let status = until("it ends", || self.child.try_wait().expect("it is known"));
        status.success()
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
