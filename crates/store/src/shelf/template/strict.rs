//! Strict templates: unknown names are errors everywhere, also where the template library treats them as empty.

use std::sync::LazyLock;

use minijinja::value::{Rest, ValueKind};
use minijinja::{Environment, Error, ErrorKind, State, UndefinedBehavior, Value};

/// What is said of such a name at its place.
pub const UNDEFINED: &str = "unknown name; write `| default([])` or `is defined` if it can be missing";

/// The library's filters, but for those that are about such names.
const FILTERS: [&str; 47] = [
    "abs",
    "attr",
    "batch",
    "bool",
    "chain",
    "count",
    "dictsort",
    "e",
    "escape",
    "first",
    "float",
    "format",
    "groupby",
    "indent",
    "int",
    "items",
    "join",
    "last",
    "length",
    "lines",
    "list",
    "lower",
    "map",
    "max",
    "min",
    "pprint",
    "reject",
    "rejectattr",
    "replace",
    "reverse",
    "round",
    "safe",
    "select",
    "selectattr",
    "slice",
    "sort",
    "split",
    "string",
    "sum",
    "title",
    "tojson",
    "trim",
    "unique",
    "upper",
    "urlencode",
    "zip",
    "capitalize",
];

/// The library's tests, but for those that are about such names.
const TESTS: [&str; 29] = [
    "none",
    "safe",
    "escaped",
    "boolean",
    "odd",
    "even",
    "number",
    "integer",
    "int",
    "float",
    "string",
    "sequence",
    "iterable",
    "mapping",
    "lower",
    "upper",
    "sameas",
    "eq",
    "equalto",
    "ne",
    "lt",
    "lessthan",
    "le",
    "gt",
    "greaterthan",
    "ge",
    "in",
    "true",
    "false",
];

/// The library's own filters and tests.
static LIBRARY: LazyLock<Environment<'static>> = LazyLock::new(|| {
    let mut library = Environment::new();
    library.set_undefined_behavior(UndefinedBehavior::Strict);
    library
});

/// Makes every use of a name that there isn't an error, but for the filter `default` and the test `defined`.
pub fn make_strict(environment: &mut Environment<'_>) {
    environment.set_undefined_behavior(UndefinedBehavior::Strict);
    for name in FILTERS {
        environment.add_filter(name, move |_: &State<'_, '_>, values: Rest<Value>| {
            check(&values)?;
            let made = LIBRARY.empty_state().apply_filter(name, &values)?;
            check(std::slice::from_ref(&made)).map(|()| made)
        });
    }
    for name in TESTS {
        environment.add_test(name, move |_: &State<'_, '_>, values: Rest<Value>| {
            check(&values)?;
            LIBRARY.empty_state().perform_test(name, &values)
        });
    }
}

/// How deep lists are looked through: groups are lists of pairs.
const DEPTH: usize = 3;

/// That each of these values, and each in lists among them, is there.
fn check(values: &[Value]) -> Result<(), Error> {
    if values.iter().any(|value| has_undefined(value, DEPTH)) {
        return Err(Error::from(ErrorKind::UndefinedError));
    }
    Ok(())
}

fn has_undefined(value: &Value, depth: usize) -> bool {
    let is_list = depth > 0 && value.kind() == ValueKind::Seq;
    value.is_undefined()
        || is_list
            && value.try_iter().is_ok_and(|mut items| items.any(|item| has_undefined(&item, depth - 1)))
}
