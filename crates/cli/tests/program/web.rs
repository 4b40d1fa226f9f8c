//! A real web server on loopback that serves the files of a garden.

use std::fs;
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::Duration;

use crate::garden::Garden;
use crate::outside::needed;

/// A web server that runs until this goes.
pub struct Web {
    child: Child,
    pub url: String,
}

impl Web {
    /// Serves the garden's folder `web` with the program that `BIBLIOTAX_TEST_WEB_SERVER` names (nginx), which notes each request
    /// with the credentials that came with it.
    pub fn start(garden: &Garden) -> Self {
        fs::create_dir_all(garden.path("web")).unwrap();
        let port = free_port();
        let users = garden.path("nginx/users").display().to_string();
        garden.write("nginx/users", "moss:{PLAIN}moss-under-the-third-stone\n");
        let server = format!(
            "server {{ listen 127.0.0.1:{port}; root {};\n\
             location /closed/ {{ auth_basic closed; auth_basic_user_file {users}; }}\n\
             location /closed-sent-on/ {{ auth_basic closed; auth_basic_user_file {users};\n\
             rewrite ^/closed-sent-on/(.*)$ http://localhost:{port}/closed/$1 redirect; }}\n\
             location /sent-on/ {{ rewrite ^/sent-on/(.*)$ http://localhost:{port}/$1 redirect; }} }}",
            garden.path("web").display()
        );
        Self::with(garden, &server, port)
    }

    /// Runs the same program with a `server` of its configuration, which listens on this port.
    pub fn with(garden: &Garden, server: &str, port: u16) -> Self {
        let program = needed("BIBLIOTAX_TEST_WEB_SERVER");
        fs::create_dir_all(garden.path("nginx")).unwrap();
        let folder = garden.path("nginx").display().to_string();
        let paths = ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"];
        let paths: String = paths.iter().map(|kind| format!("{kind}_temp_path {folder}/{kind};\n")).collect();
        let config = format!(
            "daemon off; worker_processes 1; pid {folder}/pid; error_log {folder}/errors;\nevents {{}}\nhttp {{\n{paths}\
             log_format asked '$request [$http_authorization] $http_host $status'; access_log {folder}/asked asked;\n{server} }}\n"
        );
        garden.write("nginx/config", &config);
        let mut command = Command::new(program);
        command.arg("-e").arg(format!("{folder}/errors")).arg("-c").arg(garden.path("nginx/config"));
        let child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        wait_for(port);
        Self { child, url: format!("http://127.0.0.1:{port}") }
    }

    /// A line for each request: its path, its credentials, and the status of the answer.
    pub fn asked(garden: &Garden) -> String {
        garden.read("nginx/asked")
    }
}

impl Drop for Web {
    fn drop(&mut self) {
        // Its workers end with it only if it is asked to end.
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}

/// A port that nobody listens on.
pub fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// Waits until somebody listens on a port.
pub fn wait_for(port: u16) {
    let listens = |_| {
        let connected = TcpStream::connect(("127.0.0.1", port)).is_ok();
        if !connected {
            thread::sleep(Duration::from_millis(10));
        }
        connected.then_some(())
    };
    (0..1000).find_map(listens).unwrap();
}
