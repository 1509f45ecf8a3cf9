//! What has servers in common.

use std::collections::BTreeSet;

/// Groups of certificates, each with what is to be done about it: no two groups have a server in common.
pub(super) struct Groups<T>(Vec<(BTreeSet<String>, Vec<T>)>);

impl<T> Default for Groups<T> {
    fn default() -> Self {
        Groups(Vec::new())
    }
}

impl<T> Groups<T> {
    /// Adds one to the groups that it has servers in common with, which become one.
    pub(super) fn add(&mut self, mut servers: BTreeSet<String>, one: T) {
        let mut members = Vec::new();
        for (of, group) in self.0.extract_if(.., |(of, _)| !of.is_disjoint(&servers)).collect::<Vec<_>>() {
            servers.extend(of);
            members.extend(group);
        }
        members.push(one);
        self.0.push((servers, members));
    }

    /// Returns the groups.
    pub(super) fn into_members(self) -> impl Iterator<Item = Vec<T>> {
        self.0.into_iter().map(|(_, members)| members)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn certificates_with_a_server_in_common_are_one_group_whatever_the_order() {
        let mut groups = Groups::default();
        let all = [("a", &["front"][..]), ("b", &["mail"]), ("c", &["back"]), ("d", &["front", "back"]), ("e", &[])];
        for (name, servers) in all {
            groups.add(servers.iter().map(|server| (*server).to_owned()).collect(), name);
        }
        let found: Vec<Vec<&str>> = groups.into_members().collect();
        assert_eq!(found, [vec!["b"], vec!["a", "c", "d"], vec!["e"]]);
    }
}
