//! Edits of what a team agrees on: charters, levels of targets, accepted licences, waivers, stand-ins.

use jiff::civil::Date;
use toml_edit::{Array, ArrayOfTables, Datetime, InlineTable, Item, Table, TableLike, Value, value};

use super::{ManifestText, implicit_table, line_of, replace_text, set_range_text, straighten};
use crate::name::{FacetName, PackageName};
use crate::range::Range;

impl ManifestText {
    /// Says that the workspace takes on a charter in a range; what else is said of it stays.
    pub fn set_charter(&mut self, charter: &PackageName, range: &Range) {
        let charters = self.document.entry("charters").or_insert_with(|| Item::Table(Table::new()));
        let Some(charters) = charters.as_table_like_mut() else { return };
        set_range_text(charters, charter.as_str(), &range.to_string());
    }

    /// The line that takes on a charter.
    pub fn charter_line(&self, charter: &PackageName) -> Option<String> {
        line_of(self.document.get("charters")?, charter)
    }

    /// Removes a charter; the table as well where it is the last.
    pub fn remove_charter(&mut self, charter: &PackageName) {
        let Some(charters) = self.document.get_mut("charters").and_then(Item::as_table_like_mut) else {
            return;
        };
        charters.remove(charter.as_str());
        if charters.is_empty() {
            self.document.remove("charters");
        }
    }

    /// Excepts a package from a charter, for a reason that a person still has to write.
    pub fn except_from_charter(&mut self, charter: &PackageName, package: &PackageName) {
        let Some(charters) = self.document.get_mut("charters").and_then(Item::as_table_like_mut) else {
            return;
        };
        let Some(declared) = charters.get_mut(charter.as_str()) else { return };
        if let Some(range) = declared.as_str().map(str::to_owned) {
            *declared = value(InlineTable::from_iter([("range", range)]));
        }
        let Some(declared) = declared.as_table_like_mut() else { return };
        let exception: InlineTable = [("package", package.as_str()), ("reason", "")].into_iter().collect();
        match declared.get_mut("except") {
            Some(Item::Value(Value::Array(list))) => list.push(exception),
            Some(Item::ArrayOfTables(tables)) => tables.push(exception.into_table()),
            _ => drop(declared.insert("except", value(Array::from_iter([exception])))),
        }
    }

    /// Puts a target that the manifest declares, or the project's promise where `target` is none, at another level of a facet.
    pub fn set_level(&mut self, target: Option<&str>, facet: &FacetName, level: &str) {
        let places = self.document.get_mut(if target.is_some() { "targets" } else { "fits" });
        let place = match target {
            Some(target) => places.and_then(|places| places.get_mut(target)),
            None => places,
        };
        if let Some(place) = place.and_then(Item::as_table_like_mut) {
            replace_text(place, facet.as_str(), level);
        }
    }

    /// Says that people accepted a licence of `package` for the versions of a range, beside those that they accepted before.
    pub fn set_accepted(&mut self, package: &PackageName, license: &str, range: &Range) {
        let rules = self.document.entry("rules").or_insert_with(|| Item::Table(implicit_table()));
        let Some(rules) = rules.as_table_like_mut() else { return };
        let accepted = rules.entry("accepted").or_insert_with(|| Item::Table(Table::new()));
        let Some(accepted) = accepted.as_table_like_mut() else { return };
        let range = range.to_string();
        let new: InlineTable = [("license", license), ("range", range.as_str())].into_iter().collect();
        let name = package.as_str();
        match accepted.get_mut(name) {
            None => {
                accepted.insert(name, value(new));
            }
            Some(item) => match item.as_value_mut() {
                Some(Value::Array(list)) => list.push(new),
                Some(one) => {
                    let both: Array = [one.clone().decorated("", ""), new.into()].into_iter().collect();
                    *one = Value::from(both).decorated(" ", "");
                }
                // `[rules.accepted.PACKAGE]` and `[[rules.accepted.PACKAGE]]`.
                None => {
                    let list =
                        std::mem::take(item).into_value().unwrap_or_else(|_| Value::from(Array::new()));
                    let mut both = match list {
                        Value::Array(list) => list,
                        one => [one].into_iter().collect(),
                    };
                    both.push(new);
                    *item = value(both);
                }
            },
        }
    }

    /// Removes the exception of a package from a charter; the list as well where it is the last.
    pub fn remove_exception(&mut self, charter: &PackageName, package: &PackageName) {
        let declared = self.document.get_mut("charters").and_then(|item| item.get_mut(charter.as_str()));
        let Some(item) = declared else { return };
        let Some(declared) = item.as_table_like_mut() else { return };
        let names =
            |table: &dyn TableLike| table.get("package").and_then(Item::as_str) == Some(package.as_str());
        let is_last = match declared.get_mut("except") {
            Some(Item::Value(Value::Array(list))) => {
                list.retain(|one| !one.as_inline_table().is_some_and(|table| names(table)));
                list.is_empty()
            }
            Some(Item::ArrayOfTables(tables)) => {
                tables.retain(|table| !names(table));
                tables.is_empty()
            }
            _ => false,
        };
        if is_last {
            declared.remove("except");
            straighten(item);
        }
    }

    /// Removes what stands in for a package; the table as well where it is the last.
    pub fn remove_stand_in(&mut self, package: &PackageName) {
        let Some(all) = self.document.get_mut("stand-ins").and_then(Item::as_table_like_mut) else { return };
        all.remove(package.as_str());
        if all.is_empty() {
            self.document.remove("stand-ins");
        }
    }

    /// Excepts a package from a rule until a day, for a reason that a person still has to write.
    pub fn add_waiver(&mut self, rule: &str, package: &PackageName, until: Date) {
        let rules = self.document.entry("rules").or_insert_with(|| Item::Table(implicit_table()));
        let Some(rules) = rules.as_table_like_mut() else { return };
        let texts = [("rule", rule), ("package", package.as_str()), ("reason", "")];
        let mut waiver: Table = texts.into_iter().map(|(key, text)| (key, value(text))).collect();
        if let Ok(day) = until.to_string().parse::<Datetime>() {
            waiver.insert("until", value(day));
        }
        match rules.get_mut("waivers") {
            Some(Item::ArrayOfTables(tables)) => tables.push(waiver),
            Some(Item::Value(Value::Array(list))) => list.push(waiver.into_inline_table()),
            _ => drop(rules.insert("waivers", Item::ArrayOfTables(ArrayOfTables::from_iter([waiver])))),
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::manifest::ManifestText;
    use crate::name::PackageName;

    fn edited(text: &str, edit: impl FnOnce(&mut ManifestText)) -> String {
        let mut open = ManifestText::open(text).unwrap();
        edit(&mut open);
        open.to_string()
    }

    fn name(text: &str) -> PackageName {
        text.parse().unwrap()
    }

    #[test]
    fn exceptions_come_and_go_in_each_form_of_a_charter() {
        let (charter, package) = (name("season"), name("dew-point"));
        for (before, made, left) in [
            (
                "[charters]\nseason = \"1\"\n",
                "[charters]\nseason = { range = \"1\", except = [{ package = \"dew-point\", reason = \"\" }] }\n",
                "[charters]\nseason = { range = \"1\" }\n",
            ),
            (
                "[charters.season]\nrange = \"1\"\n",
                "[charters.season]\nrange = \"1\"\nexcept = [{ package = \"dew-point\", reason = \"\" }]\n",
                "[charters.season]\nrange = \"1\"\n",
            ),
            (
                "[charters.season]\nrange = \"1\"\n[[charters.season.except]]\npackage = \"moss\"\nreason = \"a\"\n",
                "[charters.season]\nrange = \"1\"\n[[charters.season.except]]\npackage = \"moss\"\nreason = \"a\"\n\n\
                 [[charters.season.except]]\npackage = \"dew-point\"\nreason = \"\"\n",
                "[charters.season]\nrange = \"1\"\n[[charters.season.except]]\npackage = \"moss\"\nreason = \"a\"\n",
            ),
        ] {
            let excepted = edited(before, |text| text.except_from_charter(&charter, &package));
            assert_eq!(excepted, made);
            let back = edited(made, |text| text.remove_exception(&charter, &package));
            assert_eq!(back, left);
        }
        assert_eq!(edited("[needs]\n", |text| text.except_from_charter(&charter, &package)), "[needs]\n");
    }

    #[test]
    fn a_waiver_is_added_in_the_form_that_is_there() {
        let until = jiff::civil::date(2027, 1, 31);
        let new = "rule = \"licenses\"\npackage = \"moss\"\nreason = \"\"\nuntil = 2027-01-31\n";
        for (before, made) in [
            ("[needs]\n", format!("[needs]\n\n[[rules.waivers]]\n{new}")),
            (
                "[[rules.waivers]]\nrule = \"x\"\n",
                format!("[[rules.waivers]]\nrule = \"x\"\n\n[[rules.waivers]]\n{new}"),
            ),
            (
                "[rules]\nwaivers = []\n",
                "[rules]\nwaivers = [{ rule = \"licenses\", package = \"moss\", reason = \"\", until = 2027-01-31 }]\n"
                    .to_owned(),
            ),
        ] {
            assert_eq!(edited(before, |text| text.add_waiver("licenses", &name("moss"), until)), made);
        }
    }

    #[test]
    fn a_level_changes_only_where_the_target_is_declared() {
        let facet = "shade".parse().unwrap();
        let text = "[targets.desk]\nshade = '1' # for now\n[fits]\nshade = \"1\"\n";
        let of_target = edited(text, |text| text.set_level(Some("desk"), &facet, "2"));
        assert_eq!(of_target, text.replace("'1'", "\"2\""));
        let of_promise = edited(text, |text| text.set_level(None, &facet, "2"));
        assert_eq!(of_promise, text.replace("\"1\"", "\"2\""));
        assert_eq!(edited(text, |text| text.set_level(Some("gate"), &facet, "2")), text);
    }

    #[test]
    fn the_last_stand_in_goes_with_its_table() {
        let text = "[needs]\n[stand-ins]\nmoss = { path = \"../moss\" }\ndew = { path = \"../dew\" }\n";
        let one = edited(text, |text| text.remove_stand_in(&name("moss")));
        assert_eq!(one, "[needs]\n[stand-ins]\ndew = { path = \"../dew\" }\n");
        assert_eq!(edited(&one, |text| text.remove_stand_in(&name("dew"))), "[needs]\n");
    }
}
