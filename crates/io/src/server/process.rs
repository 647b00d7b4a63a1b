//! Runs a server's own command: no shell, bounded in time and output.

use std::io::{Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use super::ServerError;

const MOST_OUTPUT: u64 = 64 * 1024;
const LONGEST: Duration = Duration::from_secs(120);

/// Runs the command to its end and gives what it printed; an exit other than 0 is an error with that text. Other work
/// goes on meanwhile.
pub async fn run_bounded(words: &[String], more: &[String]) -> Result<String, ServerError> {
    run_bounded_in(None, words, more).await
}

/// The same in another folder than the current one.
pub async fn run_bounded_in(folder: Option<&Path>, words: &[String], more: &[String]) -> Result<String, ServerError> {
    let all: Vec<String> = words.iter().chain(more).cloned().collect();
    on_its_own(folder.map(Path::to_path_buf), all, vec![]).await
}

/// The same with something to read on its standard input.
pub async fn run_with_input(words: &[String], input: Vec<u8>) -> Result<String, ServerError> {
    on_its_own(None, words.to_vec(), input).await
}

/// Whether there is a program of that name, as a command would find it: by its path, or in the folders of PATH.
pub fn is_program(word: &str) -> bool {
    let executes = |path: &Path| {
        let mode = |found: std::fs::Metadata| found.is_file() && found.permissions().mode() & 0o111 != 0;
        std::fs::metadata(path).is_ok_and(mode)
    };
    match word.contains('/') {
        true => executes(Path::new(word)),
        false => {
            std::env::split_paths(&std::env::var_os("PATH").unwrap_or_default()).any(|at| executes(&at.join(word)))
        }
    }
}

async fn on_its_own(folder: Option<PathBuf>, all: Vec<String>, input: Vec<u8>) -> Result<String, ServerError> {
    let shown = all.join(" ");
    let (done, is_done) = tokio::sync::oneshot::channel();
    // A system that is out of threads is told, and ends nothing: tokio's own threads would.
    let waiting = std::thread::Builder::new().spawn(move || drop(done.send(run(folder.as_deref(), &all, input))));
    let failed = |reason: String| ServerError::Start { command: shown.clone(), reason };
    waiting.map_err(|error| failed(error.to_string()))?;
    is_done.await.unwrap_or_else(|error| Err(failed(error.to_string())))
}

/// Blocks: on a thread of its own.
fn run(folder: Option<&Path>, all: &[String], input: Vec<u8>) -> Result<String, ServerError> {
    let shown = all.join(" ");
    let Some((program, arguments)) = all.split_first() else { return Err(ServerError::NotSet("command")) };
    let mut command = Command::new(program);
    if let Some(folder) = folder {
        command.current_dir(folder);
    }
    let mut child = command
        .args(arguments)
        // Ctrl-C at a terminal goes to a whole group: what a server's program has begun, it ends.
        .process_group(0)
        .stdin(if input.is_empty() { Stdio::null() } else { Stdio::piped() })
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(|error| ServerError::Start { command: shown.clone(), reason: error.to_string() })?;
    if let Some(mut stdin) = child.stdin.take() {
        // A command that does not read it all is none the worse for it, and is not waited for.
        let _ = std::thread::Builder::new().spawn(move || stdin.write_all(&input));
    }
    let readers: Result<Vec<_>, std::io::Error> = [
        child.stdout.take().map(|stream| Box::new(stream) as Box<dyn Read + Send>),
        child.stderr.take().map(|stream| Box::new(stream) as Box<dyn Read + Send>),
    ]
    .into_iter()
    .flatten()
    .map(|stream| {
        std::thread::Builder::new().spawn(move || {
            let mut text = Vec::new();
            let mut stream = stream.take(MOST_OUTPUT);
            let _ = stream.read_to_end(&mut text);
            // What is left is read and dropped, so that the command never blocks on a full pipe.
            let _ = std::io::copy(&mut stream.into_inner(), &mut std::io::sink());
            text
        })
    })
    .collect();
    let readers = readers.map_err(|error| {
        let _ = child.kill();
        let _ = child.wait();
        ServerError::Start { command: shown.clone(), reason: error.to_string() }
    })?;
    let started = Instant::now();
    let status = loop {
        match child.try_wait() {
            Ok(Some(status)) => break status,
            Ok(None) if started.elapsed() > LONGEST => {
                let _ = child.kill();
                let _ = child.wait();
                return Err(ServerError::Hung { command: shown, seconds: LONGEST.as_secs() });
            }
            Ok(None) => std::thread::sleep(Duration::from_millis(3)),
            Err(error) => return Err(ServerError::Start { command: shown, reason: error.to_string() }),
        }
    };
    // A reload may leave a daemon behind that still holds the pipe: then its output is not waited for.
    let patience = Instant::now();
    while readers.iter().any(|reader| !reader.is_finished()) && patience.elapsed() < Duration::from_millis(500) {
        std::thread::sleep(Duration::from_millis(2));
    }
    let mut output = String::new();
    for reader in readers.into_iter().filter(|reader| reader.is_finished()) {
        if let Ok(text) = reader.join() {
            output.push_str(&String::from_utf8_lossy(&text));
        }
    }
    let output = output.trim().to_string();
    if status.success() { Ok(output) } else { Err(ServerError::Refused { command: shown, output }) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(text: &[&str]) -> Vec<String> {
        text.iter().map(|word| word.to_string()).collect()
    }

    #[tokio::test]
    async fn output_and_failure_come_back_and_nothing_is_left_to_a_shell() {
        assert_eq!(run_bounded(&words(&["echo", "a;b"]), &words(&["$HOME"])).await.unwrap(), "a;b $HOME");
        assert!(matches!(
            run_bounded(&words(&["sh", "-c", "echo broken >&2; exit 3"]), &[]).await,
            Err(ServerError::Refused { output, .. }) if output == "broken"
        ));
        assert!(matches!(run_bounded(&words(&["/no/such/program"]), &[]).await, Err(ServerError::Start { .. })));
    }

    /// On one thread, as the program runs.
    #[tokio::test(flavor = "current_thread")]
    async fn other_work_goes_on_while_a_command_runs() {
        let (command, mut turns) = (words(&["sleep", "0.3"]), 0);
        let running = run_bounded(&command, &[]);
        tokio::pin!(running);
        loop {
            tokio::select! {
                done = &mut running => break drop(done.unwrap()),
                () = tokio::time::sleep(Duration::from_millis(10)) => turns += 1,
            }
        }
        assert!(turns > 3, "{turns}");
    }

    #[tokio::test]
    async fn much_output_is_cut_and_does_not_block() {
        let output = run_bounded(&words(&["sh", "-c", "yes | head -c 1000000"]), &[]).await.unwrap();
        assert!(output.len() <= MOST_OUTPUT as usize);
    }
}
