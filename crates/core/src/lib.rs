//! The computation of bibliotax: no files, no network, no clock, no threads, no printing, no drawing.
//!
//! | module | what it has |
//! |---|---|
//! | [`name`], [`version`], [`range`] | names of packages and their parts, versions, and the versions that a need accepts |
//! | [`digest`], [`license`], [`package_url`] | SHA-256 digests, SPDX licence expressions, names of upstream software |
//! | [`upstream`], [`named_archive`], [`tags`] | versions, names of archives and tags as upstreams write them |
//! | [`follow`] | where upstream's releases appear, and which of them a catalogue lacks |
//! | [`manifest`] | `bibliotax.toml`: its meaning, and edits of its text; a person's own settings, which are written alike |
//! | [`severity`] | how bad advisories are, by name and by CVSS vectors |
//! | [`advisory`] | what is known to be wrong with releases: OSV records, package URLs, severities |
//! | [`card`], [`history`], [`exposes`] | what a registry knows of releases; what they expose to builds |
//! | [`facet`], [`variant`], [`fitting`] | targets, whether a release works on them, which file each target takes |
//! | [`inner_path`], [`file_selection`] | paths inside a package that every operating system accepts; which files of an archive are taken |
//! | [`charter`] | ranges and rules that one release states for many workspaces |
//! | [`workspace`] | several manifests that share one lock and one shelf |
//! | [`resolve`] | from needs to one release of each package, or to the reason why there is none |
//! | `problem` | the problem that a workspace and its lock give the resolver |
//! | [`merge`] | what two people changed in manifests and locks, joined by meaning |
//! | [`lock`], [`compare`], [`graph`], [`newer`] | `bibliotax.lock`, the difference of two, which package needs which, what could be newer |
//! | [`source`], [`location`] | where a package's bytes come from; what a text names as a place: path, URL, host |
//! | [`rule_sets`] | values of rules, which workspaces have and charters publish |
//! | [`rules`], [`compliance`] | what a team allows, releases and locks held against it, waivers |
//! | [`escape`] | escaping the characters that a terminal acts on |
//! | [`links`], [`build_tool`] | where the parts of a shelf are, and files that say so to build tools |
//! | [`review`] | what of the difference of two locks is worth a look, and where it comes from |
//! | [`steps`] | what people have to do by hand, and whether they did |
//! | [`fault`], [`fix`], [`nearest`] | what is wrong in a text, what to change in it, and what was probably meant |
//! | [`schema`] | JSON Schemas of the files that people and tools read |
//! | [`progress`] | events of long work while it goes on |

pub mod advisory;
pub mod build_tool;
pub mod card;
pub mod charter;
pub mod compare;
pub mod compliance;
pub mod digest;
pub mod escape;
pub mod exposes;
pub mod facet;
pub mod fault;
pub mod file_selection;
pub mod fitting;
pub mod fix;
pub mod follow;
pub mod graph;
pub mod history;
pub mod inner_path;
pub mod license;
pub mod links;
pub mod location;
pub mod lock;
pub mod manifest;
pub mod merge;
pub mod name;
pub mod named_archive;
pub mod nearest;
pub mod newer;
pub mod package_url;
mod problem;
pub mod progress;
pub mod range;
pub mod resolve;
pub mod review;
pub mod rule_sets;
pub mod rules;
pub mod schema;
pub mod severity;
pub mod source;
pub mod steps;
pub mod tags;
pub mod upstream;
pub mod variant;
pub mod version;
pub mod workspace;
