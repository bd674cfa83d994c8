//! A report as one HTML file: the console's report page with its data in it.
//!
//! It asks for nothing from a network, so that it opens from a mail.

use crate::failure::Failure;

/// The page without data, where the program was built with its console.
const PAGE: Option<&str> = include!(concat!(env!("OUT_DIR"), "/report_page.rs"));

/// The place of the data in it.
const PLACE: &str = "<script type=\"application/json\" id=\"report\">";

/// The file for a report given as JSON.
pub fn page(json: &str, title: &str) -> Result<String, Failure> {
    let page = PAGE.ok_or_else(|| {
        Failure(
            "this program was built without its console: run `cargo xtask demo` first, or ask for --as text"
                .to_owned(),
        )
    })?;
    let (before, after) =
        page.split_once(PLACE).ok_or_else(|| Failure("the report page has no place for data".to_owned()))?;
    let before = before.replace("<title>Report</title>", &format!("<title>{}</title>", escaped(title)));
    Ok(format!("{before}{PLACE}{}{after}", harmless(json)))
}

/// JSON that cannot end the element it stands in (HTML, 4.12.1.3: restrictions for contents of script elements).
fn harmless(json: &str) -> String {
    json.replace('<', "\\u003c").replace('\u{2028}', "\\u2028").replace('\u{2029}', "\\u2029")
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
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
        assert_eq!(escaped("a<b>&"), "a&lt;b&gt;&amp;");
    }
}
