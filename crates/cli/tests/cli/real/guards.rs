//! Paths that not everybody may see, on real servers: by password, by network, by both, whatever answers behind them.

use std::fs;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

use super::php_pools::{Fpm, page, page_with, with_two_accounts};
use super::voyage::Port;

const SITE: &str = "crumbandtide.example";

/// A program that answers everything, and how often it was asked.
fn program() -> (SocketAddr, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let heard = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&heard);
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            counted.fetch_add(1, Ordering::SeqCst);
            let _ = stream.read(&mut [0; 4096]);
            let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 10\r\nConnection: close\r\n\r\nhigh water");
        }
    });
    (address, heard)
}

fn are_closed(kind: &str) {
    let port = Port::new(kind);
    let fpm = Fpm::start(&port.path("."));
    with_two_accounts(&port, &fpm);
    let root = port.path("homes/bakery/www/crumbandtide.example");
    fs::create_dir(root.join("admin")).unwrap();
    fs::write(root.join("admin/index.php"), "<?php echo 'office of ', $_SERVER['REMOTE_USER'] ?? 'nobody';").unwrap();
    fs::write(root.join("admin/list.txt"), "the list").unwrap();
    let password = port.path("password");
    fs::write(&password, "the tide is high").unwrap();
    let file = password.to_str().unwrap();
    let protect = |more: &[&str]| port.json(&[&["site", "protect", SITE], more].concat(), 0);
    port.json(&["site", "change", SITE, "--front-script", "on"], 0);
    assert_eq!(page(&port, SITE, "/admin/list.txt", vec![]).0, 200);
    protect(&["--path", "/admin", "--user", "anna", "--password-file", file]);

    let as_user = |path: &str, who: &str| {
        let header = format!("Basic {}", STANDARD.encode(who));
        page_with(&port, SITE, path, vec![], &[("authorization", &header)])
    };
    let paths = [
        "/admin/",
        "/admin/index.php",
        "/admin/index.php/x",
        "/admin/list.txt",
        "/admin//list.txt",
        "/x/../admin/list.txt",
        "/%61dmin/list.txt",
        "/admin/nowhere",
        "/admin/%2e/list.txt",
        "//admin/list.txt",
    ];
    for path in paths {
        let (status, text) = page(&port, SITE, path, vec![]);
        assert_eq!(status, 401, "{kind} {path}: {text}");
        assert_eq!(text, "This page is for those who have a name and a password here.", "{kind} {path}");
        assert_eq!(as_user(path, "anna:wrong").0, 401, "{kind} {path}");
        assert_eq!(as_user(path, "anna:the tide is high").0, 200, "{kind} {path}");
    }
    // The front script answers for what is nowhere; beside the path nothing is asked for.
    assert!(as_user("/admin/nowhere", "anna:the tide is high").1.starts_with("user games"));
    assert_eq!((page(&port, SITE, "/administration", vec![]).0, page(&port, SITE, "/", vec![]).0), (200, 200));
    assert_eq!(page(&port, SITE, "/.well-known/acme-challenge/none", vec![]).0, 404, "proofs are for everybody");

    // A single file is as good as a folder, and a folder beside it that begins alike is none of it.
    let alone = ["--path", "/note.html", "--user", "anna", "--password-file", file];
    protect(&alone);
    protect(&["--path", "/index.php", "--user", "anna", "--password-file", file]);
    for path in ["/note.html", "/index.php", "/index.php/x"] {
        assert_eq!(page(&port, SITE, path, vec![]).0, 401, "{kind} {path}");
        assert_eq!(as_user(path, "anna:the tide is high").0, 200, "{kind} {path}");
    }
    assert!(as_user("/index.php", "anna:the tide is high").1.starts_with("user games"));
    assert_eq!(page(&port, SITE, "/admin", vec![]).0, 401, "{kind}");
    assert_eq!(as_user("/admin", "anna:the tide is high").0, 301, "{kind}");
    protect(&["--path", "/note.html", "--off"]);
    protect(&["--path", "/index.php", "--off"]);

    // Another password counts at once, and one that is taken away no more.
    fs::write(&password, "the tide is low").unwrap();
    protect(&["--path", "/admin", "--user", "anna", "--password-file", file]);
    assert_eq!(as_user("/admin/list.txt", "anna:the tide is high").0, 401);
    assert_eq!(as_user("/admin/list.txt", "anna:the tide is low").0, 200);

    // From elsewhere not even with the password; and the longest path counts.
    protect(&["--path", "/admin", "--from", "192.0.2.0/24"]);
    assert_eq!(as_user("/admin/list.txt", "anna:the tide is low").0, 403);
    protect(&["--path", "/admin", "--from", "127.0.0.0/8,::1,192.0.2.0/24,fd5a::/16"]);
    assert_eq!(as_user("/admin/list.txt", "anna:the tide is low").0, 200);
    protect(&["--from", "192.0.2.7"]);
    assert_eq!(page(&port, SITE, "/note.html", vec![]).0, 403);
    assert_eq!(as_user("/admin/list.txt", "anna:the tide is low").0, 200);
    assert_eq!(port.json(&["survey", SITE], 0)["surveys"][0]["links"][5]["code"], "guarded");

    // A program is no exception: it hears of nobody who is not let in.
    let (address, heard) = program();
    port.json(&["site", "change", SITE, "--serve", &format!("/tides=http://{address}")], 0);
    protect(&["--path", "/tides", "--user", "ben", "--password-file", file]);
    for path in ["/tides", "/tides/", "/tides/today", "/%74ides/today"] {
        assert_eq!(page(&port, SITE, path, vec![]).0, 401, "{kind} {path}");
    }
    assert_eq!(heard.load(Ordering::SeqCst), 0);
    assert_eq!(as_user("/tides/today", "ben:the tide is low"), (200, "high water".into()));

    // Customers' programs do not read the hashes.
    let folder = port.path("harbor/passwords");
    let read = format!("/?list={}", folder.display());
    assert!(page(&port, "lanternchoir.example", &read, vec![]).1.contains("list .\n"));
    protect(&["--off"]);
    protect(&["--path", "/admin", "--off"]);
    assert_eq!(page(&port, SITE, "/admin/list.txt", vec![]).0, 200);
}

#[test]
fn by_nginx() {
    are_closed("nginx");
}

#[test]
fn by_apache() {
    are_closed("apache");
}
