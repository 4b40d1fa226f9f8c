//! `install --watch`: what is saved is on the shelf soon after, and an error harms nothing.

use std::io::{BufRead, BufReader};
use std::process::Child;
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use crate::garden::Garden;

/// A run that watches, with its lines as they come.
struct Watching {
    child: Child,
    lines: Receiver<String>,
}

impl Watching {
    fn start(garden: &Garden) -> Self {
        // One pipe for both, so that lines come in the order in which they were written.
        let (out, into) = std::io::pipe().unwrap();
        let mut command = garden.command("gate", &["install", "--watch"]);
        let child = command.stdout(into.try_clone().unwrap()).stderr(into).spawn().unwrap();
        drop(command);
        let (tell, lines) = channel();
        std::thread::spawn(move || {
            BufReader::new(out).lines().map_while(Result::ok).try_for_each(|line| tell.send(line))
        });
        Self { child, lines }
    }

    /// Waits for a line that has this in it.
    fn on_event(&self, wanted: &str) {
        let mut heard = Vec::new();
        while let Ok(line) = self.lines.recv_timeout(Duration::from_secs(30)) {
            heard.push(line);
            if heard.last().is_some_and(|line| line.contains(wanted)) {
                return;
            }
        }
        panic!("{wanted:?} was not heard, but {heard:#?}");
    }
}

impl Drop for Watching {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn what_is_saved_is_resolved_installed_and_rendered_and_errors_leave_the_last_good_shelf() {
    let garden = Garden::needing(&["dew-point 1.4.0", "moss-map 1.0.0"], "dew-point = \"1\"");
    let manifest = garden.read("gate/bibliotax.toml");
    let watching = Watching::start(&garden);
    watching.on_event("1 package installed");
    watching.on_event("watching bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}moss-map = \"1\"\n"));
    watching.on_event("added  moss-map");
    watching.on_event("watching");
    assert_eq!(garden.shelf(), ["dew-point 1.4.0", "moss-map 1.0.0"]);
    garden.write("gate/bibliotax.toml", &format!("{manifest}moss-map = \"5\"\n"));
    watching.on_event("resolve.conflict");
    watching.on_event("watching");
    garden.write("gate/bibliotax.toml", &format!("{manifest}moss-map =\n"));
    watching.on_event("manifest.syntax");
    watching.on_event("watching");
    assert_eq!(garden.shelf(), ["dew-point 1.4.0", "moss-map 1.0.0"], "the last good shelf");
    // As an editor saves that puts a new file in the place of the old one.
    garden.write("gate/new.toml", &manifest);
    std::fs::rename(garden.path("gate/new.toml"), garden.path("gate/bibliotax.toml")).unwrap();
    watching.on_event("gone  moss-map");
    watching.on_event("watching");
    garden.write("gate/links/names.txt", "{% for package in packages %}{{ package.name }}\n{% endfor %}");
    watching.on_event("watching");
    let names =
        || std::fs::read_to_string(garden.path("gate/shelf/links/gate-kiosk.names.txt")).unwrap_or_default();
    let begun = std::time::Instant::now();
    while names() != "dew-point\n" && begun.elapsed() < Duration::from_secs(30) {
        std::thread::yield_now();
    }
    assert_eq!(names(), "dew-point\n");
}

#[test]
fn without_a_project_there_is_nothing_to_watch() {
    let garden = Garden::bare();
    assert_eq!(garden.run(&["install", "--watch"]).expect(3).code(), "manifest.missing");
}
