//! A real registry of containers on loopback, open to all, to who has a password, or to who gets a token elsewhere.

use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{SystemTime, UNIX_EPOCH};

use data_encoding::{BASE64, BASE64URL_NOPAD};
use rcgen::{CertificateParams, KeyPair};
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair};
use serde_json::json;

use crate::garden::Garden;
use crate::outside::needed;
use crate::web::{free_port, wait_for};

/// The user who may come in.
pub const USER: &str = "moss";

/// The user's password.
pub const PASSWORD: &str = "moss-under-the-fifth-stone";

/// How the user and the password are sent.
pub const BASIC: &str = "bW9zczptb3NzLXVuZGVyLXRoZS1maWZ0aC1zdG9uZQ==";

/// The password as the registry knows it.
const HASHED: &str = "moss:$2y$05$AUtkLWxF4c0TRU3GLVShSumY7SlnHIJlGdbrlyArOjEit0NUfOzPW";

/// Who is let in.
#[derive(Clone, Copy)]
pub enum Open {
    ToAll,
    WithPassword,
    /// That is given out by another server, for repositories but not for the list of them.
    WithToken,
}

/// A registry of containers that runs until this goes.
pub struct Containers {
    child: Child,
    /// The host with its port.
    pub host: String,
    tokens: Option<Tokens>,
}

impl Containers {
    /// Starts the program that `BIBLIOTAX_TEST_CONTAINER_REGISTRY` names.
    pub fn start(garden: &Garden, open: Open) -> Self {
        let program = needed("BIBLIOTAX_TEST_CONTAINER_REGISTRY");
        let (port, place) = (free_port(), garden.path("containers").display().to_string());
        let tokens = matches!(open, Open::WithToken).then(|| Tokens::start(garden));
        let auth = match (&open, &tokens) {
            (Open::WithPassword, _) => {
                format!("auth: {{htpasswd: {{realm: garden, path: {place}/users}}}}\n")
            }
            (Open::WithToken, Some(tokens)) => format!(
                "auth: {{token: {{realm: \"{}\", service: garden, issuer: gardener, rootcertbundle: {place}/root.pem}}}}\n",
                tokens.url
            ),
            _ => String::new(),
        };
        let config = format!(
            "version: 0.1\nlog: {{level: info, accesslog: {{disabled: false}}}}\n\
             storage: {{filesystem: {{rootdirectory: {place}/data}}}}\nhttp: {{addr: 127.0.0.1:{port}}}\n{auth}"
        );
        garden.write("containers/config.yml", &config);
        garden.write("containers/users", HASHED);
        let log = fs::File::create(garden.path("containers/log")).unwrap();
        let mut command = Command::new(program);
        command.args(["serve", &format!("{place}/config.yml")]);
        command.stdout(log.try_clone().unwrap()).stderr(log).stdin(Stdio::null());
        let child = command.spawn().unwrap();
        wait_for(port);
        Self { child, host: format!("127.0.0.1:{port}"), tokens }
    }

    /// Where packages are in it.
    pub fn place(&self) -> String {
        format!("oci://{}/fernhollow/packages", self.host)
    }

    /// What was asked of it: methods, paths and statuses.
    pub fn asked(garden: &Garden) -> Vec<String> {
        let log = String::from_utf8_lossy(&fs::read(garden.path("containers/log")).unwrap()).into_owned();
        let request = |line: &str| {
            let (_, rest) = line.split_once("] \"")?;
            let (request, rest) = rest.split_once(" HTTP/1.1\" ")?;
            Some(format!("{request} {}", rest.split(' ').next()?))
        };
        log.lines().filter_map(request).collect()
    }

    /// The heads of all requests for tokens.
    pub fn asked_for_tokens(&self) -> String {
        self.tokens.iter().map(|tokens| tokens.heads.lock().unwrap().clone()).collect()
    }

    /// Puts something in place with nothing but HTTP; the status.
    pub fn put(&self, path: &str, media_type: &str, body: &str) -> u16 {
        let mut stream = TcpStream::connect(&self.host).unwrap();
        let length = body.len();
        write!(
            stream,
            "PUT /v2/{path} HTTP/1.1\r\nhost: {}\r\nconnection: close\r\ncontent-type: {media_type}\r\ncontent-length: {length}\r\n\r\n{body}",
            self.host
        )
        .unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).unwrap();
        answer[9..12].parse().unwrap()
    }

    /// What is at a path, asked for with nothing but HTTP.
    pub fn get(&self, path: &str, media_type: &str) -> String {
        let mut stream = TcpStream::connect(&self.host).unwrap();
        write!(
            stream,
            "GET /v2/{path} HTTP/1.1\r\nhost: {}\r\nconnection: close\r\naccept: {media_type}\r\n\r\n",
            self.host
        )
        .unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).unwrap();
        answer.split_once("\r\n\r\n").unwrap().1.to_owned()
    }
}

impl Drop for Containers {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A server that gives out tokens (the token authentication of the OCI Distribution Specification's registries).
struct Tokens {
    url: String,
    heads: Arc<Mutex<String>>,
}

impl Tokens {
    /// Starts it, and leaves in the garden the certificate of who signs its tokens.
    fn start(garden: &Garden) -> Self {
        let key = KeyPair::generate().unwrap();
        let certificate =
            CertificateParams::new(vec!["gardener".to_owned()]).unwrap().self_signed(&key).unwrap();
        garden.write("containers/root.pem", &certificate.pem());
        let chain = BASE64.encode(certificate.der());
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let url = format!("http://{}/token", listener.local_addr().unwrap());
        let heads = Arc::<Mutex<String>>::default();
        let noted = heads.clone();
        thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                answer(stream, &noted, &key, &chain);
            }
        });
        Self { url, heads }
    }
}

/// Answers one request: a token, given the password, for the requested repositories.
fn answer(mut stream: TcpStream, noted: &Mutex<String>, key: &KeyPair, chain: &str) {
    let (mut head, mut byte) = (Vec::new(), [0]);
    while !head.ends_with(b"\r\n\r\n") && stream.read(&mut byte).is_ok_and(|read| read == 1) {
        head.push(byte[0]);
    }
    let head = String::from_utf8(head).unwrap();
    noted.lock().unwrap().push_str(&head);
    let is_known = head.contains(&format!("Basic {BASIC}"));
    let line = head.lines().next().unwrap_or_default();
    let pairs = line.split(['?', '&', ' ']).filter_map(|pair| pair.strip_prefix("scope="));
    let scopes = pairs.map(|scope| scope.replace("%3A", ":").replace("%2F", "/").replace("%2C", ","));
    let access = scopes.filter_map(|scope| {
        let (kind, rest) = scope.split_once(':')?;
        let (name, actions) = rest.rsplit_once(':')?;
        let actions: Vec<&str> = actions.split(',').collect();
        (kind == "repository").then(|| json!({ "type": kind, "name": name, "actions": actions }))
    });
    let body = json!({ "token": token(&access.collect::<Vec<_>>(), key, chain) }).to_string();
    let (status, body) = if is_known { ("200 OK", body) } else { ("401 Unauthorized", "{}".to_owned()) };
    let length = body.len();
    let _ =
        write!(stream, "HTTP/1.1 {status}\r\nconnection: close\r\ncontent-length: {length}\r\n\r\n{body}");
}

/// A signed token (RFC 7519) for this access.
fn token(access: &[serde_json::Value], key: &KeyPair, chain: &str) -> String {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs();
    let head = json!({ "typ": "JWT", "alg": "ES256", "x5c": [chain] });
    let claims = json!({ "iss": "gardener", "sub": USER, "aud": "garden", "exp": now + 300, "nbf": now - 10,
        "iat": now - 10, "jti": format!("{now}"), "access": access });
    let signed = [head, claims].map(|part| BASE64URL_NOPAD.encode(part.to_string().as_bytes())).join(".");
    let random = SystemRandom::new();
    let pair =
        EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &key.serialize_der(), &random).unwrap();
    let signature = pair.sign(&random, signed.as_bytes()).unwrap();
    format!("{signed}.{}", BASE64URL_NOPAD.encode(signature.as_ref()))
}
