//! The request, as it is described on the command line.

use super::Options;
use crate::Failure;
use exedra_core::facts::{Facts, Fields, Known, Scheme};
use exedra_service::authority::split;
use http::{HeaderMap, HeaderName, HeaderValue, header};
use serde::Serialize;
use std::net::{IpAddr, Ipv4Addr};

/// What is assumed of a client where nothing else is said: what browsers accept.
const ASSUMED: [(HeaderName, &str); 2] =
    [(header::ACCEPT_ENCODING, "gzip, deflate, br, zstd"), (header::ACCEPT, "text/html, */*;q=0.8")];

/// A request that might be made.
#[derive(Serialize)]
pub struct Asked {
    /// Method.
    pub method: String,
    /// Scheme.
    pub scheme: &'static str,
    /// Host and port.
    pub authority: String,
    /// Path, exactly as it was written.
    pub path: String,
    /// Query, where there is one.
    pub query: Option<String>,
    /// Address of the client.
    pub client: IpAddr,
    /// Header fields, those assumed included.
    #[serde(serialize_with = "fields")]
    pub headers: HeaderMap,
}

/// Fields as names and values.
pub fn fields<S: serde::Serializer>(headers: &HeaderMap, out: S) -> Result<S::Ok, S::Error> {
    out.collect_seq(
        headers.iter().map(|(name, value)| (name.as_str(), String::from_utf8_lossy(value.as_bytes()))),
    )
}

impl Asked {
    /// Understands the options. The path is taken as it stands: nothing is tidied that a client might send.
    pub fn understand(options: &Options) -> Result<Self, Failure> {
        let (scheme, rest) = match options.url.split_once("://") {
            Some(("http", rest)) => (Scheme::Http, rest),
            Some(("https", rest)) => (Scheme::Https, rest),
            Some((other, _)) => {
                return Err(Failure(format!(
                    "`{other}` is no scheme that sites answer by: write http:// or https://"
                )));
            }
            None => (Scheme::Http, options.url.as_str()),
        };
        let end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
        let (authority, target) = rest.split_at(end);
        if authority.is_empty() {
            return Err(Failure(format!(
                "`{}` names no host: write it like http://harbour.example/tides/",
                options.url
            )));
        }
        // A fragment never leaves the client.
        let target = target.split('#').next().unwrap_or_default();
        let (path, query) = match target.split_once('?') {
            Some((path, query)) => (path, Some(query.to_owned())),
            None => (target, None),
        };
        let mut headers = HeaderMap::new();
        for line in &options.headers {
            let wrong =
                || Failure(format!("`{line}` is no header field: write it like 'Accept-Encoding: br'"));
            let (name, value) = line.split_once(':').ok_or_else(wrong)?;
            let name: HeaderName = name.trim().parse().map_err(|_| wrong())?;
            let value: HeaderValue = value.trim().parse().map_err(|_| wrong())?;
            headers.append(name, value);
        }
        for (name, value) in ASSUMED {
            if !headers.contains_key(&name) {
                headers.insert(name, HeaderValue::from_static(value));
            }
        }
        Ok(Asked {
            method: options.method.clone(),
            scheme: scheme.as_str(),
            authority: authority.to_owned(),
            path: if path.is_empty() { "/".to_owned() } else { path.to_owned() },
            query,
            client: options.client.unwrap_or(Ipv4Addr::LOCALHOST.into()),
            headers,
        })
    }

    /// Path and query.
    pub fn target(&self) -> String {
        match &self.query {
            Some(query) => format!("{}?{query}", self.path),
            None => self.path.clone(),
        }
    }

    /// What the decision sees of it.
    pub fn facts(&self) -> Facts<'_> {
        let (host, port) = split(&self.authority);
        Facts {
            client: Known::Is(self.client),
            scheme: Known::Is(if self.scheme == "https" { Scheme::Https } else { Scheme::Http }),
            host: Known::Is(host),
            port: port.into(),
            method: Known::Is(&self.method),
            path: Known::Is(&self.path),
            query: self.query.as_deref().into(),
            fields: Fields::All(&self.headers),
        }
    }
}
