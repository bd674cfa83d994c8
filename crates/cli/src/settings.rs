//! `exedra settings`: the one list of settings, section by section.

use crate::Failure;
use crate::out::{QUIET, STRONG};
use exedra_core::config::settings::{Kind, SETTINGS, of_section};

/// Prints the list.
pub fn run() -> Result<(), Failure> {
    let mut sections: Vec<&str> = SETTINGS.iter().map(|setting| setting.section).collect();
    sections.dedup();
    for section in sections.into_iter().filter(|section| !section.is_empty()) {
        crate::out::line!("{STRONG}{section}{STRONG:#}");
        for setting in of_section(section).filter(|setting| setting.kind != Kind::Section) {
            let required = if setting.required { "; required" } else { "" };
            crate::out::line!("  {:<44} {QUIET}{}{required}{QUIET:#}", setting.example, setting.about);
        }
        crate::out::line!();
    }
    crate::out::line!(
        "{QUIET}Sites begin with [defaults]; [site.compress] and [defaults.compress] take the same settings.{QUIET:#}"
    );
    Ok(())
}
