//! Who answers at an address of this machine: the command itself, or somebody else.
//!
//! Source: `proc_pid_fd(5)`.

use std::collections::HashSet;
use std::fs;
use std::hash::BuildHasher;
use std::net::SocketAddr;

use nix::unistd::Pid;
use rustix::net::{AddressFamily, getpeername, sockopt};

use crate::calls::file_of;
use crate::sockets::{self, Protocol};

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

/// How often the sockets are looked at while nobody is found: the kernel hands them out in parts, and one may be missing
/// where another goes meanwhile.
const LOOKS: u32 = 3;

/// Who answers a thread at an address, if these threads are the command. It may have a network of its own.
pub fn answers(thread: Pid, address: SocketAddr, protocol: Protocol, threads: &HashSet<Pid, impl BuildHasher>) -> Answers {
    if !address.ip().to_canonical().is_loopback() {
        return Answers::Other;
    }
    let mut sockets: HashSet<u64> = HashSet::new();
    for _ in 0..LOOKS {
        let Some(waiting) = sockets::waiting(thread, protocol) else { return Answers::Other };
        sockets.extend(waiting.iter().filter(|(at, _)| reaches(address, *at)).map(|(_, inode)| *inode));
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
                && let Some(inode) = target.to_str().and_then(|t| t.strip_prefix("socket:[")?.strip_suffix(']')?.parse().ok())
            {
                sockets.remove(&inode);
            }
        }
        if sockets.is_empty() {
            return Answers::Own;
        }
    }
    Answers::Other
}

/// Who connected to a socket that a thread has just accepted under a number, if it is not the command itself.
///
/// `ours`: every thread that the command ever had; `alive`: those that have not ended.
pub fn accepted_from(
    thread: Pid,
    number: i32,
    ours: &HashSet<Pid, impl BuildHasher>,
    alive: &HashSet<Pid, impl BuildHasher>,
) -> Option<String> {
    let socket = file_of(thread, number)?;
    if let Ok(other) = sockopt::socket_peercred(&socket)
        && sockopt::socket_domain(&socket) == Ok(AddressFamily::UNIX)
    {
        let process = other.pid.as_raw_nonzero().get();
        return (!ours.contains(&Pid::from_raw(process))).then(|| format!("process {process}"));
    }
    let from = SocketAddr::try_from(getpeername(&socket).ok()??).ok()?;
    if !from.ip().to_canonical().is_loopback() {
        return Some(from.to_string());
    }
    let inode = sockets::connected(thread, from)?;
    let is_own = alive.iter().any(|thread| has_socket(*thread, inode));
    (!is_own).then(|| from.to_string())
}

fn has_socket(thread: Pid, inode: u64) -> bool {
    let wanted = format!("socket:[{inode}]");
    let entries = fs::read_dir(format!("/proc/{thread}/fd")).into_iter().flatten().flatten();
    entries.into_iter().any(|entry| fs::read_link(entry.path()).is_ok_and(|target| target.as_os_str() == wanted.as_str()))
}

/// Whether what is sent to an address reaches a socket that was bound to another.
pub fn reaches(address: SocketAddr, bound: SocketAddr) -> bool {
    let at = bound.ip().to_canonical();
    address.port() == bound.port() && (at.is_unspecified() || at == address.ip().to_canonical())
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
}
