//! A real browser for tests of pages, steered through its own remote interface.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::missing_panics_doc,
    reason = "a test that can't go on has failed"
)]

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};

use serde_json::{Value, json};
use tungstenite::{Message, WebSocket};

/// A browser with one page open.
pub struct Browser {
    child: Child,
    page: WebSocket<TcpStream>,
    said: u64,
    _profile: tempfile::TempDir,
}

impl Browser {
    /// Opens a page in the browser that `BIBLIOTAX_TEST_BROWSER` names.
    pub fn open(url: &str) -> Self {
        let mut browser = Self::start();
        browser.go_to(url);
        browser
    }

    /// Starts the browser with an empty page.
    pub fn start() -> Self {
        let program =
            std::env::var_os("BIBLIOTAX_TEST_BROWSER").expect("`.ci/run` sets BIBLIOTAX_TEST_BROWSER");
        let profile = tempfile::tempdir().unwrap();
        let mut child = Command::new(program)
            .args(["--headless", "--no-sandbox", "--disable-gpu", "--remote-debugging-port=0"])
            .arg(format!("--user-data-dir={}", profile.path().display()))
            .arg("about:blank")
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(child.stderr.take().unwrap()).lines();
        let address = lines.find_map(|line| {
            let line = line.unwrap();
            Some(line.strip_prefix("DevTools listening on ws://")?.split('/').next()?.to_owned())
        });
        // What else it says goes nowhere, or it would wait for a reader.
        std::thread::spawn(move || lines.for_each(drop));
        let page = new_page(&address.unwrap());
        let mut browser = Self { child, page, said: 0, _profile: profile };
        browser.ask("Page.enable", &json!({}));
        browser
    }

    /// Leads to a page, and waits until it is there.
    pub fn go_to(&mut self, url: &str) {
        self.ask("Page.navigate", &json!({ "url": url }));
        self.until("document.readyState == 'complete' && location.protocol != 'about:'");
    }

    /// Lets pages run no scripts of their own from now on.
    pub fn without_scripts(&mut self) {
        self.ask("Emulation.setScriptExecutionDisabled", &json!({ "value": true }));
    }

    /// Shows pages as a person sees them who prefers dark ones.
    pub fn in_the_dark(&mut self) {
        let features = json!({ "features": [{ "name": "prefers-color-scheme", "value": "dark" }] });
        self.ask("Emulation.setEmulatedMedia", &features);
    }

    /// Lets a test run scripts that a page's policy forbids.
    pub fn without_policy(&mut self) {
        self.ask("Page.setBypassCSP", &json!({ "enabled": true }));
    }

    /// The page as a PDF document, in base64.
    pub fn printed(&mut self) -> String {
        self.ask("Page.printToPDF", &json!({ "preferCSSPageSize": true }))["data"]
            .as_str()
            .unwrap()
            .to_owned()
    }

    /// What an expression of the page's own language gives; nothing where the page is just being left.
    pub fn value(&mut self, expression: &str) -> Value {
        let asked = json!({ "expression": expression, "awaitPromise": true, "returnByValue": true });
        self.ask("Runtime.evaluate", &asked)["result"]["value"].clone()
    }

    /// Makes the page so many CSS pixels wide.
    pub fn narrow_to(&mut self, width: u32) {
        let size = json!({ "width": width, "height": 800, "deviceScaleFactor": 1, "mobile": true });
        self.ask("Emulation.setDeviceMetricsOverride", &size);
    }

    /// Waits until an expression holds.
    pub fn until(&mut self, expression: &str) {
        for _ in 0..500 {
            if self.value(expression) == true {
                return;
            }
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        panic!("{expression} never held on\n{}", self.value("document.body.outerHTML"));
    }

    /// Types a text where the cursor is.
    pub fn write(&mut self, text: &str) {
        for letter in text.chars() {
            self.ask("Input.dispatchKeyEvent", &json!({ "type": "char", "text": letter.to_string() }));
        }
    }

    /// Presses a key.
    pub fn press(&mut self, key: &str, code: u32) {
        for kind in ["rawKeyDown", "char", "keyUp"] {
            let text = if key == "Enter" && kind == "char" { "\r" } else { "" };
            if kind == "char" && text.is_empty() {
                continue;
            }
            let said =
                json!({ "type": kind, "key": key, "code": key, "windowsVirtualKeyCode": code, "text": text });
            self.ask("Input.dispatchKeyEvent", &said);
        }
    }

    fn ask(&mut self, method: &str, params: &Value) -> Value {
        self.said += 1;
        let asked = json!({ "id": self.said, "method": method, "params": params });
        self.page.send(Message::text(asked.to_string())).unwrap();
        loop {
            let answer = self.page.read().unwrap();
            let answer: Value =
                serde_json::from_str(answer.to_text().unwrap_or_default()).unwrap_or_default();
            if answer["id"] == self.said {
                let is_leaving =
                    answer["error"]["message"].as_str().is_some_and(|why| why.contains("navigated"));
                assert!(answer["error"].is_null() || is_leaving, "{method}: {answer}");
                return answer["result"].clone();
            }
        }
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // One that ended already is gone.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn new_page(address: &str) -> WebSocket<TcpStream> {
    let mut stream = TcpStream::connect(address).unwrap();
    write!(stream, "PUT /json/new HTTP/1.1\r\nhost: {address}\r\nconnection: close\r\n\r\n").unwrap();
    let mut answer = String::new();
    let mut reader = BufReader::new(stream);
    let mut length = 0;
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).unwrap();
        if let Some(value) = line.to_ascii_lowercase().strip_prefix("content-length:") {
            length = value.trim().parse().unwrap();
        }
        if line.trim().is_empty() {
            break;
        }
    }
    reader.take(length).read_to_string(&mut answer).unwrap();
    let answer: Value = serde_json::from_str(&answer).unwrap();
    let url = answer["webSocketDebuggerUrl"].as_str().unwrap();
    let stream = TcpStream::connect(address).unwrap();
    tungstenite::client(url, stream).unwrap().0
}
