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
        let program = needed("BIBLIOTAX_TEST_WEB_SERVER");
        fs::create_dir_all(garden.path("web")).unwrap();
        fs::create_dir_all(garden.path("nginx")).unwrap();
        let (folder, port) = (garden.path("nginx").display().to_string(), free_port());
        let paths = ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"];
        let paths: String = paths.iter().map(|kind| format!("{kind}_temp_path {folder}/{kind};\n")).collect();
        let config = format!(
            "daemon off; worker_processes 1; pid {folder}/pid; error_log {folder}/errors;\nevents {{}}\nhttp {{\n{paths}\
             log_format asked '$request [$http_authorization] $http_host $status'; access_log {folder}/asked asked;\n\
             server {{ listen 127.0.0.1:{port}; root {};\n\
             location /closed/ {{ auth_basic closed; auth_basic_user_file {folder}/users; }}\n\
             location /closed-sent-on/ {{ auth_basic closed; auth_basic_user_file {folder}/users;\n\
             rewrite ^/closed-sent-on/(.*)$ http://localhost:{port}/closed/$1 redirect; }}\n\
             location /sent-on/ {{ rewrite ^/sent-on/(.*)$ http://localhost:{port}/$1 redirect; }} }} }}\n",
            garden.path("web").display()
        );
        garden.write("nginx/config", &config);
        garden.write("nginx/users", "moss:{PLAIN}moss-under-the-third-stone\n");
        let mut command = Command::new(program);
        command.arg("-e").arg(format!("{folder}/errors")).arg("-c").arg(garden.path("nginx/config"));
        let child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        wait_for(port);
        Self { child, url: format!("http://127.0.0.1:{port}") }
    }

    /// A line for each request: what was asked for, with which credentials, and the status of the answer.
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
