//! A stand-in for a mail server (RFC 5321): it keeps what it is given, asks for a login where a test wants it, and becomes TLS when it is
//! asked to (RFC 3207).

use crate::authority::of_localhost;
use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use rustls::{ServerConfig, ServerConnection, StreamOwned};
use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};

/// A mail that it was given.
#[derive(Debug, Clone)]
pub struct Mail {
    /// Whom it is for.
    pub to: Vec<String>,
    /// It, with its fields.
    pub text: String,
    /// Whether it came secured.
    pub is_secured: bool,
    /// How it was answered.
    pub reply: String,
}

/// The server while a test runs.
pub struct MailServer {
    /// Its port, on localhost.
    pub port: u16,
    /// The authority of its certificate, in PEM.
    pub root: String,
    state: Arc<State>,
}

struct State {
    login: Option<(String, String)>,
    reply: Mutex<String>,
    mails: Mutex<Vec<Mail>>,
    tls: Arc<ServerConfig>,
}

/// What octets go through.
trait Stream: Read + Write + Send {}
impl<T: Read + Write + Send> Stream for T {}

impl MailServer {
    /// Listens, and asks for a login where there is one.
    pub fn open(login: Option<(&str, &str)>) -> Self {
        crate::secure();
        let (issuer, tls) = of_localhost();
        let listener = TcpListener::bind("127.0.0.1:0").expect("a free port");
        let port = listener.local_addr().expect("an address").port();
        let state = Arc::new(State {
            login: login.map(|(user, password)| (user.to_owned(), password.to_owned())),
            reply: Mutex::new("250 taken".to_owned()),
            mails: Mutex::default(),
            tls,
        });
        let shared = Arc::clone(&state);
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let shared = Arc::clone(&shared);
                // Whoever goes away says no more.
                std::thread::spawn(move || drop(converse(&shared, stream)));
            }
        });
        MailServer { port, root: issuer.pem(), state }
    }

    /// Answers mail with another reply from now on.
    pub fn answer(&self, reply: &str) {
        reply.clone_into(&mut self.state.reply.lock().expect("a sound lock"));
    }

    /// All that it was given.
    pub fn mails(&self) -> Vec<Mail> {
        self.state.mails.lock().expect("a sound lock").clone()
    }
}

fn converse(state: &State, plain: TcpStream) -> io::Result<()> {
    let mut stream: BufReader<Box<dyn Stream>> = BufReader::new(Box::new(plain.try_clone()?));
    let mut is_secured = false;
    let (mut is_known, mut to) = (state.login.is_none(), Vec::new());
    say(&mut stream, "220 localhost takes mail")?;
    loop {
        let mut line = String::new();
        if stream.read_line(&mut line)? == 0 {
            return Ok(());
        }
        let line = line.trim_end();
        let word = line.split([' ', ':']).next().unwrap_or_default().to_uppercase();
        match word.as_str() {
            "EHLO" if is_secured => say(&mut stream, "250-localhost\r\n250 AUTH PLAIN")?,
            "EHLO" => say(&mut stream, "250-localhost\r\n250 STARTTLS")?,
            "STARTTLS" => {
                say(&mut stream, "220 go on")?;
                let connection = ServerConnection::new(Arc::clone(&state.tls)).map_err(io::Error::other)?;
                stream = BufReader::new(Box::new(StreamOwned::new(connection, plain.try_clone()?)));
                is_secured = true;
            }
            "AUTH" => {
                let said = line.rsplit(' ').next().unwrap_or_default();
                let said = BASE64_STANDARD.decode(said).unwrap_or_default();
                let said = String::from_utf8_lossy(&said).into_owned();
                let expected = state.login.as_ref().map(|(user, password)| format!("\0{user}\0{password}"));
                is_known = expected == Some(said);
                say(&mut stream, if is_known { "235 known" } else { "535 not known" })?;
            }
            "MAIL" if !is_known => say(&mut stream, "530 sign in first")?,
            "RCPT" => {
                to.push(line.split(['<', '>']).nth(1).unwrap_or_default().to_owned());
                say(&mut stream, "250 well")?;
            }
            "DATA" => {
                say(&mut stream, "354 go on")?;
                let mut text = String::new();
                while !text.ends_with("\r\n.\r\n") {
                    if stream.read_line(&mut text)? == 0 {
                        return Ok(());
                    }
                }
                let reply = state.reply.lock().expect("a sound lock").clone();
                let mail = Mail { to: std::mem::take(&mut to), text, is_secured, reply: reply.clone() };
                state.mails.lock().expect("a sound lock").push(mail);
                say(&mut stream, &reply)?;
            }
            "QUIT" => return say(&mut stream, "221 farewell"),
            _ => say(&mut stream, "250 well")?,
        }
    }
}

fn say(stream: &mut BufReader<Box<dyn Stream>>, words: &str) -> io::Result<()> {
    let stream = stream.get_mut();
    stream.write_all(format!("{words}\r\n").as_bytes())?;
    stream.flush()
}
