//! `withdraw` and `deprecate`: changes to the status of releases.

use bibliotax_core::name::PackageName;
use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::model::release_status::Change;

use crate::context::Context;
use crate::failure::Failure;
use crate::registry_words::{registry_meant, workspace_around};

/// Which release is withdrawn, and why.
#[derive(Debug, Clone, Default)]
pub struct Withdrawal {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// Why; none to take a withdrawal back.
    pub reason: Option<String>,
    /// The registry.
    pub registry: Option<String>,
}

/// Which releases are deprecated, and why.
#[derive(Debug, Clone, Default)]
pub struct Deprecation {
    /// The package.
    pub package: String,
    /// The versions.
    pub range: String,
    /// Why; none to take a deprecation back.
    pub reason: Option<String>,
    /// The package to use.
    pub instead: Option<String>,
    /// The registry.
    pub registry: Option<String>,
}

/// A change of how releases stand, not yet made.
pub struct Plan {
    /// The package.
    pub package: PackageName,
    /// The change.
    pub change: Change,
    registry: Registry,
}

impl Plan {
    /// The registry's name.
    pub fn registry(&self) -> &str {
        self.registry.name()
    }

    /// Makes the change; whether it had been made already.
    pub fn apply(&self, context: &Context<'_>) -> Result<bool, Failure> {
        Ok(self.registry.change(&self.package, &self.change, context.environment.now)?)
    }
}

/// Works out a withdrawal.
pub fn plan_withdrawal(request: &Withdrawal, context: &Context<'_>) -> Result<Plan, Failure> {
    let registry = registry(request.registry.as_deref(), context)?;
    let (package, version) = (Failure::read_word(&request.package)?, Failure::read_word(&request.version)?);
    let change = match &request.reason {
        Some(reason) => Change::Withdraw { version, reason: reason.clone() },
        None => Change::Restore { version },
    };
    Ok(Plan { package, change, registry })
}

/// Works out a deprecation.
pub fn plan_deprecation(request: &Deprecation, context: &Context<'_>) -> Result<Plan, Failure> {
    let registry = registry(request.registry.as_deref(), context)?;
    let (package, range) = (Failure::read_word(&request.package)?, Failure::read_word(&request.range)?);
    let instead = request.instead.as_ref().map(|name| Failure::read_word(name)).transpose()?;
    let change = match &request.reason {
        Some(reason) => Change::Deprecate { range, reason: reason.clone(), instead },
        None => Change::Undeprecate { range },
    };
    Ok(Plan { package, change, registry })
}

fn registry(word: Option<&str>, context: &Context<'_>) -> Result<Registry, Failure> {
    let workspace = workspace_around(word, context)?;
    registry_meant(word, workspace.as_ref(), context)
}
