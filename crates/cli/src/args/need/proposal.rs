//! Has a person confirm the version that was read off an archive's name.

use bibliotax_app::failure::Failure;
use bibliotax_app::need::Plan;

use super::question::answer;
use crate::picking::can_ask;
use crate::run::Run;

/// Asks whether a version that nobody said is right. Where nobody can be asked, a warning says which it is, and an early release, which
/// ranges pass over, has to be said.
pub fn confirm(plan: &Plan, archive: &str, is_dry_run: bool, run: &Run<'_>) -> Result<(), Failure> {
    let Some((package, version)) = &plan.proposed_version else { return Ok(()) };
    let other = |version: &str| format!("bibliotax need --archive {archive} --as {package} {version}");
    if !is_dry_run && can_ask(run) {
        return loop {
            match answer(&format!("Use version {version}? (y: yes, n: no, change nothing) ")).as_str() {
                "y" | "yes" => break Ok(()),
                "n" | "no" => {
                    let failure =
                        Failure::new("need.declined", "the version wasn't confirmed, so nothing was changed");
                    break Err(failure.advice(format!("say the version: `{}`", other("VERSION"))));
                }
                _ => {}
            }
        };
    }
    if version.is_pre() {
        let message = format!("the archive's name says {version}, an early release");
        let advice = format!("confirm it: `{}`", other(&version.to_string()));
        return Err(Failure::new("need.no-version", message).advice(advice));
    }
    let advice = other("VERSION");
    run.ui.warn(format!("version {version} was read off the archive's name; if it is another: `{advice}`"));
    Ok(())
}
