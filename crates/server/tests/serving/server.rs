//! A server in this process, and what a client says to it byte by byte.

use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::path::PathBuf;
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use bibliotax_core::digest::Digest;
use bibliotax_registry::model::storage::RegistryStorage;
use bibliotax_registry::storage::folder::Folder;
use bibliotax_registry::storage::tokens::{self, Action, NewToken};
use bibliotax_server::serve::Listening;
use bibliotax_server::{App, Limits, Served};
use jiff::Timestamp;
use serde_json::Value;

/// A server in this process, on a registry in a temporary folder.
pub struct Server {
    pub address: SocketAddr,
    pub registry: Arc<dyn RegistryStorage>,
    pub token: String,
    pub stop: Option<tokio::sync::oneshot::Sender<()>>,
    thread: Option<thread::JoinHandle<()>>,
    folder: tempfile::TempDir,
}

impl Server {
    pub fn new() -> Self {
        Self::with_patience(Duration::from_secs(60))
    }

    /// A server that waits so long for a head, and in silence.
    pub fn with_patience(patience: Duration) -> Self {
        let limits = Limits {
            largest_file: 1 << 20,
            largest_text: 16 << 10,
            head: patience,
            silence: patience,
            ..Limits::default()
        };
        Self::within(limits)
    }

    pub fn within(limits: Limits) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let registry =
            Folder::create(&folder.path().join("seedhouse"), "seedhouse", BTreeMap::new()).unwrap();
        let registry: Arc<dyn RegistryStorage> = Arc::new(registry);
        let wish = NewToken {
            name: "a test".into(),
            packages: vec!["moss-*".into()],
            actions: vec![Action::Publish, Action::Withdraw],
            expires: None,
        };
        let (_, token) = tokens::create(&*registry, wish, Timestamp::now()).unwrap();
        let app = App::new(Served::Writable(registry.clone()), limits, false).unwrap();
        let (stop, stopped) = tokio::sync::oneshot::channel();
        let (tell, output) = std::sync::mpsc::channel();
        let thread = thread::spawn(move || {
            tokio::runtime::Runtime::new().unwrap().block_on(async {
                let listening = Listening::on("127.0.0.1:0".parse().unwrap(), None, app).await.unwrap();
                tell.send(listening.address().unwrap()).unwrap();
                listening.run(async { stopped.await.unwrap_or(()) }).await;
            });
        });
        let (address, stop, thread) = (output.recv().unwrap(), Some(stop), Some(thread));
        Self { address, registry, token, stop, thread, folder }
    }

    /// The registry's folder.
    pub fn folder(&self) -> PathBuf {
        self.folder.path().join("seedhouse")
    }

    pub fn connect(&self) -> TcpStream {
        let stream = TcpStream::connect(self.address).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
        stream
    }

    /// Sends these bytes and reads until the server closes; everything that it said.
    pub fn say(&self, bytes: &[u8]) -> String {
        let mut stream = self.connect();
        // A server that has heard enough closes before all is said.
        let _ = stream.write_all(bytes);
        let mut answer = Vec::new();
        let _ = stream.read_to_end(&mut answer);
        String::from_utf8_lossy(&answer).into_owned()
    }

    /// Sends a request with the token; status and body.
    pub fn ask(&self, method: &str, path: &str, headers: &str, body: &[u8]) -> (u16, Value) {
        let head = format!(
            "{method} {path} HTTP/1.1\r\nhost: x\r\nconnection: close\r\nauthorization: Bearer {}\r\ncontent-length: {}\r\n{headers}\r\n",
            self.token,
            body.len()
        );
        let answer = self.say(&[head.as_bytes(), body].concat());
        (
            status(&answer),
            serde_json::from_str(answer.split("\r\n\r\n").nth(1).unwrap_or_default()).unwrap_or_default(),
        )
    }

    pub fn put(&self, bytes: &[u8]) -> Digest {
        let digest = Digest::of(bytes);
        let (status, said) = self.ask("PUT", &format!("/api/v1/files/{digest}"), "", bytes);
        assert!(status == 201 || status == 200, "{status} {said}");
        digest
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.stop.take().map(|stop| stop.send(()));
        self.thread.take().unwrap().join().unwrap();
    }
}

pub fn status(answer: &str) -> u16 {
    answer.get(9..12).and_then(|status| status.parse().ok()).unwrap_or(0)
}
