//! A certificate that signs itself, for a server that is known to its visitors by the certificate's digest.

use std::sync::Arc;

use rcgen::{CertificateParams, DistinguishedName, KeyPair};
use ring::digest::{SHA256, digest};
use rustls::ServerConfig;
use rustls::crypto::ring::default_provider;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use serde::{Deserialize, Serialize};

use crate::RecorderError;

/// A certificate and its key.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct OwnCertificate {
    /// In PEM (RFC 7468).
    pub certificate: String,
    /// Likewise.
    pub key: String,
}

impl std::fmt::Debug for OwnCertificate {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("OwnCertificate")
    }
}

fn failed(error: impl ToString) -> RecorderError {
    RecorderError::Certificate(error.to_string())
}

impl OwnCertificate {
    /// A new one, for these names and addresses.
    ///
    /// # Errors
    /// When no random numbers are to be had, or a name is none.
    pub fn new(hosts: &[String]) -> Result<Self, RecorderError> {
        let key = KeyPair::generate().map_err(failed)?;
        let mut params = CertificateParams::new(hosts.to_vec()).map_err(failed)?;
        params.distinguished_name = DistinguishedName::new();
        let certificate = params.self_signed(&key).map_err(failed)?;
        Ok(Self { certificate: certificate.pem(), key: key.serialize_pem() })
    }

    /// How connections are answered, by HTTP/1.1.
    ///
    /// # Errors
    /// When it is no certificate.
    pub fn config(&self) -> Result<Arc<ServerConfig>, RecorderError> {
        let key = PrivateKeyDer::from_pem_slice(self.key.as_bytes()).map_err(failed)?;
        let chain = vec![CertificateDer::from_pem_slice(self.certificate.as_bytes()).map_err(failed)?];
        let config = ServerConfig::builder_with_provider(Arc::new(default_provider()));
        let config = config.with_safe_default_protocol_versions().map_err(failed)?;
        let mut config = config.with_no_client_auth().with_single_cert(chain, key).map_err(failed)?;
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        Ok(Arc::new(config))
    }

    /// Its SHA-256, as browsers show it: pairs of digits, with colons between them.
    ///
    /// # Errors
    /// When it is no certificate.
    pub fn fingerprint(&self) -> Result<String, RecorderError> {
        let der = CertificateDer::from_pem_slice(self.certificate.as_bytes()).map_err(failed)?;
        let pairs = digest(&SHA256, &der).as_ref().iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>();
        Ok(pairs.join(":"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_is_used_and_known_by_its_digest() {
        let hosts = ["192.0.2.7", "pier.harbour.example"].map(str::to_owned);
        let made = OwnCertificate::new(&hosts).unwrap();
        assert!(made.config().is_ok());
        let fingerprint = made.fingerprint().unwrap();
        assert!(fingerprint.len() == 95 && fingerprint.split(':').all(|pair| u8::from_str_radix(pair, 16).is_ok()));
        assert_ne!(OwnCertificate::new(&hosts).unwrap().fingerprint().unwrap(), fingerprint);
        assert_eq!(format!("{made:?}"), "OwnCertificate");
        assert!(OwnCertificate { key: String::new(), ..made }.config().is_err());
    }
}
