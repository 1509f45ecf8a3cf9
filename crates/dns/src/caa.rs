//! The CAA records that count for a name.

use crate::exchange::{AskError, ask, parse_name};
use crate::lookup::plain;
use eskort_core::boxed;
use eskort_core::caa::CaaRecord;
use futures_util::future::join_all;
use hickory_proto::op::ResponseCode;
use hickory_proto::rr::{Name, RData, RecordType};
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::OnceCell;

/// The CAA records of domains, each asked for once.
#[derive(Default)]
pub struct KnownCaa(Mutex<BTreeMap<Name, Arc<OnceCell<Vec<CaaRecord>>>>>);

impl KnownCaa {
    /// Finds the CAA records of a name, or of the nearest name above it that has any (RFC 8659 section 3), and returns where they stand. The
    /// server is one that looks further: it follows CNAME records.
    ///
    /// # Errors
    /// When the server does not answer, or answers with an error: an authority does not issue then, either.
    #[boxed]
    pub async fn find(&self, server: SocketAddr, name: &str) -> Result<Option<(String, Vec<CaaRecord>)>, AskError> {
        let first = parse_name(name.trim_start_matches("*."))?;
        let names: Vec<Name> =
            std::iter::successors(Some(first), |at| Some(at.base_name())).take_while(|at| !at.is_root()).collect();
        // All at once: most names have none, and the way up is then walked whole.
        let asked = join_all(names.iter().map(|at| self.records(server, at))).await;
        for (at, records) in names.iter().zip(asked) {
            let records = records?;
            if !records.is_empty() {
                return Ok(Some((plain(at), records)));
            }
        }
        Ok(None)
    }

    async fn records(&self, server: SocketAddr, at: &Name) -> Result<Vec<CaaRecord>, AskError> {
        let known = {
            let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            Arc::clone(all.entry(at.clone()).or_default())
        };
        known.get_or_try_init(|| ask_records(server, at)).await.cloned()
    }
}

async fn ask_records(server: SocketAddr, at: &Name) -> Result<Vec<CaaRecord>, AskError> {
    let answer = ask(server, at, RecordType::CAA).await?;
    match answer.metadata.response_code {
        ResponseCode::NoError | ResponseCode::NXDomain => {}
        code => {
            let what = format!("{code} when asked for CAA of {}", plain(at));
            return Err(AskError::BadAnswer { server, what });
        }
    }
    let record = |data: &RData| match data {
        RData::CAA(caa) => Some(CaaRecord {
            critical: caa.issuer_critical,
            tag: caa.tag.to_ascii_lowercase(),
            value: eskort_core::words::printable(&String::from_utf8_lossy(&caa.value), 300),
        }),
        _ => None,
    };
    Ok(answer.answers.iter().filter_map(|answer| record(&answer.data)).collect())
}
