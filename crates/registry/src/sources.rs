//! Packages that are in no registry: from git repositories, through the system's `git`, and from archives at a URL.

pub mod direct_sources;
pub mod git;
