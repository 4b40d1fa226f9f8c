//! The scripts with which shells ask the program what a word could be.

use clap_complete::env::Shells;

/// The variable with which a shell asks; its value is the shell's name.
pub const ASKED_BY: &str = "BIBLIOTAX_COMPLETE";

/// The program's name.
pub const PROGRAM: &str = "bibliotax";

/// The end of the script for zsh: where the shell loads it as a function when Tab is pressed first, it answers that, too.
const ZSH_END: &str =
    "\nif [ \"$funcstack[1]\" = \"_bibliotax\" ]; then\n    _clap_dynamic_completer_bibliotax \"$@\"\nfi\n";

/// The script that makes a shell ask; `None` for a shell that isn't known.
pub fn script(shell: &str) -> Option<String> {
    let shells = Shells::builtins();
    let shell = shells.completer(shell)?;
    let mut script = Vec::new();
    // Writing into memory can't fail.
    let _ = shell.write_registration(ASKED_BY, PROGRAM, PROGRAM, PROGRAM, &mut script);
    let script = String::from_utf8_lossy(&script).into_owned();
    Some(if shell.is("zsh") { script + ZSH_END } else { script })
}
