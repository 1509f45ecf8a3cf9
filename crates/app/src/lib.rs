//! The use cases: keep, list, show, check. The only place that puts the parts together.
//!
//! Every change of the world is gathered (facts), planned (pure, printable) and applied (step by step, each recorded).

mod adopt;
mod answer;
mod check;
mod desk;
mod driver;
mod error;
mod hands;
mod inspect;
mod keep;
mod list;
mod lost;
mod pack;
mod place;
mod proof;
mod request;
mod setup;
mod show;
mod stop;
mod turn;

pub use adopt::{Adopted, adopt};
pub use answer::{AnswerError, Brought, Receipt, Received, receive};
pub use check::{CheckTarget, EndpointReport, check};
pub use desk::{Errand, Noted, ProofSight, note};
pub use driver::{Driver, Hands, Step};
pub use error::{ProofError, StepError};
pub use inspect::{CertificateView, FileView, InspectError, KeyView, OursView, inspect};
pub use keep::{Ending, KeepEntry, KeepOptions, Placed, PlannedServer, keep};
pub use list::{ListRow, State, age, list};
pub use pack::{PackError, Packing, pack};
pub use place::{FileToPlace, place, take_back};
pub use proof::ApiError;
pub use request::{
    CsrOptions, KeySource, MadeRequest, RequestError, RequestView, SubjectPart, make_request, save_request,
    view_request,
};
pub use setup::{SetupError, load, usual_inventory, usual_state};
pub use show::{DebtView, GenerationView, JourneyView, Show, show};
pub use stop::Stop;
