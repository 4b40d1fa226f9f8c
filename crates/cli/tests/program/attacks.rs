//! Attacks: what a hostile package, registry, mirror, line, or a colleague's pull request tries. Each stays outside, is told, and
//! harms nothing. `docs/security.md` names the test behind each promise.

mod archives;
mod broken;
mod capabilities;
mod exhaustion;
mod hosts;
mod locks;
mod mirrors;
mod programs;
mod publishing;
mod remains;
mod replaced;
mod secrets;
mod servers;
mod shelves;
mod submodules;
mod terminals;
mod tokens;
