//! Encryption by rustls, with the modes that the server's own connection strings know
//! (PostgreSQL manual, section 34.19.1).

use crate::address::PostgresAddress;
use moorage_core::project::SslMode;
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, ServerName, UnixTime};
use std::sync::Arc;

/// The client settings for an address.
///
/// # Errors
/// In words, if the certificates of authorities cannot be read.
pub(crate) fn client_config(address: &PostgresAddress) -> Result<ClientConfig, String> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(|e| e.to_string())?;
    let check = match address.sslmode {
        SslMode::VerifyCa => Check::Authority(authorities(address, &provider)?),
        SslMode::VerifyFull => Check::AuthorityAndName(authorities(address, &provider)?),
        // As the server's own client library does: an authority that was named is checked in this mode too.
        SslMode::Require if address.sslrootcert.is_some() => {
            Check::Authority(authorities(address, &provider)?)
        }
        _ => Check::Nothing,
    };
    let verifier = Arc::new(Verifier { check, provider });
    Ok(builder.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth())
}

fn authorities(
    address: &PostgresAddress,
    provider: &Arc<CryptoProvider>,
) -> Result<Arc<WebPkiServerVerifier>, String> {
    let mut roots = RootCertStore::empty();
    if let Some(path) = &address.sslrootcert {
        let unreadable =
            |e: &dyn std::fmt::Display| format!("sslrootcert {} cannot be read: {e}", path.display());
        for certificate in CertificateDer::pem_file_iter(path).map_err(|e| unreadable(&e))? {
            roots.add(certificate.map_err(|e| unreadable(&e))?).map_err(|e| unreadable(&e))?;
        }
    } else {
        roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    }
    if roots.is_empty() {
        return Err("no certificates of trusted authorities were found: name a file with sslrootcert".into());
    }
    WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider.clone())
        .build()
        .map_err(|e| e.to_string())
}

#[derive(Debug)]
enum Check {
    Nothing,
    Authority(Arc<WebPkiServerVerifier>),
    AuthorityAndName(Arc<WebPkiServerVerifier>),
}

/// Checks as much of the server's certificate as the mode asks for.
#[derive(Debug)]
struct Verifier {
    check: Check,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let (verifier, name_counts) = match &self.check {
            Check::Nothing => return Ok(ServerCertVerified::assertion()),
            Check::Authority(verifier) => (verifier, false),
            Check::AuthorityAndName(verifier) => (verifier, true),
        };
        match verifier.verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now) {
            // The name is looked at last, so everything else has been found good.
            Err(Error::InvalidCertificate(
                CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. },
            )) if !name_counts => Ok(ServerCertVerified::assertion()),
            other => other,
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
