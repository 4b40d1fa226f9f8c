//! The `bibliotax` program: commands, and everything that is shown.
//!
//! | room | what lives there |
//! |---|---|
//! | `args`, `global`, `help` | the command line as values; the help, grouped by stage |
//! | `commands` | one file for each command |
//! | `project` | the folder with its manifest, lock, shelf and registries |
//! | `running` | other programs, run with the links' paths in their environment |
//! | `switches` | variables of the environment that are on or off |
//! | `rendering` | templates of links, rendered in a process of its own |
//! | `machine`, `tools` | this machine, the programs on it and their versions |
//! | `ui`, `progress`, `waiting`, `show` | all writing to the terminal |
//! | `failure`, `codes` | what a failure says, and the exit status that it leads to |
//! | `failing` | failures shown, and how the program ends |
//! | `searching` | the options of every command that resolves |

mod args;
mod clock;
mod codes;
mod commands;
mod credentials;
mod failing;
mod failure;
mod global;
mod help;
mod kept;
mod machine;
mod progress;
mod project;
mod rendering;
mod running;
mod searching;
mod show;
mod switches;
mod tools;
mod ui;
mod waiting;

use std::panic;
use std::process::ExitCode;

use crate::codes::Exit;
use crate::ui::Ui;

fn main() -> ExitCode {
    panic::set_hook(Box::new(failure::note_panic));
    if rendering::is_asked_for() {
        return rendering::answer();
    }
    let args = match args::parse() {
        Ok(args) => args,
        Err(error) => return failing::end(ui::show_words(&error)).into(),
    };
    let ui = Ui::new(&args.global);
    waiting::show_where_progress_is(&ui);
    let exit =
        match panic::catch_unwind(|| switches::check().and_then(|()| args.command.run(&args.global, &ui))) {
            Ok(Ok(exit)) => exit,
            Ok(Err(failure)) => ui.fail(&failure),
            Err(panic) => ui.fail(&failure::defect(panic.as_ref())),
        };
    bibliotax_registry::sources::git::end_all();
    failing::end(exit).into()
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.status())
    }
}
