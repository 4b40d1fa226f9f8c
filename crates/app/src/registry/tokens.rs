//! `registry token`: who may publish to a served registry.

use bibliotax_registry::storage::tokens::{self, NewToken, Token};

use crate::context::Context;
use crate::failure::Failure;
use crate::registry_storage;

/// Makes a token; the token, and its text, which nothing keeps.
pub fn issue(place: &str, wish: NewToken, context: &Context<'_>) -> Result<(Token, String), Failure> {
    let registry = registry_storage::open(place, context)?;
    Ok(tokens::create(&*registry, wish, context.environment.now)?)
}

/// Fails unless there is a registry at a place; its name.
pub fn check_place(place: &str, context: &Context<'_>) -> Result<String, Failure> {
    Ok(registry_storage::open(place, context)?.name().to_owned())
}

/// The tokens of a registry.
pub fn show(place: &str, context: &Context<'_>) -> Result<Vec<Token>, Failure> {
    Ok(tokens::list(&*registry_storage::open(place, context)?)?)
}

/// Ends a token; in a dry run it only has to be there.
pub fn end(place: &str, id: &str, is_dry_run: bool, context: &Context<'_>) -> Result<(), Failure> {
    let registry = registry_storage::open(place, context)?;
    let is_known = if is_dry_run {
        tokens::list(&*registry)?.iter().any(|token| token.id == id)
    } else {
        tokens::revoke(&*registry, id, context.environment.now)?
    };
    if !is_known {
        let failure = Failure::new("token.none", format!("there is no token `{id}`"));
        return Err(failure.advice("`bibliotax registry token show` shows their ids"));
    }
    Ok(())
}
