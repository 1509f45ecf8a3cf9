//! Authorities that a person carries a CSR to.

pub(crate) mod answer;
pub(crate) mod validation;
