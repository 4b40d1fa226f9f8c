//! A language server for manifests (Language Server Protocol 3.17): what is wrong, what could stand there, what is known of a package.
//!
//! It does nothing that the command line doesn't: `bibliotax-app` finds out, this puts it into the protocol. The main thread takes
//! messages; questions are answered by threads of their own, from what this machine knows, and what is wrong is found in the background. Only
//! the background waits for registries.
//!
//! | module | what it has |
//! |---|---|
//! | [`server`], [`transport`] | the conversation with the editor, and how its messages are framed |
//! | [`documents`], [`positions`] | open texts; bytes as lines and columns |
//! | [`scan`], [`schema`] | what stands where in a text that may not be TOML yet; what could stand there |
//! | [`shared`], [`background`] | what the threads share; what is wrong, found while one types |
//! | [`lookups`], [`guard`] | packages as far as this machine knows them; mutexes |
//! | [`problems`], [`news`], [`fits`] | what is wrong with what can be done about it; what is newer than what is locked; where a release works |
//! | [`completion`], [`hover`], [`hints`], [`actions`], [`navigation`], [`rename`], [`commands`] | the answers, a module for each kind of question |

#![forbid(unsafe_code)]

pub mod actions;
pub mod background;
pub mod commands;
pub mod completion;
pub mod documents;
pub mod fits;
pub mod guard;
pub mod hints;
pub mod hover;
pub mod lookups;
pub mod navigation;
pub mod news;
pub mod positions;
pub mod problems;
pub mod rename;
pub mod scan;
pub mod schema;
pub mod server;
pub mod shared;
pub mod transport;
