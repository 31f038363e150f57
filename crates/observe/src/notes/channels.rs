//! What reaches a command by other ways than files: connections, datagrams, shared memory, queues, other processes.
//!
//! Sources: `socket(7)`, `unix(7)`, `sysvipc(7)`, `mq_overview(7)`.

use std::collections::{BTreeSet, HashSet};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use nix::libc;
use nix::unistd::Pid;
use textum_base::{Channel, ChannelKind};

use super::super::calls::{Address, At, Call, address};
use super::super::loopback::{self, Answers};
use super::super::record::Try;
use super::super::sockets::Protocol;
use super::{Notes, Then};

/// What is known of them.
#[derive(Default)]
pub(super) struct Channels {
    met: BTreeSet<Channel>,
    network: BTreeSet<SocketAddr>,
    /// Addresses at which the command itself answers.
    own_addresses: BTreeSet<(SocketAddr, Protocol)>,
    /// Addresses of this machine at which nobody answered.
    unanswered: BTreeSet<(SocketAddr, Protocol)>,
    /// Addresses at which the command wanted to answer.
    bound: BTreeSet<(SocketAddr, Protocol)>,
    /// Sockets of this machine, and queues, that the command made.
    own_names: HashSet<String>,
    /// Every thread that the command ever had.
    ours: HashSet<Pid, foldhash::fast::RandomState>,
    /// Those that have not ended.
    alive: HashSet<Pid, foldhash::fast::RandomState>,
}

/// What is reached once a call has succeeded.
pub(super) enum Meets {
    /// A socket of this machine, by its name.
    Socket(String),
    /// A name for a socket or a queue that the command makes.
    Makes(String),
    /// Somebody who connects to it.
    Accepts,
    /// Anything else.
    Other(Channel),
}

/// Services of the system that many programs ask for names of users and machines, or tell what they do.
const SERVICES: [&str; 7] = [
    "/run/nscd/",
    "/var/run/nscd/",
    "/run/systemd/userdb/",
    "/run/systemd/resolve/",
    "/run/systemd/journal/",
    "/run/systemd/notify",
    "/dev/log",
];
const DNS: u16 = 53;

impl Channels {
    pub(super) fn is_ours(&self, process: i32) -> bool {
        self.ours.contains(&Pid::from_raw(process))
    }
}

impl Notes {
    /// A thread of the command was seen.
    pub fn is_alive(&mut self, thread: Pid) -> bool {
        self.channels.ours.insert(thread);
        self.channels.alive.insert(thread)
    }

    pub(super) fn is_gone(&mut self, thread: Pid) {
        self.channels.alive.remove(&thread);
    }

    /// The threads that have not ended.
    pub fn alive(&self) -> impl Iterator<Item = Pid> {
        self.channels.alive.iter().copied()
    }

    pub(super) fn meets(&mut self, kind: ChannelKind, name: String) {
        self.channels.met.insert(Channel { kind, name });
    }

    /// Calls that reach something else than files; nothing for a call that is none of these.
    pub(super) fn take_channel(&mut self, call: &Call, number: libc::c_long) -> Option<Then> {
        const GRAM: usize = 64;
        const ATTACH: u64 = libc::PTRACE_ATTACH as u64;
        const SEIZE: u64 = libc::PTRACE_SEIZE as u64;
        let a = &call.arguments;
        let at = |pointer: u64, length: u64| address(&call.bytes(pointer, (length as usize).min(128)));
        Some(match number {
            libc::SYS_connect => self.sends(call, at(a[1], a[2])),
            libc::SYS_sendto => self.sends(call, at(a[4], a[5])),
            libc::SYS_sendmsg => self.sends(call, message_to(call, a[1])),
            libc::SYS_sendmmsg => {
                let count = (a[2] as usize).min(GRAM) as u64;
                let all: Vec<_> = (0..count).map(|i| message_to(call, a[1] + i * MMSGHDR)).collect();
                all.into_iter().map(|to| self.sends(call, to)).fold(Then::GoOn, |a, b| if b == Then::Await { b } else { a })
            }
            libc::SYS_bind => self.binds(call, at(a[1], a[2])),
            libc::SYS_accept | libc::SYS_accept4 => self.awaits_channel(call, Meets::Accepts),
            libc::SYS_socket => {
                let family = Channel { kind: ChannelKind::Family, name: a[0].to_string() };
                self.awaits_channel(call, Meets::Other(family))
            }
            libc::SYS_mq_open => {
                let made = a[1] as i32 & (libc::O_CREAT | libc::O_EXCL) == libc::O_CREAT | libc::O_EXCL;
                let name = call.text(a[0]).map(|t| format!("mq:{}", super::to_text(&t))).unwrap_or_default();
                self.opens_queue(call, name, made)
            }
            libc::SYS_msgget => self.opens_queue(call, format!("msg:{:#x}", a[0] as u32), is_new(a[1])),
            libc::SYS_semget => self.opens_queue(call, format!("sem:{:#x}", a[0] as u32), is_new(a[2])),
            libc::SYS_shmat => self.attaches(call, a[0] as i32),
            libc::SYS_ptrace if matches!(a[0], ATTACH | SEIZE) && !self.channels.is_ours(a[1] as i32) => {
                self.awaits_channel(call, other(ChannelKind::Process, a[1]))
            }
            libc::SYS_process_vm_readv => match self.channels.is_ours(a[0] as i32) {
                true => Then::GoOn,
                false => self.awaits_channel(call, other(ChannelKind::Process, a[0])),
            },
            libc::SYS_pidfd_getfd => match call.process_of_pidfd(a[0] as i32) {
                Some(process) if self.channels.is_ours(process) => Then::GoOn,
                process => self.awaits_channel(call, other(ChannelKind::Process, process.unwrap_or(-1))),
            },
            libc::SYS_keyctl | libc::SYS_request_key => self.awaits_channel(call, other(ChannelKind::Keys, "keyring")),
            _ => return None,
        })
    }

    fn sends(&mut self, call: &Call, to: Option<Address>) -> Then {
        match to {
            Some(Address::Network(address)) => self.connects(call, address),
            Some(Address::Abstract(name)) => self.reaches_socket(call, format!("@{name}")),
            Some(Address::Path(path)) => {
                let real = self.socket_at(call, &path);
                self.reaches_socket(call, super::text(&real))
            }
            Some(Address::Other(family)) => self.awaits_channel(call, other(ChannelKind::Family, family)),
            None => Then::GoOn,
        }
    }

    fn socket_at(&mut self, call: &Call, path: &Path) -> PathBuf {
        let whole = call.absolute(At::name(0), path.to_path_buf());
        whole.map_or_else(|| path.to_path_buf(), |path| self.find(call.thread, &path, true).real)
    }

    fn reaches_socket(&mut self, call: &Call, name: String) -> Then {
        let is_known = self.channels.own_names.contains(&name) || SERVICES.iter().any(|s| name.starts_with(s));
        if is_known || self.is_own(Path::new(&name)) {
            return Then::GoOn;
        }
        self.awaits_channel(call, Meets::Socket(name))
    }

    fn connects(&mut self, call: &Call, address: SocketAddr) -> Then {
        // Asking the kernel for a way, without sending anything, says nothing of who answers.
        if address.port() == 0 {
            return Then::GoOn;
        }
        let is_of_this_machine = address.ip().to_canonical().is_loopback();
        if self.sealed.is_some() && !(self.isolated && is_of_this_machine) {
            self.refuse(Try::Connect, address.to_string());
            return Then::GoOn;
        }
        if address.port() == DNS {
            self.meets(ChannelKind::Names, address.to_string());
            return Then::GoOn;
        }
        let protocol = call.protocol(call.arguments[0] as i32);
        let channels = &mut self.channels;
        if !channels.own_addresses.contains(&(address, protocol)) {
            match loopback::answers(call.thread, address, protocol, &channels.alive) {
                Answers::Own => drop(channels.own_addresses.insert((address, protocol))),
                Answers::Other => drop(channels.network.insert(address)),
                Answers::Nobody => drop(channels.unanswered.insert((address, protocol))),
            }
        }
        Then::GoOn
    }

    fn binds(&mut self, call: &Call, to: Option<Address>) -> Then {
        match to {
            Some(Address::Network(address)) if address.port() != 0 => {
                let protocol = call.protocol(call.arguments[0] as i32);
                self.channels.bound.insert((address, protocol));
                // Whoever sends to a port that was chosen is not known; one that nobody could know is the command's own affair.
                if protocol == Protocol::Udp && !address.ip().to_canonical().is_loopback() && !self.isolated {
                    return self.awaits_channel(call, other(ChannelKind::Datagrams, address));
                }
                Then::GoOn
            }
            Some(Address::Abstract(name)) => self.awaits_channel(call, Meets::Makes(format!("@{name}"))),
            Some(Address::Path(path)) => {
                let real = self.socket_at(call, &path);
                self.awaits_channel(call, Meets::Makes(super::text(&real)))
            }
            _ => Then::GoOn,
        }
    }

    fn opens_queue(&mut self, call: &Call, name: String, made: bool) -> Then {
        // The key of nobody: a new one each time.
        if name.ends_with(":0x0") || self.channels.own_names.contains(&name) || self.isolated {
            return Then::GoOn;
        }
        match made {
            true => self.awaits_channel(call, Meets::Makes(name)),
            false => self.awaits_channel(call, other(ChannelKind::Queue, name)),
        }
    }

    /// Shared memory belongs to whoever made it.
    fn attaches(&mut self, call: &Call, number: i32) -> Then {
        let table = std::fs::read_to_string("/proc/sysvipc/shm").unwrap_or_default();
        let maker = table.lines().skip(1).find_map(|line| {
            let fields: Vec<&str> = line.split_ascii_whitespace().collect();
            let [key, id, _, _, maker, ..] = fields[..] else { return None };
            (id.parse() == Ok(number)).then(|| (key.to_string(), maker.parse::<i32>().ok()))
        });
        match maker {
            Some((key, maker)) if maker.is_none_or(|m| !self.channels.is_ours(m)) && !self.isolated => {
                self.awaits_channel(call, other(ChannelKind::Memory, format!("shm:{key}")))
            }
            _ => Then::GoOn,
        }
    }

    /// Takes note of what a call has reached.
    pub(super) fn met(&mut self, meets: Meets, thread: Pid, answer: i64) {
        const UNDER_WAY: [i32; 2] = [libc::EINPROGRESS, libc::EAGAIN];
        let is_socket = matches!(meets, Meets::Socket(_));
        let done = answer >= 0 || (is_socket && UNDER_WAY.iter().any(|e| answer == -i64::from(*e)));
        // What a sealed command cannot reach it has tried in vain.
        if !(done || is_socket && self.sealed.is_some()) {
            return;
        }
        match meets {
            Meets::Socket(name) if self.channels.own_names.contains(&name) => {}
            Meets::Socket(name) => self.meets(ChannelKind::Socket, name),
            Meets::Makes(name) => drop(self.channels.own_names.insert(name)),
            Meets::Accepts => {
                if let Some(from) = loopback::accepted_from(thread, answer as i32, &self.channels.ours, &self.channels.alive) {
                    self.meets(ChannelKind::Accepted, from);
                }
            }
            Meets::Other(channel) => drop(self.channels.met.insert(channel)),
        }
    }

    /// Whom nobody answered has read nothing: who waits for a server of the command's own tries until it is there, and may
    /// do without it in the end.
    fn judge_unanswered(&mut self) {
        for (address, protocol) in std::mem::take(&mut self.channels.unanswered) {
            let channels = &mut self.channels;
            let meant = channels.bound.iter().any(|(bound, by)| *by == protocol && loopback::reaches(address, *bound));
            if meant || channels.own_addresses.contains(&(address, protocol)) {
                channels.own_addresses.insert((address, protocol));
            } else if self.sealed.is_some() {
                self.refuse(Try::Connect, address.to_string());
            } else {
                channels.network.insert(address);
            }
        }
    }

    /// Who sends to a port that the command has chosen, and never sent to itself, is not known.
    fn judge_datagrams(&mut self) {
        let channels = &mut self.channels;
        let is_own =
            |at: &SocketAddr| channels.own_addresses.iter().any(|(to, by)| *by == Protocol::Udp && loopback::reaches(*to, *at));
        let others = channels.bound.iter().filter(|(at, by)| *by == Protocol::Udp && !is_own(at));
        let met: Vec<_> = others.map(|(at, _)| Channel { kind: ChannelKind::Datagrams, name: at.to_string() }).collect();
        channels.met.extend(met);
    }

    /// What all of it comes to: addresses, whether the command connected to itself, and channels. In front of a sealed command
    /// there is none of them that it may use.
    pub(super) fn settle_channels(&mut self) -> (Vec<String>, bool, Vec<Channel>) {
        self.judge_unanswered();
        if !self.isolated {
            self.judge_datagrams();
        }
        let own = !self.channels.own_addresses.is_empty();
        // A socket by the name that the command gave it only later.
        let names = &self.channels.own_names;
        let met: Vec<Channel> = self.channels.met.iter().filter(|c| !names.contains(&c.name)).cloned().collect();
        if self.sealed.is_some() {
            met.iter().for_each(|c| self.refuse(Try::Channel, format!("{} {}", c.kind.word(), c.name)));
        }
        (self.channels.network.iter().map(SocketAddr::to_string).collect(), own, met)
    }
}

/// The size of one message of several.
const MMSGHDR: u64 = 64;

/// The address in a message's header; none where it goes to whoever the socket is connected to.
fn message_to(call: &Call, header: u64) -> Option<Address> {
    let head = call.bytes(header, 12);
    let pointer = u64::from_ne_bytes(head.get(..8)?.try_into().ok()?);
    let length = u32::from_ne_bytes(head.get(8..12)?.try_into().ok()?);
    if pointer == 0 || length == 0 {
        return None;
    }
    address(&call.bytes(pointer, (length as usize).min(128)))
}

fn is_new(flags: u64) -> bool {
    let new = (libc::IPC_CREAT | libc::IPC_EXCL) as u64;
    flags & new == new
}

fn other(kind: ChannelKind, name: impl ToString) -> Meets {
    Meets::Other(Channel { kind, name: name.to_string() })
}
