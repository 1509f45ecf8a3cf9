//! Versions and ciphers of TLS for all mail that a Postfix takes in.

use super::tree::parameters;
use crate::splice::{Edit, lines_behind};
use crate::survey::Survey;
use eskort_core::https::TlsLevel;

/// Written so that Postfix before 3.6 understands it, too.
const BEFORE_TLS_12: &str = "!SSLv2, !SSLv3, !TLSv1, !TLSv1.1";
const BEFORE_TLS_13: &str = "!SSLv2, !SSLv3, !TLSv1, !TLSv1.1, !TLSv1.2";
/// What has no forward secrecy, and odd ones; what is left has it.
const LENIENT: &str = "aNULL, eNULL, kRSA, kDHE, PSK, SRP, 3DES, AESCCM, ARIA, CAMELLIA";
/// These, and what has block ciphers: all with a digest of their own.
const USUAL: &str = "aNULL, eNULL, kRSA, kDHE, PSK, SRP, 3DES, AESCCM, ARIA, CAMELLIA, SHA1, SHA256, SHA384";

/// Returns the edits that bring Postfix to a level, each with the number of its file. What `master.cf` says for one service stays.
pub(crate) fn level(survey: &Survey, level: TlsLevel) -> Vec<(usize, Edit)> {
    let (protocols, excluded) = match level {
        TlsLevel::Strict => (BEFORE_TLS_13, None),
        TlsLevel::Usual => (BEFORE_TLS_12, Some(USUAL)),
        TlsLevel::Lenient => (BEFORE_TLS_12, Some(LENIENT)),
    };
    let bytes = &survey.files[0].bytes;
    let known = parameters(bytes);
    let (mut edits, mut lines) = (Vec::new(), Vec::new());
    for (name, value) in [
        ("smtpd_tls_mandatory_protocols", Some(protocols)),
        ("smtpd_tls_protocols", Some(protocols)),
        ("smtpd_tls_exclude_ciphers", excluded),
    ] {
        let Some(value) = value else { continue };
        match known.get(name) {
            Some(parameter) if parameter.text == value => {}
            Some(parameter) => edits.push((0, Edit::replace(parameter.range.clone(), value))),
            None => lines.push(format!("{name} = {value}")),
        }
    }
    edits.extend(lines_behind(bytes, None, &lines).map(|edit| (0, edit)));
    edits
}
