//! Encrypted connections to receivers.

use rustls::crypto::ring::default_provider;
use rustls::{ClientConfig, RootCertStore};
use rustls_pki_types::CertificateDer;
use rustls_pki_types::pem::PemObject;
use std::path::Path;
use std::sync::Arc;

/// The certificates of a PEM file.
///
/// # Errors
/// If it cannot be read, or holds none; in words.
pub(super) fn certificates(path: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let failed = |error: &dyn std::fmt::Display| format!("ca_file {}: {error}", path.display());
    let found = CertificateDer::pem_file_iter(path).map_err(|e| failed(&e))?;
    let found = found.collect::<Result<Vec<_>, _>>().map_err(|e| failed(&e))?;
    if found.is_empty() { Err(failed(&"there is no certificate in it")) } else { Ok(found) }
}

/// Trusts the certificates of a file, or those that the system trusts.
///
/// # Errors
/// If the file cannot be read; in words.
pub(super) fn client_config(ca_file: Option<&Path>) -> Result<ClientConfig, String> {
    let mut roots = RootCertStore::empty();
    match ca_file {
        Some(path) => {
            for certificate in certificates(path)? {
                roots.add(certificate).map_err(|e| format!("ca_file {}: {e}", path.display()))?;
            }
        }
        None => {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
    }
    let builder = ClientConfig::builder_with_provider(Arc::new(default_provider()));
    let builder = builder.with_safe_default_protocol_versions().map_err(|e| e.to_string())?;
    Ok(builder.with_root_certificates(roots).with_no_client_auth())
}
