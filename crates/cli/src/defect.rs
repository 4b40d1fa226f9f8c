//! Defects of our own: where a panic was, as a failure.

use std::any::Any;
use std::panic::PanicHookInfo;
use std::sync::{Mutex, PoisonError};

use bibliotax_app::failure::Failure;

/// Where the last panic was.
static PANICKED_AT: Mutex<Option<String>> = Mutex::new(None);

/// Notes where somebody panicked, for the report of the defect and for the log of a server.
pub fn note_panic(panic: &PanicHookInfo<'_>) {
    let place = panic.location().map(ToString::to_string).unwrap_or_default();
    tracing::error!(place, "panicked");
    *PANICKED_AT.lock().unwrap_or_else(PoisonError::into_inner) = Some(place);
}

/// The failure behind a panic, which is always a defect of ours.
pub fn failure_of(panic: &(dyn Any + Send)) -> Failure {
    let text = panic.downcast_ref::<String>().cloned();
    let text = text.or_else(|| panic.downcast_ref::<&str>().map(|text| (*text).to_owned()));
    let place = PANICKED_AT.lock().unwrap_or_else(PoisonError::into_inner).take();
    Failure::new("defect", "this is a defect of bibliotax, not of your files")
        .because(text)
        .because(place.map(|place| format!("It is in {place}, of version {}.", env!("CARGO_PKG_VERSION"))))
        .advice("please report it with the command and, if you can, the manifest; no file on disk is damaged")
}

#[cfg(test)]
mod tests {
    use std::panic;

    use super::*;

    #[test]
    fn a_defect_tells_its_place() {
        panic::set_hook(Box::new(note_panic));
        let caught = panic::catch_unwind(|| panic!("the moss is gone")).unwrap_err();
        let _ = panic::take_hook();
        let shown = failure_of(caught.as_ref()).because.join(" ");
        assert!(shown.contains("the moss is gone") && shown.contains("src/defect.rs:"), "{shown}");
    }
}
