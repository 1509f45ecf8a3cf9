//! Puts a generation on its servers: facts, plan, and a transaction that does all of it or nothing.

mod configuration;
mod confinement;
mod error;
mod facts;
mod kinds;
mod plan;
mod served;
mod transaction;

pub use configuration::{Reading, read_configuration};
pub use confinement::confinement;
pub use error::InstallError;
pub use facts::Facts;
pub use kinds::{ask_api, deployment, endpoints, plan, steps_of};
pub use plan::{Change, LiveEndpoint, Placement, ServerPlan};
pub use transaction::{apply, recover, restore};
