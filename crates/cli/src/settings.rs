//! `exedra settings`: the one list of settings, section by section.

use crate::Failure;
use anstyle::{Effects, Style};
use exedra_core::config::settings::{Kind, SETTINGS, of_section};

const STRONG: Style = Style::new().effects(Effects::BOLD);
const QUIET: Style = Style::new().effects(Effects::DIMMED);

/// Prints the list.
pub fn run() -> Result<(), Failure> {
    let mut sections: Vec<&str> = SETTINGS.iter().map(|setting| setting.section).collect();
    sections.dedup();
    for section in sections.into_iter().filter(|section| !section.is_empty()) {
        anstream::println!("{STRONG}{section}{STRONG:#}");
        for setting in of_section(section).filter(|setting| setting.kind != Kind::Section) {
            let required = if setting.required { "; required" } else { "" };
            anstream::println!("  {:<44} {QUIET}{}{required}{QUIET:#}", setting.example, setting.about);
        }
        anstream::println!();
    }
    anstream::println!(
        "{QUIET}Sites begin with [defaults]; [site.compress] and [defaults.compress] take the same settings.{QUIET:#}"
    );
    Ok(())
}
