//! Debian's Chromium, driven through its WebDriver (W3C WebDriver): a page is opened, looked at, and typed into as by a
//! visitor. It asks nobody but files and loopback.

use std::net::{SocketAddr, TcpListener};
use std::path::Path;
use std::process::{Command, Stdio};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Value, json};

use crate::real::servers::{Server, await_listener, need};

pub struct Browser {
    _driver: Server,
    _profile: tempfile::TempDir,
    session: String,
}

/// The keys that WebDriver has code points for (section 17.4.2).
pub const TAB: &str = "\u{e004}";
pub const BACKSPACE: &str = "\u{e003}";
pub const ENTER: &str = "\u{e007}";

impl Browser {
    /// A window of this size, in CSS pixels, that likes light or dark pages.
    pub fn open(width: u32, height: u32, dark: bool) -> Self {
        let chromium = need("chromium", "chromium");
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let profile = tempfile::tempdir().unwrap();
        let driver = Server::spawn(
            Command::new(need("chromedriver", "chromium-driver"))
                .arg(format!("--port={port}"))
                .stdout(Stdio::null())
                .stderr(Stdio::null()),
        );
        await_listener(SocketAddr::from(([127, 0, 0, 1], port)));
        let arguments = [
            "--headless".into(),
            "--no-sandbox".into(),
            "--disable-gpu".into(),
            "--disable-background-networking".into(),
            "--disable-component-update".into(),
            "--no-first-run".into(),
            "--hide-scrollbars".into(),
            format!("--user-data-dir={}", profile.path().display()),
        ];
        let options = json!({ "binary": chromium, "args": arguments });
        let wanted = json!({ "goog:chromeOptions": options, "goog:loggingPrefs": { "browser": "ALL" } });
        let base = format!("http://127.0.0.1:{port}/session");
        let begun = ask(&base, Some(&json!({ "capabilities": { "alwaysMatch": wanted } })));
        let session = format!("{base}/{}", begun["sessionId"].as_str().unwrap_or_else(|| panic!("{begun}")));
        let browser = Self { _driver: driver, _profile: profile, session };
        let metrics = json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": false });
        browser.devtools("Emulation.setDeviceMetricsOverride", metrics);
        browser.media("screen", dark);
        browser
    }

    pub fn media(&self, media: &str, dark: bool) {
        let scheme = if dark { "dark" } else { "light" };
        let features = json!([{ "name": "prefers-color-scheme", "value": scheme }]);
        self.devtools("Emulation.setEmulatedMedia", json!({ "media": media, "features": features }));
    }

    fn devtools(&self, command: &str, parameters: Value) {
        self.post("goog/cdp/execute", json!({ "cmd": command, "params": parameters }));
    }

    pub fn go(&self, page: &Path) {
        self.post("url", json!({ "url": format!("file://{}", page.display()) }));
    }

    /// What the body of a function, run in the page, returns.
    pub fn tell(&self, body: &str) -> Value {
        self.post("execute/sync", json!({ "script": body, "args": [] }))
    }

    /// Presses keys, one after the other.
    pub fn press(&self, keys: &[&str]) {
        let both = |key: &&str| [json!({ "type": "keyDown", "value": key }), json!({ "type": "keyUp", "value": key })];
        let pressed: Vec<Value> = keys.iter().flat_map(both).collect();
        self.post("actions", json!({ "actions": [{ "type": "key", "id": "keys", "actions": pressed }] }));
    }

    /// What the console has got since it was asked last.
    pub fn console(&self) -> Vec<String> {
        let lines = self.post("se/log", json!({ "type": "browser" }));
        lines.as_array().unwrap().iter().map(|line| line["message"].as_str().unwrap_or_default().to_string()).collect()
    }

    /// Keeps what stands in the window.
    pub fn photograph(&self, file: &Path) {
        let taken = self.post("goog/cdp/execute", json!({ "cmd": "Page.captureScreenshot", "params": {} }));
        let image = STANDARD.decode(taken["data"].as_str().unwrap()).unwrap();
        std::fs::write(file, image).unwrap();
    }

    fn post(&self, path: &str, body: Value) -> Value {
        ask(&format!("{}/{path}", self.session), Some(&body))
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // The driver takes its browser along only when it is told.
        let _ = Command::new("curl").args(["-s", "-m", "10", "-X", "DELETE", &self.session]).output();
    }
}

/// The value of an answer; an error of the driver ends the test.
fn ask(url: &str, body: Option<&Value>) -> Value {
    let mut curl = Command::new(need("curl", "curl"));
    curl.args(["-s", "-m", "60", "-H", "Content-Type: application/json", url]);
    body.iter().for_each(|body| {
        curl.args(["-d", &body.to_string()]);
    });
    let answer = curl.output().unwrap();
    let answer: Value = serde_json::from_slice(&answer.stdout)
        .unwrap_or_else(|error| panic!("{url}: {error}: {}", String::from_utf8_lossy(&answer.stdout)));
    assert!(answer["value"].get("error").is_none(), "{url}: {}", answer["value"]);
    answer["value"].clone()
}
