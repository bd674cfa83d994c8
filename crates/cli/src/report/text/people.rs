//! Who asked, with what, and where they came from.

use super::Page;
use super::lines::Entry;
use crate::figures::share;
use crate::report::sections::Shown;
use exedra_core::survey::report::SurveyReport;

impl Page {
    pub(super) fn people(&mut self, report: &SurveyReport, shown: &Shown) {
        let apart = &report.apart;
        if shown.has("clients") || shown.has("crawlers") {
            let named = [
                (apart.people, "by people"),
                (apart.crawlers, "by bots and crawlers"),
                (apart.unnamed, "without a name"),
            ];
            let parts = named.iter().filter(|(requests, _)| *requests > 0);
            let parts: Vec<String> = parts
                .map(|(requests, who)| format!("{} {who}", share(*requests, report.totals.requests)))
                .collect();
            self.title("Who asked", &parts.join(", "));
        }
        if shown.has("clients") {
            self.rows(report.clients.iter().map(|client| (Entry::from(client), &*client.client)));
            self.rest(report.rest.get("clients"), "client", "clients");
        }
        self.list(report, shown, "users", "Who signed in", "names");
        self.list(report, shown, "countries", "Where they are", "countries of addresses");
        self.list(report, shown, "crawlers", "Bots and crawlers", "");
        self.list(report, shown, "browsers", "Browsers", "of people");
        self.list(report, shown, "systems", "Systems", "of people");
        self.list(report, shown, "devices", "Devices", "of people");
        self.list(report, shown, "agents", "Agents", "as they call themselves");
        let own = match &report.own_hosts[..] {
            [] => String::new(),
            [one] => format!("links from {one} left out"),
            own => format!("links from {} own hosts left out", own.len()),
        };
        self.list(report, shown, "linking_sites", "Sites that link here", &own);
        self.list(report, shown, "linking_pages", "Pages that link here, or show files from here", &own);
        self.list(report, shown, "search_phrases", "Searched for", "by those who came from elsewhere");
    }
}
