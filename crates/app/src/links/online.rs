//! Addresses over http on live sites, and whether other hosts answer over https.

use super::{EXAMPLES, Example, LeftAlone, LinkFile, LinksError, LinksOptions, LinksReport, cut_around, names};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::progress::Progress;
use eskort_pages::{Hosts, Tally, mend_text};
use eskort_probe::{Trust, crawl, observe};
use futures_util::stream::{self, StreamExt};
use serde::Serialize;
use std::path::PathBuf;
use url::Url;

/// So many hosts are asked at once.
const AT_ONCE: usize = 16;
/// No more hosts are asked.
const MOST_HOSTS: usize = 500;

/// How another host answers over https.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum OverHttps {
    /// It does, with a certificate that visitors trust.
    Answers,
    /// It does, and visitors are warned.
    Untrusted,
    /// It does not.
    Silent,
}

/// Looks for addresses over http on the pages of live sites. Changes nothing.
///
/// # Errors
/// When no host is known, or a site has no address. A site that does not answer is told among what is left alone.
#[boxed]
pub async fn find_on_sites(
    context: &Context,
    options: &LinksOptions,
    report: &mut LinksReport,
) -> Result<(), LinksError> {
    let hosts = Hosts::new(names(context, options)?);
    for url in &options.sites {
        context.report(&Progress::Doing("read pages of the site"));
        let mut each = |url: &Url, page: &[u8]| {
            let mut tally = Tally::default();
            let new = mend_text(page, &hosts, &mut tally);
            let addresses = tally.changed;
            report.count(tally);
            let Some(new) = new else { return };
            let path = PathBuf::from(url.as_str());
            if report.examples.len() < EXAMPLES {
                let example = cut_around(&hosts, page, &new);
                report.examples.extend(example.map(|(line, before, after)| Example {
                    path: path.clone(),
                    row: None,
                    line,
                    before,
                    after,
                }));
            }
            report.addresses += addresses;
            report.files.push(LinkFile { path, addresses });
        };
        let read = crawl(url, options.pages, &mut each).await;
        let read = read.map_err(|source| LinksError::Site { url: url.clone(), source })?;
        report.read += read;
        if read == 0 {
            report
                .left_alone
                .push(LeftAlone { path: PathBuf::from(url.as_str()), why: "it does not answer".to_owned() });
        }
    }
    Ok(())
}

/// Asks the other hosts that were found whether they answer over https.
#[boxed]
pub async fn ask_others(context: &Context, report: &mut LinksReport) {
    context.report(&Progress::Doing("ask other hosts"));
    let trust = Trust::system();
    let ask = |host: String| {
        let trust = &trust;
        async move {
            let found = match observe(&host, 443, None).await {
                Err(_) => OverHttps::Silent,
                Ok(seen) if seen.sent[0].covers(&host) && trust.trusts_sent(&seen.sent, context.now()) => {
                    OverHttps::Answers
                }
                Ok(_) => OverHttps::Untrusted,
            };
            (host, found)
        }
    };
    let hosts: Vec<String> = report.others.keys().take(MOST_HOSTS).cloned().collect();
    report.others_over_https = stream::iter(hosts.into_iter().map(ask)).buffer_unordered(AT_ONCE).collect().await;
}
