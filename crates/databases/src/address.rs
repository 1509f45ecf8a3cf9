//! Where a database is.

use std::fmt;
use std::net::IpAddr;
use std::path::PathBuf;

/// The program that serves a database.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DatabaseKind {
    /// MySQL or MariaDB.
    Mysql,
    /// PostgreSQL.
    Postgres,
    /// A file of SQLite's.
    Sqlite,
}

/// Where a database is and who asks; without a password.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DatabaseAddress {
    /// The program.
    pub kind: DatabaseKind,
    /// The address on this machine, with a port; without one it is asked over its socket.
    pub host: Option<(IpAddr, u16)>,
    /// The socket, or its folder, where it is not the usual one.
    pub socket: Option<PathBuf>,
    /// The user; without one the user who runs Eskort.
    pub user: Option<String>,
    /// The database's name; for SQLite the file.
    pub database: String,
}

/// What is wrong with an address.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AddressError {
    /// It is none.
    #[error("`{0}` is no address of a database")]
    Malformed(String),
    /// It has a password in it.
    #[error("the address has a password in it, which others could read")]
    HasPassword,
    /// It leads to another machine.
    #[error("{0} is another machine, and what is read and changed there would travel in the clear")]
    Elsewhere(String),
}

impl DatabaseAddress {
    /// Reads an address: `mysql://user@127.0.0.1:3306/name`, `mysql:///name?socket=/run/mysqld/mysqld.sock`, `postgres://user@/name`,
    /// `sqlite:/srv/www/site.db`.
    ///
    /// # Errors
    /// When it is none, has a password in it, or leads to another machine.
    pub fn parse(text: &str) -> Result<Self, AddressError> {
        let malformed = || AddressError::Malformed(text.to_owned());
        if let Some(file) = text.strip_prefix("sqlite:") {
            let file = file.strip_prefix("//").unwrap_or(file);
            if file.is_empty() {
                return Err(malformed());
            }
            let database = file.to_owned();
            return Ok(DatabaseAddress { kind: DatabaseKind::Sqlite, host: None, socket: None, user: None, database });
        }
        let (scheme, rest) = text.split_once("://").ok_or_else(malformed)?;
        let (kind, usual_port) = match scheme {
            "mysql" | "mariadb" => (DatabaseKind::Mysql, 3306),
            "postgres" | "postgresql" => (DatabaseKind::Postgres, 5432),
            _ => return Err(malformed()),
        };
        let (rest, query) = rest.split_once('?').unwrap_or((rest, ""));
        let socket = query.split('&').find_map(|pair| pair.strip_prefix("socket=")).map(PathBuf::from);
        let (place, database) = rest.split_once('/').ok_or_else(malformed)?;
        let (login, host) = place.rsplit_once('@').unwrap_or(("", place));
        if login.contains(':') {
            return Err(AddressError::HasPassword);
        }
        let (name, port) = match host.rsplit_once(':') {
            // The colons of an IPv6 address lead to no port.
            _ if host.ends_with(']') => (host, None),
            Some((name, port)) => (name, Some(port.parse::<u16>().map_err(|_| malformed())?)),
            None => (host, None),
        };
        let ip = match name.trim_matches(['[', ']']) {
            "" => None,
            "localhost" if port.is_none() => None,
            "localhost" => Some(IpAddr::from([127, 0, 0, 1])),
            other => Some(other.parse::<IpAddr>().map_err(|_| AddressError::Elsewhere(name.to_owned()))?),
        };
        if let Some(ip) = ip.filter(|ip| !ip.is_loopback()) {
            return Err(AddressError::Elsewhere(ip.to_string()));
        }
        let host = ip.filter(|_| socket.is_none()).map(|ip| (ip, port.unwrap_or(usual_port)));
        let user = Some(login).filter(|user| !user.is_empty()).map(str::to_owned);
        let is_odd = |c: char| c == '/' || c == '%' || c.is_control();
        let is_name = !database.is_empty() && !database.contains(is_odd);
        let database = database.to_owned();
        if is_name { Ok(DatabaseAddress { kind, host, socket, user, database }) } else { Err(malformed()) }
    }

    /// Returns who asks.
    pub(crate) fn user_or_own(&self) -> String {
        let own = || nix::unistd::User::from_uid(nix::unistd::geteuid()).ok().flatten().map(|user| user.name);
        self.user.clone().or_else(own).unwrap_or_default()
    }
}

impl fmt::Display for DatabaseAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let kind = match self.kind {
            DatabaseKind::Mysql => "mysql",
            DatabaseKind::Postgres => "postgres",
            DatabaseKind::Sqlite => return write!(f, "sqlite:{}", self.database),
        };
        write!(f, "{kind}://")?;
        if let Some(user) = &self.user {
            write!(f, "{user}@")?;
        }
        match self.host {
            Some((IpAddr::V6(ip), port)) => write!(f, "[{ip}]:{port}")?,
            Some((ip, port)) => write!(f, "{ip}:{port}")?,
            None => {}
        }
        write!(f, "/{}", self.database)?;
        match &self.socket {
            Some(socket) => write!(f, "?socket={}", socket.display()),
            None => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_read_and_written_again() {
        for text in [
            "mysql://shop@127.0.0.1:3307/shop",
            "mysql:///shop",
            "mysql://shop@/shop?socket=/run/other.sock",
            "postgres://shop@[::1]:5432/shop",
            "sqlite:/srv/www/site.db",
        ] {
            assert_eq!(DatabaseAddress::parse(text).unwrap().to_string(), text);
        }
        let parsed = |text: &str| DatabaseAddress::parse(text).map(|address| address.to_string());
        assert_eq!(parsed("mariadb://127.0.0.1/shop").unwrap(), "mysql://127.0.0.1:3306/shop");
        assert_eq!(parsed("postgresql://localhost/shop").unwrap(), "postgres:///shop");
        assert_eq!(parsed("postgresql://localhost:5433/shop").unwrap(), "postgres://127.0.0.1:5433/shop");
        assert_eq!(parsed("mysql://shop:oil@/shop"), Err(AddressError::HasPassword));
        for elsewhere in ["mysql://db.lampholm.example/shop", "postgres://192.0.2.7/shop"] {
            assert!(matches!(parsed(elsewhere), Err(AddressError::Elsewhere(_))), "{elsewhere}");
        }
        for odd in ["shop", "mysql://127.0.0.1", "mysql:///a/b", "oracle:///shop", "sqlite:", "mysql:///a%2fb"] {
            assert!(matches!(parsed(odd), Err(AddressError::Malformed(_))), "{odd}");
        }
    }
}
