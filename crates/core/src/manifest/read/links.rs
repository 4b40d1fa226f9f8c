//! Reads what goes to build tools: `[links]`, `[tools]`, `[environment]`.

use std::collections::BTreeMap;

use toml_edit::{Item, Key, TableLike};

use super::fixes::add_key;
use super::values::{key_span, span};
use super::{LINKS_KEYS, Reader, VARIABLE_KEYS};
use crate::build_tool::BuildTool;
use crate::fault::Fault;
use crate::manifest::RoleVariable;
use crate::name::{TargetName, ToolName};

/// Longest text that stands in a variable beside paths, in bytes.
const MAX_LEN: usize = 64;

impl Reader<'_> {
    pub(super) fn links(&mut self, table: &dyn TableLike) -> Vec<BuildTool> {
        self.only_known(table, "`[links]`", &LINKS_KEYS);
        self.parsed_list(table, "for")
    }

    /// `[tools.TARGET]`: the command for each tool.
    pub(super) fn tools(&mut self, top: &dyn TableLike) -> BTreeMap<String, BTreeMap<ToolName, String>> {
        let tools = self.each(top, "tools", |reader, key, item| {
            let target: TargetName = reader.name(key)?;
            let table = reader.table(item, key.get())?;
            let tools = reader.entries(table, |reader, key, item| {
                let command = reader.text(item, key.get())?;
                if command.is_empty() || command.contains(char::is_control) {
                    let message = format!("`{}` has no command", key.get());
                    let fault = Fault::new("manifest.tool", message, span(item));
                    reader.faults.push(fault.advice("write the program, with options if it needs any"));
                }
                Some((reader.name(key)?, command))
            });
            Some((target.to_string(), tools.into_iter().collect()))
        });
        tools.into_iter().collect()
    }

    /// A variable of `[environment]`: a role, or a table with one.
    pub(super) fn role_variable(&mut self, key: &Key, item: &Item) -> Option<(String, RoleVariable)> {
        let name = key.get();
        let is_letter = |c: char| c.is_ascii_alphabetic() || c == '_';
        if !name.starts_with(is_letter) || !name.chars().all(|c| is_letter(c) || c.is_ascii_digit()) {
            let message = format!("`{name}` can't be a variable of the environment");
            let fault = Fault::new("manifest.variable", message, key_span(key));
            self.faults.push(fault.advice("write letters, digits and `_`"));
        }
        if item.as_str().is_some() {
            let role = self.parse(item, name)?;
            return Some((name.to_owned(), RoleVariable { role, prefix: String::new(), separator: None }));
        }
        let table = self.table(item, name)?;
        self.only_known(table, "a variable", &VARIABLE_KEYS);
        let mut short = |key| {
            let item = table.get(key)?;
            let text = self.text(item, key)?;
            if text.len() > MAX_LEN || text.contains(char::is_control) {
                self.wrong_kind(item, key, "a short text on one line");
            }
            Some(text)
        };
        let (prefix, separator) = (short("prefix").unwrap_or_default(), short("separator"));
        if !table.contains_key("role") {
            let fault = Fault::new("manifest.variable", format!("`{name}` has no `role`"), span(item));
            let fault = fault.advice("write the role whose paths it holds: `role = \"python\"`");
            self.faults.push(fault.offering([add_key("role", span(item))]));
        }
        Some((name.to_owned(), RoleVariable { role: self.parsed(table, "role")?, prefix, separator }))
    }
}
