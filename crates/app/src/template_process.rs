//! Templates of links, rendered in a process of its own: one that wants too much memory or time, or is nested so deeply that
//! the stack overflows, ends that process and not this one.

use std::ffi::OsString;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::sync::{Mutex, PoisonError};

use bibliotax_core::links::Links;
use bibliotax_store::shelf::{RenderTemplate, Template, TemplateFault};
use serde::{Deserialize, Serialize};

/// The word by which the program is asked to render; nobody types it.
const WORD: &str = "--render-templates";

/// Most bytes that rendering may take, beside the program itself.
#[cfg(unix)]
const MAX_MEMORY: u64 = 256 << 20;

/// Most seconds of computing in one run.
#[cfg(unix)]
const MAX_SECONDS: u64 = 20;

/// Longest line between the two processes, in bytes.
const MAX_LINE_LEN: u64 = 256 << 20;

/// A template and what it sees, as a line of JSON.
#[derive(Serialize)]
struct Asked<'a> {
    template: &'a Template,
    links: &'a Links,
}

#[derive(Deserialize)]
struct Job {
    template: Template,
    links: Links,
}

/// What came of it, as a line of JSON.
type Outcome = Result<String, TemplateFault>;

/// Renders in a process of its own, which is started when it is first needed.
#[derive(Debug, Default)]
pub struct TemplateProcess(Mutex<Option<Renderer>>);

#[derive(Debug)]
struct Renderer {
    process: Child,
    jobs: ChildStdin,
    outcomes: BufReader<ChildStdout>,
}

impl RenderTemplate for TemplateProcess {
    fn render(&self, template: &Template, links: &Links) -> Outcome {
        let mut renderer = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let outcome = match renderer.as_mut() {
            Some(renderer) => renderer.render(template, links),
            None => match Renderer::start() {
                Ok(started) => renderer.insert(started).render(template, links),
                Err(error) => {
                    return Err(TemplateFault::at_start(&format!("its process can't be started: {error}")));
                }
            },
        };
        outcome.unwrap_or_else(|_| {
            // However it ended, the next template gets another.
            renderer.take();
            let message = "it needs too much memory or time, or is nested too deeply";
            Err(TemplateFault::at_start(message))
        })
    }
}

impl Renderer {
    fn start() -> io::Result<Self> {
        // The file may have been replaced meanwhile; this is the one that runs.
        let itself =
            if cfg!(target_os = "linux") { "/proc/self/exe".into() } else { std::env::current_exe()? };
        let mut command = Command::new(itself);
        command.arg(WORD).env_clear().stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut process = command.spawn()?;
        let (Some(jobs), Some(outcomes)) = (process.stdin.take(), process.stdout.take()) else {
            return Err(io::ErrorKind::BrokenPipe.into());
        };
        Ok(Self { process, jobs, outcomes: BufReader::new(outcomes) })
    }

    fn render(&mut self, template: &Template, links: &Links) -> io::Result<Outcome> {
        let mut line = serde_json::to_vec(&Asked { template, links })?;
        line.push(b'\n');
        self.jobs.write_all(&line)?;
        self.jobs.flush()?;
        let mut outcome = String::new();
        (&mut self.outcomes).take(MAX_LINE_LEN).read_line(&mut outcome)?;
        Ok(serde_json::from_str(&outcome)?)
    }
}

impl Drop for Renderer {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

/// Whether a process with these arguments behind the program's name was started to render.
pub fn is_asked_for(mut arguments: impl Iterator<Item = OsString>) -> bool {
    arguments.next().is_some_and(|word| word == WORD)
}

/// Renders what `jobs` asks for, line by line, until it ends. Bounds this whole process first.
pub fn serve(jobs: impl BufRead, mut outcomes: impl Write) -> io::Result<()> {
    bound_this_process()?;
    let mut jobs = jobs;
    let mut line = String::new();
    while (&mut jobs).take(MAX_LINE_LEN).read_line(&mut line)? > 0 {
        let Job { template, links } = serde_json::from_str(&line)?;
        line.clear();
        writeln!(outcomes, "{}", serde_json::to_string(&template.rendered(&links))?)?;
    }
    Ok(())
}

/// Bounds what this process may take (`setrlimit`, POSIX.1-2024).
#[cfg(unix)]
fn bound_this_process() -> io::Result<()> {
    use rustix::process::{Resource, Rlimit, setrlimit};
    let limits = [(Resource::Data, MAX_MEMORY), (Resource::Cpu, MAX_SECONDS), (Resource::Core, 0)];
    for (resource, most) in limits {
        setrlimit(resource, Rlimit { current: Some(most), maximum: Some(most) })?;
    }
    Ok(())
}

#[cfg(not(unix))]
fn bound_this_process() -> io::Result<()> {
    Ok(())
}
