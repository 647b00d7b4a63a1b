//! Pools of a real PHP-FPM: written with the first site of an account that runs PHP, gone with the last, and closed to all
//! other accounts.

use std::fs;
use std::net::SocketAddr;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use brightharbor_io::http::Connection;
use brightharbor_io::trust;

use super::quay::block_on;
use super::servers::{Server, php_manager};
use super::voyage::Port;

/// Says who runs it, and tries to read and to do what it is told to.
const SCRIPT: &str = r#"<?php
header('Content-Type: text/plain');
echo 'user ', trim(shell_exec('id -un')), "\n";
session_start();
if (isset($_GET['read'])) {
    $own = @file_get_contents($_GET['read']);
    $shell = shell_exec('cat ' . escapeshellarg($_GET['read']) . ' 2>/dev/null');
    echo 'read ', $own === false ? 'nothing' : $own, ' ', $shell ?: 'nothing', "\n";
}
if (isset($_GET['list'])) { echo 'list ', trim(shell_exec('ls ' . escapeshellarg($_GET['list']) . ' 2>/dev/null') ?? ''), ".\n"; }
if (isset($_GET['socket'])) { echo 'socket ', @stream_socket_client('unix://' . $_GET['socket']) ? 'open' : 'closed', "\n"; }
echo 'limit ', ini_get('post_max_size'), ' ', ini_get('memory_limit'), "\n";
"#;

/// The manager, with a pool of somebody else in the folder already, as Debian has one.
pub(super) struct Fpm {
    version: String,
    pools: PathBuf,
    sockets: PathBuf,
    main: PathBuf,
    pid: PathBuf,
    program: PathBuf,
    _server: Server,
}

impl Fpm {
    pub fn start(folder: &Path) -> Self {
        Self::start_as(folder, php_manager().1)
    }

    /// The manager of a version: another one than the installed one has that one's programs, and all else of its own.
    fn start_as(folder: &Path, version: String) -> Self {
        let (program, _) = php_manager();
        let [pools, sockets] = ["pools", "sockets"].map(|name| folder.join(name));
        [&pools, &sockets].into_iter().for_each(|made| fs::create_dir(made).unwrap());
        let other = format!(
            "[www]\nuser = www-data\nlisten = {}/www.sock\npm = static\npm.max_children = 1\n",
            sockets.display()
        );
        fs::write(pools.join("www.conf"), other).unwrap();
        let (main, pid) = (folder.join("fpm.conf"), folder.join("fpm.pid"));
        let text = format!(
            "[global]\npid = {}\nerror_log = {}/fpm.log\ndaemonize = no\ninclude = {}/*.conf\n",
            pid.display(),
            folder.display(),
            pools.display()
        );
        fs::write(&main, text).unwrap();
        let mut command = Command::new(&program);
        let _server = Server::spawn(command.args(["-F", "-y"]).arg(&main).stdout(Stdio::null()).stderr(Stdio::null()));
        Self { version, pools, sockets, main, pid, program, _server }
    }

    fn settings(&self) -> String {
        format!(
            "\n[php.\"{}\"]\npool-folder = \"{}\"\nsocket-folder = \"{}\"\ntest = [\"{}\", \"-t\", \"-y\", \"{}\"]\n\
             reload = [\"pkill\", \"-USR2\", \"-F\", \"{}\"]\nchildren = 3\nmemory = 64\n",
            self.version,
            self.pools.display(),
            self.sockets.display(),
            self.program.display(),
            self.main.display(),
            self.pid.display(),
        )
    }

    fn pool(&self, account: &str) -> PathBuf {
        self.pools.join(format!("brightharbor-{account}.conf"))
    }

    fn socket(&self, account: &str) -> PathBuf {
        self.sockets.join(format!("brightharbor-{}-{account}.sock", self.version))
    }
}

/// A page over https, as a visitor gets it.
pub(super) fn page(port: &Port, host: &str, path: &str, body: Vec<u8>) -> (u16, String) {
    page_with(port, host, path, body, &[])
}

pub(super) fn page_with(port: &Port, host: &str, path: &str, body: Vec<u8>, headers: &[(&str, &str)]) -> (u16, String) {
    let cast = &port.world.cast;
    let client = trust::client(trust::roots(std::slice::from_ref(&port.ca.root)).unwrap());
    let authority = format!("{host}:{}", cast.https_port);
    let asking = async {
        let at = SocketAddr::new(cast.web(), cast.https_port);
        let mut connection = Connection::open(at, host, &authority, Some(client)).await.unwrap();
        let method = if body.is_empty() { "GET" } else { "POST" };
        connection.send(method, path, headers, body, 1_000_000).await.unwrap()
    };
    let answer = block_on(asking);
    (answer.status, String::from_utf8_lossy(&answer.body).into_owned())
}

/// Two accounts on one server, each with a site that runs PHP as its own user. Both are users that every Debian has.
pub(super) fn with_two_accounts(port: &Port, fpm: &Fpm) {
    let toml = port.path("harbor/harbor.toml");
    let text = fs::read_to_string(&toml).unwrap().replacen("[web]\n", "[web]\ngroup = \"www-data\"\n", 1);
    fs::write(&toml, text + &fpm.settings()).unwrap();
    let php = format!("php:{}", fpm.version);
    for (account, user, domain) in
        [("bakery", "games", "crumbandtide.example"), ("choir", "news", "lanternchoir.example")]
    {
        let add = ["account", "add", account, "--email", "crew@saltmarsh.example", "--system-user", user];
        port.run(&add).expect(0);
        port.delegate_here(domain);
        let run = port.run(&["attach", domain, "--account", account, "--serve", &php]);
        assert!([0, 3].contains(&run.exit), "{run:?}");
        let root = port.path(&format!("homes/{account}/www/{domain}"));
        let owner = fs::metadata(&root).unwrap();
        assert_eq!(owner.permissions().mode() & 0o777, 0o750, "nobody else reads what lies there");
        for (name, text) in [("index.php", SCRIPT), ("secret.txt", "the secret"), ("note.html", "a page")] {
            fs::write(root.join(name), text).unwrap();
            chown(root.join(name), Some(owner.uid()), None).unwrap();
        }
    }
    port.tend_until_served();
}

fn run_as_their_users(kind: &str) {
    let port = Port::new(kind);
    let fpm = Fpm::start(&port.path("."));
    let version = fpm.version.clone();
    with_two_accounts(&port, &fpm);
    let (bakery, choir) = ("crumbandtide.example", "lanternchoir.example");
    let (status, text) = page(&port, bakery, "/", vec![]);
    assert_eq!((status, text.as_str()), (200, "user games\nlimit 20971520 64M\n"), "{kind}");
    assert!(page(&port, choir, "/index.php", vec![]).1.starts_with("user news\n"));
    assert_eq!(page(&port, bakery, "/note.html", vec![]), (200, "a page".into()));

    // What belongs to one account is closed to the programs of the other, whatever PHP itself forbids.
    let mine = port.path("homes/bakery/www/crumbandtide.example");
    let state = port.path("harbor/php/bakery.games");
    let asks = |host: &str, what: &str| page(&port, host, &format!("/?{what}"), vec![]).1;
    let secret = format!("read={}", mine.join("secret.txt").display());
    assert!(asks(bakery, &secret).contains("read the secret the secret"), "{}", asks(bakery, &secret));
    assert!(asks(choir, &secret).contains("read nothing nothing"), "{}", asks(choir, &secret));
    let sessions = format!("list={}", state.join("sessions").display());
    assert!(asks(bakery, &sessions).contains("list sess_"), "{}", asks(bakery, &sessions));
    for folder in [state.join("sessions"), state.join("temporary"), mine.clone(), port.path("homes/bakery")] {
        let seen = asks(choir, &format!("list={}", folder.display()));
        assert!(seen.contains("list .\n"), "{}: {seen}", folder.display());
    }
    let socket = format!("socket={}", fpm.socket("bakery").display());
    assert!(asks(choir, &socket).contains("socket closed"), "{}", asks(choir, &socket));

    // Limits go to the pool and to the web server.
    port.json(&["site", "change", bakery, "--body-limit", "1M"], 0);
    assert!(page(&port, bakery, "/", vec![]).1.contains("limit 1048576 64M"));
    let (status, words) = page(&port, bakery, "/", vec![b'x'; 2 << 20]);
    assert_eq!((status, words.as_str()), (413, "This is too large to be taken."));

    // What harbor.toml says by now reaches the pools: `tend` says so, and `site realign` writes them.
    let toml = port.path("harbor/harbor.toml");
    let text = fs::read_to_string(&toml).unwrap();
    fs::write(&toml, text.replace("memory = 64", "memory = 96")).unwrap();
    let late = port.json(&["tend"], 0)["out_of_step"].clone();
    assert_eq!(late.as_array().map(Vec::len), Some(2), "{late}");
    let realigned = port.json(&["site", "realign", "--all"], 0);
    assert_eq!(realigned["sites"][0]["state"], "outdated", "{realigned}");
    // Two files of one site are one site that differs.
    fs::write(&toml, text.replace("memory = 64", "memory = 97")).unwrap();
    let file = port.path(&format!("harbor/servers/{kind}/{bakery}.conf"));
    fs::remove_file(&file).unwrap();
    let both = port.run(&["site", "realign", bakery, "--dry-run"]).expect(0);
    assert!(both.contains("The files of 1 of 1 site are not as they would be written now"), "{both}");
    let late = port.json(&["tend"], 0)["out_of_step"].clone();
    assert_eq!(late.as_array().map(Vec::len), Some(2), "{late}");
    port.json(&["site", "realign", "--all"], 0);
    fs::write(&toml, text.replace("memory = 64", "memory = 96")).unwrap();
    port.json(&["site", "realign", "--all"], 0);
    assert!(page(&port, bakery, "/", vec![]).1.contains("limit 1048576 96M"));
    assert_eq!(port.json(&["tend"], 0)["out_of_step"], serde_json::json!([]));

    port.run(&["plan", "add", "small", "--scripts", "2", "--script-memory", "32"]).expect(0);
    port.json(&["account", "change", "bakery", "--plan", "small"], 0);
    port.json(&["site", "realign", bakery], 0);
    assert!(page(&port, bakery, "/", vec![]).1.contains("limit 1048576 32M"));
    assert!(fs::read_to_string(fpm.pool("bakery")).unwrap().contains("pm.max_children = 2\n"));

    // With another system user, the scripts still have their sessions.
    port.json(&["account", "change", "bakery", "--system-user", "backup"], 0);
    let given = Command::new("chown").args(["-R", "backup"]).arg(port.path("homes/bakery")).status();
    assert!(given.is_ok_and(|status| status.success()));
    assert!(page(&port, bakery, "/", vec![]).1.starts_with("user backup\n"));
    let own = format!("list={}", port.path("harbor/php/bakery.backup/sessions").display());
    assert!(asks(bakery, &own).contains("list sess_"), "{}", asks(bakery, &own));

    // A test that fails takes everything back, and a pool that somebody has edited is left alone.
    let toml = port.path("harbor/harbor.toml");
    let good = fs::read_to_string(&toml).unwrap();
    fs::write(&toml, good.replace("\"-t\", \"-y\"", "\"-t\", \"-Y\"")).unwrap();
    let pool = fs::read(fpm.pool("bakery")).unwrap();
    let refused = port.json(&["site", "change", bakery, "--body-limit", "2M"], 5);
    assert_eq!(refused["error"]["code"], "rolled-back", "{refused}");
    assert_eq!(fs::read(fpm.pool("bakery")).unwrap(), pool);
    fs::write(&toml, &good).unwrap();
    let edited = [&pool[..], b"; a word\n"].concat();
    fs::write(fpm.pool("bakery"), &edited).unwrap();
    let changed = port.json(&["site", "change", bakery, "--body-limit", "2M"], 0);
    assert!(changed["change"]["remarks"].to_string().contains("pool-edited"), "{changed}");
    assert_eq!(fs::read(fpm.pool("bakery")).unwrap(), edited);
    fs::write(fpm.pool("bakery"), &pool).unwrap();

    // The last site takes the pool along; the text of its scripts is shown to nobody.
    let gone = port.json(&["site", "change", bakery, "--serve", "files"], 0);
    assert!(gone["change"]["remarks"].to_string().contains("\"pool-gone\""), "{gone}");
    assert!(!fpm.pool("bakery").exists());
    let (status, words) = page(&port, bakery, "/index.php", vec![]);
    assert_eq!((status, words.as_str()), (403, "This page is not shown."));
    assert!(std::os::unix::net::UnixStream::connect(fpm.socket("bakery")).is_err());
    assert!(page(&port, choir, "/", vec![]).1.starts_with("user news\n"), "the other pool goes on");
    assert_eq!(port.json(&["detach", choir], 0)["exit"], 0);
    assert!(!fpm.pool("choir").exists() && fpm.pools.join("www.conf").exists());

    let add = ["account", "add", "boatyard", "--email", "yard@saltmarsh.example"];
    port.run(&add).expect(0);
    let nobody = ["attach", "gullrock.example", "--account", "boatyard", "--serve", &format!("php:{version}")];
    let refused = port.json(&nobody, 4);
    assert_eq!(refused["error"]["code"], "php-without-user");
}

#[test]
fn scripts_run_as_their_accounts_behind_nginx() {
    run_as_their_users("nginx");
}

#[test]
fn scripts_run_as_their_accounts_behind_apache() {
    run_as_their_users("apache");
}

#[test]
fn versions_run_side_by_side() {
    let port = Port::new("nginx");
    let fpm = Fpm::start(&port.path("."));
    with_two_accounts(&port, &fpm);
    fs::create_dir(port.path("older")).unwrap();
    fs::set_permissions(port.path("older"), fs::Permissions::from_mode(0o755)).unwrap();
    let older = Fpm::start_as(&port.path("older"), "7.4".into());
    let toml = port.path("harbor/harbor.toml");
    let text = fs::read_to_string(&toml).unwrap() + &older.settings().replace("memory = 64", "memory = 40");
    fs::write(&toml, text).unwrap();
    let (bakery, choir) = ("crumbandtide.example", "lanternchoir.example");
    let before = fs::read(fpm.pool("bakery")).unwrap();
    port.json(&["site", "change", bakery, "--serve", "/blog=php:7.4"], 0);
    let root = port.path(&format!("homes/bakery/www/{bakery}"));
    fs::create_dir(root.join("blog")).unwrap();
    fs::write(root.join("blog/index.php"), SCRIPT).unwrap();
    assert!(page(&port, bakery, "/blog/", vec![]).1.starts_with("user games\n"));
    assert!(page(&port, bakery, "/blog/", vec![]).1.ends_with(" 40M\n"), "{}", page(&port, bakery, "/blog/", vec![]).1);
    assert!(page(&port, bakery, "/", vec![]).1.ends_with(" 64M\n"));
    assert_eq!(fs::read(fpm.pool("bakery")).unwrap(), before, "the other version's pool is as it was");
    assert!(!older.pool("choir").exists());

    // A site moves from one to the other: one pool comes, and the other goes with its last site.
    port.json(&["site", "change", choir, "--serve", "php:7.4"], 0);
    assert!(page(&port, choir, "/", vec![]).1.ends_with(" 40M\n"));
    assert!(older.pool("choir").exists() && !fpm.pool("choir").exists() && !fpm.socket("choir").exists());
    port.json(&["site", "change", bakery, "--serve", "/blog=off"], 0);
    assert!(!older.pool("bakery").exists() && fpm.pool("bakery").exists());
    assert!(page(&port, bakery, "/", vec![]).1.starts_with("user games\n"));
    assert_eq!(port.json(&["tend"], 0)["out_of_step"], serde_json::json!([]));
}
