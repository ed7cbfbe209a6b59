//! A recipient that gets mail, by SMTP.

use std::path::Path;

use lettre::message::{Mailbox, header::ContentType};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, CertificateStore, Tls, TlsParameters};
use lettre::{SmtpTransport, Transport as _};
use sluice_core::config::notice::{MailChannel, MailTls};
use sluice_core::notice::Message;
use sluice_core::secret::SecretStore;

use super::{PATIENCE, causes};

/// Sends the message. It has arrived once the server has accepted it.
pub(super) fn send(
    mail: &MailChannel,
    message: &Message,
    root: &Path,
    secrets: &dyn SecretStore,
) -> Result<(), String> {
    let server = format!("{}:{}", mail.host, mail.port);
    let mut transport = SmtpTransport::builder_dangerous(&mail.host).port(mail.port).timeout(Some(PATIENCE));
    transport = match mail.tls {
        MailTls::Never => transport.tls(Tls::None),
        MailTls::Start => transport.tls(Tls::Required(parameters(mail, root)?)),
        MailTls::Always => transport.tls(Tls::Wrapper(parameters(mail, root)?)),
    };
    let mut hidden = None;
    if let Some((user, password)) = &mail.login {
        let password = secrets.read(password)?;
        transport = transport.credentials(Credentials::new(user.clone(), password.reveal().to_string()));
        hidden = Some(password);
    }
    let sent = transport.build().send(&letter(mail, message)?);
    sent.map(|_| ()).map_err(|error| {
        let text = format!("{server}: {}", causes(&error));
        match hidden.as_ref().map(|secret| secret.reveal()).filter(|secret| !secret.is_empty()) {
            Some(secret) => text.replace(secret, "***"),
            None => text,
        }
    })
}

fn letter(mail: &MailChannel, message: &Message) -> Result<lettre::Message, String> {
    let mailbox = |address: &str| -> Result<Mailbox, String> {
        address.parse().map_err(|error| format!("`{address}` is not a mail address: {error}"))
    };
    let mut letter = lettre::Message::builder()
        .from(mailbox(&mail.from)?)
        .subject(message.headline())
        .message_id(Some(format!("<{}@sluice>", message.id)))
        .date_now();
    for address in &mail.to {
        letter = letter.to(mailbox(address)?);
    }
    letter
        .header(ContentType::TEXT_PLAIN)
        .body(message.as_text())
        .map_err(|error| format!("the mail cannot be written: {error}"))
}

fn parameters(mail: &MailChannel, root: &Path) -> Result<TlsParameters, String> {
    let wrong = |error: lettre::transport::smtp::Error| format!("TLS to {} cannot be set up: {error}", mail.host);
    // Without an authority the system's certificates are trusted.
    let mut builder = TlsParameters::builder(mail.host.clone());
    if let Some(path) = &mail.authority {
        let path = root.join(path);
        let pem = std::fs::read(&path).map_err(|error| format!("cannot read {}: {error}", path.display()))?;
        builder = builder.certificate_store(CertificateStore::None);
        builder = builder.add_root_certificate(Certificate::from_pem(&pem).map_err(wrong)?);
    }
    builder.build().map_err(wrong)
}
