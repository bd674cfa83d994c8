//! A request that really came in, explained; and the page that tells whoever made it.

use super::asked::Described;
use crate::active::Active;
use crate::active::trials::{Explain, RealRequest};
use crate::control::on_disk::OnDisk;
use exedra_answering::answer::pages::escaped;
use exedra_api::explaining::Explanation;

/// Explains what the service would answer.
pub struct Explainer;

impl Explain for Explainer {
    fn explain(&self, active: &Active, request: &RealRequest) -> (Explanation, String) {
        let explanation = super::explain(&OnDisk::of(active), &Described::from(request));
        let page = page(&explanation);
        (explanation, page)
    }
}

/// What is told in the browser itself: facts, steps, answer. It loads nothing.
fn page(told: &Explanation) -> String {
    let mut out = String::from(HEAD);
    let answer = &told.answer;
    out.push_str(&format!(
        "<h1>{} {}</h1>\n<p>This is what <b>{} {}</b> would have been answered. The console shows the same; this address works once.</p>\n",
        answer.status,
        escaped(&answer.reason),
        escaped(&told.request.method),
        escaped(&told.request.address()),
    ));
    section(
        &mut out,
        "How it came about",
        told.steps.iter().filter(|step| !step.in_vain).map(|step| (step.about.clone(), step.words.clone())),
    );
    section(
        &mut out,
        "Facts, by the names that rules use",
        told.facts.iter().filter_map(|fact| Some((fact.name.clone(), fact.value.clone()?))),
    );
    section(&mut out, "Header fields of the answer", answer.headers.iter().cloned());
    out.push_str("</body></html>\n");
    out
}

fn section(out: &mut String, title: &str, rows: impl Iterator<Item = (String, String)>) {
    out.push_str(&format!("<h2>{title}</h2>\n<table>\n"));
    for (name, value) in rows {
        out.push_str(&format!("<tr><th>{}</th><td>{}</td></tr>\n", escaped(&name), escaped(&value)));
    }
    out.push_str("</table>\n");
}

const HEAD: &str = "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
<meta name=\"color-scheme\" content=\"light dark\"><title>Your request</title>\
<style>body{font:1rem/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem}\
table{border-collapse:collapse;width:100%}th,td{text-align:left;vertical-align:top;padding:.25rem .75rem .25rem 0;border-top:1px solid #8884}\
th{font-weight:400;width:14rem;opacity:.75}td{overflow-wrap:anywhere}</style></head><body>\n";

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_api::explaining::{Asked, FactValue, Outcome, Step};

    #[test]
    fn what_a_stranger_sends_is_text_in_the_page() {
        let asked = Asked {
            method: "GET".to_owned(),
            scheme: "http".to_owned(),
            authority: "lamp.example".to_owned(),
            path: "/<b>".to_owned(),
            query: None,
            client: "192.0.2.7".to_owned(),
            headers: Vec::new(),
        };
        let step = |words: &str, in_vain| Step {
            about: "rule".to_owned(),
            words: words.to_owned(),
            in_vain,
            file: None,
            line: None,
        };
        let told = Explanation {
            request: asked,
            facts: vec![FactValue { name: "agent".to_owned(), value: Some("<script>".to_owned()) }],
            site: None,
            steps: vec![step("fits & goes", false), step("does not fit", true)],
            codecs: Vec::new(),
            answer: Outcome {
                status: 404,
                reason: "Not Found".to_owned(),
                headers: Vec::new(),
                bytes: None,
                file: None,
            },
            settings: Vec::new(),
        };
        let page = page(&told);
        assert!(
            page.contains("/&lt;b&gt;")
                && page.contains("&lt;script&gt;")
                && page.contains("fits &amp; goes"),
            "{page}"
        );
        assert!(!page.contains("<script>") && !page.contains("does not fit"), "{page}");
    }
}
