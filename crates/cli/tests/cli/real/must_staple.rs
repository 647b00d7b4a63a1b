//! Certificates that demand their CA's statement in each handshake (RFC 7633): the stand-in CA issues them, OpenSSL answers
//! as its responder, nginx and Apache httpd show them. The test CA of the `pebble` package leaves the demand out.

use std::fs;
use std::io::Write;
use std::net::{IpAddr, SocketAddr, TcpListener};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use serde_json::Value;

use super::authority::read_request;
use super::servers::{Server, Web, need};
use crate::coast::Coast;

const SITE: &str = "crumbandtide.example";

/// Answers for the issuer of a CA that is started after it.
struct Responder {
    address: SocketAddr,
    /// For how long its answers count, as OpenSSL's option says it; nothing, and it is out of order.
    term: Arc<Mutex<&'static str>>,
    folder: Arc<Mutex<PathBuf>>,
}

impl Responder {
    fn start() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let responder = Self { address: listener.local_addr().unwrap(), term: Arc::default(), folder: Arc::default() };
        let (term, folder) = (Arc::clone(&responder.term), Arc::clone(&responder.folder));
        std::thread::spawn(move || {
            for mut stream in listener.incoming().flatten() {
                let (term, folder) = (*term.lock().unwrap(), folder.lock().unwrap().clone());
                let question = read_request(&mut stream).filter(|_| !term.is_empty());
                let body = question.map(|question| answer(&folder, &question, term)).unwrap_or_default();
                let status = if body.is_empty() { "503 Out Of Order" } else { "200 OK" };
                let head = format!(
                    "HTTP/1.1 {status}\r\ncontent-type: application/ocsp-response\r\ncontent-length: {}\r\nconnection: \
                     close\r\n\r\n",
                    body.len()
                );
                let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(&body));
            }
        });
        responder
    }

    /// Answers from now on, so long.
    fn answers(&self, term: &'static str) {
        *self.term.lock().unwrap() = term;
    }
}

/// That the certificate which is asked about is good, whichever it is.
fn answer(folder: &Path, question: &[u8], term: &str) -> Vec<u8> {
    let openssl = |words: &str| {
        let run = Command::new(need("openssl", "openssl")).args(words.split(' ')).current_dir(folder).output().unwrap();
        assert!(run.status.success(), "{words}: {}", String::from_utf8_lossy(&run.stderr));
        String::from_utf8_lossy(&run.stdout).into_owned()
    };
    fs::write(folder.join("question"), question).unwrap();
    let read = openssl("ocsp -reqin question -req_text");
    let serial = read.split("Serial Number: ").nth(1).unwrap().lines().next().unwrap();
    fs::write(folder.join("index"), format!("V\t400101000000Z\t\t{serial}\tunknown\t/CN=any\n")).unwrap();
    openssl(&format!(
        "ocsp -index index -CA issuer.pem -rsigner issuer.pem -rkey issuer.key {term} -reqin question -respout answer"
    ));
    fs::read(folder.join("answer")).unwrap()
}

/// A harbor with a real web server and a site that is served.
struct Shore {
    coast: Coast,
    at: IpAddr,
    _web: Server,
}

impl Shore {
    fn new(kind: &str, responder: &Responder) -> Self {
        let coast = Coast::empty();
        fs::set_permissions(coast.folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let (cast, at) = (&coast.world.cast, coast.world.cast.spare(77));
        let files = coast.harbor().join("servers").join(kind);
        let web = match kind {
            "nginx" => Web::nginx(coast.folder.path(), &files),
            _ => Web::apache_at(cast, at, coast.folder.path(), &files),
        };
        let settings = coast.world.settings();
        let (before, rest) = settings.split_once("[web]\n").unwrap();
        let (_, rest) = rest.split_once("\n\n").unwrap();
        let before = before.replace(&format!("addresses = [\"{}\"]", cast.web()), &format!("addresses = [\"{at}\"]"));
        let table = format!(
            "[web]\nserver = \"{kind}\"\nlisten = [\"{at}\"]\ntest = {:?}\nreload = {:?}\nmain-file = {:?}\n\n",
            web.test, web.reload, web.main_file
        );
        fs::write(coast.path("settings.toml"), format!("{before}{table}{rest}")).unwrap();
        if kind == "apache" {
            let text = fs::read_to_string(&web.main_file).unwrap();
            fs::write(
                &web.main_file,
                text.replace("SSLSessionCache none", "SSLSessionCache none\n#SSLStaplingCache shmcb:staples(1048576)"),
            )
            .unwrap();
        }
        let started = Server::spawn(&mut Command::new("true"));
        let shore = Self { coast, at, _web: started };
        shore.coast.run(&["init", "--settings", shore.coast.path("settings.toml").to_str().unwrap()]).expect(0);
        let shore = Self { _web: web.start_at(at, &shore.coast.world.cast), ..shore };
        let folder = shore.coast.path("issuer");
        fs::create_dir(&folder).unwrap();
        let (issuer, key) = shore.coast.world.appoint_responder(&format!("http://{}/ask", responder.address));
        fs::write(folder.join("issuer.pem"), issuer).unwrap();
        fs::write(folder.join("issuer.key"), key).unwrap();
        *responder.folder.lock().unwrap() = folder;
        shore.coast.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
        shore.coast.delegate_here(SITE);
        shore.coast.run(&["attach", SITE, "--account", "bakery"]).expect(0);
        shore
    }

    /// Debian's configuration has the line as a comment: httpd would end at the reload.
    fn needs_a_place(&self) {
        let issue = ["certificate", "issue", SITE, "--stapled"];
        let orders = self.coast.world.orders();
        let refused = self.json(&issue, 4);
        assert_eq!(refused["error"]["code"], "cannot-staple", "{refused}");
        assert!(refused["error"]["message"].as_str().unwrap().contains("has no SSLStaplingCache"), "{refused}");
        assert_eq!(self.coast.world.orders(), orders);
        let main = self.coast.path("apache/apache.conf");
        let text = fs::read_to_string(&main).unwrap();
        fs::write(&main, text.replace("#SSLStaplingCache", "SSLStaplingCache")).unwrap();
    }

    /// Has events written into this file.
    fn listen(&self, heard: &Path) {
        let toml = self.coast.harbor().join("harbor.toml");
        let text = fs::read_to_string(&toml).unwrap();
        let command = ["/bin/sh", "-c", &format!("cat >> {}", heard.display())];
        fs::write(&toml, format!("{text}\n[notify]\ncommand = {command:?}\n")).unwrap();
    }

    fn json(&self, arguments: &[&str], exit: i32) -> Value {
        self.coast.json(arguments, exit)
    }
}

/// What a visitor who asks for it is shown, in OpenSSL's words.
fn shown(shore: &Shore) -> String {
    let cast = &shore.coast.world.cast;
    let output = Command::new(need("openssl", "openssl"))
        .args(["s_client", "-status", "-connect", &SocketAddr::new(shore.at, cast.https_port).to_string()])
        .args(["-servername", SITE])
        .stdin(Stdio::null())
        .stderr(Stdio::null())
        .output()
        .unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Servers that have just loaded their files again may show what was before for a moment.
#[track_caller]
fn await_shown(shore: &Shore, what: impl Fn(&str) -> bool) {
    let begun = Instant::now();
    while !what(&shown(shore)) {
        assert!(begun.elapsed() < Duration::from_secs(10), "{}", shown(shore));
        std::thread::sleep(Duration::from_millis(100));
    }
}

fn is_stapled(shown: &str) -> bool {
    shown.contains("OCSP Response Status: successful") && shown.contains("Cert Status: good")
}

/// The staple beside the certificate in place.
fn staple(shore: &Shore) -> PathBuf {
    let folders = fs::read_dir(shore.coast.path("harbor/certificates").join(SITE)).unwrap();
    folders.map(|entry| entry.unwrap().path()).max().unwrap().join("staple.der")
}

fn check(shore: &Shore) -> Value {
    shore.json(&["certificate", "check", SITE], 0)["servers"][0].clone()
}

/// A site whose certificate demands it, from the first try, where nobody answers.
fn demanded(kind: &str, term: &'static str) -> (Shore, Responder) {
    let responder = Responder::start();
    let shore = Shore::new(kind, &responder);
    let before = check(&shore);
    if kind == "apache" {
        shore.needs_a_place();
    }
    let issue = ["certificate", "issue", SITE, "--stapled"];
    let refused = shore.coast.run(&issue).expect(4);
    assert!(refused.contains("demands a statement of its CA in each handshake"), "{refused}");
    assert!(refused.contains("answers 503") && refused.contains("--stapled=no"), "{refused}");
    assert_eq!(check(&shore)["not_after"], before["not_after"], "what is served stays");
    let orders = shore.coast.world.orders();

    responder.answers(term);
    let issued = shore.json(&issue, 0);
    assert_eq!(issued["certificate"]["stapled"], true, "{issued}");
    assert_eq!(shore.coast.world.orders(), orders, "the order of before goes on");
    await_shown(&shore, is_stapled);
    let served = check(&shore);
    assert_eq!((&served["staple"]["status"], &served["verdict"]), (&"good".into(), &"well".into()), "{served}");
    assert!(before["staple"].is_null(), "{before}");
    (shore, responder)
}

#[test]
fn nginx_shows_what_tend_keeps_fresh() {
    let (shore, responder) = demanded("nginx", "-nmin 1");
    let first = fs::read(staple(&shore)).unwrap();
    // Lost, as by a backup that left it out: the next run brings it back.
    fs::remove_file(staple(&shore)).unwrap();
    let tended = shore.json(&["tend"], 0);
    assert_eq!(tended["staples"][0]["site"], SITE, "{tended}");
    assert_eq!(shore.json(&["certificate", "list"], 0)["certificates"][0]["stapled"], true);
    assert!(tended["staples"][0]["problem"].is_null() && staple(&shore).exists(), "{tended}");
    await_shown(&shore, is_stapled);
    assert_eq!(shore.json(&["tend"], 0)["staples"].as_array().unwrap().len(), 0, "it is fresh");

    // What keeps the web server from taking it does not end the run.
    let main = shore.coast.path("nginx/nginx.conf");
    let text = fs::read_to_string(&main).unwrap();
    fs::write(&main, format!("{text}nonsense;\n")).unwrap();
    fs::remove_file(staple(&shore)).unwrap();
    let tended = shore.json(&["tend"], 1);
    assert!(tended["staples"][0]["problem"].as_str().unwrap().contains("nonsense"), "{tended}");
    fs::write(&main, text).unwrap();
    assert!(shore.json(&["tend"], 0)["staples"][0]["problem"].is_null());
    let begun = Instant::now();

    // Half its minute is over, and nobody answers: there is time left. Near its end that is a fault.
    responder.answers("");
    std::thread::sleep(Duration::from_secs(34).saturating_sub(begun.elapsed()));
    let tended = shore.json(&["tend"], 0);
    assert_eq!(tended["staples"].as_array().unwrap().len(), 0, "{tended}");
    std::thread::sleep(Duration::from_secs(66).saturating_sub(begun.elapsed()));
    let (heard, metrics) = (shore.coast.path("heard"), shore.coast.path("tend.prom"));
    shore.listen(&heard);
    let told = shore.coast.run(&["tend", "--metrics", metrics.to_str().unwrap()]).expect(1);
    let heard = fs::read_to_string(heard).unwrap();
    assert!(heard.contains("\"topic\":\"staple-missing\"") && heard.contains("\"turn\":\"begins\""), "{heard}");
    let metrics = fs::read_to_string(metrics).unwrap();
    assert!(metrics.contains("brightharbor_staples_missing 1\n"), "{metrics}");
    assert!(told.contains("no statement of its CA, without which browsers refuse"), "{told}");

    // It was left alone for an hour, since it gave nothing; then it is asked again.
    responder.answers("-ndays 4");
    fs::remove_dir_all(shore.coast.path("harbor/ca/lists")).unwrap();
    let told = shore.coast.run(&["tend"]).expect(0);
    assert!(told.contains("new statement of its CA, good until"), "{told}");
    assert_ne!(fs::read(staple(&shore)).unwrap(), first);
    // OpenSSL shows what is over as well, which an old worker may still have.
    let begun = Instant::now();
    let target = ["certificate", "check", SITE];
    while shore.coast.run(&target).exit != 0 {
        assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", shore.coast.run(&target));
        std::thread::sleep(Duration::from_millis(200));
    }

    // A site that takes the certificate of this one is shown with a statement of its own, and so is the next one.
    let shop = format!("shop.{SITE}");
    shore.json(&["certificate", "issue", SITE, "--wildcard"], 0);
    shore.coast.run(&["attach", &shop, "--account", "bakery"]).expect(0);
    let shared = shore.json(&["certificate", "install", "--site", &shop, "--from", SITE], 0);
    assert_eq!(shared["certificate"]["stapled"], true, "{shared}");
    let served = shore.json(&["certificate", "check", &shop], 0);
    assert_eq!(served["servers"][0]["staple"]["status"], "good", "{served}");

    // The next one demands it too, until that is taken back.
    let renewed = shore.json(&["certificate", "renew", SITE], 0);
    assert_eq!(renewed["certificate"]["stapled"], true, "{renewed}");
    await_shown(&shore, is_stapled);
    let issued = shore.json(&["certificate", "issue", SITE, "--stapled=no"], 0);
    assert_eq!((&issued["certificate"]["stapled"], &issued["certificate"]["new"]), (&false.into(), &true.into()));
    await_shown(&shore, |shown| shown.contains("OCSP response: no response sent"));
    assert_eq!(check(&shore)["verdict"], "well");
}

#[test]
fn apache_httpd_fetches_it_itself() {
    let (shore, _responder) = demanded("apache", "-ndays 4");
    let file = fs::read_to_string(shore.coast.path("harbor/servers/apache").join(format!("{SITE}.conf"))).unwrap();
    assert!(file.contains("SSLUseStapling on"), "{file}");
    fs::remove_file(staple(&shore)).unwrap();
    assert_eq!(shore.json(&["tend"], 0)["staples"].as_array().unwrap().len(), 0, "nobody reads it there");
    // The line is taken out again, which the server's own test does not mind: its next reload would end it.
    let main = shore.coast.path("apache/apache.conf");
    let text = fs::read_to_string(&main).unwrap();
    fs::write(&main, text.replace("SSLStaplingCache", "#SSLStaplingCache")).unwrap();
    let refused = shore.coast.run(&["redirect", "add", &format!("{SITE}/old"), "/new"]).expect(5);
    assert!(refused.contains("has no SSLStaplingCache") && refused.contains("rolled back"), "{refused}");
    await_shown(&shore, is_stapled);
    fs::write(&main, text).unwrap();
    let issued = shore.json(&["certificate", "issue", SITE, "--stapled=no"], 0);
    assert_eq!(issued["certificate"]["stapled"], false, "{issued}");
    await_shown(&shore, |shown| shown.contains("OCSP response: no response sent"));
}
