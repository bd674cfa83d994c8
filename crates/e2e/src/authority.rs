//! A small stand-in for an authority that makes certificates (RFC 8555): one account, one order at a time. It believes
//! nobody's signatures but asks for the token as a real one would, and signs what it is sent.

use base64::Engine;
use base64::prelude::BASE64_URL_SAFE_NO_PAD;
use rcgen::{
    BasicConstraints, CertificateParams, CertificateSigningRequestParams, CertifiedIssuer, IsCa, KeyPair,
};
use rustls::{ServerConfig, ServerConnection, StreamOwned};
use rustls_pki_types::{CertificateSigningRequestDer, PrivateKeyDer};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};

const TOKEN: &str = "a-token-that-nobody-guesses";

/// The authority while a test runs.
pub struct Authority {
    /// Address of its directory.
    pub directory: String,
    /// The certificate of those who vouch for it, in PEM.
    pub root: String,
    state: Arc<State>,
}

struct State {
    base: String,
    /// Where the hosts' sites answer over HTTP.
    sites: Mutex<String>,
    issuer: CertifiedIssuer<'static, KeyPair>,
    order: Mutex<Order>,
}

#[derive(Default)]
struct Order {
    identifiers: Value,
    is_proved: bool,
    chain: Option<String>,
    made: u32,
}

/// A new root, and a server for localhost with a certificate that it has signed.
pub fn of_localhost() -> (CertifiedIssuer<'static, KeyPair>, Arc<ServerConfig>) {
    let mut params = CertificateParams::new(Vec::new()).expect("parameters");
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let issuer = CertifiedIssuer::self_signed(params, KeyPair::generate().expect("a key")).expect("a root");
    let key = KeyPair::generate().expect("a key");
    let own = CertificateParams::new(vec!["localhost".to_owned()]).expect("parameters");
    let own = own.signed_by(&key, &issuer).expect("a certificate");
    let secret = PrivateKeyDer::try_from(key.serialize_der()).expect("a key");
    let tls = ServerConfig::builder().with_no_client_auth().with_single_cert(vec![own.der().clone()], secret);
    (issuer, Arc::new(tls.expect("a server")))
}

impl Authority {
    /// Listens.
    pub fn open() -> Self {
        crate::secure();
        let (issuer, tls) = of_localhost();
        let listener = TcpListener::bind("127.0.0.1:0").expect("a free port");
        let base = format!("https://localhost:{}", listener.local_addr().expect("an address").port());
        let root = issuer.pem();
        let state =
            Arc::new(State { base: base.clone(), sites: Mutex::default(), issuer, order: Mutex::default() });
        let shared = Arc::clone(&state);
        std::thread::spawn(move || {
            for stream in listener.incoming().map_while(Result::ok) {
                let (state, tls) = (Arc::clone(&shared), Arc::clone(&tls));
                std::thread::spawn(move || serve(stream, tls, &state));
            }
        });
        Authority { directory: format!("{base}/directory"), root, state }
    }

    /// Says where the hosts' sites answer over HTTP.
    pub fn find_sites_at(&self, address: &str) {
        *self.state.sites.lock().expect("the address") = address.to_owned();
    }

    /// How many certificates it has made.
    pub fn made(&self) -> u32 {
        self.state.order.lock().expect("the order").made
    }
}

fn serve(stream: TcpStream, tls: Arc<ServerConfig>, state: &State) {
    let connection = ServerConnection::new(tls).expect("a connection");
    let mut stream = BufReader::new(StreamOwned::new(connection, stream));
    loop {
        let (mut line, mut length) = (String::new(), 0);
        if stream.read_line(&mut line).unwrap_or(0) == 0 {
            return;
        }
        loop {
            let mut field = String::new();
            if stream.read_line(&mut field).unwrap_or(0) == 0 {
                return;
            }
            let field = field.trim().to_ascii_lowercase();
            if let Some(value) = field.strip_prefix("content-length:") {
                length = value.trim().parse().unwrap_or(0);
            }
            if field.is_empty() {
                break;
            }
        }
        let mut body = vec![0; length];
        if stream.read_exact(&mut body).is_err() {
            return;
        }
        let payload = serde_json::from_slice::<Value>(&body).ok();
        let payload = payload.and_then(|jws| BASE64_URL_SAFE_NO_PAD.decode(jws["payload"].as_str()?).ok());
        let payload = payload.and_then(|octets| serde_json::from_slice(&octets).ok()).unwrap_or(Value::Null);
        let path = line.split(' ').nth(1).unwrap_or_default().to_owned();
        let (status, location, body) = state.answer(&path, &payload);
        let location = location.map(|path| format!("Location: {}{path}\r\n", state.base)).unwrap_or_default();
        let head = format!(
            "HTTP/1.1 {status} Fine\r\nReplay-Nonce: n{}\r\n{location}Content-Type: application/json\r\nContent-Length: {}\r\n\r\n",
            rand::random::<u64>(),
            body.len()
        );
        let is_head = line.starts_with("HEAD");
        let stream = stream.get_mut();
        let sent = stream
            .write_all(head.as_bytes())
            .and_then(|()| if is_head { Ok(()) } else { stream.write_all(body.as_bytes()) });
        if sent.and_then(|()| stream.flush()).is_err() {
            return;
        }
    }
}

impl State {
    fn answer(&self, path: &str, payload: &Value) -> (u16, Option<&'static str>, String) {
        let at = |path: &str| format!("{}{path}", self.base);
        let mut order = self.order.lock().expect("the order");
        match path {
            "/directory" => {
                let all = json!({ "newNonce": at("/nonce"), "newAccount": at("/account"), "newOrder": at("/orders"), "revokeCert": at("/revoke"), "keyChange": at("/key") });
                (200, None, all.to_string())
            }
            "/nonce" => (200, None, String::new()),
            "/account" => (201, Some("/account/1"), json!({ "status": "valid" }).to_string()),
            "/orders" => {
                order.identifiers = payload["identifiers"].clone();
                (order.is_proved, order.chain) = (false, None);
                (201, Some("/order/1"), self.order(&order))
            }
            "/order/1" => (200, None, self.order(&order)),
            "/authorization/1" | "/challenge/1" => {
                if path == "/challenge/1" {
                    let host = order.identifiers[0]["value"].as_str().unwrap_or_default().to_owned();
                    let sites = self.sites.lock().expect("the address").clone();
                    order.is_proved = proved(&sites, &host);
                }
                let status = if order.is_proved { "valid" } else { "pending" };
                let challenge =
                    json!({ "type": "http-01", "url": at("/challenge/1"), "token": TOKEN, "status": status });
                let authorization = json!({ "status": status, "identifier": order.identifiers[0], "challenges": [challenge] });
                (
                    200,
                    None,
                    if path == "/challenge/1" { challenge.to_string() } else { authorization.to_string() },
                )
            }
            "/finalize/1" => {
                let request =
                    payload["csr"].as_str().and_then(|text| BASE64_URL_SAFE_NO_PAD.decode(text).ok());
                let request = CertificateSigningRequestDer::from(request.unwrap_or_default());
                let signed = CertificateSigningRequestParams::from_der(&request)
                    .and_then(|request| request.signed_by(&self.issuer))
                    .expect("what is sent can be signed");
                order.chain = Some(format!("{}{}", signed.pem(), self.issuer.pem()));
                order.made += 1;
                (200, Some("/order/1"), self.order(&order))
            }
            "/certificate/1" => (200, None, order.chain.clone().unwrap_or_default()),
            _ => (404, None, String::new()),
        }
    }

    fn order(&self, order: &Order) -> String {
        let at = |path: &str| format!("{}{path}", self.base);
        let status = match (&order.chain, order.is_proved) {
            (Some(_), _) => "valid",
            (None, true) => "ready",
            (None, false) => "pending",
        };
        let mut all = json!({ "status": status, "identifiers": order.identifiers, "authorizations": [at("/authorization/1")], "finalize": at("/finalize/1") });
        if order.chain.is_some() {
            all["certificate"] = at("/certificate/1").into();
        }
        all.to_string()
    }
}

/// Asks a host for the token (RFC 8555 §8.3).
fn proved(sites: &str, host: &str) -> bool {
    let url = format!("http://{sites}/.well-known/acme-challenge/{TOKEN}");
    let answer = crate::client().get(url).header("Host", host).send();
    let text = answer.ok().filter(|answer| answer.status() == 200).and_then(|answer| answer.text().ok());
    text.is_some_and(|text| {
        text.strip_prefix(TOKEN).is_some_and(|rest| rest.len() > 40 && rest.starts_with('.'))
    })
}
