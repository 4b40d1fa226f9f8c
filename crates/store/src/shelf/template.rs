//! A project's own link templates, for any build tool.
//!
//! A template sees what a file of links says: `project`, `target`, `roles`, `packages`. A name that there isn't is an error,
//! so that a slip doesn't become an empty path. Nothing can be read from disk and nothing be run by a template. Its steps and
//! its output are bounded here; memory and depth can only be bounded by who renders, in a process of its own.

use std::fmt::Debug;
use std::io::{self, Write};
use std::ops::Range;
use std::path::Path;

use bibliotax_core::fault::Fault;
use bibliotax_core::links::Links;
use bibliotax_disk::folder::{Folder, Kind};
use minijinja::{AutoEscape, Environment, ErrorKind};
use serde::{Deserialize, Serialize};

use self::strict::UNDEFINED;
use crate::error::StoreError;

mod strict;

/// The folder of a project that its templates are in.
pub const TEMPLATES: &str = "links";

/// Largest template that is read, in bytes.
const MAX_SIZE: usize = 1 << 20;

/// How many steps a template may take: far more than one needs, and few enough to end.
const MAX_STEPS: u64 = 5_000_000;

/// Most bytes that a template may make of one file of links.
const MAX_OUTPUT: usize = 16 << 20;

/// A template of links.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Template {
    /// The folder of the project that it is in, seen from the root of the workspace; empty where it is the root's.
    #[serde(default)]
    pub folder: String,
    /// The name of its file, which ends the names of the files made from it.
    pub name: String,
    /// Its text.
    pub text: String,
}

/// Why a template can't be rendered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TemplateFault {
    /// What is wrong.
    pub message: String,
    /// A few words to stand at the place itself.
    pub label: String,
    /// Where in the template, in bytes.
    pub place: Range<usize>,
}

/// Who renders templates.
pub trait RenderTemplate: Debug + Sync {
    /// What a template makes of these links.
    fn render(&self, template: &Template, links: &Links) -> Result<String, TemplateFault>;
}

/// Renders where we are: for templates that are known not to want the memory of the whole machine.
#[derive(Debug, Clone, Copy)]
pub struct RenderInProcess;

impl RenderTemplate for RenderInProcess {
    fn render(&self, template: &Template, links: &Links) -> Result<String, TemplateFault> {
        template.rendered(links)
    }
}

/// The templates of a project or workspace, and who renders them. Those of the root are for all projects; a project's own are for
/// it alone, and come in place of those of the root with the same name.
#[derive(Debug, Clone, Copy)]
pub struct Templates<'a> {
    /// The templates.
    pub all: &'a [Template],
    /// Who renders them.
    pub by: &'a dyn RenderTemplate,
}

impl Templates<'_> {
    /// No templates at all.
    pub const NONE: Templates<'static> = Templates { all: &[], by: &RenderInProcess };

    /// What they make for the project in a folder: the name of each, with its text.
    pub(super) fn rendered(&self, folder: &str, links: &Links) -> Result<Vec<(&str, String)>, StoreError> {
        let own: Vec<&Template> = self.all.iter().filter(|template| template.folder == folder).collect();
        let is_replaced = |template: &&Template| own.iter().any(|own| own.name == template.name);
        let of_root = self.all.iter().filter(|template| template.folder.is_empty() && !folder.is_empty());
        let of_root = of_root.filter(|template| !is_replaced(template));
        let render = |template: &Template, links: &Links| {
            self.by.render(template, links).map_err(|fault| template.failed(fault))
        };
        let of_root = of_root.map(|template| Ok((template.name.as_str(), render(template, links)?)));
        let seen_from_there = links.clone().with_paths(|path| seen_from(folder, path));
        let own = own.iter().map(|own| Ok((own.name.as_str(), render(own, &seen_from_there)?)));
        of_root.chain(own).collect()
    }
}

/// A path from the root of the workspace as it is seen from a folder in it; a path from the root of the disk stays.
fn seen_from(folder: &str, path: &str) -> String {
    if Path::new(path).is_absolute() {
        return path.to_owned();
    }
    let depth = folder.split('/').filter(|name| !name.is_empty()).count();
    "../".repeat(depth) + path
}

impl Template {
    /// The templates of a workspace, of the root and of the projects in these folders, each by name.
    pub fn all_of<'f>(
        root: &Path,
        folders: impl IntoIterator<Item = &'f str>,
    ) -> Result<Vec<Self>, StoreError> {
        let mut all = Vec::new();
        for folder in folders {
            all.extend(Self::in_folder(root, folder)?);
        }
        Ok(all)
    }

    fn in_folder(root: &Path, project: &str) -> Result<Vec<Self>, StoreError> {
        let place = root.join(project).join(TEMPLATES);
        if !place.is_dir() {
            return Ok(Vec::new());
        }
        let Some(folder) = Folder::open(&place)? else { return Ok(Vec::new()) };
        let mut names = folder.names()?;
        names.sort();
        // What editors leave beside a file, and what is hidden, is no template.
        names.retain(|name| !name.starts_with('.') && !name.ends_with('~'));
        let mut templates = Vec::new();
        for name in names {
            if folder.entry(&name)?.is_some_and(|entry| entry.kind == Kind::File) {
                let text = folder.read_text(&name, MAX_SIZE)?.unwrap_or_default();
                templates.push(Self { folder: project.to_owned(), name, text });
            }
        }
        Ok(templates)
    }

    /// What it makes of these links.
    pub fn rendered(&self, links: &Links) -> Result<String, TemplateFault> {
        let mut environment = Environment::new();
        strict::make_strict(&mut environment);
        environment.set_auto_escape_callback(|_| AutoEscape::None);
        environment.set_keep_trailing_newline(true);
        environment.set_trim_blocks(true);
        environment.set_lstrip_blocks(true);
        environment.set_debug(true);
        environment.set_fuel(Some(MAX_STEPS));
        let mut output = Output(Vec::new());
        let template = environment.template_from_named_str(&self.name, &self.text);
        let rendered =
            template.and_then(|template| template.render_captured_to(links, &mut output).map(|_| ()));
        match rendered {
            // A template is text, and so is all that it sees.
            Ok(_) => Ok(String::from_utf8(output.0).unwrap_or_default()),
            Err(_) if output.0.len() > MAX_OUTPUT => Err(TemplateFault::at_start(&format!(
                "it produces more than {} MiB of text",
                MAX_OUTPUT >> 20
            ))),
            Err(error) => Err(fault(&self.text, &error)),
        }
    }

    /// Where it is, seen from the root.
    pub fn place(&self) -> String {
        let folder = if self.folder.is_empty() { String::new() } else { format!("{}/", self.folder) };
        format!("{folder}{TEMPLATES}/{}", self.name)
    }

    /// The failure of this template.
    pub fn failed(&self, fault: TemplateFault) -> StoreError {
        let message = format!("a template can't be rendered: {}", fault.message);
        let fault = Fault::new("links.template", message, fault.place).label(fault.label);
        let advice = "a template sees `project`, `target`, `roles` and `packages`; see the guide";
        StoreError::Template {
            name: self.place(),
            text: self.text.clone(),
            fault: Box::new(fault.advice(advice)),
        }
    }
}

impl TemplateFault {
    /// What is wrong with a template as a whole.
    pub fn at_start(message: &str) -> Self {
        Self { message: message.to_owned(), label: String::new(), place: 0..0 }
    }
}

fn fault(text: &str, error: &minijinja::Error) -> TemplateFault {
    TemplateFault {
        message: error.kind().to_string(),
        label: if error.kind() == ErrorKind::UndefinedError {
            UNDEFINED
        } else {
            error.detail().unwrap_or("here")
        }
        .to_owned(),
        place: error.range().unwrap_or_else(|| line(text, error.line())),
    }
}

/// What is made, up to a size.
struct Output(Vec<u8>);

impl Write for Output {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.extend_from_slice(bytes);
        if self.0.len() > MAX_OUTPUT {
            return Err(io::ErrorKind::FileTooLarge.into());
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Where a line, counted from 1, stands in a text.
fn line(text: &str, number: Option<usize>) -> Range<usize> {
    let before = number.unwrap_or(1).saturating_sub(1);
    let start: usize = text.split_inclusive('\n').take(before).map(str::len).sum();
    let length = text[start..].lines().next().map_or(0, str::len);
    start..start + length
}

#[cfg(test)]
mod tests {
    use bibliotax_core::facet::Target;
    use bibliotax_core::links::{LinkSettings, NoFiles, Root};
    use bibliotax_core::lock::{Lock, Scope};
    use serde_json::json;

    use super::*;

    fn links() -> Links {
        let package = json!({ "name": "leaf-count", "version": "1", "source": "seedhouse", "card": "0".repeat(64),
            "files": [{ "sha256": "0".repeat(64), "size": 1, "format": "tar" }],
            "exposes": { "include": ["include"] } });
        let kiosk = json!({ "name": "gate-kiosk", "path": ".", "needs": [{ "name": "leaf-count" }] });
        let lock = Lock {
            made_from: "0".repeat(64).parse().unwrap(),
            registries: Default::default(),
            charters: Vec::new(),
            projects: vec![serde_json::from_value(kiosk).unwrap()],
            packages: vec![serde_json::from_value(package).unwrap()],
        };
        let machine = Target { name: "this machine".into(), values: Default::default(), is_promise: false };
        let slots = lock.slots(&Scope::all(&machine)).unwrap();
        Links::of(
            &lock,
            &slots,
            &Root { shelf: "shelf", absolute: None, settings: &LinkSettings::default() },
            &NoFiles,
        )
        .remove(0)
    }

    fn render(text: &str) -> Result<String, StoreError> {
        let template = Template { folder: String::new(), name: "flags.mk".into(), text: text.into() };
        template.rendered(&links()).map_err(|fault| template.failed(fault))
    }

    #[test]
    fn a_template_sees_the_links_and_blocks_leave_no_empty_lines() {
        let text = "# {{ project }}\n{% for path in roles.include %}\n-I{{ path }}\n{% endfor %}\n{{ packages[0].version }}\n";
        assert_eq!(render(text).unwrap(), "# gate-kiosk\n-Ishelf/leaf-count/include\n1\n");
    }

    #[test]
    fn an_error_points_into_the_template() {
        for (text, pointed_at) in [
            ("one\n{% for x in roles %}\n", "{% for x in roles %}"),
            ("one\n-I{{ roles.inclued[0] }}\n", "roles.inclued[0]"),
            ("{{ packages | frobnicate }}", "packages | frobnicate"),
            ("{% include \"other\" %}", "other"),
        ] {
            let StoreError::Template { name, fault, .. } = render(text).unwrap_err() else { panic!() };
            assert_eq!(name, "links/flags.mk");
            let shown = &text[fault.span.clone()];
            assert!(shown.contains(pointed_at) || pointed_at.contains(shown), "{shown}: {fault:?}");
        }
    }

    #[test]
    fn a_name_that_there_is_not_is_an_error_wherever_it_stands() {
        for text in [
            "{{ roles.inclued }}",
            "{{ roles.inclued | join(' ') }}",
            "{{ roles.inclued | length }}",
            "{{ roles.inclued | first }}",
            "{{ roles.inclued | list | tojson }}",
            "{{ roles.inclued | upper }}",
            "{{ roles.inclued | sort | join }}",
            "{{ roles.include | join(roles.inclued) }}",
            "{{ packages | map(attribute='nmae') | join(' ') }}",
            "{{ packages | groupby('nmae') }}",
            "{{ [roles.inclued] | join(' ') }}",
            "{{ 'x' ~ roles.inclued }}",
            "{{ 'x' in roles.inclued }}",
            "{{ roles.inclued == 'x' }}",
            "{% if roles.inclued %}{% endif %}",
            "{% if not roles.inclued %}{% endif %}",
            "{% if roles.inclued is iterable %}{% endif %}",
            "{% for x in roles.inclued %}{% endfor %}",
            "{% for p in packages if p.exposes.modul %}{% endfor %}",
            "{% set x = roles.inclued %}{{ x }}",
            "{{ roles.inclued if true }}",
        ] {
            let rendered = render(text);
            assert!(matches!(rendered, Err(StoreError::Template { .. })), "{text}: {rendered:?}");
        }
    }

    #[test]
    fn a_name_that_there_need_not_be_can_be_asked_for() {
        for (text, expected) in [
            ("{{ roles.module | default([]) | join(' ') }}", ""),
            ("{{ roles.module | d('none') }}", "none"),
            ("{% if roles.module is defined %}yes{% endif %}", ""),
            ("{% if roles.include is defined %}yes{% endif %}", "yes"),
            ("{% if target is none %}here{% endif %}", "here"),
            ("{{ roles.include | join(' ') }}", "shelf/leaf-count/include"),
            ("{{ packages | map(attribute='name') | map('upper') | join(',') }}", "LEAF-COUNT"),
            ("{{ packages | selectattr('exposes') | list | length }}", "1"),
            (
                "{{ roles.include | select('in', ['shelf/leaf-count/include']) | first }}",
                "shelf/leaf-count/include",
            ),
        ] {
            assert_eq!(render(text).map_err(|error| error.to_string()).as_deref(), Ok(expected), "{text}");
        }
    }

    #[test]
    fn a_template_without_an_end_ends() {
        let text =
            "{% for a in range(9999) %}{% for b in range(9999) %}{% set c = a + b %}{% endfor %}{% endfor %}";
        assert!(matches!(render(text), Err(StoreError::Template { .. })));
    }

    #[test]
    fn a_template_that_makes_too_much_is_cut_off() {
        let text = "{% for a in range(9999) %}{{ 'moss' * 1000 }}{% endfor %}";
        let StoreError::Template { fault, .. } = render(text).unwrap_err() else { panic!() };
        assert!(fault.message.contains("16 MiB"), "{fault}");
    }
}
