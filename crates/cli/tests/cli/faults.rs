//! Every system call that a changing command rests on fails once, and the command is killed at every one: after the next
//! command, all is as it was before or as it should be after, and nothing lies about.
//!
//! `strace` makes the calls fail, so that the program that is tried is the one that is shipped. A part of all points is tried
//! in each run of the tests; `scripts/faults` tries them all.

use std::collections::BTreeMap;
use std::fs;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::coast::{Run, brightharbor, run};
use super::real::servers::need;

/// What fails, and how: the calls of a class, counted together.
const FAILING: [(&str, &str); 6] = [
    ("fsync,fdatasync", "EIO"),
    ("rename,renameat,renameat2,symlink,symlinkat", "ENOSPC"),
    ("write,pwrite64,ftruncate", "ENOSPC"),
    ("openat,openat2", "EMFILE"),
    ("mkdir,mkdirat,unlink,unlinkat,rmdir,fchmod,fchmodat,fchown", "EIO"),
    ("clone,clone3,vfork", "EAGAIN"),
];
/// Where the program is killed.
const KILLED: [&str; 3] =
    ["fsync,fdatasync,rename,renameat,renameat2", "unlink,unlinkat,mkdir,mkdirat", "write,pwrite64"];

/// The changing commands, on the harbor of [`Harbor::new`].
const COMMANDS: [&str; 14] = [
    "attach quay.example --account bakery",
    "attach pier.example --same-as gullrock.example --account bakery",
    "site change crumbandtide.example --www to-bare --yes",
    "site realign --all --yes",
    "record add shop.crumbandtide.example A 192.0.2.7",
    "redirect add gullrock.example/old /new",
    "detach gullrock.example --yes",
    "zone remove lanternchoir.example --yes",
    "zone change lanternchoir.example --mail none",
    "account add boatyard --email yard@saltmarsh.example",
    "tend",
    "site change boats.example --serve php:8.2",
    "site change desk.example --serve files",
    "site protect gullrock.example --path /office --from 192.0.2.0/24",
];

/// So many points of each class are tried for each command, spread evenly, where not all are.
const POINTS: usize = 3;

struct Harbor {
    folder: tempfile::TempDir,
}

impl Harbor {
    fn new() -> Self {
        let harbor = Self { folder: tempfile::tempdir().unwrap() };
        for folder in ["live/homes", "live/pools", "sockets"] {
            fs::create_dir_all(harbor.path(folder)).unwrap();
        }
        // Pools that have always listened.
        for account in ["yard", "office"] {
            let socket = harbor.path("sockets").join(format!("brightharbor-8.2-{account}.sock"));
            let listener = std::os::unix::net::UnixListener::bind(socket).unwrap();
            std::thread::spawn(move || listener.incoming().flatten().for_each(drop));
        }
        // Whoever runs the tests can give folders to one of these.
        let user = if brightharbor_io::install::is_root() { "games".into() } else { std::env::var("USER").unwrap() };
        let port = answer_with_fingerprints(harbor.path("live/harbor/servers/nginx"));
        let settings = format!(
            "[host]\naddresses = [\"127.0.0.1\"]\nnameservers = [\"ns1.saltmarsh.example.\"]\n[sites]\nhome = \
             \"{}/{{account}}\"\n[web]\nserver = \"nginx\"\nlisten = [\"127.0.0.1\"]\ntest = [\"true\"]\nreload = \
             [\"true\"]\n[php.\"8.2\"]\npool-folder = \"{pools}\"\nsocket-folder = \"{sockets}\"\ntest = [\"true\"]\nreload = \
             [\"true\"]\n[dns]\nserver = \"bind\"\ncheck = [\"true\"]\ncontrol-command = [\"true\"]\n[internet]\n\
             root-servers = [\"127.0.0.9:9\"]\nresolvers = [\"127.0.0.9:9\"]\nhttp-port = {port}\nhttps-port = {port}\n",
            harbor.path("live/homes").display(),
            pools = harbor.path("live/pools").display(),
            sockets = harbor.path("sockets").display(),
        );
        fs::write(harbor.path("settings.toml"), settings).unwrap();
        let file = harbor.path("settings.toml").display().to_string();
        harbor.typed(&format!("init --settings {file}"));
        for typed in [
            "account add bakery --email baker@saltmarsh.example",
            "account add choir --email choir@saltmarsh.example",
            "attach crumbandtide.example --account bakery",
            "attach gullrock.example --account bakery",
            &format!("account add yard --email yard@saltmarsh.example --system-user {user}"),
            &format!("account add office --email office@saltmarsh.example --system-user {user}"),
            "attach boats.example --account yard",
            "attach desk.example --account office --serve php:8.2",
            "redirect add gullrock.example/gone /boats",
            "zone create lanternchoir.example --account choir",
        ] {
            let done = harbor.typed(typed);
            assert!([0, 3].contains(&done.exit), "{typed}: {done:?}");
        }
        let edited = harbor.path("live/harbor/servers/nginx/crumbandtide.example.conf");
        let text = fs::read_to_string(&edited).unwrap();
        fs::write(&edited, text + "# by hand\n").unwrap();
        copy(&harbor.path("live"), &harbor.path("kept"));
        harbor
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn typed(&self, typed: &str) -> Run {
        let words: Vec<&str> = typed.split(' ').collect();
        run(brightharbor().args(words).env("BRIGHTHARBOR", self.path("live/harbor")))
    }

    fn restore(&self) {
        fs::remove_dir_all(self.path("live")).unwrap();
        copy(&self.path("kept"), &self.path("live"));
    }

    /// All that counts, but for serials: those are compared by themselves.
    fn state(&self) -> BTreeMap<String, String> {
        let mut state = BTreeMap::new();
        for list in ["site list", "zone list", "account list", "redirect list"] {
            let told = self.typed(&format!("{list} --json")).stdout;
            state.insert(list.to_string(), without_serials(&told));
        }
        for folder in ["harbor/servers", "harbor/zones", "harbor/templates", "harbor/passwords", "pools"] {
            files_below(&self.path("live").join(folder), &mut |path, content| {
                state.insert(path.display().to_string(), without_serials(&content));
            });
        }
        state
    }

    fn serial(&self) -> u64 {
        let zone = fs::read_to_string(self.path("live/harbor/zones/crumbandtide.example.zone")).unwrap();
        zone.split_whitespace().find_map(|word| word.parse().ok().filter(|serial| *serial > 2_000_000_000)).unwrap()
    }

    /// Runs the command while a call fails, or kills it. Gives what it said, and whether the point was reached.
    fn run_with(&self, typed: &str, inject: &str) -> (Run, bool) {
        let log = self.path("log");
        let calls = inject.split(':').next().unwrap();
        let mut strace = Command::new(need("strace", "strace"));
        strace.args(["-f", "-qq", "-o"]).arg(&log).args(["-e", &format!("trace={calls}")]);
        strace.args(["-e", &format!("inject={inject}"), "-e", "signal=none"]).arg(brightharbor().get_program());
        strace.args(typed.split(' ')).env("BRIGHTHARBOR", self.path("live/harbor")).stdin(Stdio::null());
        let done = run(&mut strace);
        let log = fs::read_to_string(log).unwrap_or_default();
        let reached = log.contains("(INJECTED)") || log.contains("killed by SIGKILL");
        (done, reached)
    }

    /// How many calls of a class one thread makes at most.
    fn count(&self, typed: &str, calls: &str) -> usize {
        self.restore();
        let (log, trace) = (self.path("log"), format!("trace={calls}"));
        let mut strace = Command::new(need("strace", "strace"));
        strace.args(["-f", "-qq", "-o"]).arg(&log).args(["-e", &trace, "-e", "signal=none"]);
        strace.arg(brightharbor().get_program()).args(typed.split(' '));
        run(strace.env("BRIGHTHARBOR", self.path("live/harbor")).stdin(Stdio::null()));
        let mut each: BTreeMap<String, usize> = BTreeMap::new();
        for line in fs::read_to_string(log).unwrap().lines().filter(|line| !line.contains("resumed>")) {
            *each.entry(line.split_whitespace().next().unwrap_or_default().to_string()).or_default() += 1;
        }
        each.into_values().max().unwrap_or(0)
    }
}

/// All points where all are wanted; else the first, the last and some between.
fn points(count: usize) -> Vec<usize> {
    if std::env::var_os("BRIGHTHARBOR_ALL_FAULTS").is_some() || count <= POINTS {
        return (1..=count).collect();
    }
    (0..POINTS).map(|point| 1 + point * (count - 1) / (POINTS - 1)).collect()
}

#[derive(Default)]
struct Tally {
    injected: usize,
    refused: usize,
    wrong: Vec<String>,
}

fn try_all(commands: &[&str]) {
    let harbor = Harbor::new();
    let mut tally = Tally::default();
    for typed in commands {
        harbor.restore();
        let (before, serial) = (harbor.state(), harbor.serial());
        let unharmed = harbor.typed(typed);
        assert!([0, 3].contains(&unharmed.exit), "{typed}: {unharmed:?}");
        let after = harbor.state();
        let failing = FAILING.map(|(calls, error)| (calls, format!("error={error}")));
        let killed = KILLED.map(|calls| (calls, "signal=KILL".to_string()));
        for (calls, how) in failing.into_iter().chain(killed) {
            for point in points(harbor.count(typed, calls)) {
                harbor.restore();
                let inject = format!("{calls}:{how}:when={point}");
                let (done, reached) = harbor.run_with(typed, &inject);
                if !reached {
                    continue;
                }
                tally.injected += 1;
                tally.refused += usize::from(![0, 3].contains(&done.exit));
                if let Err(wrong) = judge(&harbor, typed, &done, (&before, &after), serial) {
                    tally.wrong.push(format!("{typed}, {inject}: {wrong}\n  {done:?}"));
                }
            }
        }
    }
    println!(
        "{} faults injected, {} commands refused or died of them, {} left something wrong",
        tally.injected,
        tally.refused,
        tally.wrong.len()
    );
    assert!(tally.wrong.is_empty(), "{}", tally.wrong.join("\n"));
    assert!(tally.injected > 10 * commands.len(), "{} is too few to say anything", tally.injected);
}

type State = BTreeMap<String, String>;

/// What has to hold after the next command.
fn judge(
    harbor: &Harbor,
    typed: &str,
    done: &Run,
    (before, after): (&State, &State),
    serial: u64,
) -> Result<(), String> {
    // tokio has no way to begin without its threads; then nothing was begun here either, or the next command takes it back.
    // Nor does a write of eight bytes that wakes it ever find a full disk.
    let of_tokio = ["OS can't spawn worker thread", "failed to wake I/O driver"];
    if done.stderr.contains("panicked") && !of_tokio.iter().any(|words| done.stderr.contains(words)) {
        return Err("it panicked".into());
    }
    // Changes nothing by itself; what is left is taken back before it decides that.
    let next = harbor.typed("account change choir --email choir@saltmarsh.example");
    if next.exit != 0 {
        return Err(format!("the next command fails: {next:?}"));
    }
    let now = harbor.state();
    let differs = |other: &State| {
        let keys = now.keys().chain(other.keys());
        keys.filter(|key| now.get(*key) != other.get(*key)).cloned().collect::<std::collections::BTreeSet<String>>()
    };
    if now != *before && now != *after {
        return Err(format!(
            "neither as before (differs in {:?}) nor as after (differs in {:?})",
            differs(before),
            differs(after)
        ));
    }
    if [0, 3].contains(&done.exit) && now != *after {
        return Err("it said that it was done, and it is not".into());
    }
    if harbor.serial() < serial {
        return Err(format!("the serial fell from {serial} to {}", harbor.serial()));
    }
    let left_behind = |allowed: &str| {
        let mut left = Vec::new();
        files_below(&harbor.path("live/harbor"), &mut |path, _| {
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            // What a server could not be told is said to be so, and the copies are kept for somebody to put it right.
            let said = done.stderr.contains("could not be rolled back");
            let is_kept = path.starts_with(harbor.path("live/harbor/kept")) && !said;
            let is_allowed = path.starts_with(harbor.path("live/harbor").join(allowed));
            let is_left = (name.starts_with(".new-") && !is_allowed) || is_kept;
            left.extend(is_left.then(|| path.display().to_string()));
        });
        if left.is_empty() { Ok(()) } else { Err(format!("left behind: {left:?}")) }
    };
    // Copies of the inventory are the timer's, which clears away what it finds of them.
    left_behind("backups")?;
    let again = harbor.typed(typed);
    let works = [0, 3].contains(&again.exit) || (now == *after && again.exit == 4);
    if !works {
        return Err(format!("it does not work afterwards: {again:?}"));
    }
    left_behind(if typed == "tend" { "none" } else { "backups" })
}

fn without_serials(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut digits = String::new();
    for character in text.chars().chain(['\0']) {
        if character.is_ascii_digit() {
            digits.push(character);
            continue;
        }
        out.push_str(if digits.len() == 10 { "SERIAL" } else { &digits });
        digits.clear();
        out.push(character);
    }
    out
}

fn files_below(folder: &Path, each: &mut dyn FnMut(&Path, String)) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        match entry.file_type().unwrap().is_dir() {
            true => files_below(&entry.path(), each),
            false => each(&entry.path(), String::from_utf8_lossy(&fs::read(entry.path()).unwrap()).into_owned()),
        }
    }
}

fn copy(from: &Path, to: &Path) {
    assert!(Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap().success());
}

/// A web server that has always loaded its files: it answers with the fingerprint that stands in the file of a host.
fn answer_with_fingerprints(files: PathBuf) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let mut asked = [0; 4096];
            let read = stream.read(&mut asked).unwrap_or(0);
            let asked = String::from_utf8_lossy(&asked[..read]).to_lowercase();
            let host = asked.lines().find_map(|line| line.strip_prefix("host: ")).unwrap_or_default();
            let host = host.split(':').next().unwrap_or_default().trim_start_matches("www.");
            let text = fs::read_to_string(files.join(format!("{host}.conf"))).unwrap_or_default();
            let hash = text.split("return 403 \"").nth(1).and_then(|rest| rest.split('"').next()).unwrap_or("nobody");
            let answer =
                format!("HTTP/1.1 403 Forbidden\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{hash}", hash.len());
            let _ = stream.write_all(answer.as_bytes());
        }
    });
    port
}

#[test]
fn attaching_and_changing_sites_survives_every_fault() {
    try_all(&COMMANDS[..4]);
}

#[test]
fn records_redirects_and_detaching_survive_every_fault() {
    try_all(&COMMANDS[4..7]);
}

#[test]
fn zones_accounts_and_the_timer_survive_every_fault() {
    try_all(&COMMANDS[7..11]);
}

#[test]
fn pools_of_php_and_protected_paths_survive_every_fault() {
    try_all(&COMMANDS[11..]);
}

/// A disk that gives nothing back for a while: what is left over is told once by each command, until it can be taken back.
#[test]
fn what_cannot_be_rolled_back_at_once_is_rolled_back_later() {
    let harbor = Harbor::new();
    harbor.restore();
    let before = harbor.state();
    let toml = harbor.path("live/harbor/harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    let (kept, away) = (harbor.path("live/harbor/kept"), harbor.path("away"));
    let line = format!("mv {0}/* {1} && exit 1", kept.display(), away.display());
    fs::create_dir(&away).unwrap();
    fs::write(&toml, settings.replacen("test = [\"true\"]", &format!("test = [\"sh\", \"-c\", \"{line}\"]"), 1))
        .unwrap();
    let torn = harbor.typed("site realign --all --yes");
    assert!(torn.exit == 5 && torn.stderr.contains("the next command tries again"), "{torn:?}");
    fs::write(&toml, settings).unwrap();
    let still = harbor.typed("account change choir --email song@saltmarsh.example");
    assert_eq!(still.stderr.matches("cannot be rolled back whole yet").count(), 1, "{still:?}");
    assert!(
        Command::new("sh")
            .args(["-c", &format!("mv {}/* {}", away.display(), kept.display())])
            .status()
            .unwrap()
            .success()
    );
    let then = harbor.typed("account change choir --email choir@saltmarsh.example");
    assert!(then.exit == 0 && then.stderr.contains("it was rolled back"), "{then:?}");
    assert_eq!(harbor.state(), before);
}
