//! By mail.

use crate::NotifyError;
use eskort_core::inventory::{MailNotify, MailTls};
use eskort_core::news::Message;
use eskort_host::{obeyed, read_secret};
use lettre::message::header::{Header, HeaderName, HeaderValue};
use lettre::message::{Mailbox, SinglePart};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, CertificateStore, Tls, TlsParameters};
use lettre::{AsyncSmtpTransport, AsyncTransport, Tokio1Executor};
use std::error::Error;
use std::time::{Duration, SystemTime};

pub(crate) async fn deliver(mail: &MailNotify, message: &Message, longest: Duration) -> Result<(), NotifyError> {
    let port = mail.port.unwrap_or(mail.tls.port());
    let server = format!("{}:{port}", mail.server);
    let fail = |what: String| NotifyError::Mail { server: server.clone(), what };
    let written = write(mail, message).map_err(|error| fail(error.to_string()))?;
    let tls = match mail.tls {
        MailTls::None => Tls::None,
        MailTls::FromTheStart => Tls::Wrapper(parameters(mail)?),
        MailTls::StartTls => Tls::Required(parameters(mail)?),
    };
    let mut transport = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(&mail.server)
        .port(port)
        .tls(tls)
        .timeout(Some(longest));
    if let Some((user, password)) = &mail.login {
        transport = transport.credentials(Credentials::new(user.clone(), read_secret(password)?.reveal().clone()));
    }
    transport.build().send(written).await.map(drop).map_err(|error| fail(whole(&error)))
}

fn parameters(mail: &MailNotify) -> Result<TlsParameters, NotifyError> {
    let mut builder = TlsParameters::builder(mail.server.clone());
    if let Some(path) = &mail.roots {
        let fail = |why: String| NotifyError::File { path: path.clone(), why };
        let roots = obeyed::read(path).map_err(fail)?;
        builder = builder
            .certificate_store(CertificateStore::None)
            .add_root_certificate(Certificate::from_pem(&roots).map_err(|error| fail(whole(&error)))?);
    }
    builder.build_rustls().map_err(|error| NotifyError::Mail { server: mail.server.clone(), what: whole(&error) })
}

fn write(mail: &MailNotify, message: &Message) -> Result<lettre::Message, Box<dyn Error>> {
    let from: Mailbox = mail.from.parse()?;
    let id = format!("<{}.eskort@{}>", message.id, from.email.domain());
    let mut builder = lettre::Message::builder()
        .from(from)
        .subject(message.subject())
        .message_id(Some(id))
        .date(SystemTime::from(message.at))
        .header(Automatic);
    for to in &mail.to {
        builder = builder.to(to.parse()?);
    }
    Ok(builder.singlepart(SinglePart::plain(message.text()))?)
}

/// Keeps programs that answer mail by themselves from answering this (RFC 3834 section 5).
#[derive(Clone)]
struct Automatic;

impl Header for Automatic {
    fn name() -> HeaderName {
        HeaderName::new_from_ascii_str("Auto-Submitted")
    }

    fn parse(_: &str) -> Result<Self, Box<dyn Error + Send + Sync>> {
        Ok(Automatic)
    }

    fn display(&self) -> HeaderValue {
        HeaderValue::new(Self::name(), "auto-generated".into())
    }
}

/// Returns what happened, from the outside in.
fn whole(error: &dyn Error) -> String {
    let (mut text, mut cause) = (error.to_string(), error.source());
    while let Some(inner) = cause {
        let said = inner.to_string();
        if !text.contains(&said) {
            text = format!("{text}: {said}");
        }
        cause = inner.source();
    }
    text
}
