//! The harbor's lock: one command changes at a time, another one waits for it, with a bound.

use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read, Seek, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::time::{Duration, Instant};

use super::Event;

#[derive(Debug, thiserror::Error)]
pub enum LockError {
    #[error("another command ({held_by}) has held the harbor's lock for more than {seconds} s")]
    Busy { held_by: String, seconds: u64 },
    #[error("the harbor's lock {path} cannot be taken: {error}")]
    Failed { path: String, error: std::io::Error },
}

/// Held until dropped.
#[derive(Debug)]
pub struct Lock {
    _file: File,
}

/// Takes the lock; while another command holds it, says so once and waits up to `patience`.
pub async fn take_lock(path: &Path, title: &str, patience: Duration, tell: &dyn Fn(Event)) -> Result<Lock, LockError> {
    let failed = |error| LockError::Failed { path: path.display().to_string(), error };
    let mut file = OpenOptions::new()
        .read(true)
        .write(true)
        .create(true)
        .truncate(false)
        .mode(0o600)
        .open(path)
        .map_err(failed)?;
    let started = Instant::now();
    let mut told = false;
    loop {
        match file.try_lock() {
            Ok(()) => break,
            Err(TryLockError::Error(error)) => return Err(failed(error)),
            Err(TryLockError::WouldBlock) => {}
        }
        let held_by = holder(&mut file);
        if started.elapsed() >= patience {
            return Err(LockError::Busy { held_by, seconds: patience.as_secs() });
        }
        if !told {
            tell(Event::WaitingForLock { held_by });
            told = true;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    // Who holds it, for those who wait. A failure here harms nobody.
    let _ = file.set_len(0);
    let _ = file.rewind();
    let _ = write!(file, "process {}: {title}", std::process::id());
    Ok(Lock { _file: file })
}

fn holder(file: &mut File) -> String {
    let mut text = String::new();
    let _ = file.rewind();
    let _ = file.take(200).read_to_string(&mut text);
    if text.is_empty() { "unknown".into() } else { text }
}
