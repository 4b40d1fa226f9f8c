//! The built program, run on real files in temporary folders.

#![allow(clippy::unwrap_used, reason = "a test that can't go on has failed")]

mod conflicts;
mod crash;
mod demo;
mod disk;
mod find;
mod fits;
mod garden;
mod help;
mod locks;
mod manifests;
mod needs_in_full;
mod parts;
mod ready;
mod registries;
mod served;
mod server;
mod story;
mod together;
