//! What a person does with bibliotax, without a command line: plain values in, data out.
//!
//! Each use case is a module. Where it changes something, it *plans* first (after that nothing is read, resolved or parsed again),
//! the plan *reports* all that text and JSON show, and only then, asked to, it *applies*. `--dry-run` is a plan that is not applied.
//! Progress goes through [`bibliotax_core::progress::ProgressListener`]. Nothing here prints or knows an exit status.
//!
//! | modules | what they have |
//! |---|---|
//! | [`context`], [`environment`], [`settings`], [`credentials`] | where and how a use case runs: store, network, settings, credentials |
//! | [`failure`], [`codes`] | what a failure says, and the stable codes of all failures |
//! | [`workspace`] | manifests and lock on disk, projects, edits of manifests |
//! | [`lookup`], `registry_words` | registries to look packages up in, registries as people name them |
//! | [`resolving`], [`search_options`] | registries opened once, problems solved, conflicts with ways out |
//! | [`lock_check`], [`locked_cards`], [`archives`], [`shelf`], [`change`] | a lock checked, its cards read, archives fetched, the shelf brought to it; a change of both planned |
//! | [`license_text`], `stored_files` | which licence a text is, the files of packages in the store |
//! | [`template_process`], [`programs`], [`installed_programs`], [`machine`] | other processes, and this machine |
//! | all others | one use case each, named after its command |

pub mod accept;
pub mod archives;
pub mod change;
pub mod check;
pub mod codes;
pub mod compare;
pub mod context;
pub mod credentials;
pub mod describe;
pub mod diagnose;
pub mod drop;
pub mod environment;
pub mod explain;
pub mod export;
pub mod failure;
pub mod find;
pub mod fit;
mod git;
pub mod graph;
pub mod history;
pub mod init;
pub mod install;
pub mod installed_programs;
pub mod kit;
pub mod license_text;
pub mod links;
pub mod lock_check;
pub mod locked_cards;
pub mod lookup;
pub mod machine;
pub mod merge;
pub mod need;
pub mod newer;
pub mod newest_release;
pub mod on_shelf;
pub mod programs;
pub mod publish;
pub mod ready;
pub mod registry;
pub mod registry_storage;
mod registry_words;
pub mod release_status;
pub mod report;
pub mod resolve;
pub mod resolving;
pub mod sealed;
pub mod search_options;
pub mod settings;
pub mod shelf;
pub mod steps;
pub mod store;
mod stored_files;
pub mod suggest;
pub mod survey;
pub mod task;
pub mod template_process;
pub mod update;
pub mod verify;
pub mod workspace;
