//! Looks at what there is: endpoints, certificates of the inventory, files.

pub(crate) mod check;
mod domain;
pub(crate) mod history;
pub(crate) mod inspect;
pub(crate) mod list;
pub(crate) mod logs;
mod online;
pub(crate) mod page;
pub(crate) mod rehearse;
pub(crate) mod report;
pub(crate) mod show;
pub(crate) mod survey;
pub(crate) mod whose;
