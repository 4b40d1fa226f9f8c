//! Why a registry refuses a card.

#![allow(missing_docs, reason = "each variant's message says what its fields are")]

use bibliotax_core::facet::FacetProblem;
use bibliotax_core::name::{ComponentName, PartName, StepName};
use bibliotax_core::variant::VariantProblem;

/// Most tags of a package.
pub const MAX_TAGS: usize = 8;

/// Most steps of a release, and the most that one may say, in characters: they are read with every release that is looked at.
pub const MAX_STEPS: usize = 16;
pub const MAX_STEP_LEN: usize = 1000;

/// Why a registry can't take a card.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CardProblem {
    /// What it says of facets makes no sense to everybody who uses the registry.
    #[error("{what}, with the facets of the registry {registry}: {problem}")]
    Facet { what: String, registry: String, problem: FacetProblem },
    /// It is ambiguous which file a target takes.
    #[error(transparent)]
    Variant(#[from] VariantProblem),
    /// It wants to be found by everything.
    #[error("it has {count} tags; the limit is {MAX_TAGS}")]
    ManyTags { count: usize },
    /// Two steps have one name.
    #[error("two steps are called `{id}`")]
    TwoSteps { id: StepName },
    /// It wants too much done by hand.
    #[error("it has {count} steps; the limit is {MAX_STEPS}")]
    ManySteps { count: usize },
    /// A step says too much.
    #[error("the step `{id}` has {length} characters; the limit is {MAX_STEP_LEN}")]
    LongStep { id: StepName, length: usize },
    /// A text has a letter that a terminal would act on, or that nobody sees.
    #[error("a text of it has the hidden character {hidden} {place}")]
    HiddenLetter { hidden: String, place: String },
    /// A file is at a place that nobody should ask.
    #[error("a file of it is at `{url}`, which is not `https://…`")]
    FileUrl { url: String },
    /// Upstream's releases are at a place that nobody should ask.
    #[error("`follow` names `{url}`, which is not `https://…`")]
    FollowUrl { url: String },
    /// It is a charter, which brings nothing.
    #[error("it is a charter, which has no {what}")]
    CharterWith { what: &'static str },
    /// A component brings a part that the release hasn't.
    #[error("the component `{component}` includes the part `{part}`, but the release has no files of it")]
    NoPart { component: ComponentName, part: PartName },
}
