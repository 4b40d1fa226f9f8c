//! Edits a manifest's text in place: comments, order and spacing survive.

mod team;

use toml_edit::{Array, Decor, DocumentMut, InlineTable, Item, RawString, Table, TableLike, Value, value};

use super::line_ends::LineEnds;
use super::{AS_CHARTER, AS_FAMILY, AS_SHARED, syntax};
use crate::fault::Fault;
use crate::manifest::read::SOURCE_KEYS;
use crate::name::{ComponentName, Family, PackageName, PartName, Purpose, RegistryName};
use crate::range::Range;
use crate::upstream::UpstreamVersion;
use crate::version::Version;

/// The text of a manifest, open for editing.
#[derive(Debug, Clone)]
pub struct ManifestText {
    document: DocumentMut,
    line_ends: LineEnds,
}

impl ManifestText {
    /// Opens a text that reads as TOML.
    pub fn open(text: &str) -> Result<Self, Fault> {
        let (line_ends, plain) = LineEnds::taken_off(text);
        // Where it can't be read is a place in the text as it stands in the file.
        text.parse::<DocumentMut>().map_err(|error| syntax::fault(text, &error))?;
        let document = plain.parse().map_err(|error| syntax::fault(&plain, &error))?;
        Ok(Self { document, line_ends })
    }

    /// Declares that `package` is needed in `range`, or changes the range that is declared.
    ///
    /// A need that is a table keeps what else it says.
    pub fn set_need(&mut self, purpose: Option<&Purpose>, package: &PackageName, range: &Range) {
        let needs = self.needs_or_new(purpose);
        let written = range.to_string();
        match needs.get_mut(package.as_str()) {
            None => {
                needs.insert(package.as_str(), value(written));
            }
            Some(item) => match item.as_table_like_mut() {
                Some(table) => {
                    table.remove("family");
                    replace_text(table, "range", &written);
                    straighten(item);
                }
                None => replace_text(needs, package.as_str(), &written),
            },
        }
    }

    /// Declares that `package` comes from a registry: what the need says of another source goes.
    pub fn leave_source(&mut self, purpose: Option<&Purpose>, package: &PackageName) {
        let Some(item) = self.needs(purpose).and_then(|needs| needs.get_mut(package.as_str())) else {
            return;
        };
        let Some(table) = item.as_table_like_mut() else { return };
        SOURCE_KEYS.iter().for_each(|key| drop(table.remove(key)));
        straighten(item);
    }

    /// Declares that `package` is needed in the range of the family that its scope names.
    pub fn set_need_of_family(&mut self, purpose: Option<&Purpose>, package: &PackageName) {
        replace_text(self.needs_or_new(purpose), package.as_str(), AS_FAMILY);
    }

    /// Declares that `package` is needed in the range that the workspace has for it; what else a need says stays.
    pub fn set_need_shared(&mut self, purpose: Option<&Purpose>, package: &PackageName) {
        self.set_need_word(purpose, package, AS_SHARED);
    }

    /// Declares that `package` has a charter's range.
    pub fn set_need_chartered(&mut self, purpose: Option<&Purpose>, package: &PackageName) {
        self.set_need_word(purpose, package, AS_CHARTER);
    }

    fn set_need_word(&mut self, purpose: Option<&Purpose>, package: &PackageName, word: &str) {
        set_range_text(self.needs_or_new(purpose), package.as_str(), word);
    }

    /// Declares where `package` comes from, by these keys of the need and no other that say so; what else it says stays.
    pub fn set_need_source(
        &mut self,
        purpose: Option<&Purpose>,
        package: &PackageName,
        said: &[(&'static str, Value)],
    ) {
        let needs = self.needs_or_new(purpose);
        if let Some(item) = needs.get_mut(package.as_str()).filter(|item| item.is_table_like())
            && let Some(table) = item.as_table_like_mut()
        {
            // A card says what the package is, wherever it comes from, and which of its files are no part of it.
            let stays = ["card", "plain", "include", "exclude"];
            let others = SOURCE_KEYS.iter().filter(|key| !stays.contains(key));
            for key in others.chain(&["range", "from", "family"]) {
                if !said.iter().any(|(said, _)| said == key) {
                    table.remove(key);
                }
            }
            said.iter().for_each(|(key, new)| replace(table, key, new.clone()));
            straighten(item);
            return;
        }
        let table: InlineTable = said.iter().map(|(key, new)| (*key, new.clone())).collect();
        needs.insert(package.as_str(), value(table));
    }

    /// The card that the need of `package` has: the way to a file, or nothing for one that stands in the need; `None` without a card.
    pub fn card_of_need(&self, purpose: Option<&Purpose>, package: &PackageName) -> Option<Option<String>> {
        let needs = match purpose {
            None => self.document.get("needs")?,
            Some(purpose) => self.document.get("needs-for")?.get(purpose.as_str())?,
        };
        let card = needs.get(package.as_str())?.get("card")?;
        Some(card.as_str().map(str::to_owned))
    }

    /// Gives the card that stands in the need of `package` another version, where it says one.
    pub fn set_version_in_card(
        &mut self,
        purpose: Option<&Purpose>,
        package: &PackageName,
        version: &Version,
        upstream: Option<&UpstreamVersion>,
    ) {
        let need = self.needs(purpose).and_then(|needs| needs.get_mut(package.as_str()));
        let Some(card) = need.and_then(|need| need.get_mut("card")?.as_table_like_mut()) else { return };
        if card.contains_key("version") {
            replace_text(card, "version", &version.to_string());
        }
        match upstream.filter(|_| card.contains_key("upstream-version")) {
            Some(upstream) => replace_text(card, "upstream-version", upstream.as_str()),
            None => drop(card.remove("upstream-version")),
        }
    }

    /// Keeps a family in a range.
    pub fn set_family(&mut self, family: &Family, range: &Range) {
        self.set_range("families", family.as_str(), range);
    }

    /// Says which range projects of the workspace share for a package.
    pub fn set_shared(&mut self, package: &PackageName, range: &Range) {
        self.set_range("shared", package.as_str(), range);
    }

    fn set_range(&mut self, table: &str, key: &str, range: &Range) {
        let table = self.document.entry(table).or_insert_with(|| Item::Table(Table::new()));
        if let Some(table) = table.as_table_like_mut() {
            replace_text(table, key, &range.to_string());
        }
    }

    /// Adds a folder to the projects of the workspace.
    pub fn add_project(&mut self, folder: &str) {
        let list = self.document.get_mut("workspace").and_then(Item::as_table_like_mut);
        let Some(list) = list else { return };
        let projects = list.entry("folders").or_insert_with(|| value(Array::new()));
        if let Some(projects) = projects.as_array_mut() {
            projects.push(folder);
        }
    }

    /// Says with the need of `package` what it needs and the project does without, beside what it says already.
    pub fn do_without(&mut self, purpose: Option<&Purpose>, package: &PackageName, left_out: &[PackageName]) {
        self.add_names(purpose, package, "without", left_out.iter().map(PackageName::as_str));
    }

    /// Says with the need of `package` which of its components are wanted, beside those that it says already.
    pub fn want_components(
        &mut self,
        purpose: Option<&Purpose>,
        package: &PackageName,
        components: &[ComponentName],
    ) {
        self.add_names(purpose, package, "components", components.iter().map(ComponentName::as_str));
    }

    /// Says with the need of `package` that the components which come by default are not wanted.
    pub fn take_bare(&mut self, purpose: Option<&Purpose>, package: &PackageName) {
        self.add_to_need(purpose, package, "bare", Value::from(true));
    }

    /// Says with the need of `package` which parts are asked for, beside those that it says already.
    pub fn ask_for_parts(&mut self, purpose: Option<&Purpose>, package: &PackageName, parts: &[PartName]) {
        self.add_names(purpose, package, "parts", parts.iter().map(PartName::as_str));
    }

    /// The line that declares a need, as it is written but for blanks and comments.
    pub fn need_line(&self, purpose: Option<&Purpose>, package: &PackageName) -> Option<String> {
        let needs = match purpose {
            None => self.document.get("needs")?,
            Some(purpose) => self.document.get("needs-for")?.get(purpose.as_str())?,
        };
        line_of(needs, package)
    }

    /// Adds names to a list that a need has, or gets.
    fn add_names<'n>(
        &mut self,
        purpose: Option<&Purpose>,
        package: &PackageName,
        key: &str,
        new: impl Iterator<Item = &'n str>,
    ) {
        let said =
            self.needs_or_new(purpose).get(package.as_str()).and_then(|need| need.get(key)?.as_array());
        let mut names: Array = said.cloned().unwrap_or_default();
        for name in new {
            if !names.iter().any(|said| said.as_str() == Some(name)) {
                names.push(name);
            }
        }
        if !names.is_empty() {
            self.add_to_need(purpose, package, key, Value::Array(names));
        }
    }

    /// Says with the need of `package` that pre-releases count like any other version.
    pub fn accept_prereleases(&mut self, purpose: Option<&Purpose>, package: &PackageName) {
        self.add_to_need(purpose, package, "prereleases", Value::from(true));
    }

    /// Says with the need of `package` which registry it comes from.
    pub fn take_from(&mut self, purpose: Option<&Purpose>, package: &PackageName, registry: &RegistryName) {
        self.add_to_need(purpose, package, "from", Value::from(registry.as_str()));
    }

    /// Says with the need of `package` which targets it is for.
    pub fn only_for(&mut self, purpose: Option<&Purpose>, package: &PackageName, targets: &[String]) {
        let targets: Array = targets.iter().map(String::as_str).collect();
        self.add_to_need(purpose, package, "targets", Value::Array(targets));
    }

    /// Adds a key to a need; one that is only a range becomes a table.
    fn add_to_need(&mut self, purpose: Option<&Purpose>, package: &PackageName, key: &str, new: Value) {
        let needs = self.needs_or_new(purpose);
        let Some(item) = needs.get_mut(package.as_str()) else { return };
        if let Some(table) = item.as_inline_table_mut() {
            add_to_inline(table, key, new);
            return;
        }
        if let Some(table) = item.as_table_like_mut() {
            table.insert(key, value(new));
            return;
        }
        let mut table = InlineTable::new();
        if let Some(range) = item.as_str() {
            table.insert("range", range.into());
        }
        table.insert(key, new);
        *item = value(table);
    }

    /// Takes the need of `package` out; `false` if there is none.
    ///
    /// Comments above it stay where they are, in front of what follows.
    pub fn remove_need(&mut self, purpose: Option<&Purpose>, package: &PackageName) -> bool {
        let Some(needs) = self.needs(purpose) else { return false };
        let names: Vec<String> = needs.iter().map(|(name, _)| name.to_owned()).collect();
        let Some(position) = names.iter().position(|name| name == package.as_str()) else { return false };
        let above = needs.key(package.as_str()).and_then(|key| key.leaf_decor().prefix().cloned());
        needs.remove(package.as_str());
        let comment =
            above.as_ref().and_then(RawString::as_str).filter(|text| text.contains('#')).map(str::to_owned);
        if let Some(comment) = comment {
            self.keep_comment(purpose, names.get(position + 1).map(String::as_str), &comment);
        }
        true
    }

    fn keep_comment(&mut self, purpose: Option<&Purpose>, follower: Option<&str>, comment: &str) {
        let following = follower.and_then(|name| self.needs(purpose)?.key_mut(name));
        if let Some(mut key) = following {
            let decor = key.leaf_decor_mut();
            let own = decor.prefix().and_then(RawString::as_str).unwrap_or_default().to_owned();
            decor.set_prefix(format!("{comment}{own}"));
            return;
        }
        let next = self.table_after(purpose);
        if let Some(table) = next {
            let own = table.decor().prefix().and_then(RawString::as_str).unwrap_or_default().to_owned();
            table.decor_mut().set_prefix(format!("{comment}{own}"));
            return;
        }
        let own = self.document.trailing().as_str().unwrap_or_default().to_owned();
        self.document.set_trailing(format!("{comment}{own}"));
    }

    /// The table that is written next behind the needs of `purpose`.
    fn table_after(&mut self, purpose: Option<&Purpose>) -> Option<&mut Table> {
        let position = match purpose {
            None => self.document.get("needs")?.as_table()?.position()?,
            Some(purpose) => self.document.get("needs-for")?.get(purpose.as_str())?.as_table()?.position()?,
        };
        let root = self.document.as_table_mut();
        let next = positions(root).into_iter().filter(|p| *p > position).min()?;
        table_at(root, next)
    }

    fn needs(&mut self, purpose: Option<&Purpose>) -> Option<&mut dyn TableLike> {
        match purpose {
            None => self.document.get_mut("needs")?.as_table_like_mut(),
            Some(purpose) => {
                self.document.get_mut("needs-for")?.get_mut(purpose.as_str())?.as_table_like_mut()
            }
        }
    }

    fn needs_or_new(&mut self, purpose: Option<&Purpose>) -> &mut dyn TableLike {
        let root = self.document.as_table_mut();
        let parent: &mut Item = match purpose {
            None => root.entry("needs").or_insert_with(|| Item::Table(Table::new())),
            Some(purpose) => {
                let groups = root.entry("needs-for").or_insert_with(|| Item::Table(implicit_table()));
                &mut groups[purpose.as_str()]
            }
        };
        if parent.as_table_like().is_none() {
            // Reading refused anything else here, so this is a group that is not there yet.
            *parent = Item::Table(Table::new());
        }
        // Just made one where there was none.
        parent.as_table_like_mut().expect("needs are a table")
    }
}

impl std::fmt::Display for ManifestText {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.line_ends.put_back(&self.document.to_string()))
    }
}

fn implicit_table() -> Table {
    let mut table = Table::new();
    table.set_implicit(true);
    table
}

/// The places of all written tables in `table` and below.
fn positions(table: &Table) -> Vec<isize> {
    let below = table.iter().filter_map(|(_, item)| item.as_table()).flat_map(positions);
    table.position().filter(|_| !table.is_implicit()).into_iter().chain(below).collect()
}

fn table_at(table: &mut Table, position: isize) -> Option<&mut Table> {
    if table.position() == Some(position) && !table.is_implicit() {
        return Some(table);
    }
    table.iter_mut().filter_map(|(_, item)| item.as_table_mut()).find_map(|below| table_at(below, position))
}

/// Adds a key to a table in braces: the blank before the closing one stays there.
fn add_to_inline(table: &mut InlineTable, key: &str, mut new: Value) {
    let last = table.iter().last().map(|(last, _)| last.to_owned());
    let last = last.filter(|_| !table.contains_key(key)).and_then(|last| table.get_mut(&last));
    let blank = last.and_then(|last| {
        let blank = last.decor().suffix()?.as_str()?.to_owned();
        last.decor_mut().set_suffix("");
        Some(blank)
    });
    if let Some(blank) = blank {
        *new.decor_mut() = Decor::new(" ", blank);
    }
    table.insert(key, new);
}

/// What a table says of a package, as one line.
fn line_of(table: &Item, package: &PackageName) -> Option<String> {
    let (key, item) = table.as_table_like()?.get_key_value(package.as_str())?;
    let key = toml_edit::Key::new(key.get()).display_repr().into_owned();
    let value = item.clone().into_value().ok()?;
    Some(format!("{key} = {}", value.to_string().trim()))
}

/// Gives something a range as a text: where it is a table, in that.
fn set_range_text(table: &mut dyn TableLike, name: &str, range: &str) {
    match table.get_mut(name).and_then(Item::as_table_like_mut) {
        Some(own) => replace_text(own, "range", range),
        None => replace_text(table, name, range),
    }
}

/// Puts a text where another value stands, with that one's blanks and trailing comment.
fn replace_text(table: &mut dyn TableLike, key: &str, text: &str) {
    replace(table, key, Value::from(text));
}

/// Puts blanks between the keys of a table on one line as they are usual, where keys came and went.
fn straighten(item: &mut Item) {
    if let Some(table) = item.as_inline_table_mut() {
        table.fmt();
    }
}

/// Puts a value where another one stands, with that one's blanks and trailing comment.
fn replace(table: &mut dyn TableLike, key: &str, new: Value) {
    match table.get_mut(key).and_then(Item::as_value_mut) {
        Some(old) => {
            let decor = old.decor().clone();
            *old = new;
            *old.decor_mut() = decor;
        }
        None => {
            table.insert(key, Item::Value(new));
        }
    }
}
