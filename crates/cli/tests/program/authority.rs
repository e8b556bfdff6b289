//! Certificates for tests.

use crate::harness::Folder;
use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair};

/// An authority that signs certificates.
pub struct Authority {
    issuer: Issuer<'static, KeyPair>,
    /// Its own certificate.
    pub pem: String,
}

impl Authority {
    /// A new one.
    pub fn new() -> Self {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let pem = params.self_signed(&key).unwrap().pem();
        Self { issuer: Issuer::new(params, key), pem }
    }

    /// A certificate for a name, which is also the subject's common name, and its key; both in PEM.
    pub fn signs(&self, name: &str) -> (String, String) {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new(vec![name.to_string()]).unwrap();
        params.distinguished_name.push(DnType::CommonName, name);
        (params.signed_by(&key, &self.issuer).unwrap().pem(), key.serialize_pem())
    }

    /// Writes its own certificate into a folder, for those who trust it.
    pub fn write(&self, folder: &Folder, name: &str) {
        std::fs::write(folder.path(name), &self.pem).unwrap();
    }
}
