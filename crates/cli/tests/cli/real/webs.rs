//! nginx, Apache httpd, the stand-in web server and the model itself give the same answers to a matrix of requests.

use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::path::Path;

use brightharbor_core::account::AccountName;
use brightharbor_core::certificate::{CertificateFiles, Demand, DemandedProof};
use brightharbor_core::harbor::{Layout, Settings, WebServer};
use brightharbor_core::name::Host;
use brightharbor_core::redirect::{Answer, Ports, Redirect, Source, Target, answer};
use brightharbor_core::render::{fingerprint, site_file};
use brightharbor_core::site::{
    Cached, Content, ContentWish, Guard, HttpsState, HttpsStates, Network, Site, SiteKind, SiteRules, WwwPolicy,
    check_user, parse_names, parse_part, parse_path,
};
use brightharbor_io::http::Connection;
use brightharbor_io::server::reload_web;
use brightharbor_io::trust;
use brightharbor_standins::World;
use rcgen::{CertificateParams, KeyPair};

use super::quay::block_on;
use super::servers::{Server, Web, open_folder};

fn redirect(source: &str, prefix: bool, status: u16, target: &str, keep_path: bool, with_twin: bool) -> Redirect {
    Redirect {
        source: Source::parse(source, prefix).unwrap(),
        target: Target::parse(target, keep_path).unwrap(),
        status,
        keep_path,
        with_twin,
        until: None,
    }
}

pub(super) fn site(folder: &Path, domain: &str, https: HttpsState, rules: SiteRules) -> Site {
    let main = Host::parse(domain).unwrap();
    let hostnames: Vec<Host> = std::iter::once(main.clone()).chain(main.with_www()).collect();
    // As the tool names it: Apache httpd would take brackets for a pattern.
    let document_root = folder.join("roots").join(domain.replace(['[', ']', ':'], "-"));
    fs::create_dir_all(document_root.join("boats")).unwrap();
    fs::create_dir_all(document_root.join("empty")).unwrap();
    fs::write(document_root.join("index.html"), format!("front of {domain}")).unwrap();
    fs::write(document_root.join("boats/index.html"), format!("boats of {domain}")).unwrap();
    fs::write(document_root.join("a b.txt"), "with a blank").unwrap();
    hidden_and_foreign(&document_root);
    let certificate = (https != HttpsState::None).then(|| {
        let files = CertificateFiles { folder: folder.join("certificates").join(domain) };
        fs::create_dir_all(files.folder()).unwrap();
        let key = KeyPair::generate().unwrap();
        let names: Vec<String> = hostnames.iter().map(|name| name.to_string()).collect();
        let leaf = CertificateParams::new(names).unwrap().self_signed(&key).unwrap();
        fs::write(files.chain(), leaf.pem()).unwrap();
        fs::write(files.key(), key.serialize_pem()).unwrap();
        files
    });
    let account = AccountName::parse("boatyard").unwrap();
    let https = HttpsStates::all(&hostnames, https);
    Site { account, hostnames, document_root, kind: SiteKind::AddonDomain, https, certificate, rules }
}

/// What a root may hold and no visitor gets: files that begin with a dot, and links to what others own. And what looks like
/// it, and is served.
fn hidden_and_foreign(root: &Path) {
    for folder in [".git", ".well-known", "boats/.hidden"] {
        fs::create_dir_all(root.join(folder)).unwrap();
    }
    for file in
        [".env", ".git/config", ".well-known/note.txt", ".well-known/.env", "boats/.htpasswd", "boats/.hidden/x", "a.b"]
    {
        fs::write(root.join(file), "content of a file").unwrap();
    }
    let link = |target: &Path, name: &str| {
        let _ = fs::remove_file(root.join(name));
        std::os::unix::fs::symlink(target, root.join(name)).unwrap();
        // As a customer's: the tests may be run by root, who owns the targets.
        if brightharbor_io::install::is_root() && name.starts_with("foreign") {
            std::os::unix::fs::lchown(root.join(name), Some(1), Some(1)).unwrap();
        }
    };
    link(Path::new("/etc/passwd"), "foreign.txt");
    link(Path::new("/etc"), "foreign");
    link(Path::new("index.html"), "own.html");
    link(&root.join("boats"), "own");
}

/// Each with another mixture of policies and redirects.
fn sites(folder: &Path) -> Vec<Site> {
    let quay = |source: &str, prefix, status, target: &str, keep| redirect(source, prefix, status, target, keep, true);
    let mixed = SiteRules {
        www: WwwPolicy::ToBare,
        redirects: vec![
            quay("gullrock.example/old", false, 301, "https://quay.example/new?from=old#top", false),
            quay("gullrock.example/docs", true, 302, "https://quay.example/d/", true),
            quay("gullrock.example/docs/inner", true, 302, "https://quay.example/deeper", true),
            quay("gullrock.example/p", true, 307, "/boats/", false),
            quay("gullrock.example/sp ace", false, 308, "/a%20b.txt", true),
            quay("gullrock.example/dollar", false, 302, "https://quay.example/$1%20{x};y'z", false),
        ],
        ..SiteRules::default()
    };
    let forced = SiteRules { www: WwwPolicy::ToWww, hsts: Some(86_400), ..SiteRules::default() };
    let whole = SiteRules {
        redirects: vec![
            redirect("www.lanternchoir.example", false, 302, "https://crumbandtide.example/choir", true, false),
            redirect("lanternchoir.example/keep", true, 301, "/boats", true, false),
            // The root page alone: everything else is content.
            redirect("lanternchoir.example/", false, 302, "/boats/", false, false),
        ],
        ..SiteRules::default()
    };
    let of_address = |address: &str| SiteRules {
        redirects: vec![quay(&format!("{address}/old"), false, 302, "/boats/", false)],
        ..SiteRules::default()
    };
    // What a seller of certificates wants to see, at paths that are redirected, sent to https, or both.
    let demanding = |rules: SiteRules, path: &str| {
        let proof = DemandedProof::file(path, format!("for {path}").as_bytes()).unwrap();
        SiteRules { demands: vec![Demand { until: jiff::Timestamp::MAX, proof }], ..rules }
    };
    let (mixed, forced) = (demanding(mixed, "/old"), demanding(forced, "/missing"));
    let whole = demanding(whole, "/keep/8F2C.html");
    vec![
        site(folder, "gullrock.example", HttpsState::Offered, mixed),
        site(folder, "crumbandtide.example", HttpsState::Forced, forced),
        site(folder, "lanternchoir.example", HttpsState::None, whole),
        site(folder, "saltmarsh.example", HttpsState::Forced, SiteRules::default()),
        site(folder, "192.0.2.10", HttpsState::None, of_address("192.0.2.10")),
        site(folder, "[2001:db8::10]", HttpsState::None, of_address("[2001:db8::10]")),
    ]
}

const PATHS: [&str; 38] = [
    "/",
    "/index.html",
    "/missing",
    "/boats/",
    "/boats",
    "/boats?a=b",
    "/empty/",
    "/a%20b.txt",
    "/old",
    "/old/",
    "/old?x=1",
    "/older",
    "/docs",
    "/docs/",
    "/docs/a%20b/c?d=e%20f",
    "/docs?q",
    "/docs/inner/x",
    "/p/x?y",
    "/sp%20ace?q=1",
    "/dollar",
    "/keep/x%20y?z",
    "/keep/8F2C.html",
    "/.well-known/acme-challenge/token",
    "/.well-known/bright-harbor",
    "/.env",
    "/%2eenv",
    "//.env",
    "/.git/config",
    "/.git",
    "/.well-known/note.txt",
    "/.well-known/.env",
    "/boats/.htpasswd",
    "/boats/.hidden/x",
    "/a.b",
    "/foreign.txt",
    "/foreign/passwd",
    "/own.html",
    "/own/",
];

/// What is compared: the status, where it leads, whether browsers are bound to https, and what is read.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Got {
    pub status: u16,
    pub location: Option<String>,
    hsts: Option<String>,
    pub body: String,
}

/// Asks one server.
pub(super) async fn ask(address: IpAddr, site: &Site, method: &str, url: &url::Url) -> Got {
    let host = url.host_str().unwrap();
    let port = url.port().unwrap();
    let tls = (url.scheme() == "https").then(|| {
        let files = site.certificate.as_ref().expect("asked over https only with a certificate");
        trust::client(trust::roots(&[files.chain()]).unwrap())
    });
    let authority = format!("{host}:{port}");
    let at = SocketAddr::new(address, port);
    let mut connection = Connection::open(at, host, &authority, tls).await.unwrap();
    let path = url.query().map_or(url.path().to_string(), |query| format!("{}?{query}", url.path()));
    let answer = connection.send(method, &path, &[], vec![], 100_000).await.unwrap();
    Got {
        status: answer.status,
        location: answer.header("location"),
        hsts: answer.header("strict-transport-security"),
        body: String::from_utf8_lossy(&answer.body).into_owned(),
    }
}

#[test]
fn three_servers_and_the_model_answer_alike() {
    let folder = open_folder();
    let harbor = folder.path().join("harbor");
    for part in ["servers/plain", "servers/nginx", "servers/apache", "proofs"] {
        fs::create_dir_all(harbor.join(part)).unwrap();
    }
    fs::write(harbor.join("proofs/token"), "the proof").unwrap();
    for site in sites(folder.path()) {
        for (_, content, name) in site.demanded_files() {
            fs::write(harbor.join("proofs").join(name), content).unwrap();
        }
    }
    let world = World::start(folder.path()).unwrap();
    let address = |last: u8| world.cast.spare(last);
    let (layout, sites) = (Layout::new(&harbor), sites(folder.path()));
    let mut settings: Settings = toml::from_str(&world.settings()).unwrap();
    let mut write = |server: WebServer, at: IpAddr| {
        settings.web.server = server;
        settings.web.listen = vec![at];
        for site in &sites {
            let text = site_file(site, &settings, &layout).unwrap();
            fs::write(layout.site_file(server, site.main()), text).unwrap();
        }
    };
    write(WebServer::Nginx, address(30));
    write(WebServer::Apache, address(31));
    write(WebServer::StandIn, world.cast.web());
    settings.web.server = WebServer::StandIn;
    tokio::runtime::Runtime::new().unwrap().block_on(reload_web(&settings)).unwrap();
    let nginx = Web::nginx(folder.path(), &harbor.join("servers/nginx"));
    let apache = Web::apache_at(&world.cast, address(31), folder.path(), &harbor.join("servers/apache"));
    let _running: [Server; 2] = [nginx.start(&world.cast), apache.start_at(address(31), &world.cast)];
    super::servers::await_listener((address(30), world.cast.http_port).into());

    let ports = Ports { http: world.cast.http_port, https: world.cast.https_port };
    let mut asked = 0;
    let mut differences = Vec::new();
    for site in &sites {
        for host in &site.hostnames {
            for (scheme, port) in [("http", ports.http), ("https", ports.https)] {
                if scheme == "https" && site.certificate.is_none() {
                    continue;
                }
                for path in PATHS {
                    for method in ["GET", "HEAD", "POST"] {
                        let url: url::Url = format!("{scheme}://{host}:{port}{path}").parse().unwrap();
                        let got = |at| block_on(ask(at, site, method, &url));
                        let all = [got(address(30)), got(address(31)), got(world.cast.web())];
                        asked += 1;
                        if all[0] != all[1] || all[1] != all[2] {
                            differences.push(format!(
                                "{method} {url}\n  nginx    {:?}\n  apache   {:?}\n  stand-in {:?}",
                                all[0], all[1], all[2]
                            ));
                        }
                        // Alike is not enough: what is hidden must not be read anywhere.
                        let hidden = path.contains(".env") || path.contains(".git") || path.contains("/.h");
                        if (hidden || path.starts_with("/foreign")) && all[0].status == 200 {
                            differences.push(format!("{method} {url} shows {}", all[0].body));
                        }
                        let model = match answer(site, &url, ports) {
                            Answer::Redirect { status, location, .. } => Some((status, location.to_string())),
                            Answer::Content(_) => None,
                            Answer::Elsewhere => panic!("{url} is attached"),
                        };
                        let sent_on = all[0].location.clone().map(|location| (all[0].status, location));
                        // A folder without its slash is the server's own affair.
                        if model != sent_on && !path.starts_with("/boats") {
                            differences.push(format!("{method} {url}\n  model {model:?}\n  nginx {sent_on:?}"));
                        }
                    }
                }
            }
        }
        assert_eq!(fingerprint(site).len(), 32);
    }
    assert!(differences.is_empty(), "{} differ:\n{}", differences.len(), differences.join("\n"));
    assert!(asked >= 600, "{asked}");
}

fn redirect_of(source: &str, prefix: bool) -> Redirect {
    redirect(source, prefix, 302, "https://quay.example/", false, true)
}

type TypedContent = (Vec<(String, String)>, String, String, (Vec<String>, Vec<(String, String)>), [bool; 5], u8);

/// What is accepted of what was typed.
fn content_of((parts, names, page, (folders, guards), switches, number): TypedContent) -> Content {
    let path = |typed: &String| parse_path(typed).ok();
    let guard = |(typed, user): &(String, String)| {
        let users: Vec<String> = check_user(user).is_ok().then(|| user.clone()).into_iter().collect();
        let networks = [format!("192.0.2.{number}"), format!("2001:db8::/{number}"), user.clone()];
        let from: Vec<Network> = networks.iter().filter_map(|typed| Network::parse(typed).ok()).collect();
        Some(Guard { path: parse_path(typed).ok()?, users, from })
    };
    let mut guards: Vec<Guard> = guards.iter().filter_map(guard).collect();
    guards.sort_by(|one, other| one.path.cmp(&other.path));
    guards.dedup_by(|one, other| one.path == other.path);
    let [listing, front, single, missing, cached] = switches;
    let names = parse_names(&names).ok();
    let wish = ContentWish {
        parts: parts.iter().filter_map(|(path, what)| parse_part(&format!("{path}={what}")).ok()).collect(),
        index: names.clone(),
        listing: Some(listing),
        single_page: Some(path(&page).filter(|_| single)),
        missing_page: Some(path(&page).filter(|_| missing)),
        cache: names.filter(|_| cached).map(|endings| vec![Cached { endings, seconds: 60 }]),
        front: Some(front),
        no_scripts: Some(folders.iter().filter_map(path).collect()),
        htaccess: None,
        body_limit: Some(Some(u64::from(number) + 1)),
        time_limit: Some(Some(u32::from(number) + 1)),
    };
    Content { guards, ..wish.applied_to(&Content::default()) }
}

/// Whatever is accepted as source, target, folder and policy: the files of hundreds of such sites pass the servers'
/// own config tests.
#[test]
fn any_accepted_site_is_accepted_by_the_servers_own_tests() {
    use proptest::prelude::*;
    use proptest::strategy::ValueTree;
    use proptest::test_runner::TestRunner;

    let folder = open_folder();
    let harbor = folder.path().join("harbor");
    for part in ["servers/nginx", "servers/apache", "proofs"] {
        fs::create_dir_all(harbor.join(part)).unwrap();
    }
    let world = World::start_around(folder.path()).unwrap();
    let layout = Layout::new(&harbor);
    let mut settings = Settings::default();
    settings.internet.http_port = Some(world.cast.http_port);
    settings.internet.https_port = Some(world.cast.https_port);
    // Much of what is typed here is hostile: quotes, braces, variables, newlines, escapes.
    let piece = || proptest::string::string_regex("[a-z0-9 ./%$;{}\"'\\\\\\n\\r\\t#?&=+*()|^~@:!,_-]{0,24}").unwrap();
    let mild = || proptest::string::string_regex("[a-zé0-9 ._+*:~@!&=,'-]{1,12}(/[a-z0-9._+-]{1,5})?").unwrap();
    let path = prop_oneof![mild(), piece()];
    let redirect = (path, piece(), any::<bool>(), any::<bool>(), 0..4_usize, 0..3_usize);
    let strategy = (prop::collection::vec(redirect, 0..6), piece(), 0..4_usize, any::<bool>(), any::<Option<u32>>());
    // Few paths, so that parts, guards, redirects and folders meet at the same ones.
    let place = || prop_oneof!["(/[ab]){1,2}", "/[ab][.]x/?", "/[a-z0-9._~-]{1,5}", Just("/".to_string()), piece()];
    let what = prop_oneof![
        Just("files".to_string()),
        Just("php:8.2".to_string()),
        Just("php:unix:/run/a b.sock".to_string()),
        Just("http://127.0.0.1:3000".to_string()),
        Just("unix:/run/app-1.sock".to_string()),
        "(php|http|unix):[a-z0-9/.:;{}$]{1,12}",
    ];
    let names = prop_oneof!["[a-z.]{1,6}(,[a-z]{1,3})?", piece()];
    let parts = prop::collection::vec((place(), what), 0..4);
    let lists = (prop::collection::vec(place(), 0..3), prop::collection::vec((place(), names.clone()), 0..3));
    let content = (parts, names, place(), lists, any::<[bool; 5]>(), any::<u8>());
    let mut runner = TestRunner::deterministic();
    let (mut accepted, mut refused, mut demanded, mut parted) = (0, 0, 0, 0);
    for number in 0..300 {
        let (typed, root, www, tls13, hsts) = strategy.new_tree(&mut runner).unwrap().current();
        let domain = format!("berth{number}.example");
        let content = content_of(content.new_tree(&mut runner).unwrap().current());
        parted += content.parts.len().min(1);
        let mut redirects: Vec<Redirect> = Vec::new();
        let mut demands: Vec<Demand> = Vec::new();
        for (path, target, prefix, keep_path, status, sides) in typed {
            let demanded = DemandedProof::file(&format!("/{path}"), b"x").ok();
            let proof = demanded.filter(|proof| !demands.iter().any(|other| other.proof.displaces(proof)));
            demands.extend(proof.map(|proof| Demand { until: jiff::Timestamp::MAX, proof }));
            let target = if sides == 0 { format!("/{target}") } else { format!("https://quay.example/{target}") };
            let source = Source::parse(&format!("{domain}/{path}"), prefix);
            let (Ok(source), Ok(target)) = (source, Target::parse(&target, keep_path)) else {
                refused += 1;
                continue;
            };
            if redirects.iter().any(|other| other.source.path == source.path) {
                continue;
            }
            accepted += 1;
            let (with_twin, on_twin) = ([true, false, false][sides], sides == 1);
            let host = if on_twin { source.host.with_www().unwrap() } else { source.host.clone() };
            let source = Source { host, ..source };
            let status = [301, 302, 307, 308][status];
            redirects.push(Redirect { source, target, status, keep_path, with_twin, until: None });
        }
        for (path, prefix) in [("/a", true), ("/b/a", false)].into_iter().filter(|_| number % 3 == 0) {
            if !redirects.iter().any(|other| other.source.path == path) {
                redirects.push(redirect_of(&format!("{domain}{path}"), prefix));
            }
        }
        let document_root = std::path::PathBuf::from(format!("/home/berth/{root}"));
        let document_root = match brightharbor_core::harbor::check_path(&document_root) {
            Ok(()) => document_root,
            Err(_) => "/home/berth/plain".into(),
        };
        let policies = [WwwPolicy::Also, WwwPolicy::ToBare, WwwPolicy::ToWww, WwwPolicy::None];
        demanded += demands.len();
        let rules = SiteRules {
            www: policies[www],
            hsts,
            redirects,
            demands,
            content: Box::new(content),
            ..SiteRules::default()
        };
        let https = if tls13 { HttpsState::Forced } else { HttpsState::Offered };
        let mut site = site(folder.path(), &domain, if number < 20 { https } else { HttpsState::None }, rules);
        site.document_root = document_root;
        for server in [WebServer::Nginx, WebServer::Apache] {
            settings.web.server = server;
            settings.web.listen = vec![world.cast.web()];
            let text = site_file(&site, &settings, &layout).unwrap();
            fs::write(layout.site_file(server, site.main()), text).unwrap();
        }
    }
    assert!(accepted > 100 && refused > 100, "{accepted} accepted, {refused} refused");
    assert!(demanded > 20 && parted > 100, "{demanded} {parted}");
    let nginx = Web::nginx(folder.path(), &harbor.join("servers/nginx"));
    let apache = Web::apache(&world.cast, folder.path(), &harbor.join("servers/apache"));
    for web in [nginx, apache] {
        let output = std::process::Command::new(&web.test[0]).args(&web.test[1..]).output().unwrap();
        assert!(output.status.success(), "{}: {}", web.name, String::from_utf8_lossy(&output.stderr));
    }
}
