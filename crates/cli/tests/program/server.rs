//! A real server on loopback for tests, over a garden's registry.

use std::io::{BufRead, BufReader};
use std::process::{Child, Stdio};

use serde_json::Value;

use crate::garden::Garden;

/// A server that runs until this goes.
pub struct Served {
    pub child: Child,
    pub url: String,
}

impl Drop for Served {
    fn drop(&mut self) {
        // One that was killed already is gone.
        let _ = self.child.kill();
        self.child.wait().unwrap();
    }
}

/// Serves at an address, which somebody else may have for a moment while it was free.
pub fn serve_at(garden: &Garden, address: &str) -> Served {
    (0..100).find_map(|_| try_to_serve(garden, address)).unwrap()
}

pub fn try_to_serve(garden: &Garden, address: &str) -> Option<Served> {
    serve_with(garden, &["--listen", address])
}

pub fn serve_with(garden: &Garden, more: &[&str]) -> Option<Served> {
    let args = ["registry", "serve", "--quiet", "--format", "json", "--dir", "seedhouse"];
    let mut command = garden.command(".", &[&args, more].concat());
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let said: Value = serde_json::from_str(&line).unwrap_or_default();
    match said["url"].as_str() {
        Some(url) => Some(Served { child, url: url.to_owned() }),
        None => {
            child.wait().unwrap();
            None
        }
    }
}

pub fn serve(garden: &Garden) -> Served {
    try_to_serve(garden, "127.0.0.1:0").unwrap()
}
