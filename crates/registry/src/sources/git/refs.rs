//! The refs of a repository.

use std::collections::BTreeMap;

use bibliotax_core::source::CommitId;
use bibliotax_core::tags::TagPattern;
use bibliotax_core::version::Version;

/// Branches and tags with their commits.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Refs {
    /// The branch that is taken where none is named.
    pub default_branch: Option<String>,
    /// Branches by name.
    pub branches: BTreeMap<String, CommitId>,
    /// Tags by name; of a tag with a message the commit that it is about.
    pub tags: BTreeMap<String, CommitId>,
}

impl Refs {
    /// Reads what `git ls-remote --symref` prints: a line `COMMIT TAB NAME` for each, and `ref: NAME TAB HEAD`.
    pub fn read(text: &str) -> Self {
        let mut refs = Self::default();
        let mut peeled = BTreeMap::new();
        for (value, name) in text.lines().filter_map(|line| line.split_once('\t')) {
            if let (Some(branch), "HEAD") = (value.strip_prefix("ref: refs/heads/"), name) {
                refs.default_branch = Some(branch.to_owned());
                continue;
            }
            let Ok(commit) = value.parse::<CommitId>() else { continue };
            if let Some(branch) = name.strip_prefix("refs/heads/") {
                refs.branches.insert(branch.to_owned(), commit);
            } else if let Some(tag) = name.strip_prefix("refs/tags/") {
                match tag.strip_suffix("^{}") {
                    Some(tag) => peeled.insert(tag.to_owned(), commit),
                    None => refs.tags.insert(tag.to_owned(), commit),
                };
            }
        }
        refs.tags.extend(peeled);
        refs
    }

    /// The releases that tags of this pattern name, oldest first, each with its tag and commit.
    ///
    /// Of two tags that name one version, the first by name counts.
    pub fn releases(&self, pattern: &str) -> Vec<(Version, &str, &CommitId)> {
        // Every pattern was read where it was declared.
        let Ok(pattern) = pattern.parse::<TagPattern>() else { return Vec::new() };
        let read = pattern.releases(self.tags.keys().map(String::as_str));
        let with_commit = |(version, tag)| Some((version, tag, self.tags.get(tag)?));
        read.releases.into_iter().filter_map(with_commit).collect()
    }
}

/// The version that a tag names by the usual pattern.
pub fn release_of(tag: &str) -> Option<Version> {
    TagPattern::USUAL.parse::<TagPattern>().ok()?.release_of(tag).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_lead_to_commits_and_tags_to_what_they_are_about() {
        let commit = |digit: char| digit.to_string().repeat(40);
        let text = format!(
            "ref: refs/heads/main\tHEAD\n{a}\tHEAD\n{a}\trefs/heads/main\n{b}\trefs/heads/frost/deep\n{c}\trefs/tags/v1.2.0\n{a}\trefs/tags/v1.2.0^{{}}\n{b}\trefs/tags/1.3\n{b}\trefs/tags/moss-v2.0\n{b}\trefs/tags/nightly\nnonsense\n",
            a = commit('a'),
            b = commit('b'),
            c = commit('c'),
        );
        let refs = Refs::read(&text);
        assert_eq!(refs.default_branch.as_deref(), Some("main"));
        assert_eq!(refs.branches["frost/deep"].as_str(), commit('b'));
        assert_eq!(refs.tags["v1.2.0"].as_str(), commit('a'), "not the tag's own object");
        let shown = |pattern: &str| -> Vec<String> {
            refs.releases(pattern).into_iter().map(|(version, tag, _)| format!("{version} {tag}")).collect()
        };
        assert_eq!(shown("v*"), ["1.2.0 v1.2.0", "1.3 1.3"]);
        assert_eq!(shown("moss-v*"), ["2.0 moss-v2.0"]);
        assert_eq!(shown("*-rc"), [""; 0]);
    }
}
