//! The terminal while the live view has it: taken, given back whatever happens, lent to the shell while the program is suspended.

use crate::failure::Failure;
use ratatui::DefaultTerminal;
use ratatui::backend::Backend;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGTSTP};
use signal_hook::flag;
use std::io::{self, IsTerminal};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// How often it is looked whether the terminal is there.
const LOOK: Duration = Duration::from_secs(1);

/// The terminal, which is given back when this is dropped, and when the program panics.
pub struct Screen {
    terminal: DefaultTerminal,
    ends: Arc<AtomicBool>,
    is_suspended: Arc<AtomicBool>,
}

impl Screen {
    /// Takes it.
    pub fn take() -> Result<Self, Failure> {
        let (ends, is_suspended): (Arc<AtomicBool>, Arc<AtomicBool>) = Default::default();
        for signal in [SIGTERM, SIGHUP, SIGINT] {
            flag::register(signal, Arc::clone(&ends))?;
        }
        flag::register(SIGTSTP, Arc::clone(&is_suspended))?;
        end_with_terminal()?;
        Ok(Screen { terminal: ratatui::try_init()?, ends, is_suspended })
    }

    /// What is drawn on.
    pub fn terminal(&mut self) -> &mut DefaultTerminal {
        &mut self.terminal
    }

    /// Whether a signal has asked the program to end.
    pub fn ends(&self) -> bool {
        self.ends.load(Ordering::Relaxed)
    }

    /// Suspends the program at the next look.
    pub fn suspend(&self) {
        self.is_suspended.store(true, Ordering::Relaxed);
    }

    /// Where the program is to be suspended, lends the terminal to the shell until it goes on; says whether it did.
    pub fn lend(&mut self) -> io::Result<bool> {
        if !self.is_suspended.swap(false, Ordering::Relaxed) {
            return Ok(false);
        }
        self.terminal.show_cursor()?;
        ratatui::try_restore()?;
        signal_hook::low_level::emulate_default_handler(SIGTSTP)?;
        self.terminal = ratatui::try_init()?;
        // To clear by the terminal itself it would be asked where its cursor stands, and not every one answers.
        self.terminal.backend_mut().clear()?;
        Ok(true)
    }
}

/// Ends the program when its terminal has gone: whoever waits for keys of one that is no longer there would wait for ever, and not every
/// terminal says farewell (SIGHUP).
fn end_with_terminal() -> io::Result<()> {
    if !io::stdin().is_terminal() {
        // Keys come from elsewhere.
        return Ok(());
    }
    let watch = || {
        while io::stdin().is_terminal() {
            std::thread::sleep(LOOK);
        }
        std::process::exit(1);
    };
    std::thread::Builder::new().name("terminal".to_owned()).spawn(watch).map(drop)
}

impl Drop for Screen {
    fn drop(&mut self) {
        ratatui::restore();
    }
}
