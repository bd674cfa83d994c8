//! Why a request would be answered as it would: decided by a configuration and the disk, every step written down.
//!
//! - [`asked`]: the request, as somebody describes it
//! - [`real`]: one that really came in
//! - [`body`]: the core's questions answered, without changing anything
//! - [`effective`]: the settings in effect, and where each was decided

pub mod asked;
mod body;
pub mod effective;
pub mod real;

use crate::access::certificates::{files, first_name_of};
use crate::access::countries;
use crate::control::on_disk::OnDisk;
use asked::{Described, fields};
use exedra_answering::answer;
use exedra_answering::answer::malformed::fault_of_target;
use exedra_answering::answer::trace::Place;
use exedra_answering::answer::{Answer, Body, Entry, Trace, answer_traced};
use exedra_answering::config::folder::FILE_NAME;
use exedra_answering::config::{CertificateOrigin, Config, SiteId};
use exedra_answering::facts::{FACTS, FactName, Facts, Known, Scheme};
use exedra_api::explaining::{Codec, Explanation, FactValue, Outcome, Step};
use http::{HeaderValue, header};

/// Explains a request.
pub fn explain(disk: &OnDisk<'_>, described: &Described) -> Explanation {
    let config = disk.config;
    let countries = config.service.countries.as_ref().and_then(|path| countries::open(&path.value).ok());
    let country = match &countries {
        Some(countries) => countries.of(described.client).into(),
        None => Known::Unknown,
    };
    let now = jiff::Timestamp::now().to_zoned(config.service.time_zone.clone());
    let listener = config.listeners.iter().find(|listener| listener.scheme() == described.scheme);
    let is_secured = described.scheme == Scheme::Https;
    let certificate = match &described.connection.certificate {
        Some(shown) => Some(shown.clone()),
        None => is_secured.then(|| certificate_for(config, described.host())),
    };
    let server = described.connection.server.or(listener.map(|listener| listener.address.value));
    let facts = Facts {
        server: server.into(),
        certificate: certificate.as_deref().into(),
        ..described.facts(country, &now)
    };
    let target = described.shown().target();
    let decision = match fault_of_target(target.as_bytes()) {
        Some(why) => answer::malformed(config, facts, &why, Trace::complete()),
        None => answer_traced(config, facts, Trace::complete()),
    };
    let Ok((answer, trace)) = decision.by(disk);
    let site = answer.site.map(|id| config.site(id));
    let (mut steps, mut codecs) = (Vec::new(), Vec::new());
    let mut file = None;
    for step in &trace.steps {
        if let answer::Step::Looked { at, found: Entry::File(_), .. } = step {
            file = Some(at);
        }
        if let answer::Step::Codec { codec, verdict } = step {
            let beside =
                answer.site.zip(file).and_then(|(site, path)| body::passed_over(disk, site, path, *codec));
            codecs.push(Codec {
                codec: codec.name().to_owned(),
                used: verdict.is_chosen(),
                why: [verdict.words()].into_iter().chain(beside).collect::<Vec<_>>().join("; "),
            });
            continue;
        }
        let (file, line) = step.place().and_then(|place| line_of(config, answer.site, &place)).unzip();
        let in_vain = matches!(step, answer::Step::RuleNot { .. });
        steps.push(Step { about: step.about().to_owned(), words: step.words(), in_vain, file, line });
    }
    let user = answer
        .obligations
        .as_ref()
        .and_then(|obligations| obligations.user.as_ref().map(ToString::to_string));
    let facts = fact_values(&facts, user, described);
    let settings = answer.site.map(|id| effective::settings(disk, id, &trace)).unwrap_or_default();
    Explanation {
        request: described.shown(),
        facts,
        site: site.map(|site| site.name.value.clone()),
        steps,
        codecs,
        answer: outcome(disk, answer),
        settings,
    }
}

/// The first name of the certificate that whoever asks for a host by TLS is shown: of its file, or its own where one is made.
fn certificate_for(config: &Config, host: &str) -> String {
    let host = host.to_ascii_lowercase();
    let is_for = |listed: &str| match listed.strip_prefix('*') {
        Some(ending) => host.find('.').is_some_and(|dot| host[dot..] == *ending),
        None => listed == host,
    };
    let listed = config.certificates.iter().find(|one| one.hosts.iter().any(|host| is_for(&host.value)));
    let chain = match listed.map(|listed| &listed.origin) {
        Some(CertificateOrigin::Files { chain, .. } | CertificateOrigin::Command { chain, .. }) => {
            files::chain_of(&chain.value).ok()
        }
        Some(CertificateOrigin::Authority) | None => None,
    };
    chain.and_then(|chain| first_name_of(chain.first()?)).unwrap_or(host)
}

/// The file and the line of a place.
pub fn line_of(config: &Config, site: Option<SiteId>, place: &Place) -> Option<(String, usize)> {
    let Some(folder) = &place.folder else {
        return config.sources.line(&place.span).map(|(file, line)| (file.to_owned(), line));
    };
    let path = config.site(site?).root()?.join(folder.as_str()).join(FILE_NAME);
    let text = std::fs::read(&path).ok()?;
    let before = &text[..place.span.start.min(text.len())];
    Some((path.display().to_string(), 1 + memchr::memchr_iter(b'\n', before).count()))
}

/// All facts of a request, under the names that rules use.
fn fact_values(facts: &Facts<'_>, user: Option<String>, described: &Described) -> Vec<FactValue> {
    let mut values = Vec::new();
    let mut add = |name: &FactName| {
        let value = match name {
            FactName::User => user.clone(),
            FactName::Field(name) if *name == header::AUTHORIZATION => Some("…".to_owned()),
            name => facts.text(name).value().map(|text| text.into_owned()),
        };
        values.push(FactValue { name: name.to_string(), value });
    };
    for fact in FACTS {
        if let Some(name) = FactName::plain(fact.name) {
            add(&name);
        }
    }
    let query = described.query.as_deref().unwrap_or_default();
    let mut keys: Vec<String> = Vec::new();
    for (key, _) in form_urlencoded::parse(query.as_bytes()) {
        if !keys.contains(&key.to_string()) {
            keys.push(key.into_owned());
        }
    }
    keys.iter().for_each(|key| add(&FactName::Parameter(key.as_str().into())));
    described.headers.keys().for_each(|name| add(&FactName::Field(name.clone())));
    let cookies = described.headers.get_all(header::COOKIE).iter().filter_map(|line| line.to_str().ok());
    let pairs: Vec<&str> = cookies
        .flat_map(|line| line.split(';'))
        .filter_map(|pair| Some(pair.trim().split_once('=')?.0))
        .collect();
    pairs.iter().for_each(|name| add(&FactName::Cookie((*name).into())));
    values
}

fn outcome(disk: &OnDisk<'_>, answer: Answer) -> Outcome {
    let (bytes, path) = body::body(disk, &answer);
    let site = answer.site.map(|id| disk.config.site(id));
    let mut headers = answer.headers;
    let has_body = answer.body != Body::None;
    if let Some(bytes) = bytes.filter(|_| has_body) {
        headers.insert(header::CONTENT_LENGTH, HeaderValue::from(bytes));
    }
    let file =
        path.zip(site.and_then(|site| site.root())).map(|(path, root)| root.join(path).display().to_string());
    Outcome {
        status: answer.status.as_u16(),
        reason: answer.status.canonical_reason().unwrap_or("").to_owned(),
        headers: fields(&headers),
        bytes: if answer.head_only { Some(0) } else { bytes },
        file,
    }
}
