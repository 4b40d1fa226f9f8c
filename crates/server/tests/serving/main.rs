//! The server as its clients meet it, in this process and over loopback.

#![allow(clippy::unwrap_used, reason = "a test that can't go on has failed")]

mod connections;
mod faulty_client;
mod finding;
mod pages;
mod refusals;
mod server;
