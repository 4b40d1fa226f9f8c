//! Options of `export`.

use std::path::{Path, PathBuf};

use bibliotax_app::export::{self, Export as Exported, Request};
use bibliotax_app::failure::Failure;
use bibliotax_bill::notices::Notices;
use bibliotax_bill::{cyclonedx, openvex, package_urls, spdx2, spdx3};
use bibliotax_disk::write::write_output;
use bibliotax_present::words::count;
use jiff::Timestamp;
use serde::Serialize;

use super::projects::{LeaveOutArgs, ProjectFilterArgs, TargetFilterArgs};
use super::standard::is_standard;
use crate::environment;
use crate::exit_status::Exit;
use crate::json::export::ExportedDocument;
use crate::render;
use crate::run::Run;

/// Export a bill of materials, licence notices or VEX documents
///
/// A document is about what is locked; the same lock gives the same bytes. A time is in it only if `--time` or SOURCE_DATE_EPOCH gives
/// one. Formats that need a time take that of the newest release in the document.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax export cyclonedx --output bill.cdx.json\n  bibliotax export spdx --in hand-unit --leave-out test\n  bibliotax export openvex --author \"Fernhollow Botanical Garden\"\n  bibliotax check --bill bill.cdx.json"
)]
pub struct Export {
    #[command(subcommand)]
    form: Form,
}

#[derive(Debug, clap::Subcommand)]
enum Form {
    /// A bill of materials in CycloneDX 1.6 (JSON)
    #[command(after_help = "Example:\n  bibliotax export cyclonedx --license-texts --output bill.cdx.json")]
    Cyclonedx {
        #[command(flatten)]
        scope: ScopeArgs,
        #[command(flatten)]
        contents: ContentArgs,
    },
    /// A bill of materials in SPDX 2.3 (JSON)
    #[command(after_help = "Example:\n  bibliotax export spdx --output bill.spdx.json")]
    Spdx {
        #[command(flatten)]
        scope: ScopeArgs,
        /// Include the texts of licences that SPDX doesn't list
        #[arg(long)]
        license_texts: bool,
    },
    /// A bill of materials in SPDX 3.0.1 (JSON-LD)
    #[command(after_help = "Example:\n  bibliotax export spdx3 --output bill.spdx3.json")]
    Spdx3 {
        #[command(flatten)]
        scope: ScopeArgs,
    },
    /// The package URL of each package, one per line
    #[command(after_help = "Example:\n  bibliotax export purls --target hand-unit")]
    Purls {
        #[command(flatten)]
        scope: ScopeArgs,
    },
    /// The licence texts that go with a product
    ///
    /// Takes licence, copying, notice and authors files from the packages, each different text once, and tells which are missing.
    #[command(after_help = "Example:\n  bibliotax export notices --as html --output NOTICES.html")]
    Notices {
        #[command(flatten)]
        scope: ScopeArgs,
        /// How it is written
        #[arg(long = "as", value_name = "FORM", default_value = "text")]
        form: NoticesForm,
    },
    /// What the rules say of advisories, in OpenVEX 0.2.0
    ///
    /// Waivers give the status and the reason. An advisory without a waiver is under investigation.
    #[command(after_help = "Example:\n  bibliotax export openvex --author \"Fernhollow Botanical Garden\"")]
    Openvex {
        #[command(flatten)]
        scope: ScopeArgs,
        /// Who says it [default: the projects' names]
        #[arg(long, value_name = "NAME")]
        author: Option<String>,
    },
    /// A bill of materials with what the rules say of advisories, in CycloneDX 1.6 (JSON)
    ///
    /// Waivers give the status and the reason. An advisory without a waiver is in triage.
    #[command(after_help = "Example:\n  bibliotax export cyclonedx-vex --output bill.vex.json")]
    CyclonedxVex {
        #[command(flatten)]
        scope: ScopeArgs,
        #[command(flatten)]
        contents: ContentArgs,
    },
}

/// How notices are written.
#[derive(Debug, Clone, Copy, clap::ValueEnum)]
enum NoticesForm {
    /// Plain text
    Text,
    /// Markdown
    Markdown,
    /// One HTML page
    Html,
}

/// What of the lock the document is about, its time and its file.
#[derive(Debug, clap::Args)]
struct ScopeArgs {
    #[command(flatten)]
    projects: ProjectFilterArgs,
    #[command(flatten)]
    targets: TargetFilterArgs,
    #[command(flatten)]
    leave_out: LeaveOutArgs,
    /// The time to write down, such as 2026-03-01T09:00:00Z [default: SOURCE_DATE_EPOCH, or none]
    #[arg(long, value_name = "TIME")]
    time: Option<Timestamp>,
    /// The file to write; `-` for standard output
    #[arg(long, short, value_name = "FILE", default_value = "-", hide_default_value = true)]
    output: PathBuf,
}

/// What the document says of packages' contents.
#[derive(Debug, Clone, Copy, clap::Args)]
struct ContentArgs {
    /// Include the licence texts in packages
    #[arg(long)]
    license_texts: bool,
    /// List the files in packages
    #[arg(long)]
    files: bool,
}

impl ScopeArgs {
    fn request(&self) -> Request {
        Request {
            projects: self.projects.words(),
            targets: self.targets.targets.clone(),
            without: self.leave_out.purposes.clone(),
            time: self.time.or_else(environment::source_date),
            ..Request::default()
        }
    }
}

impl Form {
    /// Its name, and that of the format.
    fn names(&self) -> (&'static str, &'static str) {
        match self {
            Self::Cyclonedx { .. } => ("cyclonedx", "CycloneDX 1.6"),
            Self::CyclonedxVex { .. } => ("cyclonedx-vex", "CycloneDX 1.6"),
            Self::Spdx { .. } => ("spdx", "SPDX 2.3"),
            Self::Spdx3 { .. } => ("spdx3", "SPDX 3.0.1"),
            Self::Purls { .. } => ("purls", "package URLs"),
            Self::Notices { .. } => ("notices", "notices"),
            Self::Openvex { .. } => ("openvex", "OpenVEX 0.2.0"),
        }
    }

    fn scope(&self) -> &ScopeArgs {
        match self {
            Self::Cyclonedx { scope, .. }
            | Self::CyclonedxVex { scope, .. }
            | Self::Spdx { scope, .. }
            | Self::Spdx3 { scope }
            | Self::Purls { scope }
            | Self::Notices { scope, .. }
            | Self::Openvex { scope, .. } => scope,
        }
    }

    fn request(&self) -> Request {
        let request = self.scope().request();
        match self {
            Self::Spdx3 { .. } | Self::Purls { .. } => request,
            Self::Notices { .. } => Request { with_license_texts: true, ..request },
            Self::Spdx { license_texts, .. } => Request { with_license_texts: *license_texts, ..request },
            Self::Openvex { .. } => Request { with_advisories: true, ..request },
            Self::Cyclonedx { contents, .. } => contents.added_to(request),
            Self::CyclonedxVex { contents, .. } => {
                contents.added_to(Request { with_advisories: true, ..request })
            }
        }
    }

    fn text(&self, exported: &Exported) -> String {
        let (bill, statements) = (&exported.bill, &exported.statements);
        match self {
            Self::Cyclonedx { .. } => json(&cyclonedx::document(bill)),
            Self::CyclonedxVex { .. } => json(&cyclonedx::document_with_vulnerabilities(bill, statements)),
            Self::Spdx { .. } => json(&spdx2::document(bill)),
            Self::Spdx3 { .. } => json(&spdx3::document(bill)),
            Self::Purls { .. } => package_urls::lines(bill),
            Self::Notices { form, .. } => {
                let notices = Notices::of(bill);
                match form {
                    NoticesForm::Text => notices.text(),
                    NoticesForm::Markdown => notices.markdown(),
                    NoticesForm::Html => notices.html(),
                }
            }
            Self::Openvex { author, .. } => json(&openvex::document(bill, statements, author.as_deref())),
        }
    }
}

impl ContentArgs {
    fn added_to(self, request: Request) -> Request {
        Request { with_license_texts: self.license_texts, with_files: self.files, ..request }
    }
}

/// A document as people read it, with an end of line.
fn json<T: Serialize>(document: &T) -> String {
    // Texts, lists and maps with names for keys: nothing that is written can fail to be JSON.
    serde_json::to_string_pretty(document).unwrap_or_default() + "\n"
}

impl Export {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = self.form.request();
        let exported = run.working(|context| export::export(&request, env!("CARGO_PKG_VERSION"), context))?;
        exported.warnings.iter().for_each(|warning| run.ui.warn(warning));
        if matches!(self.form, Form::Notices { .. }) {
            render::export::warn_of_texts(run.ui, &exported.bill);
        }
        let (text, file) = (self.form.text(&exported), &self.form.scope().output);
        let file = (!is_standard(file)).then(|| run.folder().join(file));
        match &file {
            Some(file) => write(run, file, &text, &self.form, &exported)?,
            None => run.ui.answer_as_is(text.trim_end()),
        }
        run.ui.report(|| ExportedDocument {
            form: self.form.names().0.to_owned(),
            packages: exported.bill.components.len(),
            document: file.is_none().then_some(text),
            file: file.map(|file| file.display().to_string()),
        });
        Ok(Exit::Done)
    }
}

fn write(run: &Run<'_>, file: &Path, text: &str, form: &Form, exported: &Exported) -> Result<(), Failure> {
    write_output(file, text.as_bytes())?;
    let packages = count(exported.bill.components.len(), "package");
    let shown = form.scope().output.display();
    run.ui.say(format!("wrote {shown}: {}, {packages}", form.names().1));
    Ok(())
}
