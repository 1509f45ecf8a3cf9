//! Which programs of this machine listen on a port.

use std::collections::BTreeSet;
use std::fs;

/// Who listens on a TCP port of this machine.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Listening {
    /// Whether anybody does.
    pub any: bool,
    /// The programs, each with its process; those of other users can be seen by root only.
    pub programs: BTreeSet<String>,
}

/// Returns who listens on a TCP port of this machine; `None` where the system does not tell.
pub fn who_listens(port: u16) -> Option<Listening> {
    let tables = ["/proc/net/tcp", "/proc/net/tcp6"].map(|path| fs::read_to_string(path).ok());
    if tables.iter().all(Option::is_none) {
        return None;
    }
    let sockets: BTreeSet<String> = tables.iter().flatten().flat_map(|table| sockets_at(table, port)).collect();
    let mut found = Listening { any: !sockets.is_empty(), programs: BTreeSet::new() };
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    for process in processes.filter(|_| found.any) {
        let folder = process.path();
        let holds =
            |entry: fs::DirEntry| fs::read_link(entry.path()).is_ok_and(|to| sockets.contains(&*to.to_string_lossy()));
        if fs::read_dir(folder.join("fd")).into_iter().flatten().flatten().any(holds) {
            let name = fs::read_to_string(folder.join("comm")).unwrap_or_default();
            found.programs.insert(name.trim_end().to_owned());
        }
    }
    Some(found)
}

/// Returns the sockets of a table of the system that listen on a port, as links to them are written.
fn sockets_at(table: &str, port: u16) -> Vec<String> {
    let socket = |line: &str| {
        let words: Vec<&str> = line.split_whitespace().collect();
        let (address, state, inode) = (words.get(1)?, words.get(3)?, words.get(9)?);
        let at = u16::from_str_radix(address.rsplit_once(':')?.1, 16).ok()?;
        (at == port && *state == "0A").then(|| format!("socket:[{inode}]"))
    };
    table.lines().skip(1).filter_map(socket).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_listener_is_found_with_its_program() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let found = who_listens(listener.local_addr().unwrap().port()).unwrap();
        let own = fs::read_to_string("/proc/self/comm").unwrap();
        assert!(found.any && found.programs.iter().any(|name| own.starts_with(name.as_str())), "{found:?}: {own}");
        let table = "  sl  local_address\n   0: 0100007F:1F90 00000000:0000 0A 0:0 00:0 0 0 0 4711 1\n   1: 0100007F:1F90 0100007F:2 01 0:0 00:0 0 0 0 4712 1\n";
        assert_eq!(sockets_at(table, 8080), ["socket:[4711]"]);
        assert_eq!(sockets_at(table, 8081), Vec::<String>::new());
    }
}
