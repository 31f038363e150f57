//! Who answers at an address of this machine: the command itself, or somebody else.
//!
//! Source: `proc_net_tcp` in the kernel's documentation, `proc_pid_fd(5)`.

use std::collections::HashSet;
use std::fs;
use std::net::SocketAddr;

use nix::unistd::Pid;

/// Tables of sockets, with the state of one that waits to be connected to.
const TABLES: [(&str, &str); 4] =
    [("/proc/net/tcp", "0A"), ("/proc/net/tcp6", "0A"), ("/proc/net/udp", "07"), ("/proc/net/udp6", "07")];

/// Whether an address is one of this machine, and all that answer there are among these threads. What nobody answers is
/// nobody's.
pub fn is_own(address: SocketAddr, threads: &HashSet<Pid>) -> bool {
    if !address.ip().to_canonical().is_loopback() {
        return false;
    }
    let mut sockets = HashSet::new();
    for (table, state) in TABLES {
        let text = fs::read_to_string(table).unwrap_or_default();
        sockets.extend(text.lines().skip(1).filter_map(|line| listener(line, state, address.port())));
    }
    if sockets.is_empty() {
        return false;
    }
    for thread in threads {
        for entry in fs::read_dir(format!("/proc/{thread}/fd")).into_iter().flatten().flatten() {
            if let Ok(target) = fs::read_link(entry.path())
                && let Some(inode) = target.to_str().and_then(|t| t.strip_prefix("socket:[")?.strip_suffix(']'))
            {
                sockets.remove(inode);
            }
        }
        if sockets.is_empty() {
            return true;
        }
    }
    false
}

/// The inode of a socket that waits at this port, as a line of a table tells it.
fn listener(line: &str, state: &str, port: u16) -> Option<String> {
    let fields: Vec<&str> = line.split_whitespace().collect();
    let (_, at) = fields.get(1)?.rsplit_once(':')?;
    let waits = *fields.get(3)? == state && u16::from_str_radix(at, 16) == Ok(port);
    waits.then(|| fields.get(9).map(|inode| (*inode).to_string())).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_socket_of_this_process_is_told_from_that_of_another() {
        let socket = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let address = socket.local_addr().unwrap();
        let own = HashSet::from([nix::unistd::getpid()]);
        assert!(is_own(address, &own));
        assert!(!is_own(address, &HashSet::from([nix::unistd::getppid()])), "somebody else's");
        let elsewhere = SocketAddr::new([10, 0, 0, 7].into(), address.port());
        assert!(!is_own(elsewhere, &own));
        drop(socket);
        assert!(!is_own(address, &own), "nobody answers");
    }

    #[test]
    fn lines_that_are_none_name_no_socket() {
        let line = "   0: 0100007F:1F90 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 4711 1 0";
        assert_eq!(listener(line, "0A", 8080).as_deref(), Some("4711"));
        assert_eq!(listener(line, "0A", 8081), None);
        assert_eq!(listener(line, "07", 8080), None);
        for bad in ["", "0: x 0 0A", "0: 0100007F:ZZZZ 0 0A"] {
            assert_eq!(listener(bad, "0A", 8080), None);
        }
    }
}
