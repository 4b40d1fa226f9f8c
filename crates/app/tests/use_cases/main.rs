//! Use cases without a process: a request in, a plan that says all, and files that change only when it is applied.

#![allow(clippy::unwrap_used, reason = "a test that can't go on has failed")]

mod changes;
mod failures;
mod garden;
mod looking;
