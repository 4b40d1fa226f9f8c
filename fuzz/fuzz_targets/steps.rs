//! Ticks of steps of any text: what can't be read is no tick, and one that can is written and read back the same.

#![no_main]

use bibliotax_store::ledger::{FOLDER, LedgerFolder};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let project = tempfile::tempdir().unwrap();
    let folder = project.path().join(FOLDER);
    std::fs::create_dir(&folder).unwrap();
    std::fs::write(folder.join("moss-map+wet"), text).unwrap();
    let ledger = LedgerFolder::of(project.path());
    let read = ledger.read().unwrap();
    for (name, tick) in &read {
        ledger.tick(name, tick).unwrap();
    }
    assert_eq!(ledger.read().unwrap(), read);
});
