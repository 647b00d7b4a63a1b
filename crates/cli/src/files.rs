//! Files that somebody names on the command line, and the settings: the only place of this crate that touches files.
//! What belongs to the harbor is read and written by `brightharbor-io`.

use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use brightharbor_io::install::read_at_most;
use zeroize::Zeroizing;

use crate::error::Error;

/// More than this is no file that a command is given, in bytes: it may be a device that never ends.
const MOST_BYTES: usize = 64 << 20;

/// A text as it is; the caller says what is wrong with it.
pub fn read_text(path: &Path) -> io::Result<String> {
    String::from_utf8(read_bytes(path)?).map_err(|_| io::Error::other("is not text"))
}

/// Whatever is named may be a pipe of the shell's; it is read as far as a file may be large.
fn read_bytes(path: &Path) -> io::Result<Vec<u8>> {
    let content = read_at_most(path, MOST_BYTES + 1)?;
    match content.len() > MOST_BYTES {
        true => Err(io::Error::other(format!("is larger than {} MiB: is it the right file?", MOST_BYTES >> 20))),
        false => Ok(content),
    }
}

/// A text that the command was given; `advice` says what to give instead.
pub fn given_text(path: &Path, advice: &str) -> Result<String, Error> {
    read_text(path).map_err(|error| Error::wrong_use(format!("{}: {error}", path.display())).advice(advice))
}

/// A list that the command was given: what stands in each line, with its number, without comments that begin with `#`.
/// `-` is standard input.
pub fn given_list(path: &Path, advice: &str) -> Result<Vec<(usize, String)>, Error> {
    let path = if path == Path::new("-") { Path::new("/dev/stdin") } else { path };
    let text = given_text(path, advice)?;
    let lines = text.lines().enumerate().map(|(at, line)| (at + 1, line.split('#').next().unwrap_or_default().trim()));
    Ok(lines.filter(|(_, line)| !line.is_empty()).map(|(number, line)| (number, line.to_string())).collect())
}

/// The password in the first line of a file, `-` for standard input: it never stands on a command line.
pub fn given_password(path: &Path) -> Result<Zeroizing<String>, Error> {
    let path = if path == Path::new("-") { Path::new("/dev/stdin") } else { path };
    let text =
        Zeroizing::new(given_text(path, "give a file with the password in its first line, or - for standard input")?);
    Ok(Zeroizing::new(text.lines().next().unwrap_or_default().to_string()))
}

/// What may hold a key, and is wiped from memory after use.
pub fn given_secret(path: &Path, advice: &str) -> Result<Zeroizing<Vec<u8>>, Error> {
    let read = read_bytes(path).map(Zeroizing::new);
    read.map_err(|error| Error::wrong_use(format!("{}: {error}", path.display())).advice(advice))
}

/// For reading line by line.
pub fn open(path: &Path) -> io::Result<BufReader<File>> {
    File::open(path).map(BufReader::new)
}

/// Of a log no more is read than this, in bytes: enough for a thousand long lines.
const MOST_OF_LOG: u64 = 1 << 20;

/// The last lines of a log; `None` where there is no file yet.
pub fn last_lines(path: &Path, count: usize) -> io::Result<Option<Vec<String>>> {
    let mut file = match File::open(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        opened => opened?,
    };
    let length = file.metadata()?.len();
    file.seek(SeekFrom::Start(length.saturating_sub(MOST_OF_LOG)))?;
    let mut bytes = Vec::new();
    file.take(MOST_OF_LOG).read_to_end(&mut bytes)?;
    let text = String::from_utf8_lossy(&bytes);
    let mut lines: Vec<String> = text.lines().rev().take(count).map(String::from).collect();
    lines.reverse();
    Ok(Some(lines))
}

/// A file that grows line by line. One that is there is never written over.
pub fn create(path: &Path) -> Result<(PathBuf, BufWriter<File>), Error> {
    match File::create_new(path) {
        Ok(file) => Ok((path.to_path_buf(), BufWriter::new(file))),
        Err(error) => Err(unwritable(path, &error)),
    }
}

/// Where a change may put a new file: nothing is there yet, and the folder is.
pub fn new_file(path: &Path) -> Result<PathBuf, Error> {
    if path.symlink_metadata().is_ok() {
        let message = format!("{} already exists; not overwriting it", path.display());
        return Err(Error::refused("in-the-way", message).advice("name another file, or move that one away"));
    }
    let path = std::path::absolute(path).map_err(|error| unwritable(path, &error))?;
    match path.parent() {
        Some(folder) if folder.is_dir() => Ok(path),
        folder => {
            let missing = folder.unwrap_or(&path).display();
            let message = format!("{}: folder {missing} does not exist", path.display());
            Err(Error::refused("save", message).advice("create the folder, or name a file in another one"))
        }
    }
}

/// Writes a page that can be made again at any time, over an older one too.
pub fn save(path: &Path, page: &str) -> Result<(), Error> {
    std::fs::write(path, page).map_err(|error| unwritable(path, &error))
}

/// Makes a folder for such pages, with those above it.
pub fn make_folder(path: &Path) -> Result<(), Error> {
    std::fs::create_dir_all(path).map_err(|error| unwritable(path, &error))
}

/// The pages of a folder: its files that end in `.html`, in order; none where there is no such folder.
pub fn pages_in(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let mut found: Vec<PathBuf> =
        entries.map(|entry| entry.path()).filter(|path| path.extension().is_some_and(|end| end == "html")).collect();
    found.sort();
    found
}

/// Removes a page that was made here.
pub fn remove_page(path: &Path) -> Result<(), Error> {
    std::fs::remove_file(path).map_err(|error| unwritable(path, &error))
}

pub fn unwritable(path: &Path, error: &io::Error) -> Error {
    let advice = match error.kind() {
        io::ErrorKind::AlreadyExists => "give another file: what was saved before is never overwritten",
        _ => "see that the folder is there, that you may write to it, and that its disk has room",
    };
    Error::refused("save", format!("{}: {error}", path.display())).advice(advice)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_saved_is_not_written_over_and_a_page_is() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("walks");
        save(&path, "one").unwrap();
        let refused = create(&path).map(|_| ()).unwrap_err();
        assert_eq!((refused.code, read_text(&path).unwrap().as_str()), ("save", "one"));
        save(&path, "two").unwrap();
        assert_eq!(new_file(&path).unwrap_err().code, "in-the-way");
        let lost = new_file(&folder.path().join("never/there")).unwrap_err();
        assert!(lost.code == "save" && lost.message.ends_with("never does not exist"), "{}", lost.message);
        assert!(new_file(&folder.path().join("there")).is_ok());
        assert_eq!(given_text(&path, "").unwrap(), "two");
        assert!(read_text(Path::new("/dev/zero")).unwrap_err().to_string().contains("larger than 64 MiB"));
        assert!(
            given_secret(&folder.path().join("gone"), "give it").unwrap_err().message.contains("gone: No such file")
        );
    }
}
