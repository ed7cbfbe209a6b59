//! Encrypted connections: which certificates are trusted.

use std::path::Path;
use std::sync::Arc;

use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ClientConfig, RootCertStore};
use sluice_core::failure::{Failure, FailureKind, Outcome};

use super::Server;

/// Our own certificate and its key, for servers that want one: PEM files.
pub(crate) struct Identity<'p> {
    pub certificate: &'p Path,
    pub key: &'p Path,
}

/// The certificates of the authorities that the server's certificate may come from.
///
/// # Errors
/// Where none can be read.
pub(crate) fn trusted(server: &Server) -> Outcome<Vec<CertificateDer<'static>>> {
    authorities(&server.shown(), server.authority.as_deref())
}

fn unusable(shown: &str, what: &str) -> Failure {
    Failure::new(FailureKind::Configuration, format!("{shown}: {what}"))
}

fn authorities(shown: &str, authority: Option<&Path>) -> Outcome<Vec<CertificateDer<'static>>> {
    let wrong = |what: String| {
        unusable(shown, &what).with_help("authority = \"FILE.pem\" in its [connection] names the certificates to trust")
    };
    let roots = match authority {
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
    tls_config(&server.shown(), server.authority.as_deref(), None)
}

/// As [`client_config`], for a server that `shown` names in messages; without an authority the system's are trusted.
///
/// # Errors
/// Where no certificate to trust, or our own, can be read.
pub(crate) fn tls_config(shown: &str, authority: Option<&Path>, identity: Option<Identity>) -> Outcome<ClientConfig> {
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(authorities(shown, authority)?);
    if roots.is_empty() {
        return Err(unusable(shown, "none of the certificates to trust can be used"));
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| Failure::internal(format!("TLS cannot be set up: {e}")))?
        .with_root_certificates(roots);
    let Some(identity) = identity else { return Ok(config.with_no_client_auth()) };
    let wrong = |e: &dyn std::fmt::Display| unusable(shown, &format!("our own certificate cannot be used: {e}"));
    let chain = CertificateDer::pem_file_iter(identity.certificate).map_err(|e| wrong(&e))?;
    let chain = chain.collect::<Result<Vec<_>, _>>().map_err(|e| wrong(&e))?;
    let key = PrivateKeyDer::from_pem_file(identity.key).map_err(|e| wrong(&e))?;
    config.with_client_auth_cert(chain, key).map_err(|e| wrong(&e))
}
