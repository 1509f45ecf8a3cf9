//! What a survey says.

use eskort_core::finding::{Finding, Severity};
use eskort_core::renewal::Validity;
use jiff::Timestamp;
use serde::Serialize;
use std::path::PathBuf;

/// What was found on a machine.
#[derive(Clone, Debug, Serialize)]
pub struct SurveyReport {
    /// When it was made.
    pub at: Timestamp,
    /// The machine; `None` is this one.
    pub host: Option<String>,
    /// Its servers.
    pub servers: Vec<SurveyedServer>,
}

/// A server, with what it is configured to serve.
#[derive(Clone, Debug, Serialize)]
pub struct SurveyedServer {
    /// Its kind.
    pub server: &'static str,
    /// Its main file.
    pub config: PathBuf,
    /// Whether it runs; `None` where that cannot be told.
    pub runs: Option<bool>,
    /// How many files its configuration has.
    pub files: usize,
    /// Its sites, in the order in which it reads them.
    pub sites: Vec<SurveyedSite>,
    /// How many sites it has, those that were not asked for too.
    pub all_sites: usize,
    /// What was left out.
    pub left_out: Vec<LeftOut>,
    /// Why its configuration cannot be read.
    pub error: Option<String>,
}

/// Something that was left out of a survey.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct LeftOut {
    /// The file.
    pub path: PathBuf,
    /// The line there, where it is about one.
    pub line: Option<usize>,
    /// What it is, and why.
    pub text: String,
}

/// A site.
#[derive(Clone, Debug, Serialize)]
pub struct SurveyedSite {
    /// Its names, as they are written.
    pub names: Vec<String>,
    /// Where it is served.
    pub listeners: Vec<SurveyedListener>,
    /// The certificates that it is configured with.
    pub certificates: Vec<SurveyedCertificate>,
    /// The folder of its pages.
    pub document_root: Option<String>,
    /// Where it sends visitors who come without TLS.
    pub redirect: Option<String>,
    /// Where it is defined.
    pub place: SurveyedPlace,
    /// What there is to say.
    pub findings: Vec<Finding>,
}

impl SurveyedSite {
    /// Returns the weightiest finding.
    pub fn worst(&self) -> Severity {
        self.findings.iter().map(|finding| finding.severity).max().unwrap_or(Severity::Good)
    }
}

/// Where something is defined.
#[derive(Clone, Debug, Serialize)]
pub struct SurveyedPlace {
    /// The file.
    pub path: PathBuf,
    /// The line, counted from 1.
    pub line: usize,
    /// The includes that lead there, the nearest first.
    pub included_from: Vec<IncludedFrom>,
}

/// An include.
#[derive(Clone, Debug, Serialize)]
pub struct IncludedFrom {
    /// The file that it stands in.
    pub path: PathBuf,
    /// The line there.
    pub line: usize,
}

/// Where a site is served.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SurveyedListener {
    /// Address and port, or the path of a socket.
    pub address: String,
    /// What is spoken, below TLS.
    pub protocol: &'static str,
    /// `plain`, `starttls` or `tls`.
    pub security: &'static str,
}

/// A certificate that a site is configured with.
#[derive(Clone, Debug, Serialize)]
pub struct SurveyedCertificate {
    /// The file with the certificate.
    pub certificate: String,
    /// The file with the key, where it is another.
    pub key: Option<String>,
    /// The file with the intermediates, where it is another.
    pub chain: Option<String>,
    /// The names on it.
    pub names: Vec<String>,
    /// Who issued it.
    pub issuer: Option<String>,
    /// Its dates.
    pub validity: Option<Validity>,
    /// Its SHA-256 in hexadecimal.
    pub fingerprint: Option<String>,
    /// Whether the key fits; `None` where the key was not looked at.
    pub key_fits: Option<bool>,
    /// Whether its intermediates come with it.
    pub chain_whole: Option<bool>,
}
