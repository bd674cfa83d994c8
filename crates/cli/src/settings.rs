//! `exedra settings`: the one list of settings, section by section.

use crate::failure::Failure;
use crate::out::{QUIET, STRONG};
use exedra_answering::config::settings::{all, of_section};

/// Prints the list.
pub fn run() -> Result<(), Failure> {
    let mut sections: Vec<&str> = all().map(|setting| setting.section).collect();
    sections.dedup();
    for section in sections {
        let name = if section.is_empty() { "at the top" } else { section };
        crate::out::line!("{STRONG}{name}{STRONG:#}");
        for setting in of_section(section) {
            let required = if setting.required { "; required" } else { "" };
            crate::out::line!("  {:<44} {QUIET}{}{required}{QUIET:#}", setting.example, setting.about);
        }
        crate::out::line!();
    }
    crate::out::line!(
        "{QUIET}Sites begin with [defaults]; [site.compress] and [defaults.compress] take the same settings. \
         `when` takes any fact (`exedra facts`); [error_pages] a status or a class, as in 404 or \"5xx\"; \
         [media_types] extensions; `headers` names of fields.{QUIET:#}"
    );
    Ok(())
}
