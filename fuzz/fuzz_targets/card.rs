//! Cards of any text: checking ends, and a card is written and read back the same.

#![no_main]

use bibliotax_core::card::Card;
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Facets;
use bibliotax_registry::model::card_check::check_card;
use bibliotax_registry::model::layout::card_text;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let Ok(card) = serde_json::from_str::<Card>(text) else { return };
    let _ = check_card("seedhouse", &Facets::default(), &card);
    let written = card_text(&card);
    let again: Card = serde_json::from_str(&written).unwrap();
    assert_eq!(card_text(&again), written);
    let _ = card.entry(Digest::of(b""));
});
