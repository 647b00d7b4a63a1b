//! Reads the files of a seller, with the password that opens what is locked. A password never stands on a command line.

use std::path::{Path, PathBuf};

use brightharbor_core::certificate::{Piece, PieceError, pieces};
use clap::Args;
use zeroize::Zeroizing;

use crate::error::Error;
use crate::files;

#[derive(Debug, Clone, Args)]
pub struct UnlockOptions {
    /// A file whose first line is the password of locked keys and PKCS#12 archives; - is standard input.
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
}

impl UnlockOptions {
    pub fn password(&self) -> Result<Option<Zeroizing<String>>, Error> {
        self.password_file.as_deref().map(files::given_password).transpose()
    }
}

/// Everything that a file holds.
pub fn read_pieces(path: &Path, password: Option<&str>) -> Result<Vec<Piece>, Error> {
    let shown = path.display();
    let bytes = files::given_secret(path, "give files that are there, as the seller sent them")?;
    pieces(&bytes, password).map_err(|error| {
        let inner = match &error {
            PieceError::Within { error, .. } => error,
            other => other,
        };
        let advice = match inner {
            PieceError::Locked { .. } => "write its password into a file and give that with --password-file",
            PieceError::WrongPassword { .. } => "see that the first line of the password file is the password",
            _ => "give the file as the seller sent it: PEM, DER, PKCS#7, PKCS#12 or a zip of them",
        };
        Error::wrong_use(format!("{shown}: {error}")).advice(advice)
    })
}
