//! Sites that run programs: nginx, Apache httpd and the model agree about what answers where, with a real PHP-FPM and a
//! real program, and the programs see the same of a visitor.

use std::fs;
use std::io::{Read, Write};
use std::net::{IpAddr, SocketAddr, TcpListener, TcpStream};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixListener;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use brightharbor_core::harbor::{Layout, Settings, WebServer};
use brightharbor_core::redirect::{Answer, Ports, Redirect, Source, Target, answer};
use brightharbor_core::render::{UNANSWERED, site_file};
use brightharbor_core::site::{Answering, Cached, Content, HttpsState, Part, Site, SiteRules, parse_part};
use brightharbor_standins::World;

use super::quay::block_on;
use super::servers::{Server, Web, await_listener, open_folder, php_manager};
use super::webs;

/// What a script sees of a request.
const SCRIPT: &str = r#"<?php
header('Content-Type: text/plain');
$seen = ['SCRIPT_NAME', 'PATH_INFO', 'REQUEST_URI', 'QUERY_STRING', 'REQUEST_METHOD', 'HTTPS', 'REMOTE_ADDR', 'HTTP_HOST',
         'SERVER_NAME', 'REQUEST_SCHEME', 'DOCUMENT_ROOT', 'SCRIPT_FILENAME', 'HTTP_PROXY', 'CONTENT_TYPE'];
echo "php\n";
foreach ($seen as $name) { echo $name, '=', $_SERVER[$name] ?? '', "\n"; }
echo 'body=', strlen(file_get_contents('php://input')), "\n";
"#;

/// PHP's pool manager with one pool, as Debian has it, run by the user of the web servers. The path of its socket.
pub(super) fn start_php(folder: &Path) -> (Server, PathBuf) {
    let (program, _) = php_manager();
    let (main, socket) = (folder.join("fpm.conf"), folder.join("php.sock"));
    let pool = format!(
        "[global]\nerror_log = {0}/fpm.log\ndaemonize = no\n[all]\nuser = www-data\ngroup = www-data\n\
         listen = {1}\nlisten.mode = 0666\npm = static\npm.max_children = 3\n",
        folder.display(),
        socket.display()
    );
    fs::write(&main, pool).unwrap();
    let server =
        Server::spawn(Command::new(program).arg("-F").arg("-y").arg(&main).stdout(Stdio::null()).stderr(Stdio::null()));
    await_socket(&socket);
    (server, socket)
}

fn await_socket(socket: &Path) {
    let deadline = Instant::now() + Duration::from_secs(10);
    while std::os::unix::net::UnixStream::connect(socket).is_err() {
        assert!(Instant::now() < deadline, "nothing listens at {}", socket.display());
        std::thread::sleep(Duration::from_millis(30));
    }
}

/// A program that says what it was asked, and takes a WebSocket (RFC 6455) that it sends back everything of.
fn answer_one(mut stream: impl Read + Write) {
    let mut head = Vec::new();
    let mut byte = [0];
    while !head.ends_with(b"\r\n\r\n") && stream.read(&mut byte).is_ok_and(|read| read == 1) {
        head.push(byte[0]);
    }
    let head = String::from_utf8_lossy(&head).into_owned();
    let header = |name: &str| {
        let mut lines = head.lines().skip(1).filter_map(|line| line.split_once(": "));
        lines.find(|(found, _)| found.eq_ignore_ascii_case(name)).map_or("", |(_, value)| value).to_string()
    };
    if header("Upgrade").eq_ignore_ascii_case("websocket") {
        let _ =
            stream.write_all(b"HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n");
        let mut sent = [0; 64];
        while let Ok(read @ 1..) = stream.read(&mut sent) {
            let _ = stream.write_all(&sent[..read]);
        }
        return;
    }
    let mut body = vec![0; header("Content-Length").parse().unwrap_or(0)];
    let _ = stream.read_exact(&mut body);
    let first = head.lines().next().unwrap_or_default();
    let (method, target) = (first.split(' ').next().unwrap_or_default(), first.split(' ').nth(1).unwrap_or_default());
    let mut text = format!("program\n{method} {target}\n");
    for name in ["Host", "Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto", "Proxy", "Upgrade"] {
        text.push_str(&format!("{name}={}\n", header(name)));
    }
    text.push_str(&format!("body={}\n", body.len()));
    let (status, text) = match target {
        _ if target.ends_with("/broken") => ("503 Service Unavailable", "the program's own trouble".to_string()),
        _ => ("200 OK", text),
    };
    let length = text.len();
    let text = if method == "HEAD" { String::new() } else { text };
    let answer = format!(
        "HTTP/1.1 {status}\r\nContent-Type: text/plain\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n{text}"
    );
    let _ = stream.write_all(answer.as_bytes());
}

/// The program at an address of its own, and at a socket.
fn start_program(folder: &Path) -> (SocketAddr, PathBuf) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        listener.incoming().flatten().for_each(|stream| {
            std::thread::spawn(move || answer_one(stream));
        });
    });
    let socket = folder.join("program.sock");
    let listener = UnixListener::bind(&socket).unwrap();
    fs::set_permissions(&socket, fs::Permissions::from_mode(0o666)).unwrap();
    std::thread::spawn(move || {
        listener.incoming().flatten().for_each(|stream| {
            std::thread::spawn(move || answer_one(stream));
        });
    });
    (address, socket)
}

fn parts(typed: &[String]) -> Vec<Part> {
    let read = |typed: &String| parse_part(typed).map(|(path, by)| Part { path, by: by.unwrap() }).unwrap();
    let mut parts: Vec<Part> = typed.iter().map(read).collect();
    parts.sort();
    parts
}

/// Three sites: parts of all kinds, PHP with a front script, and a program alone.
fn sites(folder: &Path, php: &Path, address: SocketAddr, socket: &Path) -> Vec<Site> {
    let php = format!("php:unix:{}", php.display());
    let mixed = Content {
        parts: parts(&[
            format!("/blog={php}"),
            format!("/api=http://{address}"),
            format!("/app=unix:{}", socket.display()),
            "/app/static=files".into(),
            "/down=http://127.0.0.1:9".into(),
        ]),
        missing_page: Some("/boats/index.html".into()),
        no_scripts: vec!["/blog/uploads".into()],
        body_limit: Some(1_000),
        ..Content::default()
    };
    let front = Content {
        parts: parts(std::slice::from_ref(&php)),
        front: true,
        cache: vec![Cached { endings: vec!["css".into()], seconds: 3_600 }],
        ..Content::default()
    };
    let alone = Content { parts: parts(&[format!("http://{address}")]), ..Content::default() };
    let single = Content { single_page: Some("/index.html".into()), listing: true, ..Content::default() };
    let redirect = |source: &str, target: &str| Redirect {
        source: Source::parse(source, true).unwrap(),
        target: Target::parse(target, true).unwrap(),
        status: 302,
        keep_path: true,
        with_twin: true,
        until: None,
    };
    let with =
        |content: Content, redirects| SiteRules { content: Box::new(content), redirects, ..SiteRules::default() };
    let old = vec![
        redirect("gullrock.example/api/old", "https://quay.example/new"),
        redirect("gullrock.example/app/moved", "/boats"),
    ];
    let all = vec![
        webs::site(folder, "gullrock.example", HttpsState::Offered, with(mixed, old)),
        webs::site(folder, "crumbandtide.example", HttpsState::Forced, with(front, vec![])),
        webs::site(folder, "lanternchoir.example", HttpsState::None, with(alone, vec![])),
        webs::site(folder, "saltmarsh.example", HttpsState::None, with(single, vec![])),
    ];
    for site in &all {
        let root = &site.document_root;
        for folder in ["blog/uploads/photos", "blog/inner", "app/static", "css"] {
            fs::create_dir_all(root.join(folder)).unwrap();
        }
        for script in ["index.php", "page.php", "blog/index.php", "blog/page.php", "blog/LOUD.PHP", "blog/old.phtml"] {
            fs::write(root.join(script), SCRIPT).unwrap();
        }
        for script in ["blog/uploads/x.php", "blog/uploads/photos/y.phtml", "boats/z.php", "blog/inner/w.php"] {
            fs::write(root.join(script), SCRIPT).unwrap();
        }
        for file in
            ["blog/note.txt", "blog/uploads/boat.jpg", "app/static/logo.txt", "css/site.css", "blog/.secret.php"]
        {
            fs::write(root.join(file), format!("the file {file}")).unwrap();
        }
    }
    all
}

const PATHS: [&str; 66] = [
    "/",
    "/index.html",
    "/index.php",
    "/page.php",
    "/page.php/more/path?x=1",
    "/PAGE.PHP",
    "/page.php5",
    "/boats/",
    "/boats/z.php",
    "/missing",
    "/missing.php",
    "/missing/deeper?a=b",
    "/css/site.css",
    "/css/missing.css",
    "/css/",
    "/blog",
    "/blog?q=1",
    "/blog/",
    "/blog/?q=1",
    "/blog/index.php",
    "/blog/page.php",
    "/blog/page.php?a=b%20c&d",
    "/blog/page.php/",
    "/blog/page.php/info/a%20b",
    "/blog/page.php/info.php",
    "/blog/page.php/../page.php",
    "/blog/page%2ephp",
    "/blog/p%61ge.php",
    "/blog//page.php",
    "/blog/missing.php",
    "/blog/missing.php/x",
    "/blog/LOUD.PHP",
    "/blog/loud.php",
    "/blog/old.phtml",
    "/blog/note.txt",
    "/blog/note.txt/x.php",
    "/blog/missing",
    "/blog/inner/",
    "/blog/inner/w.php",
    "/blog/uploads/x.php",
    "/blog/uploads/x.php/more",
    "/blog/uploads/X.php",
    "/blog/uploads/boat.jpg",
    "/blog/uploads/boat.jpg/x.php",
    "/blog/uploads/photos/y.phtml",
    "/blog/.secret.php",
    "/blog/%2esecret.php",
    "/blogs",
    "/api",
    "/api/",
    "/api/boats?x=1&y=%20",
    "/api/a%20b/c%2Bd",
    "/api/100%25",
    "/api/x;y=z,1",
    "/api/broken",
    "/api/.hidden",
    "/api/old/berth?x",
    "/apis",
    "/app/",
    "/app/x?y",
    "/app/static/logo.txt",
    "/app/static/page.php",
    "/app/static",
    "/app/moved/x",
    "/down/x",
    "/.well-known/acme-challenge/token",
];

/// nginx and Apache httpd with the same sites, a real PHP-FPM, and the program.
struct Both {
    world: World,
    sites: Vec<Site>,
    at: [IpAddr; 2],
    _running: [Server; 3],
    _folder: tempfile::TempDir,
}

fn both() -> Both {
    let folder = open_folder();
    let harbor = folder.path().join("harbor");
    for part in ["servers/plain", "servers/nginx", "servers/apache", "proofs"] {
        fs::create_dir_all(harbor.join(part)).unwrap();
    }
    fs::write(harbor.join("proofs/token"), "the proof").unwrap();
    let (fpm, php) = start_php(folder.path());
    let (address, socket) = start_program(folder.path());
    let world = World::start(folder.path()).unwrap();
    let (layout, sites) = (Layout::new(&harbor), sites(folder.path(), &php, address, &socket));
    let mut settings: Settings = toml::from_str(&world.settings()).unwrap();
    let places = [(WebServer::Nginx, world.cast.spare(30)), (WebServer::Apache, world.cast.spare(31))];
    for (server, at) in places {
        settings.web.server = server;
        settings.web.listen = vec![at];
        for site in &sites {
            fs::write(layout.site_file(server, site.main()), site_file(site, &settings, &layout).unwrap()).unwrap();
        }
    }
    let nginx = Web::nginx(folder.path(), &harbor.join("servers/nginx"));
    let apache = Web::apache_at(&world.cast, places[1].1, folder.path(), &harbor.join("servers/apache"));
    let _running = [fpm, nginx.start(&world.cast), apache.start_at(places[1].1, &world.cast)];
    await_listener((places[0].1, world.cast.http_port).into());
    Both { at: places.map(|(_, at)| at), world, sites, _running, _folder: folder }
}

/// What comes back to a request as it is written here.
fn raw(at: IpAddr, port: u16, request: &str) -> String {
    let mut stream = TcpStream::connect((at, port)).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
    stream.write_all(request.as_bytes()).unwrap();
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    answer
}

#[test]
fn what_a_visitor_makes_up_reaches_no_program_and_bodies_have_an_end() {
    let both = both();
    let port = both.world.cast.http_port;
    for at in both.at {
        let made_up = "Proxy: http://203.0.113.9/\r\nForwarded: for=203.0.113.9\r\nX-Forwarded-For: 203.0.113.9\r\n\
                       X-Forwarded-Proto: https\r\nX-Forwarded-Host: quay.example";
        for path in ["/api/x", "/app/x", "/blog/page.php"] {
            let head = format!(
                "GET {path} HTTP/1.1\r\nHost: gullrock.example:{port}\r\nConnection: close\r\n{made_up}\r\n\r\n"
            );
            let answer = raw(at, port, &head);
            assert!(answer.starts_with("HTTP/1.1 200 "), "{answer}");
            assert!(!answer.contains("203.0.113.9") && !answer.contains("=quay.example"), "{at} {path}: {answer}");
            let told = path.contains("php") || answer.contains("X-Forwarded-Proto=http\n");
            assert!(told && answer.contains(&format!("=gullrock.example:{port}\n")), "{at} {path}: {answer}");
        }
        // The whole URL in the first line, as some clients have it.
        let whole =
            "GET http://gullrock.example/api/a%20b?c HTTP/1.1\r\nHost: gullrock.example\r\nConnection: close\r\n\r\n";
        let answer = raw(at, port, whole);
        assert!(answer.contains("program\nGET "), "{at}: {answer}");
        let other = whole.replace("Host: gullrock.example", "Host: quay.example");
        let answer = raw(at, port, &other);
        assert!(!answer.contains("=quay.example"), "{at}: {answer}");
        for (path, size, status) in [("/api/x", 1_000, 200), ("/api/x", 1_001, 413), ("/blog/page.php", 1_001, 413)] {
            let head = format!(
                "POST {path} HTTP/1.1\r\nHost: gullrock.example\r\nConnection: close\r\nContent-Length: {size}"
            );
            let answer = raw(at, port, &format!("{head}\r\n\r\n{}", "x".repeat(size)));
            assert!(answer.starts_with(&format!("HTTP/1.1 {status} ")), "{at} {path} {size}: {answer}");
        }
        // nginx counts what comes in pieces, and Apache httpd takes none.
        let pieces = format!(
            "POST /api/x HTTP/1.1\r\nHost: gullrock.example\r\nConnection: close\r\nTransfer-Encoding: chunked\r\n\r\n7d0\r\n{}\r\n0\r\n\r\n",
            "x".repeat(2_000)
        );
        let answer = raw(at, port, &pieces);
        assert!(answer.starts_with("HTTP/1.1 413 ") || answer.starts_with("HTTP/1.1 411 "), "{at}: {answer}");
    }
}

#[test]
fn a_websocket_goes_through_both_servers_to_an_address_and_to_a_socket() {
    let both = both();
    for at in both.at {
        for path in ["/api/live", "/app/live"] {
            let mut stream = TcpStream::connect((at, both.world.cast.http_port)).unwrap();
            stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
            let ask = format!(
                "GET {path} HTTP/1.1\r\nHost: gullrock.example\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\
                 Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n"
            );
            stream.write_all(ask.as_bytes()).unwrap();
            let mut head = Vec::new();
            let mut byte = [0];
            while !head.ends_with(b"\r\n\r\n") {
                assert_eq!(stream.read(&mut byte).unwrap(), 1, "{at} {path}: {}", String::from_utf8_lossy(&head));
                head.push(byte[0]);
            }
            let head = String::from_utf8_lossy(&head).into_owned();
            assert!(head.starts_with("HTTP/1.1 101 "), "{at} {path}: {head}");
            for word in ["high", "water"] {
                stream.write_all(word.as_bytes()).unwrap();
                let mut back = vec![0; word.len()];
                stream.read_exact(&mut back).unwrap();
                assert_eq!(back, word.as_bytes(), "{at} {path}");
            }
        }
    }
}

#[test]
fn both_servers_and_the_model_agree_about_parts_and_programs_see_the_same() {
    let Both { world, sites, at, .. } = &both();
    let ports = Ports { http: world.cast.http_port, https: world.cast.https_port };
    let (mut asked, mut differences) = (0, Vec::new());
    for site in sites {
        for host in &site.hostnames {
            for (scheme, port) in [("http", ports.http), ("https", ports.https)] {
                if scheme == "https" && site.certificate.is_none() {
                    continue;
                }
                for path in PATHS {
                    for method in ["GET", "HEAD", "POST"] {
                        let url: url::Url = format!("{scheme}://{host}:{port}{path}").parse().unwrap();
                        let got = |at: IpAddr| block_on(webs::ask(at, site, method, &url));
                        let [one, other] = at.map(got);
                        asked += 1;
                        let named = format!("{method} {url}");
                        // A list of files looks as the server likes it.
                        let listed =
                            site.rules.content.listing && url.path().ends_with('/') && one.body.contains("Index of");
                        if one != other && !(listed && one.status == other.status) {
                            differences.push(format!("{named}\n  nginx  {one:?}\n  apache {other:?}"));
                        }
                        if one.body.contains("<?php") || other.body.contains("<?php") {
                            differences.push(format!("{named} shows the text of a script"));
                        }
                        differences.extend(against_model(site, &url, ports, &one, &named));
                    }
                }
            }
        }
    }
    assert!(differences.is_empty(), "{} of {asked} differ:\n{}", differences.len(), differences.join("\n"));
    assert!(asked >= 1_000, "{asked}");
}

/// What the model says that the server did not do.
fn against_model(site: &Site, url: &url::Url, ports: Ports, got: &webs::Got, named: &str) -> Option<String> {
    let differs = |model: &str| Some(format!("{named}\n  model {model}\n  nginx {got:?}"));
    let sent_on = got.location.clone().map(|location| (got.status, location));
    match answer(site, url, ports) {
        Answer::Redirect { status, location, .. } if sent_on != Some((status, location.to_string())) => {
            differs(&format!("{status} {location}"))
        }
        Answer::Content(_) if sent_on.is_some() => {
            // A folder without its slash is the server's own affair.
            let mut folder = url.clone();
            folder.set_path(&format!("{}/", url.path()));
            (sent_on != Some((301, folder.to_string()))).then(|| differs("no redirect"))?
        }
        // Whoever answers with 200 is the part that the model names; a program answers whatever it is asked.
        Answer::Content(Some(part)) if !named.starts_with("HEAD") => match part.by {
            Answering::Program(_) if part.path == "/down" => (got.body != UNANSWERED).then(|| differs("unanswered"))?,
            Answering::Program(_) if got.status == 503 && got.body == "the program's own trouble" => None,
            Answering::Program(_) if !got.body.starts_with("program\n") => differs("the program"),
            Answering::Files if got.body.starts_with("php\n") || got.body.starts_with("program\n") => differs("files"),
            Answering::PhpAt(_) if got.body.starts_with("program\n") => differs("php"),
            _ => None,
        },
        _ => None,
    }
}
