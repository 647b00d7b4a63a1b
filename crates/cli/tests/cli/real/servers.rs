//! Starts real servers for a test and ends them with it.

use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use brightharbor_standins::Cast;

/// A running server; killed when dropped.
pub struct Server {
    child: Child,
    /// A daemon that the child has left behind: its pid file.
    pid_file: Option<PathBuf>,
}

impl Server {
    pub fn spawn(command: &mut Command) -> Self {
        let child = command.stdin(Stdio::null()).spawn().expect("a server that was found starts");
        Self { child, pid_file: None }
    }

    pub fn is_running(&mut self) -> bool {
        matches!(self.child.try_wait(), Ok(None))
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if let Some(pid) = self.pid_file.as_ref().and_then(|file| fs::read_to_string(file).ok()) {
            let _ = Command::new("kill").arg(pid.trim()).status();
        }
        // A master process takes its workers along on TERM, not on KILL.
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let deadline = Instant::now() + Duration::from_secs(3);
        while self.is_running() && Instant::now() < deadline {
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The program's path; fails the test with what to install.
pub fn need(program: &str, package: &str) -> PathBuf {
    let folders = ["/usr/sbin", "/usr/bin", "/sbin", "/bin", "/usr/local/sbin", "/usr/local/bin"];
    let found = folders.iter().map(|folder| Path::new(folder).join(program)).find(|path| path.is_file());
    found.unwrap_or_else(|| panic!("{program} is missing; install it: apt-get install {package} (or run scripts/test)"))
}

/// PHP's pool manager, by the name that Debian gives it, and its version.
pub fn php_manager() -> (PathBuf, String) {
    let entries = fs::read_dir("/usr/sbin").unwrap().flatten().map(|entry| entry.path());
    let named = |path: PathBuf| {
        let version = path.file_name()?.to_str()?.strip_prefix("php-fpm")?.to_string();
        Some((path, version))
    };
    let mut found = entries.filter_map(named);
    found.next().expect("php-fpm is missing; install it: apt-get install php-fpm (or run scripts/test)")
}

/// Waits until something listens.
pub fn await_listener(address: std::net::SocketAddr) {
    let deadline = Instant::now() + Duration::from_secs(10);
    while std::net::TcpStream::connect(address).is_err() {
        assert!(Instant::now() < deadline, "nothing listens at {address}");
        std::thread::sleep(Duration::from_millis(30));
    }
}

/// BIND as the provider's two nameservers. Gives the server and the words of its remote control.
/// With other lines at the end of its main file, and among its options.
pub fn start_bind_with(cast: &Cast, folder: &Path, more: &str, options: &str) -> (Server, Vec<String>) {
    let (named, rndc) = (need("named", "bind9"), need("rndc", "bind9-utils"));
    let [ns1, _] = cast.nameservers();
    let port = cast.dns_port;
    let bind = folder.join("bind");
    fs::create_dir(&bind).unwrap();
    let zone = format!(
        "$TTL 3600\n@ IN SOA ns1 hostmaster 1 14400 1800 2419200 60\n@ IN NS ns1\n@ IN NS ns2\nns1 IN {kind} {ns1}\nns2 IN {kind} {ns1}\n",
        kind = cast.family().record_type(),
    );
    fs::write(bind.join("saltmarsh.zone"), zone).unwrap();
    let key = "key \"rndc-key\" { algorithm hmac-sha256; secret \"c2FsdG1hcnNoIHRlc3Qga2V5IG9ubHkgZm9yIHRlc3Q=\"; };\n";
    let control = std::net::TcpListener::bind((ns1, 0)).unwrap().local_addr().unwrap().port();
    let main = format!(
        "{key}controls {{ inet {ns1} port {control} allow {{ localhost; fd5a::/16; }} keys {{ \"rndc-key\"; }}; }};\n\
         options {{ directory \"{bind}\"; pid-file \"{bind}/named.pid\"; session-keyfile \"{bind}/session.key\";\n\
         {listen} recursion no; notify no;\n\
         managed-keys-directory \"{bind}\"; dnssec-validation no; {options} }};\n\
         zone \"saltmarsh.example\" {{ type primary; file \"{bind}/saltmarsh.zone\"; }};\n\
         {more}",
        bind = bind.display(),
        listen = match ns1 {
            IpAddr::V4(_) => format!("listen-on port {port} {{ {ns1}; }}; listen-on-v6 {{ none; }};"),
            IpAddr::V6(_) => format!("listen-on {{ none; }}; listen-on-v6 port {port} {{ {ns1}; }};"),
        },
    );
    fs::write(bind.join("named.conf"), main).unwrap();
    let control_file = bind.join("rndc.conf");
    let text = format!("{key}options {{ default-key \"rndc-key\"; default-server {ns1}; default-port {control}; }};\n");
    fs::write(&control_file, text).unwrap();
    let server = Server::spawn(
        Command::new(named).arg("-c").arg(bind.join("named.conf")).args(["-f", "-n", "1"]).stderr(Stdio::null()),
    );
    await_listener((ns1, control).into());
    let words = [rndc.display().to_string(), "-c".into(), control_file.display().to_string()];
    (server, words.to_vec())
}

/// A web server to be driven: its name in harbor.toml, main file, and the commands for its test and reload.
pub struct Web {
    pub name: &'static str,
    pub main_file: PathBuf,
    pub test: Vec<String>,
    pub reload: Vec<String>,
    start: Vec<String>,
}

impl Web {
    pub fn nginx(folder: &Path, site_files: &Path) -> Self {
        let nginx = need("nginx", "nginx-light");
        let web = folder.join("nginx");
        fs::create_dir(&web).unwrap();
        let main = format!(
            "daemon off;\n{user}pid {web}/nginx.pid;\nerror_log {web}/error.log notice;\nworker_processes 1;\n\
             events {{ worker_connections 64; }}\nhttp {{\n  access_log off; server_names_hash_max_size 8192;\n\
             client_body_temp_path {web}/body; proxy_temp_path {web}/proxy; fastcgi_temp_path {web}/fastcgi;\n\
             uwsgi_temp_path {web}/uwsgi; scgi_temp_path {web}/scgi;\n  include {sites}/*.conf;\n}}\n",
            web = web.display(),
            sites = site_files.display(),
            // As Debian has it; only root can ask for it.
            user = if brightharbor_io::install::is_root() { "user www-data;\n" } else { "" },
        );
        let main_file = web.join("nginx.conf");
        fs::write(&main_file, main).unwrap();
        let words =
            |more: &[&str]| words(&nginx, &["-p", web.to_str().unwrap(), "-c", main_file.to_str().unwrap()], more);
        let (test, reload, start) = (words(&["-t", "-q"]), words(&["-s", "reload"]), words(&[]));
        Self { name: "nginx", test, reload, start, main_file }
    }

    pub fn apache(cast: &Cast, folder: &Path, site_files: &Path) -> Self {
        Self::apache_at(cast, cast.web(), folder, site_files)
    }

    pub fn apache_at(cast: &Cast, address: IpAddr, folder: &Path, site_files: &Path) -> Self {
        let apache = need("apache2", "apache2");
        let web = folder.join("apache");
        fs::create_dir(&web).unwrap();
        let modules = Path::new("/usr/lib/apache2/modules");
        let mut main = format!(
            "ServerRoot \"{web}\"\nPidFile \"{web}/apache.pid\"\nErrorLog \"{web}/error.log\"\nDefaultRuntimeDir \"{web}\"\n\
             ServerName localhost\nMutex file:{web}\nListen {http}\nListen {https}\n",
            web = web.display(),
            http = SocketAddr::new(address, cast.http_port),
            https = SocketAddr::new(address, cast.https_port),
        );
        for module in [
            "mpm_event",
            "authz_core",
            "alias",
            "dir",
            "mime",
            "rewrite",
            "headers",
            "ssl",
            "socache_shmcb",
            "http2",
            "proxy",
            "proxy_http",
            "proxy_fcgi",
            "autoindex",
            "authn_core",
            "authn_file",
            "auth_basic",
            "authz_user",
            "authz_host",
        ] {
            let file = modules.join(format!("mod_{module}.so"));
            main.push_str(&format!("LoadModule {module}_module {}\n", file.display()));
        }
        main.push_str("TypesConfig /etc/mime.types\nSSLSessionCache none\nStartServers 1\n");
        main.push_str(&format!("IncludeOptional {}/*.conf\n", site_files.display()));
        let main_file = web.join("apache.conf");
        fs::write(&main_file, main).unwrap();
        let words = |more: &[&str]| words(&apache, &["-f", main_file.to_str().unwrap()], more);
        let (test, reload) = (words(&["-t"]), words(&["-k", "graceful"]));
        Self { name: "apache", test, reload, start: words(&["-D", "FOREGROUND"]), main_file }
    }

    pub fn start(&self, cast: &Cast) -> Server {
        self.start_at(cast.web(), cast)
    }

    pub fn start_at(&self, address: IpAddr, cast: &Cast) -> Server {
        let server = Server::spawn(Command::new(&self.start[0]).args(&self.start[1..]).stderr(Stdio::null()));
        if self.name == "apache" {
            await_listener((address, cast.http_port).into());
        }
        server
    }
}

fn words(program: &Path, first: &[&str], more: &[&str]) -> Vec<String> {
    let mut words = vec![program.display().to_string()];
    words.extend(first.iter().chain(more).map(|word| word.to_string()));
    words
}

/// A temporary folder that the workers of a web server may enter.
pub fn open_folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
    folder
}
