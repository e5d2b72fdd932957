//! The certificates of a step's network: an authority that lives as long as the step, and a certificate for each host
//! that is asked. The authority's key never leaves this process; what the step sees is its certificate.

use std::collections::HashMap;
use std::fmt;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};

use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair, KeyUsagePurpose};
use rustls::ServerConfig;
use rustls::crypto::ring;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;

use crate::RecorderError;

/// Hosts whose certificates are kept; a step that asks more is up to something else.
const MOST_HOSTS: usize = 10_000;
/// Bytes of a host's name (RFC 1035, section 2.3.4).
const LONGEST_NAME: usize = 253;

/// An authority for one step.
pub struct Authority {
    pem: String,
    der: Vec<u8>,
    issuer: Issuer<'static, KeyPair>,
    /// One key does for all hosts: nobody else ever sees a connection.
    leaf_key: KeyPair,
    known: Mutex<HashMap<String, Arc<CertifiedKey>>>,
}

impl fmt::Debug for Authority {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Authority")
    }
}

impl Authority {
    /// A new one, with a key that nobody has seen.
    ///
    /// # Errors
    /// When no random numbers are to be had.
    pub fn new() -> Result<Arc<Self>, RecorderError> {
        let failed = |error: rcgen::Error| RecorderError::Certificate(error.to_string());
        let key = KeyPair::generate().map_err(failed)?;
        let mut params = CertificateParams::default();
        params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        params.distinguished_name.push(DnType::CommonName, "Cavrith, for one step");
        let certificate = params.self_signed(&key).map_err(failed)?;
        let (pem, der) = (certificate.pem(), certificate.der().to_vec());
        let leaf_key = KeyPair::generate().map_err(failed)?;
        Ok(Arc::new(Self { pem, der, issuer: Issuer::new(params, key), leaf_key, known: Mutex::default() }))
    }

    /// Its certificate, for the step's programs (PEM, RFC 7468).
    pub fn pem(&self) -> &str {
        &self.pem
    }

    /// The same, as other programs read it (DER, X.690).
    pub fn der(&self) -> &[u8] {
        &self.der
    }

    /// How connections to a host are answered, by this protocol (RFC 7301); `host` is meant when a client does not say
    /// which (RFC 6066, section 3).
    ///
    /// # Errors
    /// When the host has a name that no certificate can have.
    pub fn config(self: &Arc<Self>, host: Option<&str>, protocol: &[u8]) -> Result<Arc<ServerConfig>, RecorderError> {
        let provider = Arc::new(ring::default_provider());
        let config = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
        let config = config.map_err(|error| RecorderError::Certificate(error.to_string()))?;
        let resolver = Resolver { authority: self.clone(), host: host.map(str::to_owned) };
        let mut config = config.with_no_client_auth().with_cert_resolver(Arc::new(resolver));
        config.alpn_protocols = vec![protocol.to_vec()];
        Ok(Arc::new(config))
    }

    /// A certificate for a host.
    fn certificate(&self, host: &str) -> Option<Arc<CertifiedKey>> {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(certificate) = known.get(host) {
            return Some(certificate.clone());
        }
        if known.len() >= MOST_HOSTS || host.is_empty() || host.len() > LONGEST_NAME {
            return None;
        }
        let mut params = CertificateParams::new(vec![host.to_owned()]).ok()?;
        // A common name may have 64 letters only (RFC 5280, appendix A.1), and nothing reads it.
        params.distinguished_name = rcgen::DistinguishedName::new();
        params.use_authority_key_identifier_extension = true;
        let certificate = params.signed_by(&self.leaf_key, &self.issuer).ok()?;
        let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(self.leaf_key.serialize_der()));
        let key = ring::sign::any_supported_type(&key).ok()?;
        let chain = vec![CertificateDer::from(certificate.der().to_vec())];
        let made = Arc::new(CertifiedKey::new(chain, key));
        known.insert(host.to_owned(), made.clone());
        Some(made)
    }
}

#[derive(Debug)]
struct Resolver {
    authority: Arc<Authority>,
    host: Option<String>,
}

impl ResolvesServerCert for Resolver {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let host = hello.server_name().map(str::to_owned).or_else(|| self.host.clone())?;
        self.authority.certificate(&host.to_ascii_lowercase())
    }
}

/// Whether a text is an address and no name.
pub(crate) fn is_address(host: &str) -> bool {
    host.trim_start_matches('[').trim_end_matches(']').parse::<IpAddr>().is_ok()
}
