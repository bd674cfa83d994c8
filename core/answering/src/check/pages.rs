//! Error pages that could not be shown, or not with all that belongs to them; and pages that look like error pages and are
//! none.
//!
//! ```
//! use exedra_answering::check::pages::relative_links;
//! assert_eq!(relative_links("<img src=\"gull.png\"><a href=\"/tides\">"), ["gull.png"]);
//! ```

use super::probe::ways;
use super::{Disk, Spoken};
use crate::answer::listing::{Kind, Listed};
use crate::answer::path::resolve;
use crate::answer::{Entry, Question, SitePath, Want, answer};
use crate::config::{Config, Diagnostic, ErrorPages, SiteId};
use crate::facts::Scheme;
use std::ops::Range;

/// An error page that somebody named: whose, where it is written, and where it stands.
pub struct Named {
    /// The site.
    pub site: SiteId,
    /// Its path, as the site would be asked for it.
    pub path: SitePath,
    /// Where it is named.
    pub place: Range<usize>,
}

/// Finds them in all sites and their folders.
pub fn check(config: &Config, disk: &Disk<'_>, folders: &[Spoken]) -> Vec<Diagnostic> {
    let mut found = Vec::new();
    for (number, site) in config.sites.iter().enumerate() {
        let id = SiteId(number);
        if site.folder.is_none() {
            found.extend(site.error_pages.all().filter(|page| !page.span.is_empty()).map(|page| {
                let message = format!("the error page {} could never be shown", page.value);
                Diagnostic::remark(page.span.clone(), message, "the site has no folder")
                    .remedy("give it one, or take the page out")
            }));
            continue;
        }
        let of_site = Pages { config, disk, id, folder: SitePath::root(), place: None };
        of_site.check(&site.error_pages, &mut found);
        of_site.not_configured(&site.error_pages, &mut found);
    }
    for spoken in folders {
        let place = Some(config.site(spoken.site).folder_place().clone());
        let of_folder = Pages { config, disk, id: spoken.site, folder: spoken.folder.clone(), place };
        of_folder.check(&spoken.settings.error_pages, &mut found);
    }
    found
}

/// All error pages that are named somewhere and could stand somewhere, for whoever can read them.
pub fn named(config: &Config, folders: &[Spoken]) -> Vec<Named> {
    let mut all = Vec::new();
    let mut add = |site: SiteId, folder: &SitePath, pages: &ErrorPages, place: Option<&Range<usize>>| {
        for page in pages.all() {
            let Ok(resolved) = resolve(&page.value) else { continue };
            let place = place.unwrap_or(&page.span).clone();
            all.push(Named { site, path: folder.join_path(&resolved.place), place });
        }
    };
    for (number, site) in config.sites.iter().enumerate().filter(|(_, site)| site.folder.is_some()) {
        add(SiteId(number), &SitePath::root(), &site.error_pages, None);
    }
    for spoken in folders {
        let place = config.site(spoken.site).folder_place();
        add(spoken.site, &spoken.folder, &spoken.settings.error_pages, Some(place));
    }
    all
}

/// What an error page links to by addresses that begin neither at the root nor elsewhere. The page is shown at whatever address
/// was asked for: below another folder they lead somewhere else.
pub fn relative_links(page: &str) -> Vec<String> {
    let lower = page.to_ascii_lowercase();
    if lower.contains("<base ") {
        return Vec::new();
    }
    let mut links: Vec<String> = Vec::new();
    for sign in [" href", " src"] {
        for (at, _) in lower.match_indices(sign) {
            let Some(value) = page[at + sign.len()..].trim_start().strip_prefix('=') else { continue };
            let value = value.trim_start();
            let end: &[char] = match value.chars().next() {
                Some('"') => &['"'],
                Some('\'') => &['\''],
                _ => &[' ', '>', '\n', '\t'],
            };
            let value = value.strip_prefix(['"', '\'']).unwrap_or(value);
            let value = value.split(end).next().unwrap_or_default().trim();
            let has_scheme = value.find(':').is_some_and(|colon| !value[..colon].contains(['/', '?', '#']));
            if !value.is_empty() && !value.starts_with(['/', '#', '?']) && !has_scheme {
                links.push(value.to_owned());
            }
        }
    }
    links.dedup();
    links
}

/// The error pages of a site, or of one of its folders.
struct Pages<'c> {
    config: &'c Config,
    disk: &'c Disk<'c>,
    id: SiteId,
    /// Where their paths begin.
    folder: SitePath,
    /// Where they are placed, if not where they are written.
    place: Option<Range<usize>>,
}

impl Pages<'_> {
    fn check(&self, pages: &ErrorPages, found: &mut Vec<Diagnostic>) {
        let site = self.config.site(self.id);
        let of = match self.place {
            Some(_) => format!(" of the folder {}", self.folder),
            None => String::new(),
        };
        for page in pages.all() {
            let place = self.place.as_ref().unwrap_or(&page.span).clone();
            let Ok(resolved) = resolve(&page.value) else {
                let message = format!("the error page {}{of} could never be shown", page.value);
                let reason = "it is hidden: names beginning with a dot are never served";
                let wrong = Diagnostic::error(place, message, reason).remedy("give it another name");
                found.push(if self.place.is_some() { wrong.of_folder() } else { wrong });
                continue;
            };
            let path = self.folder.join_path(&resolved.place);
            let question = Question { site: self.id, path, want: Want::Entry };
            let Ok(stands) = self.disk.entry(&question);
            let is_file = matches!(stands.entry(), Entry::File(_));
            if !is_file {
                let message = format!("the error page {}{of} is not there", page.value);
                let root = site.root().unwrap_or_else(|| "".as_ref());
                let remedy = format!("make {}", root.join(question.path.as_str()).display());
                found.push(
                    Diagnostic::remark(place, message, "the built-in page is shown instead").remedy(remedy),
                );
                continue;
            }
            let at_home = ways(self.config, self.id).into_iter().rev().find(|probe| {
                probe.scheme == Scheme::Https || !self.config.listeners.iter().any(|listener| listener.https)
            });
            let Some(mut probe) = at_home else { continue };
            probe.host = site.main_host.as_ref().map_or(probe.host, |main| main.value.clone());
            probe.path = question.path.address();
            let Ok((answer, ())) = answer(self.config, probe.facts()).by(self.disk);
            let status = answer.status.as_u16();
            if matches!(status, 401 | 403 | 410) {
                let message = format!("the error page {}{of} lies where strangers may not go", page.value);
                let reason = format!(
                    "the page itself is shown all the same; pictures and styles beside it answer {status}"
                );
                found.push(
                    Diagnostic::remark(place, message, reason)
                        .remedy("put it, and what it needs, where anybody may go"),
                );
            }
        }
    }

    /// Files in the site's folder that are named like pages for errors, which nobody has made such.
    fn not_configured(&self, pages: &ErrorPages, found: &mut Vec<Diagnostic>) {
        let question = Question { site: self.id, path: SitePath::root(), want: Want::Names };
        let Ok(Ok(names)) = self.disk.names(&question) else { return };
        let of_status = |listed: &Listed| {
            let name = listed.name.strip_suffix(".html").or_else(|| listed.name.strip_suffix(".htm"))?;
            let status = name.parse::<u16>().ok().filter(|status| (400..600).contains(status))?;
            (listed.kind == Kind::File && pages.page(status).is_none()).then_some(status)
        };
        for (listed, status) in names.iter().filter_map(|listed| Some((listed, of_status(listed)?))) {
            let site = self.config.site(self.id);
            let message =
                format!("/{1} of `{0}` is not configured as an error page", site.name.value, listed.name);
            let reason =
                "error pages are named in the configuration; without that the built-in page is shown";
            let remedy = format!("write error_pages = {{ {status} = \"/{}\" }}", listed.name);
            found.push(Diagnostic::remark(site.folder_place().clone(), message, reason).remedy(remedy));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::relative_links;

    #[test]
    fn links_that_depend_on_the_address() {
        let page = "<link href=style.css><a href='/'>Home</a><img SRC = \"../crest.svg\"><a href=\"#top\">\
                    <a href=\"https://a.example/x\"><a href=mailto:o@a.example><a href=\"notes/a:b\">";
        assert_eq!(relative_links(page), ["style.css", "notes/a:b", "../crest.svg"]);
        assert!(relative_links(&format!("<base href=\"/errors/\">{page}")).is_empty());
    }
}
