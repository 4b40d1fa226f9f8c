//! Which members of a workspace a command acts on.

use bibliotax_core::name::PackageName;
use bibliotax_core::workspace::Member;

use super::Project;
use crate::failure::Failure;

/// The word for all members.
const ALL: &str = "all";

/// The members that a command acts on which acts on all where nothing is said.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct Only {
    /// Act on these members of the workspace only
    #[arg(long = "in", value_name = "MEMBER,…", value_delimiter = ',')]
    members: Vec<String>,
}

impl Only {
    /// The members that are named; none where none are, or all.
    pub fn named<'p>(&self, project: &'p Project) -> Result<Vec<&'p Member>, Failure> {
        named(&self.members, project)
    }

    /// The names of those that are named.
    pub fn names(&self, project: &Project) -> Result<Vec<PackageName>, Failure> {
        Ok(self.named(project)?.into_iter().map(|member| member.project.name.clone()).collect())
    }

    /// Whether members were named.
    pub fn is_said(&self) -> bool {
        !self.members.is_empty()
    }
}

/// The members that a command acts on which acts on the one that was stood in where nothing is said.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct In {
    /// Act on these members of the workspace, or on `all`, instead of the one whose folder this is
    #[arg(long = "in", value_name = "MEMBER,…", value_delimiter = ',')]
    members: Vec<String>,
}

impl In {
    /// The members that are meant: those that are named, else the one that was stood in, else (in the root of a workspace that
    /// is no project) all.
    pub fn chosen<'p>(&self, project: &'p Project) -> Result<Vec<&'p Member>, Failure> {
        let named = named(&self.members, project)?;
        match (named.is_empty(), self.members.is_empty(), project.here()) {
            (false, _, _) => Ok(named),
            (true, true, Some(here)) => Ok(vec![here]),
            _ => Ok(project.workspace.members.iter().collect()),
        }
    }

    /// The members that are meant by a command that changes them: nothing is changed in all for want of a word.
    pub fn to_change<'p>(&self, project: &'p Project) -> Result<Vec<&'p Member>, Failure> {
        if self.members.is_empty() { Ok(vec![project.member()?]) } else { self.chosen(project) }
    }

    /// The member that a command acts on that can act on one only.
    pub fn one<'p>(&self, project: &'p Project) -> Result<&'p Member, Failure> {
        let here = || project.here().into_iter().collect();
        let chosen = if self.members.is_empty() { here() } else { self.chosen(project)? };
        match chosen.as_slice() {
            [one] => Ok(one),
            _ => Err(which_one(project)),
        }
    }
}

/// The members that words mean; none where there are no words, or all are meant.
fn named<'p>(words: &[String], project: &'p Project) -> Result<Vec<&'p Member>, Failure> {
    if words.iter().any(|word| word == ALL) {
        return Ok(Vec::new());
    }
    words.iter().map(|word| member(project, word)).collect()
}

impl Project {
    /// The member whose folder was stood in; none in the root of a workspace that is no project.
    pub fn here(&self) -> Option<&Member> {
        self.workspace.members.iter().find(|member| member.folder == self.manifests.here)
    }

    /// The member whose folder was stood in, for who can't do without.
    pub fn member(&self) -> Result<&Member, Failure> {
        self.here().ok_or_else(|| which_member(self))
    }
}

fn which_member(project: &Project) -> Failure {
    Failure::new("workspace.which-member", "it isn't said which member of the workspace is meant")
        .mend(format!("go to its folder, or say `--in`: {}, or all", names(project).join(", ")))
}

fn which_one(project: &Project) -> Failure {
    Failure::new("workspace.which-member", "it isn't said which one member of the workspace is meant")
        .mend(format!("go to its folder, or name it with `--in`: {}", names(project).join(", ")))
}

/// What members are called on the command line.
fn names(project: &Project) -> Vec<&str> {
    project.workspace.members.iter().map(called).collect()
}

/// What a member is called: the last part of its name.
pub fn called(member: &Member) -> &str {
    let name = member.project.name.as_str();
    name.rsplit('/').next().unwrap_or(name)
}

/// The member that a word means: by its name, the last part of it, or its folder.
fn member<'p>(project: &'p Project, word: &str) -> Result<&'p Member, Failure> {
    let members = &project.workspace.members;
    let is_meant = |member: &&Member| {
        member.project.name.as_str() == word || member.path() == word.trim_end_matches('/')
    };
    let by_end: Vec<&Member> = members.iter().filter(|member| called(member) == word).collect();
    match (members.iter().find(is_meant), by_end.as_slice()) {
        (Some(member), _) => Ok(member),
        (None, [member]) => Ok(*member),
        _ => {
            let failure =
                Failure::new("workspace.unknown-member", format!("the workspace has no member `{word}`"));
            Err(failure.suggest(word, &names(project), "it has none at all"))
        }
    }
}
