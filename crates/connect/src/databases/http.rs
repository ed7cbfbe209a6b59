//! HTTP clients of servers that are named in a connection.

use std::sync::Arc;
use std::time::Duration;

use reqwest::Client;
use reqwest::redirect::Policy;
use rustls::{ClientConfig, RootCertStore};
use sluice_core::failure::{Failure, Outcome};

use super::{PATIENCE, Server, client_config};

/// A client of one server. It follows no redirects: another server gets neither data nor the password.
///
/// # Errors
/// Where no certificate to trust can be read.
pub(crate) fn http_client(server: &Server) -> Outcome<Client> {
    let tls = if server.tls { client_config(server)? } else { no_tls()? };
    Client::builder()
        .connect_timeout(PATIENCE)
        .tcp_keepalive(Duration::from_secs(15))
        .no_proxy()
        .redirect(Policy::none())
        .pool_max_idle_per_host(1)
        .tls_backend_preconfigured(tls)
        .build()
        .map_err(|e| Failure::internal(format!("no HTTP client: {e}")))
}

/// The configuration of a client that makes no encrypted connection. Without it the client would load the system's certificates.
pub(crate) fn no_tls() -> Outcome<ClientConfig> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| Failure::internal(format!("TLS cannot be set up: {e}")))?;
    Ok(config.with_root_certificates(RootCertStore::empty()).with_no_client_auth())
}
