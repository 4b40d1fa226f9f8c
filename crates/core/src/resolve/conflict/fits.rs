//! Sentences about releases that don't fit a target.

use super::Explainer;
use super::words::{extra_text, releases_text_inside};
use crate::facet::words;
use crate::facet::{Facet, FitValue, Fits, Target};
use crate::name::{FacetName, PartName};
use crate::resolve::Catalogue;
use crate::resolve::choices::Choices;
use crate::resolve::universe::{Extra, Fact, Lack, Package};
use crate::rules::rules_of;
use crate::variant::made_for;

impl<C: Catalogue> Explainer<'_, C> {
    /// Why releases don't fit a place; nothing for any other fact.
    pub(super) fn unfit(&self, fact: &Fact) -> String {
        let Fact::Unfit { package, target, lack, releases, extra, scope } = fact else {
            return String::new();
        };
        let (package, target) = (&self.packages[*package], &self.problem.places[*target]);
        match lack {
            Lack::Facet(facet) => self.unsuited(package, target, facet, releases, *scope),
            Lack::Part(part) => self.without_file(package, target, part, releases, extra.as_ref()),
        }
    }

    /// That releases have no file of a part for a place.
    fn without_file(
        &self,
        package: &Package,
        target: &Target,
        part: &PartName,
        releases: &Choices,
        extra: Option<&Extra>,
    ) -> String {
        let entries = releases.iter().filter_map(|choice| Some(&package.release(choice)?.entry));
        let mut there_are: Vec<Fits> = entries.flat_map(|entry| made_for(&entry.files, part)).collect();
        there_are.sort_by_key(words::fits);
        there_are.dedup();
        let facets = there_are.iter().flat_map(Fits::keys);
        let mut facets: Vec<&FacetName> = facets.collect();
        facets.sort();
        facets.dedup();
        let plain = |facet: &FacetName| {
            Some((facet.clone(), self.universe.facets.plain(facet, target.values.get(facet)?)))
        };
        let said: Fits = facets.iter().filter_map(|facet| plain(facet)).collect();
        let unsaid = facets.iter().filter(|facet| !said.contains_key(**facet));
        let unsaid = unsaid.map(|facet| format!("declares no {facet}"));
        let verb = match (target.is_promise, words::machine(&said).is_empty()) {
            (true, _) => "promises",
            (false, true) => "has",
            (false, false) => "is",
        };
        let said = (!said.is_empty()).then(|| format!("{verb} {}", words::fits(&said)));
        let has: Vec<String> = said.into_iter().chain(unsaid).collect();
        let who = releases_text_inside(package, releases) + &extra_text(extra);
        let have = if releases.only().is_some() { "has" } else { "have" };
        let there_are: Vec<String> = there_are.iter().map(words::fits).collect();
        let (has, there_are) = (has.join(" and "), there_are.join(" or "));
        format!("{} {has}, and {who} {have} {part} for {there_are} only.", target.name)
    }

    /// Why releases don't fit a place for what they say of a facet.
    fn unsuited(
        &self,
        package: &Package,
        target: &Target,
        facet: &FacetName,
        releases: &Choices,
        scope: Option<usize>,
    ) -> String {
        let (who, is_one) = (releases_text_inside(package, releases), releases.only().is_some());
        let verb = |one: &str, many: &str| if is_one { one.to_owned() } else { many.to_owned() };
        let wanted = target.values.get(facet);
        let is = |word: &str| {
            let value = wanted.map(|value| self.universe.facets.plain(facet, value).to_string());
            let value = value.unwrap_or_default();
            let (name, word) = (&target.name, if target.is_promise { "promises" } else { word });
            format!("{name} {word} {facet} {value}")
        };
        let mut said: Vec<String> = Vec::new();
        let fits = releases.iter().filter_map(|choice| Some(&package.release(choice)?.entry.fits));
        let facets = &self.universe.facets;
        for value in fits.filter_map(|fits| Some(facets.plain(facet, fits.get(facet)?).to_string())) {
            if !said.contains(&value) {
                said.push(value);
            }
        }
        let said = said.join(" or ");
        match (wanted, self.universe.facets.get(facet)) {
            _ if said.is_empty() => {
                let states = verb("doesn't", "don't");
                let word = if let Some(Facet::Ladder { .. }) = self.universe.facets.get(facet) {
                    "is at"
                } else {
                    "has"
                };
                let purpose = scope.and_then(|spot| self.universe.purpose_of(spot));
                let (_, charter) = self.problem.rules.undeclared(purpose, &package.name, facet);
                let rules = rules_of(charter, purpose);
                format!("{}, and {who} {states} declare {facet}, which {rules} refuse.", is(word))
            }
            (_, Some(Facet::Ladder { .. })) => {
                format!("{}, and {who} {} for {said}.", is("is at"), verb("asks", "ask"))
            }
            (Some(FitValue::Claim(_)), _) => {
                let says = verb("says", "say");
                format!("{} requires {facet}, and {who} {says} no.", target.name)
            }
            _ => format!("{}, and {who} {} with {said} only.", is("has"), verb("works", "work")),
        }
    }
}
