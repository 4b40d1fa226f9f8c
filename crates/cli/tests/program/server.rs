//! Real servers on loopback for tests: of a garden's registry, and of buckets.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};

use serde_json::Value;

use crate::garden::Garden;
use crate::outside::needed;

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

/// Where a registry is kept, and what a program has to know to reach it.
pub struct Place {
    /// The folder, or the place of the bucket.
    pub path: String,
    env: Vec<(&'static str, String)>,
}

impl Place {
    /// The garden's own folder.
    pub fn folder() -> Self {
        Self { path: "seedhouse".to_owned(), env: Vec::new() }
    }

    /// Another folder of the garden.
    pub fn in_folder(folder: &str) -> Self {
        Self { path: folder.to_owned(), ..Self::folder() }
    }

    /// What a program has to know to reach it.
    pub fn env(&self) -> &[(&'static str, String)] {
        &self.env
    }

    /// The same place, reached at another address.
    pub fn through(mut self, url: &str) -> Self {
        for (key, value) in &mut self.env {
            if *key == "AWS_ENDPOINT" {
                value.clear();
                value.push_str(url.trim_end_matches('/'));
            }
        }
        self
    }

    /// A command that can reach it.
    pub fn command(&self, garden: &Garden, folder: &str, args: &[&str]) -> Command {
        let mut command = garden.command(folder, args);
        command.envs(self.env.iter().cloned());
        command
    }

    /// Runs a command to its end, which has to be a good one; its result as JSON.
    pub fn run(&self, garden: &Garden, args: &[&str]) -> Value {
        let output = self.command(garden, ".", &[args, &["--format", "json"]].concat()).output().unwrap();
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        assert!(output.status.success(), "{args:?}: {}{}", text(&output.stdout), text(&output.stderr));
        serde_json::from_slice(&output.stdout).unwrap()
    }

    /// A token that is for everything.
    pub fn token(&self, garden: &Garden) -> String {
        let args = ["registry", "token", "issue", &self.path, "a test", "--only", "*", "--allow", "publish"];
        let made = self.run(garden, &[&args[..], &["--allow", "withdraw", "--allow", "deprecate"]].concat());
        made["token"].as_str().unwrap().to_owned()
    }

    /// Serves it, with more options; nothing where the server can't begin.
    pub fn try_to_serve(&self, garden: &Garden, more: &[&str]) -> Option<Served> {
        let args = ["registry", "serve", "--quiet", "--format", "json", &self.path];
        let mut command = self.command(garden, ".", &[&args, more].concat());
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
}

pub fn serve_with(garden: &Garden, more: &[&str]) -> Option<Served> {
    Place::folder().try_to_serve(garden, more)
}

pub fn serve(garden: &Garden) -> Served {
    serve_with(garden, &["--listen", "127.0.0.1:0"]).unwrap()
}

/// A server of buckets, with an empty one in it.
pub struct Buckets {
    child: Child,
    port: u16,
}

impl Buckets {
    /// Starts the program that `BIBLIOTAX_TEST_BUCKET_SERVER` names.
    pub fn start(garden: &Garden) -> Self {
        let program = needed("BIBLIOTAX_TEST_BUCKET_SERVER");
        std::fs::create_dir_all(garden.path("buckets/garden")).unwrap();
        let mut command = Command::new(program);
        command
            .arg(garden.path("buckets"))
            .args(["key", "secret"])
            .stdout(Stdio::piped())
            .stderr(Stdio::null());
        let mut child = command.spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        Self { child, port: line.trim().parse().unwrap() }
    }

    /// Where the server listens.
    pub fn address(&self) -> String {
        format!("127.0.0.1:{}", self.port)
    }

    /// A place in the bucket.
    pub fn place(&self, prefix: &str) -> Place {
        let env = vec![
            ("AWS_ENDPOINT", format!("http://{}", self.address())),
            ("AWS_ACCESS_KEY_ID", "key".to_owned()),
            ("AWS_SECRET_ACCESS_KEY", "secret".to_owned()),
            ("AWS_REGION", "garden".to_owned()),
        ];
        Place { path: format!("s3://garden/{prefix}"), env }
    }
}

impl Drop for Buckets {
    fn drop(&mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }
}

/// A place of its own in the bucket of the distributed store that `BIBLIOTAX_TEST_OBJECT_GATEWAY` names.
pub fn distributed_place(garden: &Garden) -> Place {
    let gateway = needed("BIBLIOTAX_TEST_OBJECT_GATEWAY").into_string().unwrap();
    let gateway = url::Url::parse(&gateway).unwrap();
    let endpoint = format!("http://{}:{}", gateway.host_str().unwrap(), gateway.port().unwrap());
    let env = vec![
        ("AWS_ENDPOINT", endpoint),
        ("AWS_ACCESS_KEY_ID", gateway.username().to_owned()),
        ("AWS_SECRET_ACCESS_KEY", gateway.password().unwrap().to_owned()),
        ("AWS_REGION", "us-east-1".to_owned()),
    ];
    // A garden's folder has a name that no other has.
    let own = garden.path("").file_name().unwrap().to_string_lossy().into_owned();
    Place { path: format!("s3:/{}/{own}", gateway.path()), env }
}
