//! The built program, run on real files in temporary folders.

#![allow(clippy::unwrap_used, reason = "a test that can't go on has failed")]

mod attacks;
mod buckets;
mod conflicts;
mod containers;
mod crash;
mod credentials;
mod demo;
mod disk;
mod faults;
mod find;
mod fits;
mod garden;
mod help;
mod kits;
mod links;
mod locks;
mod looking;
mod manifests;
mod many_at_once;
mod mirrors;
mod needs_in_full;
mod oci;
mod output;
mod parts;
mod proxy;
mod ready;
mod registries;
mod replaced;
mod requests;
mod running;
mod served;
mod server;
mod shelves;
mod sources;
mod steps;
mod stores;
mod story;
mod together;
mod touched;
mod watching;
mod web;
mod withdrawn;
mod words;
mod workspaces;
