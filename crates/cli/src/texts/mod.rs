//! Texts for people, made from values. Nothing here prints, except through `ui`.

pub(crate) mod errand;
pub(crate) mod guide;
pub(crate) mod progress;
