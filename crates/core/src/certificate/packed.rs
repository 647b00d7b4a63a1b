//! A zip as sellers send it: its files are read like files given one by one. What it unpacks to is bounded.

use std::io::{Cursor, Read};

use zip::ZipArchive;
use zip::result::ZipError;

/// Files of one archive, and bytes of all of them together.
const MOST_FILES: usize = 50;
const MOST_BYTES: u64 = 1024 * 1024;

pub(super) fn is_zip(bytes: &[u8]) -> bool {
    bytes.starts_with(b"PK\x03\x04")
}

/// The library's errors name its own parts.
fn words(error: &ZipError) -> String {
    match error {
        ZipError::UnsupportedArchive(_) => "it is packed in a way that is not known".into(),
        ZipError::InvalidPassword => "it is locked with a password".into(),
        _ => "it is damaged, or cut off".into(),
    }
}

/// The files of the archive by their names; the error says what is wrong with it.
pub(super) fn unpack(bytes: &[u8]) -> Result<Vec<(String, Vec<u8>)>, String> {
    let mut archive = ZipArchive::new(Cursor::new(bytes)).map_err(|error| words(&error))?;
    if archive.len() > MOST_FILES {
        return Err(format!("it holds more than {MOST_FILES} files"));
    }
    let (mut files, mut left) = (Vec::new(), MOST_BYTES);
    for index in 0..archive.len() {
        let file = archive.by_index(index).map_err(|error| words(&error))?;
        if file.is_dir() {
            continue;
        }
        let name = file.name().map_err(|error| words(&error))?.into_owned();
        let mut content = Vec::new();
        // The size that it claims is not believed.
        file.take(left + 1).read_to_end(&mut content).map_err(|_| format!("{name} in it is damaged"))?;
        left = left
            .checked_sub(content.len() as u64)
            .ok_or_else(|| format!("it unpacks to more than {MOST_BYTES} bytes"))?;
        files.push((name, content));
    }
    Ok(files)
}
