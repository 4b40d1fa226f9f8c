//! Notices: the licence texts that go with a product, each text once, with the packages that it is of.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use bibliotax_core::escape::in_markdown;
use bibliotax_core::license::TextProblem;
use minijinja::Environment;
use serde::Serialize;

use crate::bill::{Bill, BillComponent};

/// The notices of a bill, as all forms tell them.
#[derive(Debug, Serialize)]
pub struct Notices {
    title: String,
    introduction: String,
    packages: Vec<PackageNotice>,
    texts: Vec<NoticeText>,
}

/// A package.
#[derive(Debug, Serialize)]
struct PackageNotice {
    /// Its name and version.
    name: String,
    /// Where it is presented, if that is on the web.
    homepage: Option<String>,
    license: String,
    texts: Vec<TextPlace>,
    /// What isn't there that should go with the product.
    gaps: Vec<String>,
}

/// Where a text of a package is.
#[derive(Debug, Serialize)]
struct TextPlace {
    /// The text's number, from 1.
    number: usize,
    /// The file in the package.
    path: String,
}

/// A text.
#[derive(Debug, Serialize)]
struct NoticeText {
    number: usize,
    /// Its number and the licences that it reads like.
    title: String,
    /// The packages that it is of, with the files.
    owners: String,
    text: String,
}

impl Notices {
    /// The notices of a bill, whose packages have their texts.
    pub fn of(bill: &Bill) -> Self {
        let mut numbers: BTreeMap<String, usize> = BTreeMap::new();
        let mut texts: Vec<NoticeText> = Vec::new();
        let mut packages = Vec::new();
        for component in &bill.components {
            let mut notice = PackageNotice::of(component);
            for found in &component.license_texts {
                let owner = format!("{} ({})", notice.name, found.path);
                let number = *numbers.entry(comparable(&found.text)).or_insert(texts.len() + 1);
                match texts.get_mut(number - 1) {
                    Some(text) => text.owners += &format!(", {owner}"),
                    None => texts.push(NoticeText {
                        number,
                        title: title_of(number, &found.ids),
                        owners: owner,
                        text: found.text.trim_matches(['\n', '\r']).to_owned(),
                    }),
                }
                notice.texts.push(TextPlace { number, path: found.path.clone() });
            }
            packages.push(notice);
        }
        let title = format!("Third-party notices for {}", bill.name);
        Self { title, introduction: introduction(packages.len()), packages, texts }
    }

    /// As plain text.
    pub fn text(&self) -> String {
        let mut out = format!("{}\n\n{}\n", underlined(&self.title, '='), self.introduction);
        for PackageNotice { name, homepage, license, texts, gaps } in &self.packages {
            let _ = write!(out, "\n{name}\n    {license}\n");
            out.extend(homepage.iter().map(|url| format!("    {url}\n")));
            out.extend(texts.iter().map(|TextPlace { number, path }| format!("    text {number}: {path}\n")));
            out.extend(gaps.iter().map(|gap| format!("    It {gap}.\n")));
        }
        for NoticeText { title, owners, text, .. } in &self.texts {
            let _ = write!(out, "\n\n{}\nOf {owners}\n\n{text}\n", underlined(title, '-'));
        }
        out
    }

    /// As Markdown. Nothing in a text can end the block that it is in.
    pub fn markdown(&self) -> String {
        let mut out = format!("# {}\n\n{}\n\n", in_markdown(&self.title), self.introduction);
        out += "| Package | Licence | Texts |\n| --- | --- | --- |\n";
        for PackageNotice { name, homepage, license, texts, gaps } in &self.packages {
            let name = match homepage {
                Some(url) => format!("[{}](<{}>)", in_markdown(name), url.replace(['<', '>', '|', '\\'], "")),
                None => in_markdown(name),
            };
            let texts = texts.iter().map(|text| format!("{} ({})", in_markdown(&text.path), text.number));
            let cells: Vec<String> = texts.chain(gaps.iter().map(|gap| in_markdown(gap))).collect();
            let _ = writeln!(out, "| {name} | {} | {} |", in_markdown(license), cells.join(", "));
        }
        for NoticeText { title, owners, text, .. } in &self.texts {
            let fence = "`".repeat(longest_run(text, '`').max(2) + 1);
            let (title, owners) = (in_markdown(title), in_markdown(owners));
            let _ = write!(out, "\n## {title}\n\nOf {owners}\n\n{fence}text\n{text}\n{fence}\n");
        }
        out
    }

    /// As one HTML page without scripts.
    pub fn html(&self) -> String {
        let mut templates = Environment::new();
        // The name has an ending for which all values are escaped.
        let page = templates.add_template("notices.html", include_str!("notices.html"));
        let page = page.and_then(|()| templates.get_template("notices.html")?.render(self));
        page.expect("the template goes with these values: a test renders it")
    }
}

impl PackageNotice {
    fn of(component: &BillComponent) -> Self {
        let homepage = component.card.as_ref().and_then(|card| card.homepage.clone());
        let license = component.package.license.as_ref();
        let gaps = component.text_problems().into_iter().filter(|problem| !TextProblem::is_mismatch(problem));
        Self {
            name: format!("{} {}", component.package.name, component.package.version),
            homepage: homepage.filter(|url| url.starts_with("https://") || url.starts_with("http://")),
            license: license.map_or_else(|| "no licence declared".to_owned(), ToString::to_string),
            texts: Vec::new(),
            gaps: gaps.map(|gap| gap.to_string()).collect(),
        }
    }
}

fn introduction(packages: usize) -> String {
    match packages {
        0 => "It has no packages by others.".to_owned(),
        1 => "It has one package by others, listed with its licence and its texts.".to_owned(),
        many => format!("It has {many} packages by others. Each is listed with its licence and its texts."),
    }
}

fn title_of(number: usize, ids: &[String]) -> String {
    if ids.is_empty() { format!("Text {number}") } else { format!("Text {number}: {}", ids.join(" or ")) }
}

/// A text without what makes no difference: ends of lines, and blanks before them.
fn comparable(text: &str) -> String {
    let lines: Vec<&str> = text.lines().map(str::trim_end).collect();
    lines.join("\n").trim().to_owned()
}

fn underlined(title: &str, with: char) -> String {
    format!("{title}\n{}", with.to_string().repeat(title.chars().count()))
}

/// The length of the longest run of a letter.
fn longest_run(text: &str, of: char) -> usize {
    text.split(|letter| letter != of).map(str::len).max().unwrap_or(0)
}
