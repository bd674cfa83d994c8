//! What is in a site's folder: files with their sizes, and pages with what they say and lead to. Whoever may look at the disk makes it.

use super::html::PageText;
use exedra_answering::answer::absolute::leads_within;
use exedra_answering::config::{Config, SiteId};
use std::collections::HashMap;

/// A site's folder, as visitors may have it.
#[derive(Debug, Clone, Default)]
pub struct Inventory {
    /// Addresses of files from the site's root, each with its size in octets; an index file is its folder's address.
    pub files: Vec<FileSeen>,
    /// Pages that were read.
    pub pages: Vec<PageSeen>,
    /// Whether there was more than could be looked at.
    pub is_cut: bool,
}

/// A file of a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileSeen {
    /// Its address, as in `/tides/` or `/tides/today.html`.
    pub address: String,
    /// Its size in octets.
    pub bytes: u64,
}

/// A page of a site that was read.
#[derive(Debug, Clone)]
pub struct PageSeen {
    /// Its address.
    pub address: String,
    /// Its file within the site's folder.
    pub file: String,
    /// What it says.
    pub text: PageText,
}

/// A link of our own pages, with the page it stands on.
#[derive(Debug, Clone, Copy)]
pub struct Linked<'i> {
    /// The page's file within the site's folder.
    pub file: &'i str,
    /// The line, counted from 1.
    pub line: usize,
    /// The words of the link.
    pub words: &'i str,
}

impl Inventory {
    /// Addresses within the site that its own pages lead to, and where from; without queries.
    pub fn links<'i>(&'i self, config: &Config, site: SiteId) -> HashMap<String, Vec<Linked<'i>>> {
        let mut all: HashMap<String, Vec<Linked<'i>>> = HashMap::new();
        for page in &self.pages {
            for link in &page.text.links {
                let Some(address) = resolved(config, site, &page.address, &link.target) else { continue };
                let linked = Linked { file: &page.file, line: link.line, words: &link.words };
                all.entry(address).or_default().push(linked);
            }
        }
        all
    }

    /// The size of the file at an address.
    pub fn bytes(&self, address: &str) -> Option<u64> {
        self.files.iter().find(|file| file.address == address).map(|file| file.bytes)
    }

    /// The title of the page at an address, or its heading.
    pub fn title(&self, address: &str) -> Option<&str> {
        let page = self.pages.iter().find(|page| page.address == address)?;
        [&page.text.title, &page.text.heading].into_iter().map(String::as_str).find(|words| !words.is_empty())
    }
}

/// The address within a site that a link on one of its pages leads to (RFC 3986 §5.2), without query and fragment; `None` where it leads
/// elsewhere.
pub fn resolved(config: &Config, site: SiteId, page: &str, target: &str) -> Option<String> {
    let target = target.split(['#', '?']).next()?.trim();
    if target.is_empty() {
        return None;
    }
    if let Some(rest) = target.strip_prefix("//") {
        let scheme = format!("http://{rest}");
        return leads_within(config, site, &scheme).map(str::to_owned);
    }
    let scheme = target.split('/').next().unwrap_or_default().contains(':');
    if scheme {
        return leads_within(config, site, target).map(str::to_owned);
    }
    let whole = match target.starts_with('/') {
        true => target.to_owned(),
        false => format!("{}{target}", &page[..=page.rfind('/')?]),
    };
    let mut segments: Vec<&str> = Vec::new();
    let ends_in_folder = whole.ends_with('/') || whole.ends_with("/.") || whole.ends_with("/..");
    for segment in whole.split('/').skip(1) {
        match segment {
            "" | "." => {}
            ".." => _ = segments.pop(),
            segment => segments.push(segment),
        }
    }
    let slash = if ends_in_folder && !segments.is_empty() { "/" } else { "" };
    Some(format!("/{}{slash}", segments.join("/")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("/tides/today.html", "/map", Some("/map"))]
    #[case("/tides/today.html", "week.html", Some("/tides/week.html"))]
    #[case("/tides/today.html", "../notices/", Some("/notices/"))]
    #[case("/tides/today.html", "./", Some("/tides/"))]
    #[case("/tides/", "today.html?day=1#noon", Some("/tides/today.html"))]
    #[case("/", "../../x", Some("/x"))]
    #[case("/", "http://a.example/fog", Some("/fog"))]
    #[case("/", "//a.example/fog", Some("/fog"))]
    #[case("/", "https://b.example/fog", None)]
    #[case("/", "mailto:office@a.example", None)]
    #[case("/", "#top", None)]
    fn links_lead_where_browsers_go(#[case] page: &str, #[case] target: &str, #[case] address: Option<&str>) {
        let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";
        let config = exedra_answering::config::understand(text, "".as_ref()).unwrap();
        assert_eq!(resolved(&config, SiteId(0), page, target).as_deref(), address);
    }
}
