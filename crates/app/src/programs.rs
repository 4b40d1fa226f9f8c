//! Runs programs with the links' paths in their environment.
//!
//! | variable | holds |
//! |---|---|
//! | `BIBLIOTAX_ROLE_…`, `BIBLIOTAX_PACKAGE_…` | what the links' `.env` file says, from the root of the disk |
//! | `BIBLIOTAX_PROJECT`, `BIBLIOTAX_TARGET` | the project's folder, and the target where there is one |
//! | `BIBLIOTAX_LINKS` | the file of links, where there is one |
//! | `PATH` | the folders of the role `bin` of what the project itself needs, after the system's, or before where a need says so |
//!
//! Tokens for registries are taken out: programs of packages that nobody chose by name may run there.

use std::env;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus};

use bibliotax_core::links::{LinkedPackage, Links};
use bibliotax_core::manifest::RoleVariable;
use bibliotax_core::workspace::Project;
use bibliotax_store::shelf::SEPARATOR;

use crate::credentials::TOKENS;
use crate::environment::Environment;
use crate::failure::Failure;
use crate::machine::this_machine;
use crate::workspace::{WorkspaceFolder, declared_target};

/// The role whose folders programs are looked for in.
const PROGRAMS: &str = "bin";

/// What a program finds in its environment beside what is there.
pub struct ProgramVariables(Vec<(String, OsString)>);

impl ProgramVariables {
    /// What programs of a project find that are run for a target.
    pub fn of(
        workspace: &WorkspaceFolder,
        project: &Project,
        target: Option<&str>,
        environment: &Environment,
    ) -> Result<Self, Failure> {
        let (shelf, name) = (workspace.shelf(), project.name());
        let root = std::path::absolute(&workspace.root).unwrap_or_else(|_| workspace.root.clone());
        let root = if project.folder.is_empty() { root } else { root.join(&project.folder) };
        let mut all: Vec<(String, OsString)> = vec![("BIBLIOTAX_PROJECT".into(), root.clone().into())];
        all.extend(target.map(|target| ("BIBLIOTAX_TARGET".into(), target.into())));
        if let Some(links) = shelf.links(name, target)? {
            let file = shelf.links_file(name, target);
            all.push(("BIBLIOTAX_LINKS".into(), std::path::absolute(&file).unwrap_or(file).into()));
            let variables = links.variables(SEPARATOR).into_iter();
            all.extend(variables.map(|(name, value)| (name, value.into())));
            all.extend(role_variables(&links, project));
            all.extend(path_with(&links, project, environment).map(|path| ("PATH".into(), path)));
        }
        Ok(Self(all))
    }

    /// Gives all of it to a program that is going to be run, and tokens for registries only where it is to have them.
    pub fn put_into(&self, command: &mut Command, with_tokens: bool) {
        command.envs(self.0.iter().map(|(name, value)| (name, value)));
        if !with_tokens {
            command.env_remove(TOKENS);
        }
    }
}

/// The variables that the manifest says hold what packages expose in a role, before what they hold already.
fn role_variables(links: &Links, project: &Project) -> Vec<(String, OsString)> {
    let variable = |(name, said): (&String, &RoleVariable)| {
        let separator = said.separator.clone().unwrap_or_else(|| SEPARATOR.to_string());
        let own = links.roles.get(&said.role).into_iter().flatten();
        let own: Vec<String> = own.map(|value| format!("{}{value}", said.prefix)).collect();
        let there = env::var_os(name).filter(|there| !there.is_empty());
        let mut value = OsString::from(own.join(&separator));
        if let Some(there) = there {
            if !value.is_empty() {
                value.push(&separator);
            }
            value.push(there);
        }
        (name.clone(), value)
    };
    let all = project.manifest.environment.iter().map(variable);
    all.filter(|(_, value)| !value.is_empty()).collect()
}

/// The search path with the programs of what a project itself needs; `None` where there are none.
fn path_with(links: &Links, project: &Project, environment: &Environment) -> Option<OsString> {
    let comes_first = |package: &LinkedPackage| {
        let needs = project.manifest.needs.iter().filter(|need| need.programs_first);
        needs.into_iter().any(|need| package.needed_as.contains(&need.package))
    };
    let direct = links.packages.iter().filter(|package| !package.needed_as.is_empty());
    let (first, last): (Vec<_>, Vec<_>) = direct.partition(|package| comes_first(package));
    let (first, last) = (program_folders(&first), program_folders(&last));
    if first.is_empty() && last.is_empty() {
        return None;
    }
    // An empty entry would mean the program's own working folder.
    let system = env::split_paths(&environment.program_folders).filter(|path| !path.as_os_str().is_empty());
    env::join_paths(first.into_iter().chain(system).chain(last)).ok()
}

/// The folders in which packages have programs, each once.
fn program_folders(packages: &[&LinkedPackage]) -> Vec<PathBuf> {
    let folder = |path: &String| {
        let path = PathBuf::from(path);
        if path.is_file() { path.parent().map(Path::to_owned) } else { Some(path) }
    };
    let paths = packages.iter().filter_map(|package| package.exposes.get(PROGRAMS)).flatten();
    let mut folders: Vec<PathBuf> = paths.filter_map(folder).collect();
    folders.dedup();
    folders
}

/// The target that programs on this machine are run for: the requested one, the only one, or the only one that is for
/// such a machine.
pub fn target_here(project: &Project, wanted: Option<&str>) -> Result<Option<String>, Failure> {
    let targets = &project.targets;
    if let Some(wanted) = wanted {
        declared_target(targets, wanted)?;
        return Ok(Some(wanted.to_owned()));
    }
    if let [] | [_] = targets.as_slice() {
        return Ok(targets.first().map(|target| target.name.clone()));
    }
    let machine = this_machine();
    let is_here = |target: &&bibliotax_core::facet::Target| {
        machine.values.iter().all(|(facet, here)| target.values.get(facet).is_none_or(|there| there == here))
    };
    let here: Vec<&str> = targets.iter().filter(is_here).map(|target| target.name.as_str()).collect();
    match here.as_slice() {
        [one] => Ok(Some((*one).to_owned())),
        _ => Err(which_target(targets.iter().map(|target| target.name.as_str()), here.len())),
    }
}

fn which_target<'t>(targets: impl Iterator<Item = &'t str>, here: usize) -> Failure {
    let why = match here {
        0 => "none of the targets is for a machine like this one",
        _ => "several targets are for a machine like this one",
    };
    let targets: Vec<&str> = targets.collect();
    Failure::new("task.which-target", format!("the target isn't clear: {why}"))
        .advice(format!("choose one with `--target`: {}", targets.join(", ")))
}

/// Runs a program to its end; its status as a shell tells it. What this process is sent meanwhile, the program gets.
pub fn run_to_end(command: &mut Command) -> Result<u8, Failure> {
    let shown = PathBuf::from(command.get_program());
    let signals = signals::Caught::new();
    let mut child = command.spawn().map_err(|error| cannot_start(&shown, &error))?;
    signals.pass_to(&child);
    Ok(status(wait(&mut child, &shown)?))
}

/// Lets a program take this process's place; where a system can't do that, runs it to its end: its status.
#[cfg(unix)]
pub fn exec(command: &mut Command) -> Result<u8, Failure> {
    use std::os::unix::process::CommandExt;
    let error = command.exec();
    Err(cannot_start(Path::new(command.get_program()), &error))
}

#[cfg(not(unix))]
pub fn exec(command: &mut Command) -> Result<u8, Failure> {
    run_to_end(command)
}

fn wait(child: &mut Child, program: &Path) -> Result<ExitStatus, Failure> {
    child.wait().map_err(|error| cannot_start(program, &error))
}

fn cannot_start(program: &Path, error: &std::io::Error) -> Failure {
    let is_missing = error.kind() == std::io::ErrorKind::NotFound;
    let code = if is_missing { "task.no-program" } else { "task.not-started" };
    let failure = Failure::new(code, format!("{} can't be started", program.display()));
    let failure = failure.because([format!("The system says: {error}.")]);
    match error.kind() {
        std::io::ErrorKind::NotFound => failure.advice(
            "check the name; built-in commands and pipes need a shell: `bibliotax with -- sh -c '…'`",
        ),
        _ => failure,
    }
}

/// The status of a program as a shell tells it: 128 and the signal's number for one that a signal ended.
fn status(status: ExitStatus) -> u8 {
    #[cfg(unix)]
    let by_signal = std::os::unix::process::ExitStatusExt::signal(&status).map(|signal| 128 + signal);
    #[cfg(not(unix))]
    let by_signal = None;
    u8::try_from(status.code().or(by_signal).unwrap_or(1)).unwrap_or(1)
}

/// What a process is sent while a program runs that it waits for.
#[cfg(unix)]
mod signals {
    use std::io::IsTerminal;
    use std::process::Child;

    use rustix::process::{Pid, Signal, kill_process};
    use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};
    use signal_hook::iterator::Signals;

    /// Signals that no longer end this process, from before the program starts, so that none is lost.
    pub struct Caught(Option<Signals>);

    impl Caught {
        pub fn new() -> Self {
            // Without them the program still runs, and ends by itself.
            Self(Signals::new([SIGHUP, SIGINT, SIGQUIT, SIGTERM]).ok())
        }

        /// Passes on what comes, but for what a terminal has sent to the program already.
        pub fn pass_to(self, child: &Child) {
            let Some(mut signals) = self.0 else { return };
            let child = Pid::from_child(child);
            let has_terminal = std::io::stdin().is_terminal();
            std::thread::spawn(move || {
                for signal in signals.forever() {
                    let is_passed = match signal {
                        SIGINT | SIGQUIT => !has_terminal,
                        _ => true,
                    };
                    if let (true, Some(signal)) = (is_passed, Signal::from_named_raw(signal)) {
                        let _ = kill_process(child, signal);
                    }
                }
            });
        }
    }
}

#[cfg(not(unix))]
mod signals {
    pub struct Caught;

    impl Caught {
        pub fn new() -> Self {
            Self
        }

        /// Other systems send what ends a process to all that belong together.
        pub fn pass_to(self, _: &std::process::Child) {}
    }
}
