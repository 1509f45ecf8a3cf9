//! The use cases: keep, list, show, check and the others. The only place that puts the parts together.
//!
//! Every change of the world is gathered (facts), planned (pure, printable) and applied (step by step, each recorded).

mod answers;
mod authority;
mod by_hand;
mod error;
mod give;
mod keep;
mod links;
mod look;
mod setup;
mod stop;

pub use answers::adopt::{Adopted, adopt};
pub use answers::note::{Noted, note};
pub use answers::receive::{Receipt, Received, receive};
pub use authority::account::{AccountView, bring_account, change_account_key, end_account, show_account, take_account};
pub use authority::revoke::{RevokeError, RevokeOptions, Revoked, revoke};
pub use by_hand::answer::Brought;
pub use error::{AnswerError, StepError};
pub use eskort_databases::{AddressError, DatabaseAddress, DatabaseError};
pub use eskort_notify::NotifyError;
pub use eskort_store::RunRow;
pub use give::add::{AddError, AddOptions, Added, plan_addition, resolves, write_addition};
pub use give::advice::Advice;
pub use give::csr::{
    CsrOptions, KeySource, MadeRequest, RequestError, RequestView, SubjectPart, make_request, save_request,
    view_request,
};
pub use give::news::{NotifyView, look_at_news, test_news};
pub use give::pack::{PackError, Packing, pack};
pub use give::place::{FileToPlace, place, take_back};
pub use give::schedule::{
    Keeper, ScheduleOptions, ScheduleText, ScheduleView, judge_cron, look_at_schedule, schedule, unschedule,
};
pub use keep::entry::{Ending, KeepEntry, KeepOptions, Placed, PlannedServer};
pub use keep::install::{InstallEnding, install_stored};
pub use keep::steps::{Acted, Actions, Awaited, Driver, Step};
pub use keep::{Advised, Plan, PlannedBudget, keep, plan, planned_installation, planned_mending};
pub use links::{
    DatabaseLogin, Example, LeftAlone, LinkFile, LinkTable, LinksError, LinksOptions, LinksReport, OverHttps,
    SettingsError, Undone, ask_others, find_links, find_on_sites, mend_links, read_site_settings, undo_links,
};
pub use look::check::{Before, CheckDepth, CheckTarget, CloseLook, EndpointReport, check, check_all};
pub use look::history::{History, HistoryEvent, history};
pub use look::inspect::{CertificateView, FileView, InspectError, KeyView, inspect};
pub use look::list::{ListFilter, ListRow, State, StateKind, age, list};
pub use look::logs::{LogKeysError, read_log_keys};
pub use look::page::{page, write_page};
pub use look::rehearse::renewal::{StandIn, rehearse_renewal};
pub use look::rehearse::{Rehearsal, Rehearsed, Trial, Tried, rehearse};
pub use look::report::{ReportKind, report, write_report};
pub use look::show::{AskedView, DebtView, GenerationView, JourneyView, RampView, Show, show};
pub use look::survey::report::{
    IncludedFrom, LeftOut, SurveyReport, SurveyedCertificate, SurveyedListener, SurveyedPlace, SurveyedServer,
    SurveyedSite,
};
pub use look::survey::{SurveyOptions, find_servers, survey};
pub use look::whose::OursView;
pub use setup::{SetupError, load, usual_inventory, usual_state};
pub use stop::Stop;
