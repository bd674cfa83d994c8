//! Requests counted by what differs for them, as they come by.

use super::ChangeCause;
use super::change::AnswerChange;
use super::distinct::Distinct;
use super::example::Example;
use super::recorded::RecordedRequest;
use super::timed::{Timed, Whose};
use exedra_answering::rules::Limit;
use std::collections::{HashMap, HashSet};

/// How many people are told apart in a group: 8 octets each. Beyond that there are at least so many.
const MOST_PEOPLE: usize = 200_000;
/// How many paths of a group are kept with their counts.
const MOST_PATHS: usize = 2_000;
/// How many groups there may be: whatever differs otherwise is counted with the last.
const MOST_GROUPS: usize = 10_000;

/// What was found about requests that are the same to both configurations.
#[derive(Debug, Clone, Default)]
pub struct Verdict {
    /// What the configuration in force answers.
    pub answered: u16,
    /// What the changed one answers.
    pub would_answer: u16,
    /// How the answers differ, where they do.
    pub difference: Option<Difference>,
    /// Facts that had a say and are not known, in words.
    pub lacking: Option<String>,
    /// Limits that each puts on them.
    pub limits: (Vec<u32>, Vec<u32>),
}

/// How two answers differ.
#[derive(Debug, Clone)]
pub struct Difference {
    pub site: String,
    pub change: AnswerChange,
    pub cause: ChangeCause,
    pub example: Example,
    /// Body bytes by both.
    pub bytes: (Option<u64>, Option<u64>),
    /// Whether the same octets are sent.
    pub is_kept_body: bool,
    /// How long each may be kept, in seconds, where that is what differs.
    pub lifetimes: Option<(u64, u64)>,
}

/// What a verdict comes to, once for all that have the same.
#[derive(Debug, Clone)]
struct Kept {
    answered: u16,
    would_answer: u16,
    group: Option<u32>,
    example: Option<Example>,
    bytes: (Option<u64>, Option<u64>),
    is_kept_body: bool,
    lifetime: Option<u32>,
    lacking: Option<u32>,
    limits: (Vec<u32>, Vec<u32>),
}

/// By what groups are told apart.
pub type GroupKey = (String, AnswerChange, ChangeCause);

/// Limits of a configuration by their numbers, each with the name of its rule.
pub type Limits = Vec<(Limit, Option<String>)>;

/// Requests for which the same differs.
#[derive(Debug, Clone, Default)]
pub struct Counted {
    pub requests: u64,
    pub of_people: u64,
    pub people: HashSet<u64>,
    pub bytes_before: u64,
    pub bytes_after: u64,
    /// Requests whose new size is not known, which count as before.
    pub of_unknown_size: u64,
    /// Requests that were answered from what the client had already, and would be sent again.
    pub revalidated: u64,
    pub paths: HashMap<String, Example>,
    pub more_paths: u64,
}

/// Requests of which nobody can tell.
#[derive(Debug, Clone, Default)]
pub struct Uncertain {
    pub requests: u64,
    pub of_people: u64,
    pub example: String,
}

/// All of them.
#[derive(Debug)]
pub struct Groups {
    pub limits: (Limits, Limits),
    kept: Vec<Kept>,
    /// Verdicts without anything to say, by the status that is answered.
    plain: HashMap<(u16, u16), u32>,
    numbers: HashMap<GroupKey, u32>,
    pub groups: Vec<Counted>,
    lacking: HashMap<String, u32>,
    pub uncertain: Vec<Uncertain>,
    /// Lifetimes, each of a group.
    lifetimes: HashMap<(u32, u64, u64), u32>,
    pub requests: u64,
    pub alike: u64,
    /// By site: requests, and those that fail by each.
    pub answers: Vec<(String, [u64; 3])>,
    pub malformed: u64,
    pub let_go: u64,
    pub limited: (Timed, Timed),
    pub fetched: Timed,
}

impl Groups {
    /// None yet. `limits` are those of both configurations, by their numbers.
    pub fn new(old: Limits, new: Limits) -> Self {
        Groups {
            limits: (old, new),
            kept: Vec::new(),
            plain: HashMap::new(),
            numbers: HashMap::new(),
            groups: Vec::new(),
            lacking: HashMap::new(),
            uncertain: Vec::new(),
            lifetimes: HashMap::new(),
            requests: 0,
            alike: 0,
            answers: Vec::new(),
            malformed: 0,
            let_go: 0,
            limited: Default::default(),
            fetched: Timed::default(),
        }
    }

    /// A request that never was one.
    pub fn count_malformed(&mut self) {
        self.requests += 1;
        self.malformed += 1;
    }

    /// A request that could not be told apart from others any more.
    pub fn count_let_go(&mut self) {
        self.requests += 1;
        self.let_go += 1;
    }

    fn group(&mut self, key: GroupKey) -> u32 {
        let next = self.groups.len().min(MOST_GROUPS) as u32;
        let number = *self.numbers.entry(key).or_insert(next);
        if number as usize == self.groups.len() {
            self.groups.push(Counted::default());
        }
        number
    }

    fn lifetime(&mut self, group: u32, (old, new): (u64, u64)) -> u32 {
        let next = self.lifetimes.len() as u32;
        *self.lifetimes.entry((group, old, new)).or_insert(next)
    }

    fn uncertain(&mut self, facts: String) -> u32 {
        let next = self.uncertain.len() as u32;
        let number = *self.lacking.entry(facts).or_insert(next);
        if number == next {
            self.uncertain.push(Uncertain::default());
        }
        number
    }

    /// Keeps a verdict, and gives its number.
    pub fn keep(&mut self, verdict: Verdict) -> u32 {
        let next = self.kept.len() as u32;
        let Verdict { answered, would_answer, difference, lacking, limits } = verdict;
        let has_limits = !limits.0.is_empty() || !limits.1.is_empty();
        if difference.is_none() && lacking.is_none() && !has_limits {
            // Most are such.
            if let Some(known) = self.plain.get(&(answered, would_answer)) {
                return *known;
            }
            self.plain.insert((answered, would_answer), next);
        }
        let lacking = lacking.map(|facts| self.uncertain(facts));
        let mut kept = Kept {
            answered,
            would_answer,
            group: None,
            example: None,
            bytes: (None, None),
            is_kept_body: true,
            lifetime: None,
            lacking,
            limits,
        };
        if let (Some(difference), None) = (difference, lacking) {
            let group = self.group((difference.site, difference.change, difference.cause));
            kept.group = Some(group);
            kept.example = Some(difference.example);
            kept.bytes = difference.bytes;
            kept.is_kept_body = difference.is_kept_body;
            kept.lifetime = difference.lifetimes.map(|lifetimes| self.lifetime(group, lifetimes));
        }
        self.kept.push(kept);
        next
    }

    /// Counts a request that a verdict is about.
    pub fn count(&mut self, verdict: u32, request: &RecordedRequest<'_>, distinct: &Distinct) {
        self.requests += 1;
        let kept = &self.kept[verdict as usize];
        // What a client had already is as good as sent.
        let is_alike =
            kept.answered == request.status || (kept.answered == 200 && matches!(request.status, 304 | 206));
        self.alike += u64::from(is_alike);
        let fails = |status: u16| u64::from(status >= 400);
        let counts = [1, fails(kept.answered), fails(kept.would_answer)];
        add_answers(&mut self.answers, request.site.unwrap_or_default(), counts);
        let has_limits = !kept.limits.0.is_empty() || !kept.limits.1.is_empty();
        if kept.group.is_none() && kept.lacking.is_none() && !has_limits {
            return;
        }
        let is_of_person = request.is_of_person();
        if has_limits {
            let client = distinct.number_of(request.client);
            let whose = Whose { is_of_person, is_counted: kept.group.is_some() || kept.lacking.is_some() };
            for (limits, timed) in
                [(&kept.limits.0, &mut self.limited.0), (&kept.limits.1, &mut self.limited.1)]
            {
                limits.iter().for_each(|limit| timed.note(request.time, client, *limit, whose));
            }
        }
        if let Some(lacking) = kept.lacking {
            let uncertain = &mut self.uncertain[lacking as usize];
            uncertain.requests += 1;
            uncertain.of_people += u64::from(is_of_person);
            if uncertain.example.is_empty() {
                uncertain.example = request.path.unwrap_or_default().to_owned();
            }
            return;
        }
        let Some(group) = kept.group else { return };
        let counted = &mut self.groups[group as usize];
        counted.requests += 1;
        if is_of_person {
            counted.of_people += 1;
            let person = distinct.number_of((request.client, request.agent));
            if counted.people.len() < MOST_PEOPLE || counted.people.contains(&person) {
                counted.people.insert(person);
            }
        }
        counted.bytes_before += request.bytes;
        counted.bytes_after += match kept.bytes {
            // What the client had already is not sent again as long as it is the same.
            _ if kept.is_kept_body => request.bytes,
            (_, Some(after)) => after,
            (_, None) => {
                counted.of_unknown_size += 1;
                request.bytes
            }
        };
        counted.revalidated += u64::from(request.status == 304 && kept.answered == 200 && !kept.is_kept_body);
        if let Some(lifetime) = kept.lifetime.filter(|_| matches!(request.status, 200 | 304)) {
            let who = distinct.number_of((request.client, request.agent, request.host, request.path));
            self.fetched.note(request.time, who, lifetime, Whose { is_of_person, is_counted: true });
        }
        if let Some(example) = &kept.example {
            counted.add_path(example, 1);
        }
    }

    /// Adds those of another thread.
    pub fn merge(&mut self, other: Groups) {
        let mut keys: Vec<(GroupKey, u32)> = other.numbers.into_iter().collect();
        keys.sort_by_key(|(_, number)| *number);
        let mut numbers = vec![0; other.groups.len()];
        for (key, number) in keys {
            numbers[number as usize] = self.group(key);
        }
        for (number, counted) in other.groups.into_iter().enumerate() {
            self.groups[numbers[number] as usize].merge(counted);
        }
        for (facts, number) in other.lacking {
            let theirs = &other.uncertain[number as usize];
            let ours = self.uncertain(facts);
            let ours = &mut self.uncertain[ours as usize];
            ours.requests += theirs.requests;
            ours.of_people += theirs.of_people;
            if ours.example.is_empty() || (!theirs.example.is_empty() && theirs.example < ours.example) {
                ours.example.clone_from(&theirs.example);
            }
        }
        let mut lifetimes = HashMap::new();
        for ((group, old, new), number) in other.lifetimes {
            lifetimes.insert(number, self.lifetime(numbers[group as usize], (old, new)));
        }
        self.fetched.merge(other.fetched, |number| lifetimes.get(&number).copied().unwrap_or(u32::MAX));
        self.limited.0.merge(other.limited.0, |number| number);
        self.limited.1.merge(other.limited.1, |number| number);
        self.requests += other.requests;
        self.alike += other.alike;
        other.answers.into_iter().for_each(|(site, counts)| add_answers(&mut self.answers, &site, counts));
        self.malformed += other.malformed;
        self.let_go += other.let_go;
    }

    /// By what groups are told apart, in the order of their numbers.
    pub fn keys(&self) -> Vec<GroupKey> {
        let mut keys: Vec<(&GroupKey, u32)> =
            self.numbers.iter().map(|(key, number)| (key, *number)).collect();
        keys.sort();
        let mut by_number: Vec<Option<GroupKey>> = vec![None; self.groups.len()];
        for (key, number) in keys {
            by_number[number as usize].get_or_insert_with(|| key.clone());
        }
        by_number.into_iter().flatten().collect()
    }

    /// What is not known, with its facts.
    pub fn uncertain_by_facts(&self) -> Vec<(String, Uncertain)> {
        let mut all: Vec<(String, Uncertain)> = self
            .lacking
            .iter()
            .map(|(facts, number)| (facts.clone(), self.uncertain[*number as usize].clone()))
            .filter(|(_, uncertain)| uncertain.requests > 0)
            .collect();
        all.sort_by(|a, b| b.1.requests.cmp(&a.1.requests).then_with(|| a.0.cmp(&b.0)));
        all
    }

    /// The lifetimes, in the order of their numbers, and the group that each is of.
    pub fn lifetimes(&self) -> (Vec<(u64, u64)>, Vec<u32>) {
        let mut all: Vec<_> = self.lifetimes.iter().map(|(lifetime, number)| (*number, *lifetime)).collect();
        all.sort_unstable();
        all.into_iter().map(|(_, (group, old, new))| ((old, new), group)).unzip()
    }
}

/// Counts answers of a site: there are few sites.
fn add_answers(all: &mut Vec<(String, [u64; 3])>, site: &str, counts: [u64; 3]) {
    match all.iter_mut().find(|(known, _)| known == site) {
        Some((_, known)) => known.iter_mut().zip(counts).for_each(|(known, more)| *known += more),
        None => all.push((site.to_owned(), counts)),
    }
}

impl Counted {
    fn add_path(&mut self, example: &Example, requests: u64) {
        let is_full = self.paths.len() >= MOST_PATHS;
        match self.paths.get_mut(&example.path) {
            Some(known) => known.requests += requests,
            None if is_full => self.more_paths += requests,
            None => {
                self.paths.insert(example.path.clone(), Example { requests, ..example.clone() });
            }
        }
    }

    fn merge(&mut self, other: Counted) {
        self.requests += other.requests;
        self.of_people += other.of_people;
        for person in other.people {
            if self.people.len() < MOST_PEOPLE {
                self.people.insert(person);
            }
        }
        self.bytes_before += other.bytes_before;
        self.bytes_after += other.bytes_after;
        self.of_unknown_size += other.of_unknown_size;
        self.revalidated += other.revalidated;
        self.more_paths += other.more_paths;
        for example in other.paths.into_values() {
            self.add_path(&example, example.requests);
        }
    }
}
