//! A headless Chromium, driven as W3C WebDriver says.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};

use base64::Engine;
use serde_json::{Value, json};

/// A browser with one page; gone with the value.
pub(crate) struct Browser {
    driver: Child,
    /// Address of the session.
    session: String,
    /// What the browser keeps; new and empty.
    _profile: tempfile::TempDir,
}

impl Browser {
    /// Starts the browser; `None` if there is no driver for it.
    pub(crate) fn start() -> Option<Self> {
        let mut driver = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .ok()?;
        let lines = BufReader::new(driver.stdout.take().expect("piped")).lines();
        let port = lines
            .map_while(Result::ok)
            .find_map(|line| {
                let port = line.strip_prefix("ChromeDriver was started successfully on port ")?;
                port.trim_end_matches('.').parse::<u16>().ok()
            })
            .expect("the driver tells its port");
        let profile = tempfile::tempdir().expect("a folder");
        let data = format!("--user-data-dir={}", profile.path().display());
        let arguments = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--window-size=1280,939",
            &data,
        ];
        let wanted = json!({"capabilities": {"alwaysMatch": {
            "browserName": "chrome",
            "goog:loggingPrefs": {"browser": "ALL"},
            "goog:chromeOptions": {"args": arguments},
        }}});
        let address = format!("http://127.0.0.1:{port}/session");
        let made = sent(&address, &wanted);
        let id = made["sessionId"].as_str().expect("a session").to_string();
        Some(Self { driver, session: format!("{address}/{id}"), _profile: profile })
    }

    pub(crate) fn open(&self, address: &str) {
        self.post("url", &json!({"url": address}));
    }

    /// Runs a script in the page and gives what it returns.
    pub(crate) fn run(&self, script: &str) -> Value {
        self.post("execute/sync", &json!({"script": script, "args": []}))
    }

    /// Moves the pointer there, from a little beside it.
    pub(crate) fn hover(&self, (x, y): (f64, f64)) {
        self.point(&[moved(x - 3.0, y), moved(x, y)]);
    }

    pub(crate) fn click(&self, (x, y): (f64, f64)) {
        self.point(&[moved(x, y), pressed("pointerDown"), pressed("pointerUp")]);
    }

    pub(crate) fn drag(&self, (from_x, from_y): (f64, f64), (to_x, to_y): (f64, f64)) {
        let half = moved(f64::midpoint(from_x, to_x), f64::midpoint(from_y, to_y));
        let (down, up) = (pressed("pointerDown"), pressed("pointerUp"));
        self.point(&[moved(from_x, from_y), down, half, moved(to_x, to_y), up]);
    }

    fn point(&self, actions: &[Value]) {
        let pointer = json!({"type": "pointer", "id": "mouse",
            "parameters": {"pointerType": "mouse"}, "actions": actions});
        self.post("actions", &json!({"actions": [pointer]}));
    }

    /// Presses a key and lets it go.
    pub(crate) fn press(&self, key: &str) {
        let actions =
            [json!({"type": "keyDown", "value": key}), json!({"type": "keyUp", "value": key})];
        let keys = json!({"type": "key", "id": "keys", "actions": actions});
        self.post("actions", &json!({"actions": [keys]}));
    }

    /// The page on A4 paper, as PDF.
    pub(crate) fn print(&self) -> Vec<u8> {
        let page = json!({"page": {"width": 21.0, "height": 29.7}, "background": true});
        let data = self.post("print", &page);
        let data = data.as_str().expect("a document");
        base64::engine::general_purpose::STANDARD.decode(data).expect("encoded")
    }

    /// Lays the page out as for paper of a width and height in pixels.
    pub(crate) fn emulate_paper(&self, width: u32, height: u32) {
        self.command("Emulation.setEmulatedMedia", &json!({"media": "print"}));
        let size =
            json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": false});
        self.command("Emulation.setDeviceMetricsOverride", &size);
    }

    /// A window of a width and height in pixels, of a reader who has it dark, or light.
    pub(crate) fn emulate_screen(&self, (width, height): (u32, u32), is_dark: bool) {
        let scheme = if is_dark { "dark" } else { "light" };
        let wish = json!({"media": "screen",
            "features": [{"name": "prefers-color-scheme", "value": scheme}]});
        self.command("Emulation.setEmulatedMedia", &wish);
        let size =
            json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": false});
        self.command("Emulation.setDeviceMetricsOverride", &size);
    }

    fn command(&self, command: &str, parameters: &Value) {
        self.post("goog/cdp/execute", &json!({"cmd": command, "params": parameters}));
    }

    /// Errors and warnings on the console.
    pub(crate) fn errors(&self) -> Vec<String> {
        let log = self.post("se/log", &json!({"type": "browser"}));
        let entries = log.as_array().cloned().unwrap_or_default();
        let bad = entries
            .iter()
            .filter(|entry| entry["level"] == "SEVERE" || entry["level"] == "WARNING");
        bad.map(|entry| entry["message"].as_str().unwrap_or_default().to_string()).collect()
    }

    fn post(&self, what: &str, body: &Value) -> Value {
        sent(&format!("{}/{what}", self.session), body)
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // A driver that has gone already leaves nothing to be ended.
        let _ = minreq::delete(&self.session).send();
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

fn moved(x: f64, y: f64) -> Value {
    json!({"type": "pointerMove", "duration": 60, "x": x.round() as i64, "y": y.round() as i64})
}

fn pressed(what: &str) -> Value {
    json!({"type": what, "button": 0})
}

/// Sends a command and gives its value.
fn sent(address: &str, body: &Value) -> Value {
    let request = minreq::post(address).with_header("Content-Type", "application/json");
    let answer = request.with_body(body.to_string()).send().expect("the driver answers");
    let value: Value = serde_json::from_slice(answer.as_bytes()).expect("JSON");
    let value = &value["value"];
    assert!(value.get("error").is_none(), "{address}: {value}");
    value.clone()
}
