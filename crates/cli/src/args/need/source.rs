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
    /// Read versions off the tags that are like this, such as `VER-*` or `r{major}_{minor}` [default: found by looking at them]
    #[arg(long, value_name = "PATTERN", requires = "git", conflicts_with_all = ["tag", "branch", "commit"])]
    tags: Option<String>,
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
    /// Read the archive as this format, such as tar.gz [default: what its bytes tell]
    #[arg(long, value_name = "FORMAT", requires = "archive")]
    packed_as: Option<String>,
    /// Take only the files that match, such as `src/**`
    #[arg(long, value_name = "PATTERN")]
    include: Vec<String>,
    /// Leave out the files that match, such as `docs/**`
    #[arg(long, value_name = "PATTERN")]
    exclude: Vec<String>,
    /// Give the package this name and version, in place of those in the names of archive or repository
    #[arg(long = "as", num_args = 2, value_names = ["PACKAGE", "VERSION"], conflicts_with_all = ["words", "path", "shared"])]
    named: Option<Vec<String>>,
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
            tags: self.tags.clone(),
            packed_as: self.packed_as.clone(),
            include: self.include.clone(),
            exclude: self.exclude.clone(),
            named: self
                .named
                .as_deref()
                .and_then(|named| Some((named.first()?.clone(), named.get(1)?.clone()))),
        }
    }
}
