//! A request as somebody describes it.

use crate::access::authority::split;
use crate::active::trials::RealRequest;
use exedra_answering::facts::{Facts, Fields, Known, LocalTime, Scheme, read_agent};
use exedra_api::explaining::{Ask, Asked};
use http::{HeaderMap, HeaderName, HeaderValue, header};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};

/// What is assumed of a client where nothing else is said: what browsers accept.
const ASSUMED: [(HeaderName, &str); 2] =
    [(header::ACCEPT_ENCODING, "gzip, deflate, br, zstd"), (header::ACCEPT, "text/html, */*;q=0.8")];

/// A request that might be made.
#[derive(Debug, Clone)]
pub struct Described {
    /// Method.
    pub method: String,
    /// Scheme.
    pub scheme: Scheme,
    /// Host and port.
    pub authority: String,
    /// Path, exactly as it was written.
    pub path: String,
    /// Query, where there is one.
    pub query: Option<String>,
    /// Address of the client.
    pub client: IpAddr,
    /// Header fields, those assumed included.
    pub headers: HeaderMap,
    /// What is known of the connection that it came by.
    pub connection: DescribedConnection,
}

/// What is known, or assumed, of the connection that a request came by.
#[derive(Debug, Clone)]
pub struct DescribedConnection {
    /// Protocol.
    pub protocol: &'static str,
    /// Version of TLS, where there is any.
    pub tls: Option<&'static str>,
    /// The name that was asked for by TLS; the request's host where that is not known.
    pub tls_name: Option<String>,
    /// The first name of the certificate that was shown, where that is known.
    pub certificate: Option<String>,
    /// Address and port of ours, where that is known.
    pub server: Option<SocketAddr>,
}

impl From<&RealRequest> for Described {
    fn from(real: &RealRequest) -> Self {
        Described {
            method: real.method.clone(),
            scheme: real.scheme,
            authority: real.authority.clone(),
            path: real.path.clone(),
            query: real.query.clone(),
            client: real.client,
            headers: real.headers.clone(),
            connection: DescribedConnection {
                protocol: real.protocol,
                tls: real.tls,
                tls_name: real.tls_name.clone(),
                certificate: real.certificate.clone(),
                server: real.server,
            },
        }
    }
}

impl Described {
    /// Understands a description. The path is taken as it stands: nothing is tidied that a client might send. The error
    /// is for people.
    pub fn understand(ask: &Ask) -> Result<Self, String> {
        let (scheme, rest) = match ask.url.trim().split_once("://") {
            Some(("http", rest)) => (Scheme::Http, rest),
            Some(("https", rest)) => (Scheme::Https, rest),
            Some((other, _)) => {
                return Err(format!(
                    "`{other}` is no scheme that sites answer by: write http:// or https://"
                ));
            }
            None => (Scheme::Http, ask.url.trim()),
        };
        let end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
        let (authority, target) = rest.split_at(end);
        if authority.is_empty() {
            return Err(format!("`{}` names no host: write it like http://harbour.example/tides/", ask.url));
        }
        // A fragment never leaves the client.
        let target = target.split('#').next().unwrap_or_default();
        let (path, query) = match target.split_once('?') {
            Some((path, query)) => (path, Some(query.to_owned())),
            None => (target, None),
        };
        let mut headers = HeaderMap::new();
        for line in ask.headers.iter().filter(|line| !line.trim().is_empty()) {
            let wrong = || format!("`{line}` is no header field: write it like 'Accept-Encoding: br'");
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
        let client = match ask.client.trim() {
            "" => Ipv4Addr::LOCALHOST.into(),
            text => text
                .parse()
                .map_err(|_| format!("`{text}` is no address of a client: write it like 203.0.113.7"))?,
        };
        let method = if ask.method.trim().is_empty() { "GET" } else { ask.method.trim() };
        Ok(Described {
            method: method.to_owned(),
            scheme,
            authority: authority.to_owned(),
            path: if path.is_empty() { "/".to_owned() } else { path.to_owned() },
            query,
            client,
            headers,
            connection: DescribedConnection {
                protocol: "HTTP/1.1",
                tls: (scheme == Scheme::Https).then_some("1.3"),
                tls_name: None,
                certificate: None,
                server: None,
            },
        })
    }

    /// Host without its port.
    pub fn host(&self) -> &str {
        split(&self.authority).0
    }

    /// What the decision sees of it.
    pub fn facts<'a>(&'a self, country: Known<&'a str>, now: &jiff::Zoned) -> Facts<'a> {
        let (host, port) = split(&self.authority);
        Facts {
            client: Known::Is(self.client),
            country,
            scheme: Known::Is(self.scheme),
            tls: self.connection.tls.into(),
            tls_name: self.connection.tls.map(|_| self.connection.tls_name.as_deref().unwrap_or(host)).into(),
            certificate: Known::Unknown,
            server: Known::Unknown,
            agents: Some(read_agent),
            protocol: Known::Is(self.connection.protocol),
            host: Known::Is(host),
            port: port.into(),
            method: Known::Is(&self.method),
            path: Known::Is(&self.path),
            query: self.query.as_deref().into(),
            fields: Fields::All(&self.headers),
            time: Known::Is(LocalTime::from(now)),
            now: Known::Is(now.timestamp().as_second()),
        }
    }

    /// The request as it is shown.
    pub fn shown(&self) -> Asked {
        Asked {
            method: self.method.clone(),
            scheme: self.scheme.as_str().to_owned(),
            authority: self.authority.clone(),
            path: self.path.clone(),
            query: self.query.clone(),
            client: self.client.to_string(),
            headers: fields(&self.headers),
        }
    }
}

/// Fields as names and values. Passwords are shown to nobody.
pub fn fields(headers: &HeaderMap) -> Vec<(String, String)> {
    let shown = |(name, value): (&HeaderName, &HeaderValue)| match *name == header::AUTHORIZATION {
        true => (name.to_string(), "…".to_owned()),
        false => (name.to_string(), String::from_utf8_lossy(value.as_bytes()).into_owned()),
    };
    headers.iter().map(shown).collect()
}
