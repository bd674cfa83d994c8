//! By mail (RFC 5321, RFC 5322).

use super::{Content, MOST_TIME, NotDelivered, secret};
use exedra_answering::config::Located;
use exedra_answering::config::recipients::{Encryption, MailServer};
use exedra_store::watching::messages::Message;
use lettre::message::header::{ContentType, Header, HeaderName, HeaderValue};
use lettre::message::{Attachment, MultiPart, SinglePart};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, CertificateStore, Tls, TlsParameters};
use lettre::{AsyncSmtpTransport, AsyncTransport, Tokio1Executor};
use std::error::Error;

/// Replies of a server that another attempt would not change: there is no such mailbox, or it takes no such mail (RFC 5321 §4.2.2).
const REFUSALS: [u16; 5] = [550, 551, 552, 553, 554];

/// Says that nobody has written a mail (RFC 3834 §5), so that nothing answers it by itself.
#[derive(Debug, Clone)]
struct AutoSubmitted;

impl Header for AutoSubmitted {
    fn name() -> HeaderName {
        HeaderName::new_from_ascii_str("Auto-Submitted")
    }

    fn parse(_: &str) -> Result<Self, Box<dyn Error + Send + Sync>> {
        Ok(AutoSubmitted)
    }

    fn display(&self) -> HeaderValue {
        HeaderValue::new(Self::name(), "auto-generated".to_owned())
    }
}

/// Sends a message to some addresses.
///
/// # Errors
/// [`NotDelivered`]: what the server said.
pub async fn send(
    server: Option<&MailServer>,
    addresses: &[Located<String>],
    message: &Message,
    content: &Content,
) -> Result<(), NotDelivered> {
    let server =
        server.ok_or_else(|| NotDelivered::Ever("there is no [mail] in the configuration".to_owned()))?;
    let mail = written(server, addresses, message, content)?;
    let transport = transport(server)?;
    transport.send(mail).await.map(drop).map_err(|error| {
        let words = match error.source() {
            Some(source) => format!("the server {}: {error}: {source}", server.host.value),
            None => format!("the server {}: {error}", server.host.value),
        };
        match error.status() {
            Some(code) if REFUSALS.contains(&u16::from(code)) => NotDelivered::Ever(words),
            _ => NotDelivered::Yet(words),
        }
    })
}

fn transport(server: &MailServer) -> Result<AsyncSmtpTransport<Tokio1Executor>, NotDelivered> {
    let wrong =
        |error: &dyn std::fmt::Display| NotDelivered::Yet(format!("the mail server cannot be used: {error}"));
    let parameters = || -> Result<TlsParameters, NotDelivered> {
        let mut builder = TlsParameters::builder(server.host.value.clone());
        if let Some(trusted) = &server.trusted {
            let path = &trusted.value;
            let pem = std::fs::read(path)
                .map_err(|error| NotDelivered::Yet(format!("{} cannot be read: {error}", path.display())))?;
            let certificate = Certificate::from_pem(&pem).map_err(|error| wrong(&error))?;
            builder = builder.certificate_store(CertificateStore::None).add_root_certificate(certificate);
        }
        builder.build_rustls().map_err(|error| wrong(&error))
    };
    let tls = match server.encryption {
        Encryption::Upgraded => Tls::Required(parameters()?),
        Encryption::Immediate => Tls::Wrapper(parameters()?),
        Encryption::None => Tls::None,
    };
    let mut builder = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(server.host.value.clone())
        .port(server.port)
        .tls(tls)
        .timeout(Some(MOST_TIME));
    if let Some((user, password)) = &server.login {
        builder = builder.credentials(Credentials::new(user.clone(), secret(&password.value)?));
    }
    Ok(builder.build())
}

/// The mail itself.
fn written(
    server: &MailServer,
    addresses: &[Located<String>],
    message: &Message,
    content: &Content,
) -> Result<lettre::Message, NotDelivered> {
    let wrong =
        |error: &dyn std::fmt::Display| NotDelivered::Ever(format!("the mail cannot be written: {error}"));
    let from = &server.from.value;
    let host = from.rsplit_once('@').map_or("localhost", |(_, host)| host);
    let mut builder = lettre::Message::builder()
        .from(from.parse().map_err(|error| wrong(&error))?)
        // The same at each attempt, by which clients know repeats.
        .message_id(Some(format!("<{}@{host}>", message.id)))
        .subject(message.subject.replace(['\r', '\n'], " "))
        .header(AutoSubmitted);
    for address in addresses {
        builder = builder.to(address.value.parse().map_err(|error| wrong(&error))?);
    }
    let text = SinglePart::builder().header(ContentType::TEXT_PLAIN).body(content.text.clone());
    let Some(file) = &content.attachment else {
        return builder.singlepart(text).map_err(|error| wrong(&error));
    };
    let octets = std::fs::read(&file.path)
        .map_err(|error| NotDelivered::Yet(format!("{} cannot be read: {error}", file.path.display())))?;
    let kind = ContentType::parse(&file.media_type).map_err(|error| wrong(&error))?;
    let parts =
        MultiPart::mixed().singlepart(text).singlepart(Attachment::new(file.name.clone()).body(octets, kind));
    builder.multipart(parts).map_err(|error| wrong(&error))
}
