//! Proofs of control in the folder that every site answers from; taken away again when the order is over.

use std::path::PathBuf;

use brightharbor_core::acme::{Proof, ProofKind};

use crate::install::{FileError, write_soon};

/// Proof files, removed when dropped.
pub(super) struct Placed {
    files: Vec<PathBuf>,
}

impl Placed {
    pub fn none() -> Self {
        Self { files: vec![] }
    }

    /// Writes the proofs into the folder. The machine has checked that tokens are plain base64url.
    pub fn place(&mut self, folder: &std::path::Path, proofs: &[Proof]) -> Result<(), FileError> {
        for proof in proofs.iter().filter(|proof| proof.kind == ProofKind::Http01) {
            let path = folder.join(&proof.token);
            self.files.push(path.clone());
            write_soon(&path, proof.content.as_bytes(), 0o644)?;
        }
        Ok(())
    }
}

impl Drop for Placed {
    fn drop(&mut self) {
        for file in &self.files {
            let _ = std::fs::remove_file(file);
        }
    }
}
