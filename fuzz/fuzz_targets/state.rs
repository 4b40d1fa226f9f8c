//! States of a shelf of any text: every place in one that is read is a name on the shelf, or one in a folder of it.

#![no_main]

use bibliotax_store::shelf::State;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let Some(state) = State::parse(text) else { return };
    for place in state.all_places() {
        let is_name = |name: &str| !matches!(name, "" | "." | "..") && !name.contains(['\\', '\0']);
        assert!(place.split('/').count() <= 2 && place.split('/').all(is_name), "{place:?}");
    }
    let written = state.to_string();
    assert_eq!(State::parse(&written).map(|state| state.to_string()), Some(written));
});
