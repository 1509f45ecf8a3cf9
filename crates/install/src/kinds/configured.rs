//! Servers whose configuration is read and changed: what is known of one, and what changes.

use super::nginx::{self, NginxFacts};
use super::parts::{ConfigPlan, Parts};
use super::surveyed::{self, SurveyFacts};
use crate::InstallError;
use crate::plan::Serving;
use eskort_core::context::Context;
use eskort_core::inventory::{Configured, Server};
use eskort_core::software::Software;
use eskort_host::Machines;

/// What is known of a server.
pub(crate) enum ConfigFacts {
    Nginx(Box<NginxFacts>),
    Surveyed(Box<SurveyFacts>),
}

impl ConfigFacts {
    /// Reads the configuration.
    pub(crate) async fn gather(
        context: &Context,
        machines: &Machines,
        (name, server): (&str, &Server),
        configured: &Configured,
    ) -> Result<Self, InstallError> {
        Ok(match configured.software {
            Software::Nginx => ConfigFacts::Nginx(Box::new(
                nginx::gather(context, machines, (name, server), &configured.config).await?,
            )),
            _ => {
                ConfigFacts::Surveyed(Box::new(surveyed::gather(context, machines, (name, server), configured).await?))
            }
        })
    }

    /// Plans what changes for a certificate.
    pub(super) fn plan(&self, parts: &Parts<'_>) -> Result<ConfigPlan, InstallError> {
        match self {
            ConfigFacts::Nginx(facts) => nginx::plan(facts, parts),
            ConfigFacts::Surveyed(facts) => surveyed::plan(facts, parts),
        }
    }

    /// Returns what is known once a plan is carried out; `None` when it changes nothing.
    pub(super) fn after(&self, serving: &Serving<'_>, planned: &ConfigPlan) -> Result<Option<Self>, InstallError> {
        if planned.edited.is_empty() {
            return Ok(None);
        }
        Ok(Some(match self {
            ConfigFacts::Nginx(facts) => ConfigFacts::Nginx(Box::new(nginx::after(facts, serving, planned)?)),
            ConfigFacts::Surveyed(facts) => ConfigFacts::Surveyed(Box::new(surveyed::after(facts, serving, planned)?)),
        }))
    }
}
