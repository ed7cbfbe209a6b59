//! Encrypted connections: which certificates are trusted.

use std::sync::Arc;

use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject as _;
use rustls::{ClientConfig, RootCertStore};
use sluice_core::failure::{Failure, FailureKind, Outcome};

use super::Server;

/// The certificates of the authorities that the server's certificate may come from.
///
/// # Errors
/// Where none can be read.
pub(crate) fn trusted(server: &Server) -> Outcome<Vec<CertificateDer<'static>>> {
    let wrong = |what: String| {
        Failure::new(FailureKind::Configuration, format!("{}: {what}", server.shown()))
            .with_help("authority = \"FILE.pem\" in its [connection] names the certificates to trust")
    };
    let roots = match &server.authority {
        Some(path) => {
            let unreadable = |e: &dyn std::fmt::Display| wrong(format!("cannot read {}: {e}", path.display()));
            let certificates = CertificateDer::pem_file_iter(path).map_err(|e| unreadable(&e))?;
            certificates.map(|one| one.map_err(|e| unreadable(&e))).collect::<Outcome<Vec<_>>>()?
        }
        None => rustls_native_certs::load_native_certs().certs,
    };
    if roots.is_empty() {
        return Err(wrong("there is no certificate to trust".into()));
    }
    Ok(roots)
}

/// What an encrypted connection is made with.
///
/// # Errors
/// Where no certificate to trust can be read.
pub(crate) fn client_config(server: &Server) -> Outcome<ClientConfig> {
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(trusted(server)?);
    if roots.is_empty() {
        let message = format!("{}: none of the certificates to trust can be used", server.shown());
        return Err(Failure::new(FailureKind::Configuration, message));
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| Failure::internal(format!("TLS cannot be set up: {e}")))?;
    Ok(config.with_root_certificates(roots).with_no_client_auth())
}
