//! Where releases come from, and how they get there.
//!
//! | room | what lives there |
//! |---|---|
//! | [`keep`] | where a registry's files are kept, for whoever may write to them; `layout`, `description`, `names`, `staged`, `piece`: what they are |
//! | [`folder`] | a registry kept as plain files in a folder: reading, appending events, keeping files |
//! | [`bucket`] | the same as objects of an S3-compatible store |
//! | [`front`] | a copy in front of another registry that keeps what was asked for |
//! | [`credentials`], [`origin`] | what opens a host; whom a secret is for |
//! | [`remote`] | a registry behind HTTP: asked, cached, published to |
//! | [`oci`] | a registry in one of containers |
//! | [`registry`] | a registry, wherever it is |
//! | [`reach`] | places that only this machine or its network reaches |
//! | [`git`], [`elsewhere`] | git repositories through the system's `git`; packages that come from them, and from archives |
//! | [`everywhere`] | all places that have a package, side by side |
//! | [`registries`] | all registries of a manifest as one catalogue; `ahead` looks packages up before they are asked for |
//! | [`seen`], [`known_lines`] | what registries said before, and which lines of locks were held against cards; `database` keeps both |
//! | [`release`], [`publish`], [`check`], [`inspect`], [`accept`] | from a project folder to a release; what a card has to be; taking it in |
//! | [`standing`], `room` | withdrawing, restoring, deprecating; how much a history may hold |
//! | [`load`] | many cards and events at once |
//! | [`tokens`] | who may publish what to a registry that is served |
//! | [`audit`] | all that a registry holds, read and compared |
//! | [`find`] | searching by words, in a local database that follows the list of names |
//! | [`mirror`], [`registry::mirrored`] | a copy of a registry, brought up to date by what changed; a registry with such copies |
//! | [`network`], [`connections`], [`waits`] | how registries are asked; those that are opened; whom is waited for |
//! | [`error`], [`card_problem`] | what a registry refused, and of a card why |

pub mod accept;
mod ahead;
pub mod audit;
pub mod bounded;
pub mod bucket;
pub mod card_problem;
mod chance;
pub mod check;
pub mod connections;
pub mod credentials;
mod database;
pub mod description;
pub mod elsewhere;
pub mod error;
pub mod everywhere;
pub mod find;
pub mod folder;
pub mod front;
pub mod git;
pub mod inspect;
pub mod keep;
pub mod known_lines;
pub mod layout;
pub mod load;
pub mod mirror;
pub mod names;
pub mod network;
pub mod oci;
pub mod origin;
pub mod piece;
pub mod publish;
pub mod reach;
pub mod registries;
pub mod registry;
pub mod release;
pub mod remote;
mod room;
pub mod seen;
pub mod staged;
pub mod standing;
pub mod tokens;
pub mod waits;

pub use error::RegistryError;
