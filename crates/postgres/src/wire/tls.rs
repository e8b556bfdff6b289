//! Encryption by rustls, with the modes that the server's own connection strings know
//! (PostgreSQL manual, section 34.19.1).

use crate::wire::address::{PostgresAddress, SslMode};
use crate::wire::certificate::{self, Certificate, refusal};
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{
    CryptoProvider, verify_tls12_signature, verify_tls13_signature, verify_tls13_signature_with_raw_key,
};
use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, OtherError, RootCertStore, SignatureScheme,
};
use rustls_pki_types::pem::{self, PemObject};
use rustls_pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use std::path::Path;
use std::sync::Arc;

/// Why a server's certificate is refused, in words for people.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub(crate) struct Refused(pub(crate) String);

/// The client settings for an address.
///
/// # Errors
/// In words, if certificates or keys cannot be read.
pub(crate) fn client_config(address: &PostgresAddress) -> Result<ClientConfig, String> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(|e| e.to_string())?;
    let check = match address.sslmode {
        SslMode::VerifyCa => Check::Authority(Trusted::of(address, &provider)?),
        SslMode::VerifyFull => Check::AuthorityAndName(Trusted::of(address, &provider)?),
        // As the server's own client library does: an authority that was named is checked in this mode too.
        SslMode::Require if address.sslrootcert.is_some() => {
            Check::Authority(Trusted::of(address, &provider)?)
        }
        _ => Check::Nothing,
    };
    let verifier = Arc::new(Verifier { check, provider });
    let builder = builder.dangerous().with_custom_certificate_verifier(verifier);
    let (Some(certificate), Some(key)) = (&address.sslcert, &address.sslkey) else {
        return Ok(builder.with_no_client_auth());
    };
    let chain = certificates("sslcert", certificate)?;
    let together = |e: Error| {
        format!("sslcert {} and sslkey {} do not go together: {e}", certificate.display(), key.display())
    };
    builder.with_client_auth_cert(chain, private_key(key)?).map_err(together)
}

/// Whether the authorities that an address names can be read: a wrong file is a mistake also in a mode that asks nobody.
///
/// # Errors
/// In words, if not.
pub(crate) fn readable(address: &PostgresAddress) -> Result<(), String> {
    address.sslrootcert.as_deref().map_or(Ok(()), |path| certificates("sslrootcert", path).map(|_| ()))
}

/// The certificates in a file, at least one.
pub(crate) fn certificates(key: &str, path: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let unreadable = |e: &dyn std::fmt::Display| format!("{key} {} cannot be read: {e}", path.display());
    let bytes = bounded(path).map_err(|e| unreadable(&e))?;
    let found =
        CertificateDer::pem_slice_iter(&bytes).collect::<Result<Vec<_>, _>>().map_err(|e| unreadable(&e))?;
    for certificate in &found {
        Certificate::read(certificate).map_err(|e| unreadable(&e))?;
    }
    if found.is_empty() {
        return Err(unreadable(&"there is no certificate in it (PEM, from -----BEGIN CERTIFICATE----- on)"));
    }
    Ok(found)
}

/// The key of our own certificate. As the server's own client library does, one that others may read is refused.
fn private_key(path: &Path) -> Result<PrivateKeyDer<'static>, String> {
    let unreadable = |e: &dyn std::fmt::Display| format!("sslkey {} cannot be read: {e}", path.display());
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        let file = std::fs::metadata(path).map_err(|e| unreadable(&e))?;
        // A key of root's may be readable by a group.
        let most = if file.uid() == 0 { 0o640 } else { 0o600 };
        if file.mode() & 0o777 & !most != 0 {
            let path = path.display();
            return Err(format!("sslkey {path} may be read by others than its owner: chmod 600 {path}"));
        }
    }
    let bytes = bounded(path).map_err(|e| unreadable(&e))?;
    PrivateKeyDer::from_pem_slice(&bytes).map_err(|e| match e {
        pem::Error::NoItemsFound if String::from_utf8_lossy(&bytes).contains("ENCRYPTED PRIVATE KEY") => {
            let path = path.display();
            format!("sslkey {path} is locked with a password, which is not supported: openssl pkey -in {path} -out OPEN.key writes one without")
        }
        e => unreadable(&e),
    })
}

/// The largest file of certificates, in bytes: all authorities of a system are a quarter of one.
const MOST_BYTES: u64 = 4 << 20;

fn bounded(path: &Path) -> std::io::Result<Vec<u8>> {
    use std::io::Read;
    let mut bytes = Vec::new();
    std::fs::File::open(path)?.take(MOST_BYTES + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > MOST_BYTES {
        return Err(std::io::Error::other(format!("it has more than {MOST_BYTES} bytes")));
    }
    Ok(bytes)
}

/// Whom we trust.
#[derive(Debug)]
struct Trusted {
    authorities: Arc<WebPkiServerVerifier>,
    /// The certificates of the file, which a server may also show as its own.
    named: Vec<CertificateDer<'static>>,
}

impl Trusted {
    fn of(address: &PostgresAddress, provider: &Arc<CryptoProvider>) -> Result<Self, String> {
        let mut roots = RootCertStore::empty();
        let mut named = Vec::new();
        if let Some(path) = &address.sslrootcert {
            named = certificates("sslrootcert", path)?;
            let (added, _) = roots.add_parsable_certificates(named.iter().cloned());
            if added == 0 {
                return Err(format!("sslrootcert {} has no certificate that can be used", path.display()));
            }
        } else {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
        if roots.is_empty() {
            return Err(
                "no certificates of trusted authorities were found: name a file with sslrootcert".into()
            );
        }
        let authorities = WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider.clone())
            .build()
            .map_err(|e| e.to_string())?;
        Ok(Self { authorities, named })
    }
}

#[derive(Debug)]
enum Check {
    Nothing,
    Authority(Trusted),
    AuthorityAndName(Trusted),
}

/// Checks as much of the server's certificate as the mode asks for.
#[derive(Debug)]
struct Verifier {
    check: Check,
    provider: Arc<CryptoProvider>,
}

impl Verifier {
    /// Checks the certificate's authority, and its name where that counts.
    fn check(
        trusted: &Trusted,
        name_counts: bool,
        shown: (&CertificateDer<'_>, &[CertificateDer<'_>]),
        host: &ServerName<'_>,
        now: UnixTime,
    ) -> Result<(), Error> {
        let (end_entity, intermediates) = shown;
        let certificate = Certificate::read(end_entity).ok();
        let is_named = certificate.as_ref().is_some_and(|c| c.is_for(host));
        // A server may show the very certificate that was named as trusted, also if it is an authority's or an old
        // one's: as the manual has people make them (section 19.9.5).
        if trusted.named.iter().any(|named| named == end_entity) {
            let now = i64::try_from(now.as_secs()).unwrap_or(i64::MAX);
            // One that we cannot read ourselves is none that people can have named as trusted.
            let wrong = match &certificate {
                None => Some(CertificateError::BadEncoding),
                Some(certificate) => certificate.untimely(now),
            };
            let wrong = wrong.or((name_counts && !is_named).then_some(CertificateError::NotValidForName));
            return wrong.map_or(Ok(()), |wrong| Err(Error::InvalidCertificate(wrong)));
        }
        match trusted.authorities.verify_server_cert(end_entity, intermediates, host, &[], now) {
            // The name is looked at last, so everything else has been found good.
            Err(Error::InvalidCertificate(
                CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. },
            )) if !name_counts
                || (is_named && certificate.as_ref().is_some_and(Certificate::is_named_by_subject)) =>
            {
                Ok(())
            }
            other => other.map(|_| ()),
        }
    }
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        _ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let (trusted, name_counts) = match &self.check {
            Check::Nothing => return Ok(ServerCertVerified::assertion()),
            Check::Authority(trusted) => (trusted, false),
            Check::AuthorityAndName(trusted) => (trusted, true),
        };
        let checked = Self::check(trusted, name_counts, (end_entity, intermediates), server_name, now);
        checked.map(|()| ServerCertVerified::assertion()).map_err(|error| {
            let words = refusal(&error, Certificate::read(end_entity).ok().as_ref(), &server_name.to_str());
            Error::InvalidCertificate(CertificateError::Other(OtherError(Arc::new(Refused(words)))))
        })
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
        let algorithms = &self.provider.signature_verification_algorithms;
        // The library reads no certificate of version 1; whether one is trusted was decided before.
        match certificate::key_of_first_version(cert) {
            Some(key) => {
                verify_tls13_signature_with_raw_key(message, &key.as_slice().into(), dss, algorithms)
            }
            None => verify_tls13_signature(message, cert, dss, algorithms),
        }
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
