//! Proofs of control where the CA looks: in the folder that every site answers from, or in handshakes; taken away again
//! when the order is over.

use std::path::{Path, PathBuf};

use brightharbor_core::acme::{Identifier, Proof, ProofKind};

use super::responder::{Responder, Showing};
use crate::install::{FileError, write_in_place};

/// Proofs in place, removed when dropped.
pub(super) struct Placed {
    files: Vec<PathBuf>,
    showing: Vec<Showing>,
}

pub(super) enum PlacingError {
    File(FileError),
    /// What cannot be shown, with the reason.
    Names(Vec<(Identifier, String)>),
}

impl Placed {
    pub fn none() -> Self {
        Self { files: vec![], showing: vec![] }
    }

    /// Writes the files into the folder, and shows the certificates. The machine has checked that tokens are plain
    /// base64url.
    pub async fn place(
        &mut self,
        folder: &Path,
        responder: Option<&Responder>,
        proofs: &[Proof],
    ) -> Result<(), PlacingError> {
        let mut failed = Vec::new();
        for proof in proofs {
            match proof.kind {
                ProofKind::Http01 => {
                    let path = folder.join(&proof.token);
                    self.files.push(path.clone());
                    write_in_place(&path, proof.content.as_bytes(), 0o644).map_err(PlacingError::File)?;
                }
                ProofKind::TlsAlpn01 => {
                    let shown = match responder {
                        Some(responder) => responder.show(proof).await,
                        None => Err("harbor.toml names no address for proofs over TLS ([web] tls-alpn-listen)".into()),
                    };
                    match shown {
                        Ok(showing) => self.showing.push(showing),
                        Err(reason) => failed.push((proof.identifier.clone(), reason)),
                    }
                }
                ProofKind::Dns01 => {}
            }
        }
        if failed.is_empty() { Ok(()) } else { Err(PlacingError::Names(failed)) }
    }
}

impl Drop for Placed {
    fn drop(&mut self) {
        for file in &self.files {
            let _ = std::fs::remove_file(file);
        }
    }
}
