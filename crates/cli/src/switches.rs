//! Variables of the environment that are on or off.

use crate::failure::Failure;

/// Ask nobody over a network.
pub const OFFLINE: &str = "BIBLIOTAX_OFFLINE";

/// All of them.
const ALL: [&str; 1] = [OFFLINE];

/// Whether a variable is on; what is neither on nor off was refused when the program began.
pub fn is_on(name: &str) -> bool {
    read(name) == Some(true)
}

/// An error for a variable that says neither on nor off: whoever sets it means something by it.
pub fn check() -> Result<(), Failure> {
    let Some(name) = ALL.into_iter().find(|name| read(name).is_none()) else { return Ok(()) };
    let said = std::env::var_os(name).unwrap_or_default();
    let message = format!("{name} is `{}`, which is neither on nor off", said.to_string_lossy());
    Err(Failure::new("environment.switch", message).mend(format!("set it to 1 or to 0: `{name}=1`")))
}

/// Whether a variable is on or off, in any of the usual words; `None` if it says something else.
fn read(name: &str) -> Option<bool> {
    let said = std::env::var_os(name).unwrap_or_default();
    meant(&said.to_string_lossy())
}

fn meant(said: &str) -> Option<bool> {
    match said.trim().to_ascii_lowercase().as_str() {
        "1" | "true" | "yes" | "on" => Some(true),
        "" | "0" | "false" | "no" | "off" => Some(false),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_usual_words_are_on_or_off_in_any_case() {
        for (said, is) in [
            ("1", Some(true)),
            ("TRUE", Some(true)),
            ("Yes", Some(true)),
            ("on", Some(true)),
            ("", Some(false)),
            ("0", Some(false)),
            ("False", Some(false)),
            ("no", Some(false)),
            (" OFF ", Some(false)),
            ("2", None),
            ("offline", None),
        ] {
            assert_eq!(meant(said), is, "{said:?}");
        }
    }
}
