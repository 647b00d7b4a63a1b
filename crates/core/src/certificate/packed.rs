//! A zip as sellers send it: its files are read like files given one by one. What it unpacks to is bounded.

use std::io::{Cursor, ErrorKind, Read};

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
        ZipError::UnsupportedArchive(ZipError::PASSWORD_REQUIRED) | ZipError::InvalidPassword => {
            "it is locked with a password: unpack it first".into()
        }
        ZipError::UnsupportedArchive(_) => "it is packed in a way that is not known".into(),
        _ => "it is damaged, or cut off".into(),
    }
}

/// Of one file in it.
fn reading_words(error: &std::io::Error) -> &'static str {
    match error.kind() {
        ErrorKind::Unsupported => "is packed in a way that is not known",
        _ => "is damaged",
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
        file.take(left + 1)
            .read_to_end(&mut content)
            .map_err(|error| format!("{name} in it {}", reading_words(&error)))?;
        left = left
            .checked_sub(content.len() as u64)
            .ok_or_else(|| format!("it unpacks to more than {MOST_BYTES} bytes"))?;
        files.push((name, content));
    }
    Ok(files)
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    /// One file, `n.txt`, locked by the program `zip` with a password.
    const LOCKED: &str = "504b03040a00090000002a3b7d5d0c2356be1000000004000000050000006e2e74787437d992dc86955b5bd14dfb03d5e3e37d504b0708\
                          0c2356be1000000004000000504b01021e030a00090000002a3b7d5d0c2356be1000000004000000050000000000000001000000a48100\
                          0000006e2e747874504b0506000000000100010033000000430000000000";

    #[test]
    fn what_cannot_be_unpacked_is_told_in_words() {
        let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
        let stored = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
        writer.start_file("chain.pem", stored).unwrap();
        writer.write_all(b"tide").unwrap();
        let good = writer.finish().unwrap().into_inner();
        assert_eq!(unpack(&good).unwrap(), [("chain.pem".to_string(), b"tide".to_vec())]);
        assert_eq!(unpack(&good[..good.len() / 2]).unwrap_err(), "it is damaged, or cut off");
        let mut spoilt = good.clone();
        let at = spoilt.windows(4).position(|bytes| bytes == b"tide").unwrap();
        spoilt[at] = b'T';
        assert_eq!(unpack(&spoilt).unwrap_err(), "chain.pem in it is damaged");
        // The method stands in the local header and in the central directory (APPNOTE sections 4.3.7 and 4.3.12).
        let mut foreign = good;
        let directory = foreign.windows(4).position(|bytes| bytes == b"PK\x01\x02").unwrap();
        (foreign[8], foreign[directory + 10]) = (97, 97);
        assert_eq!(unpack(&foreign).unwrap_err(), "chain.pem in it is packed in a way that is not known");
        let digit = |at: usize| u8::from_str_radix(&LOCKED[at..at + 2], 16).unwrap();
        let locked: Vec<u8> = (0..LOCKED.len()).step_by(2).map(digit).collect();
        assert_eq!(unpack(&locked).unwrap_err(), "it is locked with a password: unpack it first");
    }
}
