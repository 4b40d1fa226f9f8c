//! The `bibliotax` program: the command line in front of `bibliotax-app`.
//!
//! | module | what it has |
//! |---|---|
//! | `args` | the command line as values, one file for each command: its options, and which use case it runs |
//! | `render` | reports of use cases as text, one file for each command |
//! | `json` | the JSON that commands print, as types with schemas |
//! | `ui`, `progress`, `drawn_bar`, `waiting`, `pager` | all writing to the terminal |
//! | `picking` | lists in which a person searches and marks |
//! | `complete`, `completion_script` | what a word that is typed could be; the scripts with which shells ask for that |
//! | `global`, `help` | the options of every command; the help, grouped by stage |
//! | `environment`, `run` | what the environment says; what a command runs with |
//! | `exit_status`, `defect` | how the program ends |
//! | `server_log`, `demo` | the log of a server; the demo |

mod args;
mod complete;
mod completion_script;
mod defect;
mod demo;
mod drawn_bar;
mod environment;
mod exit_status;
mod global;
mod help;
mod json;
mod pager;
mod picking;
mod progress;
mod render;
mod run;
mod server_log;
mod ui;
mod waiting;

use std::panic;
use std::process::ExitCode;

use bibliotax_app::failure::Failure;
use bibliotax_app::template_process;
use clap::ValueEnum;

use crate::args::{Arguments, Refused};
use crate::exit_status::Exit;
use crate::global::Color;
use crate::run::Run;
use crate::ui::Ui;

fn main() -> ExitCode {
    panic::set_hook(Box::new(defect::note_panic));
    if template_process::is_asked_for(std::env::args_os().skip(1)) {
        let served = template_process::serve(std::io::stdin().lock(), std::io::stdout());
        return if served.is_ok() { ExitCode::SUCCESS } else { ExitCode::FAILURE };
    }
    match complete::answer() {
        Ok(true) => return ExitCode::SUCCESS,
        Ok(false) => {}
        Err(error) => return ui::show_help(&error).into(),
    }
    let arguments = match args::parse() {
        Ok(arguments) => arguments,
        Err(Refused::Help(help)) => {
            collect_where(!args::is_given("--no-pager"));
            let exit = ui::show_help(&help);
            ui::show_collected(true);
            return render::failure::end(exit).into();
        }
        Err(Refused::Usage(failure)) => return refuse(&failure).into(),
    };
    anstream::ColorChoice::from(arguments.global.color.unwrap_or(Color::Auto)).write_global();
    let ui = Ui::new(&arguments.global, &arguments.words);
    waiting::show_where_progress_is(&ui);
    collect_where(!arguments.global.no_pager && !ui.is_json() && arguments.command.is_paged());
    let exit = match panic::catch_unwind(|| run(&arguments, &ui)) {
        Ok(Ok(exit)) => exit,
        Ok(Err(failure)) => ui.fail(&failure),
        Err(panic) => ui.fail(&defect::failure_of(panic.as_ref())),
    };
    ui::show_collected(true);
    bibliotax_registry::sources::git::end_all();
    render::failure::end(exit).into()
}

/// Collects results for a pager, where one is wanted and possible.
fn collect_where(is_wanted: bool) {
    if is_wanted && pager::is_possible() {
        ui::collect_for_pager();
    }
}

/// Shows what is wrong with a command line, in the form and with the colours that it asks for as far as it can be read.
fn refuse(failure: &Failure) -> Exit {
    let color = args::value_of("--color").and_then(|color| Color::from_str(color.to_str()?, true).ok());
    anstream::ColorChoice::from(color.unwrap_or(Color::Auto)).write_global();
    Ui::for_usage(args::value_of("--format").is_some_and(|format| format == "json")).fail(failure)
}

fn run(arguments: &Arguments, ui: &Ui) -> Result<Exit, Failure> {
    arguments.command.check_format(arguments.global.format)?;
    let environment = environment::read()?;
    if let (None, Some(color)) = (arguments.global.color, environment.settings.settings.color) {
        anstream::ColorChoice::from(Color::from(color)).write_global();
    }
    let folder = args::working_folder(&arguments.global)?;
    arguments.command.run(&Run { ui, environment, folder })
}
