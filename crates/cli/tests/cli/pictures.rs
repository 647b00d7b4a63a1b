//! The pictures of docs/screenshots: what is typed for each in one demo world, whether it prints today what it printed when the
//! picture was drawn, and how it is drawn: as a terminal window of one size, by Debian's Chromium. `scripts/pictures` draws
//! them all.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use anstyle_svg::Term;

use crate::browser::Browser;
use crate::coast::brightharbor;

/// A picture: its name, what is done before, and what is typed on it.
struct Picture {
    name: &'static str,
    before: &'static [&'static str],
    typed: &'static [&'static str],
}

const fn picture(name: &'static str, before: &'static [&'static str], typed: &'static [&'static str]) -> Picture {
    Picture { name, before, typed }
}

/// In this order, since each finds what the ones before have left.
const PICTURES: &[Picture] = &[
    picture("demo", &[], &["brightharbor demo | tail -n 38"]),
    picture(
        "init",
        &[],
        &[
            "brightharbor init --harbor new --address 192.0.2.10 --nameserver ns1.saltmarsh.example --web nginx --dns bind",
        ],
    ),
    picture(
        "attach-dry-run",
        &[],
        &["brightharbor attach quay.crumbandtide.example --account bakery --dry-run | head -n 38"],
    ),
    picture(
        "attach",
        &["brightharbor account add boatyard --email yard@saltmarsh.example"],
        &["brightharbor attach gullrock.example --account boatyard"],
    ),
    picture("survey", &[], &["brightharbor survey shop.crumbandtide.example gullrock.example"]),
    picture("delegation-check", &[], &["brightharbor delegation check gullrock.example"]),
    picture("delegation-handover", &[], &["brightharbor delegation handover gullrock.example"]),
    picture("zone-compare", &[], &["brightharbor zone compare gullrock.example"]),
    picture(
        "sellers",
        &["brightharbor certificate request gullrock.example --organization Boatyard --out request.pem"],
        &[
            "brightharbor certificate show request.pem",
            "brightharbor certificate prove gullrock.example --record \"_5f3a CNAME 9c1e.seller.example.\"",
        ],
    ),
    picture("tend", &["REGISTRAR gullrock.example"], &["brightharbor tend", "brightharbor survey gullrock.example"]),
    picture(
        "records",
        &[],
        &[
            "brightharbor record replace crumbandtide.example TXT \"v=spf1 mx +all\" --yes",
            "brightharbor explain spf-allows-everybody",
        ],
    ),
    picture(
        "redirects",
        &["brightharbor redirect add gullrock.example/old https://gullrock.example/new --permanent"],
        &[
            "brightharbor redirect list",
            "brightharbor redirect try http://crumbandtide.example/menu",
            "brightharbor site show shop.crumbandtide.example",
        ],
    ),
    picture(
        "programs",
        &[],
        &[
            "brightharbor site change shop.crumbandtide.example --serve http://127.0.0.1:9 --yes",
            "brightharbor site protect shop.crumbandtide.example --path /office --from 192.0.2.0/24",
            "brightharbor survey shop.crumbandtide.example",
        ],
    ),
    picture(
        "certificates",
        &["brightharbor site change shop.crumbandtide.example --serve files --yes"],
        &[
            "brightharbor certificate renew crumbandtide.example --dry-run",
            "brightharbor certificate list",
            "brightharbor certificate check crumbandtide.example",
            "brightharbor ca list",
        ],
    ),
    picture(
        "nameservers",
        &["brightharbor nameserver add tide ns1.gullrock.example=192.0.2.53 ns2.gullrock.example=198.51.100.53"],
        &["brightharbor nameserver list", "brightharbor nameserver check host"],
    ),
    picture(
        "listing",
        &[
            "printf 'hostname,account\\ncafe.crumbandtide.example,bakery\\nyard.gullrock.example,boatyard\\n' > hostnames.csv",
        ],
        &[
            "brightharbor load hostnames.csv --yes",
            "brightharbor load hostnames.csv",
            "brightharbor undo --dry-run | head -n 12",
        ],
    ),
    picture(
        "zones",
        &["sed -i '$a quay 300 IN A 192.0.2.9' harbor/zones/gullrock.example.zone"],
        &[
            "brightharbor zone list",
            "brightharbor zone load --all --yes",
            "brightharbor zone show gullrock.example",
            "brightharbor zone prepare-move gullrock.example --yes",
            "brightharbor zone realign",
        ],
    ),
    picture(
        "lists",
        &[],
        &[
            "brightharbor site list",
            "brightharbor record list crumbandtide.example --with txt",
            "brightharbor account list",
            "brightharbor logbook --last 9",
        ],
    ),
];

/// In letters and lines, as a window of 1280 by 800 holds them.
const COLUMNS: usize = 100;
const ROWS: usize = 42;

fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/screenshots")
}

/// The demo's world, kept; it ends with the test.
struct Demo {
    child: Child,
    folder: PathBuf,
    registrar: String,
}

impl Demo {
    fn start() -> Self {
        let mut demo = brightharbor();
        let mut child = demo.args(["demo", "--keep"]).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        let (mut harbor, mut registrar) = (None, None);
        for line in BufReader::new(child.stderr.take().unwrap()).lines() {
            let line = line.unwrap();
            if let Some(path) = line.strip_prefix("export BRIGHTHARBOR=") {
                harbor = Some(PathBuf::from(path));
            }
            if let Some((_, address)) = line.split_once("http://") {
                registrar = address.split('/').next().map(String::from);
                break;
            }
        }
        let folder = harbor.unwrap().parent().unwrap().to_path_buf();
        Self { child, folder, registrar: registrar.unwrap() }
    }

    fn shell(&self, line: &str) -> Command {
        let programs = Path::new(env!("CARGO_BIN_EXE_brightharbor")).parent().unwrap();
        let path = format!("{}:{}", programs.display(), std::env::var("PATH").unwrap_or_default());
        let mut command = Command::new("script");
        let window = format!("stty cols {COLUMNS} rows {ROWS}; {{ {line}; }} 2> errors");
        command.args(["-qec", &window, "/dev/null"]).current_dir(&self.folder).stdin(Stdio::null());
        command.env("PATH", path).env("BRIGHTHARBOR", self.folder.join("harbor")).env("TZ", "UTC");
        command
            .env("TERM", "xterm-256color")
            .env("COLORTERM", "truecolor")
            .env_remove("NO_COLOR")
            .env_remove("COLUMNS");
        command
    }

    /// What stands in the window after a line was typed, with its colours.
    fn typed(&self, line: &str) -> String {
        let output = self.shell(line).output().unwrap();
        let errors = fs::read_to_string(self.folder.join("errors")).unwrap();
        let lasting = errors.lines().filter(|line| line.starts_with("error:") || line.starts_with("  next:"));
        let printed = String::from_utf8(output.stdout).unwrap().replace("\r\n", "\n");
        printed + &lasting.map(|line| format!("{line}\n")).collect::<String>()
    }

    fn prepare(&self, line: &str) {
        if let Some(domain) = line.strip_prefix("REGISTRAR ") {
            let page = format!("http://{}/{domain}", self.registrar);
            let names = "ns1.saltmarsh.example ns2.saltmarsh.example";
            assert!(Command::new("curl").args(["-sf", "-d", names, &page]).status().unwrap().success());
            // The old answers have left the caches.
            return std::thread::sleep(Duration::from_secs(7));
        }
        let done = self.shell(line).output().unwrap();
        assert!(matches!(done.status.code(), Some(0 | 3)), "{line}: {}", String::from_utf8_lossy(&done.stdout));
    }

    /// All that stands on the picture.
    fn play(&self, picture: &Picture) -> String {
        picture.before.iter().for_each(|line| self.prepare(line));
        let blocks: Vec<String> =
            picture.typed.iter().map(|line| format!("\u{1b}[1m$\u{1b}[0m {line}\n{}", self.typed(line))).collect();
        blocks.join("\n")
    }
}

impl Drop for Demo {
    fn drop(&mut self) {
        let _ = Command::new("kill").args(["-INT", &self.child.id().to_string()]).status();
        let _ = self.child.wait();
    }
}

/// Without colours, and without what is another one each time.
fn masked(printed: &str, demo: &Demo) -> String {
    let plain = anstream::adapter::strip_str(printed).to_string();
    let plain = plain.replace(&demo.folder.display().to_string(), "/tmp/demo");
    let mut text = plain;
    for (pattern, mask) in [
        (r"/tmp/brightharbor-demo-\w+", "/tmp/demo"),
        (r"127(\.\d+){3}(:\d+)?", "ADDRESS"),
        (r"(\.example):\d{4,5}\b", "$1:PORT"),
        (r"\d{4}-\d\d-\d\d", "DATE"),
        (r"\d\d:\d\d(:\d\d)?", "TIME"),
        // A time of tomorrow has its day with it.
        (r"DATE\s+TIME", "TIME"),
        (r"\b20\d{8}\b", "SERIAL"),
        (r"in \d+\.\d s", "in N s"),
        (r"\d+ days", "N days"),
        (r"\b[0-9a-f]{8,}\b", "HASH"),
        (r"PHP \d\.\d|php-fpm\d\.\d", "PHP"),
        (r"-\d{4}[a-z0-9]*\.pem", "-N.pem"),
    ] {
        text = regex::Regex::new(pattern).unwrap().replace_all(&text, mask).into_owned();
    }
    text
}

fn folded(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

#[test]
fn every_picture_shows_what_is_printed_today() {
    let demo = Demo::start();
    let mut stale = Vec::new();
    for picture in PICTURES {
        let printed = masked(&demo.play(picture), &demo);
        let kept = fs::read_to_string(folder().join(format!("text/{}.txt", picture.name))).unwrap_or_default();
        if folded(&printed) != folded(&kept) {
            stale.push(format!("{}:\n{}", picture.name, similar::TextDiff::from_lines(&kept, &printed).unified_diff()));
        }
        assert!(folder().join(format!("{}.png", picture.name)).is_file(), "{} was never drawn", picture.name);
    }
    assert!(stale.is_empty(), "stale pictures; run scripts/pictures, and look at them: {}", stale.join("\n"));
}

#[test]
fn the_folder_holds_these_pictures_and_the_readme_shows_each() {
    let readme = fs::read_to_string(folder().join("../../README.md")).unwrap();
    let mut there: Vec<String> = fs::read_dir(folder())
        .unwrap()
        .filter_map(|entry| entry.unwrap().file_name().into_string().unwrap().strip_suffix(".png").map(String::from))
        .collect();
    there.sort();
    let mut known: Vec<String> = PICTURES.iter().map(|picture| picture.name.to_string()).chain([PAGE.into()]).collect();
    known.sort();
    assert_eq!(there, known);
    assert!(known.len() < 20);
    known.iter().for_each(|name| assert!(readme.contains(&format!("docs/screenshots/{name}.png")), "{name}"));
}

/// The picture of the pages of `report`.
const PAGE: &str = "report";

#[test]
#[ignore = "draws docs/screenshots anew; run by scripts/pictures"]
fn pictures_are_drawn() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false);
    fs::create_dir_all(folder().join("text")).unwrap();
    for picture in PICTURES {
        let printed = demo.play(picture);
        let rows = printed.lines().count();
        assert!(rows <= ROWS, "{}: {rows} lines do not fit into the window", picture.name);
        let window = demo.folder.join("window.html");
        fs::write(&window, page_of(&printed)).unwrap();
        browser.go(&window);
        browser.photograph(&folder().join(format!("{}.png", picture.name)));
        fs::write(folder().join(format!("text/{}.txt", picture.name)), masked(&printed, &demo)).unwrap();
    }
    demo.prepare("brightharbor report --to report");
    browser.go(&demo.folder.join("report/index.html"));
    browser.photograph(&folder().join(format!("{PAGE}.png")));
}

/// A window with this text, which has just room for it.
fn page_of(printed: &str) -> String {
    let ink = anstyle::Color::Rgb(anstyle::RgbColor(0xdf, 0xe6, 0xee));
    let drawn = Term::new().background(false).fg_color(ink).render_html_fragments(printed);
    // The colours as terminals of today have them on dark.
    let look = "html, body { margin: 0; background: #10151c; } body { padding: 13px; } \
                .container, .container span { font-family: 'DejaVu Sans Mono', monospace; font-size: 15px; \
                line-height: 18.4px; } .fg-red { color: #f2777a } .fg-green { color: #8fd19e } .fg-yellow { color: #e9c46a }";
    format!("<!doctype html><meta charset=utf-8><style>{}\n{look}</style><body>{}</body>", drawn.style(), drawn.body())
}
