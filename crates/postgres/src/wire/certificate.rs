//! What a certificate says (RFC 5280), for people and for channel binding; and, in words, why one was refused.

use rustls::CertificateError;
use rustls_pki_types::{CertificateDer, ServerName};
use std::net::IpAddr;
use x509_parser::prelude::{FromDer, GeneralName, X509Certificate, X509Version};

/// What is looked at in a certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Certificate {
    /// Whom it is about, as `CN=db.example`.
    pub(crate) subject: String,
    /// Who signed it.
    pub(crate) issuer: String,
    /// The common name of the subject.
    common_name: Option<String>,
    /// Host names and addresses that it is for (subject alternative names); none if it has no such list.
    names: Option<Vec<String>>,
    /// From when on it counts, in seconds since 1970.
    not_before: i64,
    /// Until when it counts, in seconds since 1970.
    pub(crate) not_after: i64,
    /// Whether it is of the first version, which has no extensions.
    first_version: bool,
    /// The algorithm it was signed with, by its number.
    signature: String,
}

impl Certificate {
    /// Reads one.
    ///
    /// # Errors
    /// In words, if it is none.
    pub(crate) fn read(der: &CertificateDer<'_>) -> Result<Self, String> {
        let (_, x509) = X509Certificate::from_der(der).map_err(|e| format!("not a certificate: {e}"))?;
        let names = x509.subject_alternative_name().ok().flatten();
        let common_name = x509.subject().iter_common_name().next().and_then(|n| n.as_str().ok());
        Ok(Self {
            subject: x509.subject().to_string(),
            issuer: x509.issuer().to_string(),
            common_name: common_name.map(str::to_string),
            names: names.map(|n| n.value.general_names.iter().filter_map(name).collect()),
            not_before: x509.validity().not_before.timestamp(),
            not_after: x509.validity().not_after.timestamp(),
            first_version: x509.version() == X509Version::V1,
            signature: x509.signature_algorithm.algorithm.to_id_string(),
        })
    }

    /// Whether it is for a host. Without a list of names the common name counts, as it does for the server's own
    /// client library (PostgreSQL manual, section 34.19.1).
    pub(crate) fn is_for(&self, host: &ServerName<'_>) -> bool {
        let host = host.to_str();
        match &self.names {
            Some(names) => names.iter().any(|name| matches(name, &host)),
            None => self.common_name.as_ref().is_some_and(|name| matches(name, &host)),
        }
    }

    /// Whether it has no list of names, so that the common name counts.
    pub(crate) fn is_named_by_subject(&self) -> bool {
        self.names.is_none()
    }

    /// Why it does not count at a time, in seconds since 1970; nothing if it does.
    pub(crate) fn untimely(&self, now: i64) -> Option<CertificateError> {
        match now {
            early if early < self.not_before => Some(CertificateError::NotValidYet),
            late if late > self.not_after => Some(CertificateError::Expired),
            _ => None,
        }
    }

    /// The names that it is for, in words.
    pub(crate) fn names(&self) -> String {
        match (&self.names, &self.common_name) {
            (Some(names), _) if !names.is_empty() => names.join(", "),
            (None, Some(name)) => name.clone(),
            _ => "no host".into(),
        }
    }

    /// The algorithm of the digest that channel binding takes of the certificate (RFC 5929, section 4.1): that of its
    /// signature, and SHA-256 in place of MD5 and SHA-1. None where the signature has no digest of its own.
    fn end_point_digest(&self) -> Option<&'static ring::digest::Algorithm> {
        Some(match self.signature.as_str() {
            // RSA and ECDSA with MD5, SHA-1 and SHA-256.
            "1.2.840.113549.1.1.4"
            | "1.2.840.113549.1.1.5"
            | "1.2.840.10045.4.1"
            | "1.2.840.113549.1.1.11"
            | "1.2.840.10045.4.3.2" => &ring::digest::SHA256,
            "1.2.840.113549.1.1.12" | "1.2.840.10045.4.3.3" => &ring::digest::SHA384,
            "1.2.840.113549.1.1.13" | "1.2.840.10045.4.3.4" => &ring::digest::SHA512,
            _ => return None,
        })
    }
}

/// The data of channel binding by the server's certificate (`tls-server-end-point`, RFC 5929, section 4).
pub(crate) fn end_point(der: &CertificateDer<'_>) -> Option<Vec<u8>> {
    let algorithm = Certificate::read(der).ok()?.end_point_digest()?;
    Some(ring::digest::digest(algorithm, der).as_ref().to_vec())
}

/// The public key (SubjectPublicKeyInfo) of a certificate of version 1; none if it is of a later one.
pub(crate) fn key_of_first_version(der: &CertificateDer<'_>) -> Option<Vec<u8>> {
    let (_, x509) = X509Certificate::from_der(der).ok()?;
    (x509.version() == X509Version::V1).then(|| x509.public_key().raw.to_vec())
}

fn name(name: &GeneralName<'_>) -> Option<String> {
    match name {
        GeneralName::DNSName(name) => Some((*name).to_string()),
        GeneralName::IPAddress(bytes) => match bytes.len() {
            4 => <[u8; 4]>::try_from(*bytes).ok().map(|b| IpAddr::from(b).to_string()),
            _ => <[u8; 16]>::try_from(*bytes).ok().map(|b| IpAddr::from(b).to_string()),
        },
        _ => None,
    }
}

/// Whether a name, which may begin with `*.` for one label, is a host's (RFC 6125, section 6.4).
fn matches(name: &str, host: &str) -> bool {
    let equal = |a: &str, b: &str| a.eq_ignore_ascii_case(b);
    if host.parse::<IpAddr>().is_ok() {
        return equal(name, host);
    }
    match (name.strip_prefix("*."), host.split_once('.')) {
        (Some(rest), Some((_, domain))) => rest.contains('.') && equal(rest, domain),
        _ => equal(name, host),
    }
}

/// Days since 1970 and the like are for machines: a day of the calendar.
pub(crate) fn day(seconds: i64) -> String {
    chrono::DateTime::from_timestamp(seconds, 0)
        .map_or("an unknown day".into(), |t| t.date_naive().to_string())
}

/// Why a server's certificate was refused, and what to do.
pub(crate) fn refusal(error: &rustls::Error, certificate: Option<&Certificate>, host: &str) -> String {
    let (Some(certificate), rustls::Error::InvalidCertificate(reason)) = (certificate, error) else {
        return error.to_string();
    };
    let described = format!("the server's certificate ({})", certificate.subject);
    let anew = |why: &str| {
        format!(
            "{described} {why}. One that is right is made in the server's data folder by: {}",
            new_certificate(certificate, host)
        )
    };
    match reason {
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => {
            anew(&format!("expired on {}", day(certificate.not_after)))
        }
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => format!(
            "{described} counts from {} on: is the clock of this machine right?",
            day(certificate.not_before)
        ),
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => format!(
            "{described} is for {}, not for {host}: name the server by that name in `url`, or set sslmode = \"verify-ca\", which does not look at names",
            certificate.names()
        ),
        CertificateError::UnknownIssuer => format!(
            "{described} was signed by {}, which is none of the authorities trusted here: name a file with the certificate of that authority as sslrootcert",
            certificate.issuer
        ),
        _ if certificate.first_version => {
            anew("is of version 1, which can neither name hosts nor say what it is for")
        }
        CertificateError::Other(other) if other.to_string().contains("CaUsedAsEndEntity") => {
            anew("is that of an authority, not of a server")
        }
        other => anew(&format!("is refused ({other:?})")),
    }
}

/// The statement that makes a certificate with everything that is asked of one.
fn new_certificate(old: &Certificate, host: &str) -> String {
    let kind = if host.parse::<IpAddr>().is_ok() { "IP" } else { "DNS" };
    if old.subject == old.issuer {
        return format!(
            "openssl req -new -x509 -days 365 -nodes -subj '/CN={host}' -addext 'subjectAltName={kind}:{host}' -keyout server.key -out server.crt; then name a copy of server.crt as sslrootcert"
        );
    }
    format!(
        "openssl req -new -key server.key -subj '/CN={host}' -out server.csr && printf 'subjectAltName={kind}:{host}' > server.ext && openssl x509 -req -in server.csr -CA root.crt -CAkey root.key -CAcreateserial -days 365 -extfile server.ext -out server.crt"
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rstest::rstest]
    #[case("db.example", "DB.example", true)]
    #[case("*.example.org", "db.example.org", true)]
    #[case("*.example.org", "a.db.example.org", false)]
    #[case("*.example.org", "example.org", false)]
    #[case("*.org", "example.org", false)]
    #[case("*", "example", false)]
    #[case("*.0.0.1", "127.0.0.1", false)]
    #[case("127.0.0.1", "127.0.0.1", true)]
    fn names_fit_hosts(#[case] name: &str, #[case] host: &str, #[case] fits: bool) {
        assert_eq!(matches(name, host), fits);
    }
}
