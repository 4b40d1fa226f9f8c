//! Git repositories as sources of packages, through the system's `git`.
//!
//! People's own credentials, keys and proxies work, because it is their `git` that asks. Nothing is ever checked out: files are
//! read from the objects of a bare repository of our own, so no hook and no filter can run, and a package is the files as they
//! were committed. URLs and names reach `git` only behind `--`, and only over transports that are known.
//!
//! `process` runs the program, `repository` keeps what was fetched, `refs` is what names lead to, `tree` makes a package of a
//! commit, `submodule` says where the repositories inside one are.

mod process;
mod refs;
mod repository;
mod submodule;
mod tree;

pub use self::process::end_all;
pub use self::refs::{Refs, release_of};
pub use self::repository::{Repository, Wanted};
pub use self::submodule::submodule_url;
pub use self::tree::{WantedTree, write_tree};
