//! What is handed to others: packed generations, CSRs, files on a site.

pub(crate) mod add;
pub(crate) mod advice;
pub(crate) mod csr;
pub(crate) mod news;
pub(crate) mod pack;
pub(crate) mod place;
pub(crate) mod schedule;
