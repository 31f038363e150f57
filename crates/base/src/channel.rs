//! Ways by which something reaches a command beside files and network addresses.

use serde::{Deserialize, Serialize};

/// A way by which something reaches a command that is no file and no network address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ChannelKind {
    /// A socket of this machine; an abstract name begins with `@`.
    Socket,
    /// A connection that another process made to the command.
    Accepted,
    /// An address at which the command waited for datagrams.
    Datagrams,
    /// Names of other machines, looked up at a server.
    Names,
    /// A FIFO.
    Fifo,
    /// A device.
    Device,
    /// Shared memory that the command did not make.
    Memory,
    /// A message queue or a semaphore that the command did not make.
    Queue,
    /// The memory or the open files of another process.
    Process,
    /// The kernel's keys.
    Keys,
    /// A socket of another family, by its number.
    Family,
}

impl ChannelKind {
    /// The word that documents have for it.
    pub fn word(self) -> &'static str {
        match self {
            ChannelKind::Socket => "socket",
            ChannelKind::Accepted => "accepted",
            ChannelKind::Datagrams => "datagrams",
            ChannelKind::Names => "names",
            ChannelKind::Fifo => "fifo",
            ChannelKind::Device => "device",
            ChannelKind::Memory => "memory",
            ChannelKind::Queue => "queue",
            ChannelKind::Process => "process",
            ChannelKind::Keys => "keys",
            ChannelKind::Family => "family",
        }
    }
}

/// Something that a command could be told by, beside files and network addresses.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Channel {
    /// What it is.
    pub kind: ChannelKind,
    /// Its path, name, address or number.
    pub name: String,
}
