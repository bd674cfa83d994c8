//! How much may be sent in a month, of a site or of all, and what happens when it is used up.

use super::super::document::Section;
use super::super::*;
use super::Reading;
use exedra_common::units;

impl Reading<'_> {
    /// How much may be sent in a calendar month.
    pub(super) fn allowance(&mut self, section: &Section<'_>) -> Option<u64> {
        let text = section.text("allowance")?;
        let size = units::size(&text.value).filter(|size| *size > 0);
        if size.is_none() {
            let message = format!("`{}` is not a size", text.value);
            self.error(&text.span, message, "a number and its unit", "write it like \"200 GB\"");
        }
        size
    }

    /// What happens when it is used up.
    pub(super) fn at_allowance(&mut self, section: &Section<'_>) -> AtAllowance {
        let Some(text) = section.text("at_allowance") else { return AtAllowance::default() };
        if section.any("allowance").is_none() {
            let remedy = "write how much may be sent: allowance = \"200 GB\"";
            self.error(
                &text.span,
                "there is no allowance that could be used up",
                "`allowance` is missing",
                remedy,
            );
        }
        AtAllowance::understand(&text.value).unwrap_or_else(|| {
            let message = format!("`{}` is nothing that can happen then", text.value);
            let remedy = "write \"tell\", \"refuse downloads\" or \"slow downloads to 250 kB a second\"";
            self.error(&text.span, message, "not known", remedy);
            AtAllowance::default()
        })
    }
}
