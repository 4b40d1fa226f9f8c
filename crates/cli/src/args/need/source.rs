//! `--path`, `--git` and `--archive`: packages from outside registries.

use bibliotax_app::need::sources::SourceWords;

/// Where a package comes from that is in no registry
#[derive(Debug, clap::Args)]
#[group(multiple = true)]
pub struct SourceArgs {
    /// Use the project in this folder directly, without publishing it
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["shared", "from", "exactly"])]
    path: Option<String>,
    /// Use this git repository: by default, its tags are releases
    #[arg(long, value_name = "URL", conflicts_with_all = ["shared", "from", "exactly", "path"])]
    git: Option<String>,
    /// Use this tag
    #[arg(long, value_name = "TAG", requires = "git", conflicts_with_all = ["branch", "commit"])]
    tag: Option<String>,
    /// Use the newest commit of this branch
    #[arg(long, value_name = "BRANCH", requires = "git", conflicts_with = "commit")]
    branch: Option<String>,
    /// Use this commit
    #[arg(long, value_name = "COMMIT", requires = "git")]
    commit: Option<String>,
    /// Use this folder of the repository as the package
    #[arg(long, value_name = "FOLDER", requires = "git")]
    subfolder: Option<String>,
    /// Use this archive; its contents and digest are shown
    #[arg(long, value_name = "URL", conflicts_with_all = ["shared", "from", "exactly", "path", "git"])]
    archive: Option<String>,
    /// Use this folder of the archive as the package [default: the only top folder]
    #[arg(long, value_name = "FOLDER", requires = "archive")]
    strip: Option<String>,
}

impl SourceArgs {
    /// The words.
    pub fn words(&self) -> SourceWords {
        SourceWords {
            path: self.path.clone(),
            git: self.git.clone(),
            tag: self.tag.clone(),
            branch: self.branch.clone(),
            commit: self.commit.clone(),
            folder: self.subfolder.clone(),
            archive: self.archive.clone(),
            strip: self.strip.clone(),
        }
    }
}
