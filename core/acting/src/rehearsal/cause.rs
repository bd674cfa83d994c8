//! Why two configurations answer differently: the first step of one that the other did not make.

use exedra_answering::answer::trace::Place;
use exedra_answering::answer::{SitePath, Step, Trace};
use exedra_answering::config::{Config, SiteId};
use exedra_answering::facts::{Dependence, FactName};
use exedra_answering::rules::Rule;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use utoipa::ToSchema;

/// What makes the difference, and where it is written.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[schema(as = RehearsedCause)]
pub struct ChangeCause {
    /// What it is: a rule, or a setting.
    pub what: String,
    /// Whether the changed configuration has it; otherwise it is the one in force, and the changed one has it no longer.
    pub is_new: bool,
    /// The file in which it is written.
    pub file: Option<String>,
    /// The line, counted from 1.
    pub line: Option<usize>,
}

/// A step, and what is written at its place.
struct Said<'t> {
    step: &'t Step,
    text: Option<String>,
}

/// A rule of a site in the words of its configuration, wherever it stands.
pub fn rule_in_words(config: &Config, rule: &Rule) -> String {
    let path = rule.path.as_ref().map_or("", |path| path.text());
    let when: Vec<&str> = rule.when.iter().map(|condition| &*condition.text).collect();
    let realm = |nth: usize| config.realms.get(nth).map_or(String::new(), |realm| realm.name.value.clone());
    let effects = rule.effects.in_words(realm);
    let effects: Vec<String> = effects.iter().map(|effect| format!("{effect} = {}", effect.value)).collect();
    format!("{} {path} {} {}", rule.name, when.join(" "), effects.join(" "))
}

/// What is written where a step was made. A folder's own file is the same for both.
fn written(config: &Config, site: Option<SiteId>, step: &Step) -> Option<String> {
    let place = step.place().filter(|place| place.folder.is_none())?;
    if let (Step::Rule { .. }, Some(site)) = (step, site) {
        // They stand in the order of their places.
        let rules = config.site(site).rules.written();
        if let Ok(nth) = rules.binary_search_by_key(&place.span.start, |rule| rule.place.start) {
            return Some(rule_in_words(config, &rules[nth]));
        }
    }
    let (source, span) = config.sources.find(&place.span)?;
    source.text.get(span).map(str::to_owned)
}

/// Steps that somebody's words are behind.
fn said<'t>(config: &Config, site: Option<SiteId>, trace: &'t Trace) -> Vec<Said<'t>> {
    let steps = trace.steps.iter().filter(|step| {
        matches!(
            step,
            Step::Site { .. }
                | Step::NoSite { .. }
                | Step::MainHost { .. }
                | Step::ToHttps { .. }
                | Step::Rule { .. }
                | Step::Login { .. }
                | Step::LoginNeedsHttps { .. }
                | Step::Refused { .. }
                | Step::Listing { .. }
                | Step::ErrorPage { .. }
        )
    });
    steps.map(|step| Said { step, text: written(config, site, step) }).collect()
}

impl PartialEq for Said<'_> {
    /// A rule is the same where it is written the same, wherever that is.
    fn eq(&self, other: &Self) -> bool {
        match (&self.text, &other.text) {
            (Some(ours), Some(theirs)) => ours == theirs && self.step.about() == other.step.about(),
            (None, None) => self.step.words() == other.step.words(),
            _ => false,
        }
    }
}

/// What one of two configurations did with a request.
#[derive(Debug, Clone, Copy)]
pub struct Side<'s> {
    /// The configuration.
    pub config: &'s Config,
    /// The site of it that answered.
    pub site: Option<SiteId>,
    /// The steps that led to its answer.
    pub trace: &'s Trace,
    /// What that depended on.
    pub depends: &'s Dependence,
}

/// A rule that only one of two configurations has, and the facts that it asks for: by asking alone it makes answers depend on them.
#[derive(Debug, Clone)]
pub struct AskingRule {
    site: String,
    facts: Vec<FactName>,
    cause: ChangeCause,
}

/// The rules of a configuration that ask for something and that another does not have.
pub fn asking(config: &Config, other: &Config, is_new: bool) -> Vec<AskingRule> {
    let mut all = Vec::new();
    for site in &config.sites {
        let there = other.site_named(&site.name.value).ok().map(|id| other.site(id).rules.written());
        let known: HashSet<String> =
            there.into_iter().flatten().map(|rule| rule_in_words(other, rule)).collect();
        for rule in site.rules.written().iter().filter(|rule| !rule.when.is_empty()) {
            if known.contains(&rule_in_words(config, rule)) {
                continue;
            }
            let place = Place::from(&rule.place);
            let step = Step::Rule { name: rule.name.to_string(), effects: Vec::new(), place };
            let facts = rule.asks_for().cloned().collect();
            all.push(AskingRule { site: site.name.value.clone(), facts, cause: told(config, &step, is_new) });
        }
    }
    all
}

/// What makes the difference between two answers. `asking` are rules that only one of both has; `setting` is what it must be where neither
/// a step nor they say so.
pub fn cause(old: Side<'_>, new: Side<'_>, asking: &[AskingRule], setting: &'static str) -> ChangeCause {
    let before = said(old.config, old.site, old.trace);
    let after = said(new.config, new.site, new.trace);
    if let Some(step) = after.iter().find(|step| !before.contains(step)) {
        return told(new.config, step.step, true);
    }
    if let Some(step) = before.iter().find(|step| !after.contains(step)) {
        return told(old.config, step.step, false);
    }
    let name = new.site.map(|id| &new.config.site(id).name.value);
    let asks = |rule: &&AskingRule| {
        let is_on = |fact: &FactName| old.depends.is_on(fact) != new.depends.is_on(fact);
        Some(&rule.site) == name && rule.facts.iter().any(is_on)
    };
    if let Some(rule) = asking.iter().find(asks) {
        return rule.cause.clone();
    }
    let place = new.site.and_then(|id| {
        let site = new.config.site(id);
        site.origins.get(setting).or(Some(&site.name.span)).cloned()
    });
    let line =
        place.and_then(|place| new.config.sources.line(&place).map(|(file, line)| (file.to_owned(), line)));
    let (file, line) = line.unzip();
    ChangeCause { what: format!("the setting `{setting}`"), is_new: true, file, line }
}

fn told(config: &Config, step: &Step, is_new: bool) -> ChangeCause {
    let what = match step {
        // One without a name is called by its number.
        Step::Rule { name, .. } if name.starts_with("rule ") => name.clone(),
        Step::Rule { name, .. } => format!("the rule `{name}`"),
        Step::Site { site, .. } => format!("the site `{site}`"),
        Step::NoSite { host } => format!("no site has the host `{host}`"),
        Step::MainHost { .. } => "the setting `main_host`".to_owned(),
        Step::ToHttps { .. } => "the setting `https`".to_owned(),
        Step::Login { realm, .. } | Step::LoginNeedsHttps { realm, .. } => format!("the login `{realm}`"),
        Step::Listing { .. } => "the setting `listing`".to_owned(),
        Step::ErrorPage { status, .. } => format!("the error page for {}", status.as_u16()),
        other => other.words(),
    };
    let place = step.place();
    let in_folder = |folder: &SitePath| format!("{}/.exedra.toml", folder.as_str());
    let (file, line) = match &place {
        Some(Place { folder: Some(folder), .. }) => (Some(in_folder(folder)), None),
        Some(place) => config.sources.line(&place.span).map(|(file, line)| (file.to_owned(), line)).unzip(),
        None => (None, None),
    };
    ChangeCause { what, is_new, file, line }
}
