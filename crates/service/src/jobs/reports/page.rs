//! A report as one HTML file: the console's report page with its data in it.
//!
//! It asks for nothing from a network, so that it opens from a mail.

use exedra_answering::answer::pages::escaped;
use thiserror::Error;

/// The page without data, where the program was built with its console.
const PAGE: Option<&str> = include!(concat!(env!("OUT_DIR"), "/report_page.rs"));

/// The place of the data in it.
const PLACE: &str = "<script type=\"application/json\" id=\"report\">";

/// Why there is no page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum NoPage {
    /// The program has none.
    #[error(
        "this program was built without its console, and has no page for reports: `cargo xtask build` makes one that has it; other forms are there"
    )]
    WithoutConsole,
    /// It has one without a place.
    #[error("the report page has no place for data")]
    WithoutPlace,
}

/// The file for a report given as JSON. Its dates are in a language (a tag of RFC 5646), English where none is said.
///
/// # Errors
/// [`NoPage`].
pub fn page(json: &str, title: &str, language: Option<&str>) -> Result<String, NoPage> {
    let page = PAGE.ok_or(NoPage::WithoutConsole)?;
    let (before, after) = page.split_once(PLACE).ok_or(NoPage::WithoutPlace)?;
    let before = before.replace("<title>Report</title>", &format!("<title>{}</title>", escaped(title)));
    let place = match language {
        Some(language) => PLACE.replace(" id=", &format!(" data-language=\"{}\" id=", escaped(language))),
        None => PLACE.to_owned(),
    };
    Ok(format!("{before}{place}{}{after}", harmless(json)))
}

/// JSON that cannot end the element it stands in (HTML, 4.12.1.3: restrictions for contents of script elements).
fn harmless(json: &str) -> String {
    json.replace('<', "\\u003c").replace('\u{2028}', "\\u2028").replace('\u{2029}', "\\u2029")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn data_cannot_leave_its_place() {
        let json = serde_json::json!({ "path": "/</script><script>alert(1)</script><!--" }).to_string();
        let safe = harmless(&json);
        assert!(!safe.contains('<'), "{safe}");
        assert_eq!(
            serde_json::from_str::<serde_json::Value>(&safe).unwrap(),
            serde_json::from_str::<serde_json::Value>(&json).unwrap()
        );
    }
}
