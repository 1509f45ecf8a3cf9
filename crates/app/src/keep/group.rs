//! Certificates whose deployments have servers in common.

use eskort_core::decision::Decision;
use eskort_core::deployment::Deployment;
use eskort_core::inventory::CertificateEntry;
use eskort_install::Placement;
use std::collections::BTreeSet;

/// A certificate that servers lack.
pub(crate) struct Grouped<'a> {
    pub(crate) name: &'a String,
    pub(crate) entry: &'a CertificateEntry,
    /// What they lack of it.
    pub(crate) place: Deployment,
    /// What was decided.
    pub(crate) decision: Decision,
}

impl Grouped<'_> {
    /// Returns what is to be put where.
    pub(crate) fn placement(&self) -> Placement<'_> {
        let lacks = |server: &str| self.place.targets.iter().any(|t| t.server == server && t.is_to_install());
        Placement::of(self.name, self.entry, &self.entry.names, self.place.generation).on(lacks)
    }
}

/// Groups of certificates: no two have a server in common.
#[derive(Default)]
pub(crate) struct Groups<'a>(Vec<(BTreeSet<String>, Vec<Grouped<'a>>)>);

impl<'a> Groups<'a> {
    /// Adds a certificate to the groups that it has servers in common with, which become one.
    pub(crate) fn add(&mut self, one: Grouped<'a>) {
        let to_install = one.place.targets.iter().filter(|target| target.is_to_install());
        let mut servers: BTreeSet<String> = to_install.map(|target| target.server.clone()).collect();
        let mut members = Vec::new();
        for (of, group) in self.0.extract_if(.., |(of, _)| !of.is_disjoint(&servers)).collect::<Vec<_>>() {
            servers.extend(of);
            members.extend(group);
        }
        members.push(one);
        self.0.push((servers, members));
    }

    /// Returns the groups of more than one certificate.
    pub(crate) fn of_several(self) -> impl Iterator<Item = Vec<Grouped<'a>>> {
        self.0.into_iter().map(|(_, members)| members).filter(|members| members.len() > 1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use eskort_core::decision::Obtaining;
    use eskort_core::deployment::{Lack, Target};
    use eskort_core::inventory::Inventory;

    #[test]
    fn certificates_with_a_server_in_common_are_one_group_whatever_the_order() {
        let text = "[authority.office]\nkind = \"csr\"\n[certificate.a]\nnames = [\"a.lampholm.example\"]\n";
        let inventory: Inventory = eskort_inventory::parse_inventory(text).unwrap();
        let entry = &inventory.certificates["a"];
        let names: Vec<String> = ["a", "b", "c", "d", "e"].map(String::from).into();
        let grouped = |n: usize, servers: &[&str]| {
            let target = |server: &&str| Target { server: (*server).into(), host: None, lacks: vec![Lack::Current] };
            let targets: Vec<Target> = servers.iter().map(target).collect();
            let place = Deployment { generation: 1, switch_current: true, servers: targets.len(), targets };
            let until = jiff::Timestamp::UNIX_EPOCH;
            let decision = Decision { place: Some(place.clone()), obtain: Obtaining::Rest { until } };
            Grouped { name: &names[n], entry, place, decision }
        };
        let mut groups = Groups::default();
        for (n, servers) in [&["front"][..], &["mail"], &["back"], &["front", "back"], &[]].into_iter().enumerate() {
            groups.add(grouped(n, servers));
        }
        let found: Vec<Vec<&str>> =
            groups.of_several().map(|group| group.iter().map(|one| one.name.as_str()).collect()).collect();
        assert_eq!(found, [["a", "c", "d"]]);
    }
}
