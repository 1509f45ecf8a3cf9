//! Texts for people, made from values. Nothing here prints, except through `ui`.

pub(crate) mod event;
pub(crate) mod guide;
pub(crate) mod log;
pub(crate) mod manual_step;
pub(crate) mod progress;
pub(crate) mod reference;
pub(crate) mod situations;
