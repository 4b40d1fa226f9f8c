//! Kits of any bytes: opening ends, and what came into the store is whole.

#![no_main]

use bibliotax_core::progress::{ProgressEvent, ProgressListener};
use bibliotax_store::kit;
use bibliotax_store::store::Store;
use libfuzzer_sys::fuzz_target;

struct NoProgress;

impl ProgressListener for NoProgress {
    fn on_event(&self, _: &ProgressEvent) {}
}

fuzz_target!(|data: &[u8]| {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.kit");
    std::fs::write(&path, data).unwrap();
    let store = Store::open(&folder.path().join("store")).unwrap();
    let _ = kit::open(&path, &store, &NoProgress);
    assert_eq!(store.damaged().unwrap(), []);
});
