//! Who answers at an address of this machine: the command itself, or somebody else.
//!
//! Source: `proc_net_tcp` in the kernel's documentation, `proc_pid_fd(5)`.

use std::collections::HashSet;
use std::fs;
use std::net::SocketAddr;

use nix::unistd::Pid;

/// What an address is spoken to by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Protocol {
    Tcp,
    Udp,
}

impl Protocol {
    /// The kernel's tables of its sockets, for each family, and the state of one that waits there.
    fn tables(self) -> ([&'static str; 2], &'static str) {
        match self {
            Protocol::Tcp => (["tcp", "tcp6"], "0A"),
            Protocol::Udp => (["udp", "udp6"], "07"),
        }
    }
}

/// Who answers at an address.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answers {
    /// The command itself.
    Own,
    /// Somebody else, or another machine.
    Other,
    /// Nobody on this machine, at this moment.
    Nobody,
}

/// How often the tables are read while nobody is found: the kernel hands them out in parts, and a line may be missing
/// where another goes meanwhile.
const LOOKS: u32 = 3;

/// Who answers a thread at an address, if these threads are the command. It may have a network of its own.
pub fn answers(thread: Pid, address: SocketAddr, protocol: Protocol, threads: &HashSet<Pid>) -> Answers {
    if !address.ip().to_canonical().is_loopback() {
        return Answers::Other;
    }
    let (tables, state) = protocol.tables();
    let mut sockets = HashSet::new();
    for _ in 0..LOOKS {
        // A machine may have no IPv6. Where nothing can be read, nothing is known.
        let texts: Vec<String> =
            tables.iter().filter_map(|table| fs::read_to_string(format!("/proc/{thread}/net/{table}")).ok()).collect();
        if texts.is_empty() {
            return Answers::Other;
        }
        sockets.extend(texts.iter().flat_map(|t| t.lines().skip(1)).filter_map(|line| listener(line, state, address)));
        if !sockets.is_empty() {
            break;
        }
    }
    if sockets.is_empty() {
        return Answers::Nobody;
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
            return Answers::Own;
        }
    }
    Answers::Other
}

/// Whether what is sent to an address reaches a socket that was bound to another.
pub fn reaches(address: SocketAddr, bound: SocketAddr) -> bool {
    let at = bound.ip().to_canonical();
    address.port() == bound.port() && (at.is_unspecified() || at == address.ip().to_canonical())
}

/// The inode of a socket that waits for what is sent to an address, as a line of a table tells it.
fn listener(line: &str, state: &str, address: SocketAddr) -> Option<String> {
    let fields: Vec<&str> = line.split_whitespace().collect();
    let waits = *fields.get(3)? == state && reaches(address, local(fields.get(1)?)?);
    waits.then(|| fields.get(9).map(|inode| (*inode).to_string())).flatten()
}

/// An address as a table tells it: its bytes by words of 32 bits, each in the machine's own order, and its port.
fn local(text: &str) -> Option<SocketAddr> {
    let (ip, port) = text.split_once(':')?;
    let port = u16::from_str_radix(port, 16).ok()?;
    let word = |at: usize| u32::from_str_radix(ip.get(8 * at..8 * at + 8)?, 16).ok().map(u32::to_ne_bytes);
    match ip.len() {
        8 => Some((word(0)?, port).into()),
        32 => {
            let bytes: Vec<u8> = (0..4).map(word).collect::<Option<Vec<_>>>()?.concat();
            Some((<[u8; 16]>::try_from(bytes).ok()?, port).into())
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_socket_of_this_process_is_told_from_that_of_another() {
        let here = nix::unistd::getpid();
        let own = HashSet::from([here]);
        let other = HashSet::from([nix::unistd::getppid()]);
        for at in ["127.0.0.1:0", "0.0.0.0:0", "[::1]:0", "[::]:0"] {
            // A machine may have no IPv6.
            let Ok(socket) = std::net::TcpListener::bind(at) else { continue };
            let port = socket.local_addr().unwrap().port();
            let address =
                SocketAddr::new(if at.starts_with("[::1") { [0, 0, 0, 0, 0, 0, 0, 1].into() } else { [127, 0, 0, 1].into() }, port);
            assert_eq!(answers(here, address, Protocol::Tcp, &own), Answers::Own, "{at}");
            assert_eq!(answers(here, address, Protocol::Tcp, &other), Answers::Other, "{at}");
            assert_eq!(
                answers(here, SocketAddr::new([10, 0, 0, 7].into(), port), Protocol::Tcp, &own),
                Answers::Other,
                "another machine"
            );
            // Another protocol's port of the same number is another's affair.
            assert_eq!(answers(here, address, Protocol::Udp, &own), Answers::Nobody, "{at}");
            drop(socket);
            assert_eq!(answers(here, address, Protocol::Tcp, &own), Answers::Nobody, "{at}");
        }
    }

    #[test]
    fn somebody_elses_socket_at_another_address_or_by_another_protocol_does_not_answer() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let beside = std::net::UdpSocket::bind(address).unwrap();
        let here = nix::unistd::getpid();
        let own = HashSet::from([here]);
        assert_eq!(answers(here, SocketAddr::new([127, 0, 0, 2].into(), address.port()), Protocol::Tcp, &own), Answers::Nobody);
        assert_eq!(answers(here, address, Protocol::Udp, &own), Answers::Own);
        drop(listener);
        assert_eq!(answers(here, address, Protocol::Tcp, &own), Answers::Nobody, "only UDP is left there");
        drop(beside);
    }

    #[test]
    fn lines_that_are_none_name_no_socket() {
        let line = "   0: 0100007F:1F90 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 4711 1 0";
        let at = |port| SocketAddr::new([127, 0, 0, 1].into(), port);
        if cfg!(target_endian = "little") {
            assert_eq!(listener(line, "0A", at(8080)).as_deref(), Some("4711"));
        }
        assert_eq!(listener(line, "0A", at(8081)), None);
        assert_eq!(listener(line, "07", at(8080)), None);
        for bad in [
            "",
            "0: x 0 0A",
            "0: 0100007F:ZZZZ 0 0A 0 0 0 0 0 1",
            "0: 0100007Fé:1F90 0 0A 0 0 0 0 0 1",
            "0: é:1F90 0 0A",
            "0: :1F90 0 0A",
        ] {
            assert_eq!(listener(bad, "0A", at(8080)), None);
        }
    }
}
