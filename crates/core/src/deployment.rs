//! Where a generation is to be, and what is lacking there.

use crate::words;
use serde::Serialize;
use std::path::PathBuf;

/// What is to be done so that a generation is wherever it should be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Deployment {
    /// Its number.
    pub generation: u32,
    /// Whether the link `current` has to be made to lead to it.
    pub switch_current: bool,
    /// The servers that lack something.
    pub targets: Vec<Target>,
    /// How many servers the inventory names, those that lack nothing included.
    pub servers: usize,
}

/// A server that lacks something of a generation.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Target {
    /// The server's name in the inventory.
    pub server: String,
    /// The machine that it runs on; `None` for this one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// What it lacks.
    pub lacks: Vec<Lack>,
}

/// Something that a server lacks of a generation.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "what", rename_all = "kebab-case")]
pub enum Lack {
    /// It reads the certificate from where another generation is, or has not been told of this one.
    Current,
    /// Its API says that another one is in use.
    Other,
    /// A file is missing, or is not as it should be.
    File {
        /// The file.
        path: PathBuf,
    },
    /// It has everything, and was not checked live since.
    Check,
    /// What it lacks cannot be told.
    Unknown {
        /// Why not.
        why: String,
    },
}

impl Target {
    /// Returns whether something has to be installed on the server; otherwise it only has to be checked.
    pub fn is_to_install(&self) -> bool {
        self.lacks.iter().any(|lack| *lack != Lack::Check)
    }

    fn words(&self) -> Vec<String> {
        let server = &self.server;
        let lack = |lack: &Lack| match lack {
            Lack::Current => format!("server `{server}` uses an older one"),
            Lack::Other => format!("server `{server}` has another one in use"),
            Lack::File { path } => format!("{} of server `{server}`", path.display()),
            Lack::Check => format!("server `{server}` has not been checked live"),
            Lack::Unknown { why } => why.clone(),
        };
        self.lacks.iter().map(lack).collect()
    }
}

impl Deployment {
    /// Returns whether there is nothing to do.
    pub fn is_done(&self) -> bool {
        !self.switch_current && self.targets.is_empty()
    }

    /// Returns whether something has to be installed; otherwise the servers only have to be checked.
    pub fn is_to_install(&self) -> bool {
        self.switch_current || self.targets.iter().any(Target::is_to_install)
    }

    /// Returns it in words.
    pub fn words(&self) -> String {
        let Deployment { generation, targets, servers, .. } = self;
        let mut lacks: Vec<String> = targets.iter().flat_map(Target::words).collect();
        if lacks.is_empty() {
            lacks.push("`current` leads to another one".to_owned());
        }
        let verb = if self.is_to_install() { "put" } else { "check" };
        let place = match (self.is_to_install(), targets.len()) {
            (_, some) if *servers > 1 && some < *servers => format!(" on {some} of {servers} servers"),
            (true, _) => " in place".to_owned(),
            (false, _) => String::new(),
        };
        format!("{verb} generation {generation}{place}: {}", words::list(&lacks))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_deployment_says_what_is_lacking_where() {
        let target = |server: &str, lacks: &[Lack]| Target { server: server.into(), host: None, lacks: lacks.to_vec() };
        let file = || Lack::File { path: "/etc/tls/key.pem".into() };
        let unknown = Lack::Unknown { why: "cannot log in to `mail`".into() };
        for (switch_current, targets, servers, said) in [
            (true, vec![], 0, "put generation 2 in place: `current` leads to another one"),
            (
                true,
                vec![target("front", &[Lack::Current])],
                1,
                "put generation 2 in place: server `front` uses an older one",
            ),
            (
                false,
                vec![target("mail", &[file()]), target("front", &[unknown])],
                3,
                "put generation 2 on 2 of 3 servers: /etc/tls/key.pem of server `mail` and cannot log in to `mail`",
            ),
            (
                false,
                vec![target("front", &[Lack::Check])],
                1,
                "check generation 2: server `front` has not been checked live",
            ),
        ] {
            let deployment = Deployment { generation: 2, switch_current, targets, servers };
            assert_eq!(deployment.words(), said);
            assert!(!deployment.is_done());
        }
        assert!(Deployment { generation: 2, switch_current: false, targets: vec![], servers: 2 }.is_done());
    }
}
