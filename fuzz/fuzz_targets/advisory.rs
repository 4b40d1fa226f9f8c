//! Advisories of any text: reading ends, an index and a record agree, and evaluating them ends.

#![no_main]

use std::collections::BTreeSet;

use bibliotax_core::advisory::{Affected, read, read_brief};
use bibliotax_core::version::Version;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &[u8]| {
    let (brief, record) = (read_brief(text), read(text));
    let Ok(Some(record)) = record else { return };
    let brief = brief.expect("a record that can be read has a brief");
    let keys: BTreeSet<_> = record.affected.iter().flat_map(Affected::keys).cloned().collect();
    assert_eq!((brief.id, brief.keys), (record.id.clone(), keys));
    let version: Version = "1.4.2".parse().unwrap();
    for affected in &record.affected {
        let _ = (affected.affects_ours(&version), affected.affects_upstream("v1.4.2"));
    }
});
