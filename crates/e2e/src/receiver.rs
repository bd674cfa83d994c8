//! A stand-in for whoever is sent webhooks: it keeps what came, and answers as a test wants it.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::atomic::{AtomicU16, Ordering};
use std::sync::{Arc, Mutex};

/// A request that came.
#[derive(Debug, Clone)]
pub struct Received {
    /// What it asked for.
    pub target: String,
    /// Its fields, with names in lower case.
    pub fields: Vec<(String, String)>,
    /// What was sent.
    pub body: String,
    /// How it was answered.
    pub status: u16,
}

impl Received {
    /// A field; empty where there is none.
    pub fn field(&self, name: &str) -> &str {
        self.fields.iter().find(|(known, _)| known == name).map_or("", |(_, value)| value)
    }

    /// What was sent, as JSON.
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.body).expect("JSON")
    }
}

/// The receiver while a test runs.
pub struct Receiver {
    /// Its address.
    pub address: String,
    state: Arc<State>,
}

struct State {
    status: AtomicU16,
    received: Mutex<Vec<Received>>,
}

impl Receiver {
    /// Listens, and answers with a status.
    pub fn open(status: u16) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a free port");
        let address = format!("http://{}/alerts?key=secret", listener.local_addr().expect("an address"));
        let state = Arc::new(State { status: AtomicU16::new(status), received: Mutex::default() });
        let shared = Arc::clone(&state);
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let shared = Arc::clone(&shared);
                // Whoever is killed meanwhile says no more.
                std::thread::spawn(move || drop(receive(&shared, stream)));
            }
        });
        Receiver { address, state }
    }

    /// Answers with another status from now on.
    pub fn answer(&self, status: u16) {
        self.state.status.store(status, Ordering::SeqCst);
    }

    /// All that came.
    pub fn received(&self) -> Vec<Received> {
        self.state.received.lock().expect("a sound lock").clone()
    }

    /// What was taken, without repeats: identities of messages, in the order in which they came first.
    pub fn taken(&self) -> Vec<String> {
        let mut all: Vec<String> = Vec::new();
        for one in self.received().iter().filter(|one| one.status < 300) {
            let id = one.json()["id"].as_str().expect("an identity").to_owned();
            if !all.contains(&id) {
                all.push(id);
            }
        }
        all
    }
}

fn receive(state: &State, stream: TcpStream) -> std::io::Result<()> {
    let mut reader = BufReader::new(stream.try_clone()?);
    let mut first = String::new();
    reader.read_line(&mut first)?;
    let target = first.split(' ').nth(1).unwrap_or_default().to_owned();
    let mut fields = Vec::new();
    loop {
        let mut line = String::new();
        // Whoever is killed within the head has said nothing.
        if reader.read_line(&mut line)? == 0 {
            return Ok(());
        }
        match line.trim_end().split_once(": ") {
            Some((name, value)) => fields.push((name.to_lowercase(), value.to_owned())),
            None if line == "\r\n" => break,
            None => return Ok(()),
        }
    }
    let length =
        fields.iter().find(|(name, _)| name == "content-length").and_then(|(_, length)| length.parse().ok());
    let mut body = vec![0; length.unwrap_or(0)];
    reader.read_exact(&mut body)?;
    let status = state.status.load(Ordering::SeqCst);
    let body = String::from_utf8_lossy(&body).into_owned();
    state.received.lock().expect("a sound lock").push(Received { target, fields, body, status });
    let mut stream = stream;
    stream.write_all(
        format!("HTTP/1.1 {status} Said\r\nContent-Length: 0\r\nConnection: close\r\n\r\n").as_bytes(),
    )
}
