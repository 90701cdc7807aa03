//! TLS with a certificate of the server's own making, for phones that reach it in the workshop's network.

use axum_server::tls_rustls::RustlsConfig;
use baricord_core::error::Problem;
use sha2::{Digest, Sha256};
use std::io::Write;
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

fn cannot(what: &str, e: &dyn std::fmt::Display) -> Problem {
    Problem::new("tls", format!("{what}: {e}")).field("tls-folder")
}

/// Makes a certificate and its key for these names, where the folder holds none yet. A phone that has trusted it
/// once goes on to.
fn make(folder: &Path, listen: SocketAddr, names: &[String]) -> Result<(), Problem> {
    let (cert, key) = (folder.join("cert.pem"), folder.join("key.pem"));
    if cert.exists() && key.exists() {
        return Ok(());
    }
    let mut all = vec!["localhost".to_string(), "127.0.0.1".to_string()];
    if !listen.ip().is_unspecified() {
        all.push(listen.ip().to_string());
    }
    all.extend(std::fs::read_to_string("/etc/hostname").ok().map(|n| n.trim().to_string()).filter(|n| !n.is_empty()));
    all.extend(names.iter().cloned());
    all.sort();
    all.dedup();
    let made = rcgen::generate_simple_self_signed(all).map_err(|e| cannot("the certificate cannot be made", &e))?;
    std::fs::create_dir_all(folder).map_err(|e| cannot("the folder of the certificate cannot be made", &e))?;
    let failed = |e: std::io::Error| cannot("the certificate cannot be kept", &e);
    // The key is its owner's alone from the first byte on.
    let mut out = std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&key).map_err(failed)?;
    out.write_all(made.signing_key.serialize_pem().as_bytes()).map_err(failed)?;
    std::fs::write(&cert, made.cert.pem()).map_err(failed)
}

/// The server's own certificate, made at the first start, and its fingerprint.
pub async fn own(folder: &Path, listen: SocketAddr, names: &[String]) -> Result<(RustlsConfig, String), Problem> {
    make(folder, listen, names)?;
    let config = RustlsConfig::from_pem_file(folder.join("cert.pem"), folder.join("key.pem"))
        .await
        .map_err(|e| cannot("the certificate cannot be read", &e))?;
    let text = std::fs::read(folder.join("cert.pem")).map_err(|e| cannot("the certificate cannot be read", &e))?;
    let der = pem(&text).ok_or_else(|| cannot("the certificate cannot be read", &"it is no PEM file"))?;
    Ok((config, Sha256::digest(&der).iter().map(|b| format!("{b:02X}")).collect::<Vec<_>>().join(":")))
}

fn pem(text: &[u8]) -> Option<Vec<u8>> {
    use rustls_pki_types::CertificateDer;
    use rustls_pki_types::pem::PemObject;
    CertificateDer::from_pem_slice(text).ok().map(|c| c.to_vec())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_certificate_is_made_once_and_its_key_is_its_owners_alone() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path().join("tls");
        let listen = "127.0.0.1:0".parse().unwrap();
        let (_, first) = own(&at, listen, &["bay.example".into()]).await.unwrap();
        assert_eq!(first.len(), 32 * 3 - 1);
        let (_, again) = own(&at, listen, &[]).await.unwrap();
        assert_eq!(first, again);
        let mode = std::fs::metadata(at.join("key.pem")).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        std::fs::write(at.join("cert.pem"), "nonsense").unwrap();
        assert_eq!(own(&at, listen, &[]).await.unwrap_err().code, "tls");
    }
}
