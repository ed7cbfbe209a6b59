//! A recipient that takes requests.

use reqwest::Client;
use reqwest::header::{AUTHORIZATION, CONTENT_TYPE, HeaderValue};
use reqwest::redirect::Policy;
use sluice_core::notice::Message;
use sluice_core::notice::body::Body;
use sluice_core::secret::{SecretRef, SecretStore};

use super::{PATIENCE, causes};
use crate::databases::{no_tls, tls_config, wait};

/// So much of an answer is read, in bytes.
const READ: usize = 2048;

/// Posts the message. It has arrived once the answer's status is a good one.
pub(super) fn post(
    url: &str,
    body: &Body,
    token: Option<&SecretRef>,
    message: &Message,
    secrets: &dyn SecretStore,
) -> Result<(), String> {
    let token = token.map(|place| secrets.read(place)).transpose()?;
    let token = token.as_ref().map(|secret| secret.reveal().trim());
    if token == Some("") {
        return Err("the token is empty".into());
    }
    let hide = |text: String| match token {
        Some(token) => text.replace(token, "***"),
        None => text,
    };
    let in_url = url.contains("{token}");
    let target = if in_url { url.replace("{token}", token.unwrap_or_default()) } else { url.to_string() };
    let asked = async {
        let mut request = client(&target)?
            .post(&target)
            .header(CONTENT_TYPE, body.content_type())
            .header("Idempotency-Key", &message.id)
            .body(body.filled(message));
        if let (Some(token), false) = (token, in_url) {
            let mut value = HeaderValue::from_str(&format!("Bearer {token}"))
                .map_err(|_| "the token holds characters that a header cannot have".to_string())?;
            value.set_sensitive(true);
            request = request.header(AUTHORIZATION, value);
        }
        // The URL may be a secret itself: the error goes without it.
        let mut answer = request.send().await.map_err(|e| causes(&e.without_url()))?;
        let status = answer.status();
        if status.is_success() {
            return Ok(());
        }
        let mut said = Vec::new();
        while let Ok(Some(part)) = answer.chunk().await
            && said.len() < READ
        {
            said.extend_from_slice(&part);
        }
        said.truncate(READ);
        Err(format!("the answer is {status}: {}", String::from_utf8_lossy(&said).trim()))
    };
    wait(asked).map_err(hide)
}

/// It follows no redirects: another server gets neither the notice nor the token.
fn client(url: &str) -> Result<Client, String> {
    let is_secure = url.starts_with("https:");
    let tls = if is_secure { tls_config("the recipient", None, None) } else { no_tls() }.map_err(|f| f.message)?;
    Client::builder()
        .timeout(PATIENCE)
        .no_proxy()
        .redirect(Policy::none())
        .tls_backend_preconfigured(tls)
        .build()
        .map_err(|e| causes(&e))
}
