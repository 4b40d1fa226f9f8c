//! Visits the files of an archive without unpacking it.

use std::io::Read;
use std::ops::ControlFlow;

/// Takes a file's path, its size, its contents; whether to go on to the next.
pub type Visit<'v> = dyn FnMut(&str, u64, &mut dyn Read) -> ControlFlow<()> + 'v;
