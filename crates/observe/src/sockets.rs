//! The sockets of this machine that wait for what is sent to them.
//!
//! The kernel is asked for these alone (`sock_diag(7)`): its tables in `/proc` hold every connection as well, and to go
//! through the room for them takes milliseconds although hardly one is there. The tables serve where the kernel does not
//! answer, and for a network that is not this process's own.
//!
//! Sources: `sock_diag(7)`, `netlink(7)`, `proc_net_tcp` in the kernel's documentation.

use std::fs;
use std::io;
use std::net::SocketAddr;
use std::time::Duration;

use netlink_packet_core::{NLM_F_DUMP, NLM_F_REQUEST, NetlinkHeader, NetlinkMessage, NetlinkPayload};
use netlink_packet_sock_diag::SockDiagMessage;
use netlink_packet_sock_diag::constants::{AF_INET, AF_INET6, IPPROTO_TCP, IPPROTO_UDP};
use netlink_packet_sock_diag::inet::{ExtensionFlags, InetRequest, SocketId, StateFlags};
use nix::unistd::Pid;
use rustix::net::sockopt::{Timeout, set_socket_timeout};
use rustix::net::{AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, netlink, recv, send, socket_with};

/// What an address is spoken to by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Protocol {
    Tcp,
    Udp,
}

/// A socket that waits: where, and its inode.
pub(crate) type Waiting = (SocketAddr, u64);

/// The kernel answers at once, or there is something wrong with it.
const ANSWER: Duration = Duration::from_secs(1);

/// The sockets that wait in the network of a thread; `None` where they cannot be told.
pub(crate) fn waiting(thread: Pid, protocol: Protocol) -> Option<Vec<Waiting>> {
    let network = |of: &str| fs::read_link(format!("/proc/{of}/ns/net")).ok();
    let own = network("self");
    if own.is_some()
        && own == network(&thread.to_string())
        && let Ok(found) = asked(protocol)
    {
        return Some(found);
    }
    in_tables(thread, protocol)
}

/// Those of this process's network, as the kernel answers.
fn asked(protocol: Protocol) -> io::Result<Vec<Waiting>> {
    let mut found = Vec::new();
    for (family, socket_id) in [(AF_INET, SocketId::new_v4()), (AF_INET6, SocketId::new_v6())] {
        let (protocol, states) = match protocol {
            Protocol::Tcp => (IPPROTO_TCP, StateFlags::LISTEN),
            Protocol::Udp => (IPPROTO_UDP, StateFlags::CLOSE),
        };
        let request = InetRequest { family, protocol, extensions: ExtensionFlags::empty(), states, socket_id };
        answers(request, &mut found)?;
    }
    Ok(found)
}

fn answers(request: InetRequest, found: &mut Vec<Waiting>) -> io::Result<()> {
    let wrong = |what: String| io::Error::new(io::ErrorKind::InvalidData, what);
    let mut header = NetlinkHeader::default();
    header.flags = NLM_F_REQUEST | NLM_F_DUMP;
    let mut message = NetlinkMessage::new(header, SockDiagMessage::InetRequest(request).into());
    message.finalize();
    let mut bytes = vec![0; message.buffer_len()];
    message.serialize(&mut bytes);
    let socket = socket_with(AddressFamily::NETLINK, SocketType::RAW, SocketFlags::CLOEXEC, Some(netlink::SOCK_DIAG))?;
    set_socket_timeout(&socket, Timeout::Recv, Some(ANSWER))?;
    send(&socket, &bytes, SendFlags::empty())?;
    let mut part = vec![0; 1 << 15];
    loop {
        let (length, _) = recv(&socket, &mut part[..], RecvFlags::empty())?;
        let mut rest = part.get(..length).unwrap_or_default();
        while !rest.is_empty() {
            let message = NetlinkMessage::<SockDiagMessage>::deserialize(rest).map_err(|e| wrong(e.to_string()))?;
            match message.payload {
                NetlinkPayload::InnerMessage(SockDiagMessage::InetResponse(one)) => {
                    let id = &one.header.socket_id;
                    found.push((SocketAddr::new(id.source_address, id.source_port), u64::from(one.header.inode)));
                }
                NetlinkPayload::Done(_) => return Ok(()),
                NetlinkPayload::Error(e) => return Err(e.to_io()),
                _ => {}
            }
            // Each begins where four bytes do.
            let next = (message.header.length as usize).next_multiple_of(4);
            rest = rest.get(next.max(4)..).unwrap_or_default();
        }
    }
}

/// Those of a thread's network, as its tables tell them.
fn in_tables(thread: Pid, protocol: Protocol) -> Option<Vec<Waiting>> {
    let (tables, state) = match protocol {
        Protocol::Tcp => (["tcp", "tcp6"], "0A"),
        Protocol::Udp => (["udp", "udp6"], "07"),
    };
    // A machine may have no IPv6. Where nothing can be read, nothing is known.
    let texts: Vec<String> =
        tables.iter().filter_map(|table| fs::read_to_string(format!("/proc/{thread}/net/{table}")).ok()).collect();
    let found = texts.iter().flat_map(|t| t.lines().skip(1)).filter_map(|line| listener(line, state)).collect();
    (!texts.is_empty()).then_some(found)
}

/// The inode of the socket at one end of a connection within this machine, as a thread's tables tell it.
pub(crate) fn connected(thread: Pid, end: SocketAddr) -> Option<u64> {
    let of_line = |line: &str| {
        let fields: Vec<&str> = line.split_ascii_whitespace().collect();
        let at = local(fields.get(1)?)?;
        let is_it = at.port() == end.port() && at.ip().to_canonical() == end.ip().to_canonical();
        fields.get(9)?.parse().ok().filter(|inode| is_it && *inode != 0)
    };
    ["tcp", "tcp6"].iter().find_map(|table| {
        let text = fs::read_to_string(format!("/proc/{thread}/net/{table}")).ok()?;
        text.lines().skip(1).find_map(of_line)
    })
}

/// A socket that waits, as a line of a table tells it.
fn listener(line: &str, waits: &str) -> Option<Waiting> {
    let mut fields = line.split_ascii_whitespace().skip(1);
    let (at, _, state) = (fields.next()?, fields.next()?, fields.next()?);
    if state != waits {
        return None;
    }
    Some((local(at)?, fields.nth(5)?.parse().ok()?))
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
    use std::collections::BTreeSet;
    use std::net::{TcpListener, TcpStream, UdpSocket};

    use super::*;

    #[test]
    fn the_kernel_answers_as_its_tables_tell() {
        // A machine may have no IPv6.
        let listeners: Vec<TcpListener> =
            ["127.0.0.1:0", "0.0.0.0:0", "[::1]:0", "[::]:0"].iter().filter_map(|at| TcpListener::bind(at).ok()).collect();
        let sockets: Vec<UdpSocket> = ["127.0.0.1:0", "[::]:0"].iter().filter_map(|at| UdpSocket::bind(at).ok()).collect();
        let connected = UdpSocket::bind("127.0.0.1:0").unwrap();
        connected.connect(sockets[0].local_addr().unwrap()).unwrap();
        let stream = TcpStream::connect(listeners[0].local_addr().unwrap()).unwrap();
        let here = nix::unistd::getpid();
        for (protocol, all) in [
            (Protocol::Tcp, listeners.iter().map(|l| l.local_addr().unwrap()).collect::<Vec<_>>()),
            (Protocol::Udp, sockets.iter().map(|s| s.local_addr().unwrap()).collect()),
        ] {
            let own = |found: &[Waiting]| found.iter().filter(|(at, _)| all.contains(at)).copied().collect::<BTreeSet<_>>();
            // Tables are handed out in parts: a line may be missing while sockets of others come and go, or stand there twice.
            let looks = (0..100).map(|_| (asked(protocol).unwrap(), in_tables(here, protocol).unwrap()));
            let (asked, read) = looks.into_iter().find(|(asked, read)| own(asked) == own(read)).expect("they never agree");
            assert_eq!(own(&asked).len(), all.len());
            let others = [connected.local_addr().unwrap(), stream.local_addr().unwrap()];
            assert!(asked.iter().chain(&read).all(|(at, _)| !others.contains(at)), "what is connected does not wait");
            assert_eq!(waiting(here, protocol).map(|found| all.iter().all(|at| found.iter().any(|(a, _)| a == at))), Some(true));
        }
        assert_eq!(waiting(Pid::from_raw(i32::MAX), Protocol::Tcp), None, "there is no such thread");
    }

    #[test]
    fn lines_that_are_none_name_no_socket() {
        let line = "   0: 0100007F:1F90 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 4711 1 0";
        if cfg!(target_endian = "little") {
            assert_eq!(listener(line, "0A"), Some((([127, 0, 0, 1], 8080).into(), 4711)));
        }
        assert_eq!(listener(line, "07"), None);
        for bad in [
            "",
            "0: x 0 0A",
            "0: 0100007F:ZZZZ 0 0A 0 0 0 0 0 1",
            "0: 0100007Fé:1F90 0 0A 0 0 0 0 0 1",
            "0: é:1F90 0 0A",
            "0: :1F90 0 0A",
            "0: 0100007F:1F90 0 0A 0 0 0 0 0 x",
        ] {
            assert_eq!(listener(bad, "0A"), None);
        }
    }
}
