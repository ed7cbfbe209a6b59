//! Encrypted connections: which certificates are trusted.

use std::sync::Arc;

use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject as _;
use rustls::{ClientConfig, RootCertStore};
use sluice_core::failure::{Failure, FailureKind, Outcome};

use super::Server;

/// What an encrypted connection is made with.
///
/// # Errors
/// Where no certificate to trust can be read.
pub(crate) fn client_config(server: &Server) -> Outcome<ClientConfig> {
    let mut roots = RootCertStore::empty();
    let wrong = |what: String| {
        Failure::new(FailureKind::Configuration, format!("{}: {what}", server.shown()))
            .with_help("authority = \"FILE.pem\" in its [connection] names the certificates to trust")
    };
    match &server.authority {
        Some(path) => {
            let unreadable = |e: &dyn std::fmt::Display| wrong(format!("cannot read {}: {e}", path.display()));
            for certificate in CertificateDer::pem_file_iter(path).map_err(|e| unreadable(&e))? {
                let certificate = certificate.map_err(|e| unreadable(&e))?;
                roots.add(certificate).map_err(|e| unreadable(&e))?;
            }
        }
        None => {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
    }
    if roots.is_empty() {
        return Err(wrong("there is no certificate to trust".into()));
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| Failure::internal(format!("TLS cannot be set up: {e}")))?;
    Ok(config.with_root_certificates(roots).with_no_client_auth())
}
