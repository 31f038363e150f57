//! A stopped system call: its number and arguments, and the names that they point to.

use std::ffi::OsStr;
use std::fs;
use std::io::IoSliceMut;
use std::net::SocketAddr;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::PathBuf;

use nix::libc;
use nix::sys::ptrace;
use nix::sys::uio::{RemoteIoVec, process_vm_readv};
use nix::unistd::Pid;
use rustix::net::{SocketType, sockopt::socket_type};
use rustix::process::{PidfdFlags, PidfdGetfdFlags, pidfd_getfd, pidfd_open};

use super::names::to_text;
use super::sockets::Protocol;

/// Calls that this system's library does not name yet; their numbers are the same on all architectures.
pub const GETXATTRAT: libc::c_long = 464;
/// See [`GETXATTRAT`].
pub const LISTXATTRAT: libc::c_long = 465;

/// Where a call says a name: the number of the folder in which it is asked for, and the address of its text.
#[derive(Clone, Copy, Debug)]
pub struct At {
    /// The folder's number.
    pub folder: u64,
    /// The address of the text.
    pub name: u64,
}

impl At {
    /// A name in a folder.
    pub fn folder(folder: u64, name: u64) -> At {
        At { folder, name }
    }

    /// A name in the folder that the thread works in.
    pub fn name(name: u64) -> At {
        At { folder: libc::AT_FDCWD as i64 as u64, name }
    }
}

/// A call, before it is carried out.
pub struct Call {
    /// The thread that makes it.
    pub thread: Pid,
    /// Its number.
    pub number: libc::c_long,
    /// Its arguments.
    pub arguments: [u64; 6],
}

/// The longest path that the kernel takes, its end included.
const LONGEST: usize = 4096;
/// Memory is read up to the end of a page: what comes after may not be there.
const PAGE: u64 = 4096;

impl Call {
    /// The call at which a thread has stopped.
    pub fn of(thread: Pid) -> Option<Call> {
        let registers = ptrace::getregs(thread).ok()?;
        #[cfg(target_arch = "x86_64")]
        let (number, arguments) =
            (registers.orig_rax, [registers.rdi, registers.rsi, registers.rdx, registers.r10, registers.r8, registers.r9]);
        #[cfg(target_arch = "aarch64")]
        let (number, arguments) = {
            let r = registers.regs;
            (r[8], [r[0], r[1], r[2], r[3], r[4], r[5]])
        };
        Some(Call { thread, number: number as libc::c_long, arguments })
    }

    /// What the call of a thread has returned: a number below zero for an error.
    pub fn answer(thread: Pid) -> Option<i64> {
        let registers = ptrace::getregs(thread).ok()?;
        #[cfg(target_arch = "x86_64")]
        return Some(registers.rax as i64);
        #[cfg(target_arch = "aarch64")]
        return Some(registers.regs[0] as i64);
    }

    /// The bytes at an address, at most so many.
    pub fn bytes(&self, address: u64, most: usize) -> Vec<u8> {
        let mut buffer = vec![0; most];
        let mut local = [IoSliceMut::new(&mut buffer)];
        let remote = [RemoteIoVec { base: address as usize, len: most }];
        let read = process_vm_readv(self.thread, &mut local, &remote).unwrap_or(0);
        buffer.truncate(read);
        buffer
    }

    /// The text at an address, up to its zero.
    pub fn text(&self, address: u64) -> Option<Vec<u8>> {
        let mut text = Vec::new();
        let mut at = address;
        while text.len() < LONGEST {
            let to_page_end = (PAGE - at % PAGE) as usize;
            let chunk = self.bytes(at, to_page_end.min(256));
            if chunk.is_empty() {
                return None;
            }
            if let Some(end) = chunk.iter().position(|b| *b == 0) {
                text.extend_from_slice(&chunk[..end]);
                return Some(text);
            }
            at += chunk.len() as u64;
            text.extend(chunk);
        }
        Some(text)
    }

    /// The path of a file that the thread has open under a number.
    pub fn open_file(&self, number: i32) -> Option<PathBuf> {
        fs::read_link(format!("/proc/{}/fd/{number}", self.thread)).ok().filter(|p| p.is_absolute())
    }

    /// What a socket speaks that the thread has open under a number. One that cannot be asked speaks TCP: most do.
    pub fn protocol(&self, number: i32) -> Protocol {
        let kind = || socket_type(file_of(self.thread, number)?).ok();
        if kind() == Some(SocketType::DGRAM) { Protocol::Udp } else { Protocol::Tcp }
    }

    /// The process that a number of the thread stands for (`pidfd_open(2)`).
    pub fn process_of_pidfd(&self, number: i32) -> Option<i32> {
        let text = fs::read_to_string(format!("/proc/{}/fdinfo/{number}", self.thread)).ok()?;
        text.lines().find_map(|l| l.strip_prefix("Pid:"))?.trim().parse().ok()
    }

    /// The absolute path that a name stands for; nothing for an empty name.
    pub fn path(&self, at: At) -> Option<PathBuf> {
        let name = self.text(at.name).filter(|t| !t.is_empty())?;
        self.absolute(at, PathBuf::from(std::ffi::OsString::from_vec(name)))
    }

    /// A name, from the folder in which it is asked for.
    pub fn absolute(&self, at: At, name: PathBuf) -> Option<PathBuf> {
        if name.is_absolute() {
            return Some(name);
        }
        let base = match at.folder as i32 {
            libc::AT_FDCWD => fs::read_link(format!("/proc/{}/cwd", self.thread)).ok()?,
            number => self.open_file(number)?,
        };
        Some(base.join(name))
    }
}

/// A file that a thread has open, as this process's own.
pub fn file_of(thread: Pid, number: i32) -> Option<OwnedFd> {
    // Only the first thread of a process has a number to ask by.
    let status = fs::read_to_string(format!("/proc/{thread}/status")).ok()?;
    let first = status.lines().find_map(|l| l.strip_prefix("Tgid:"))?.trim().parse().ok()?;
    let process = pidfd_open(rustix::process::Pid::from_raw(first)?, PidfdFlags::empty()).ok()?;
    pidfd_getfd(process, number, PidfdGetfdFlags::empty()).ok()
}

/// What a socket is connected to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Address {
    /// A network address.
    Network(SocketAddr),
    /// A socket of this machine, by its path.
    Path(PathBuf),
    /// One that has a name and no path, without the zero before it.
    Abstract(String),
    /// An address of another family, by its number.
    Other(u16),
}

/// An address as the kernel lays it out (`ip(7)`, `ipv6(7)`, `unix(7)`); nothing for one that says nothing.
pub fn address(bytes: &[u8]) -> Option<Address> {
    let family = u16::from_ne_bytes(bytes.get(..2)?.try_into().ok()?);
    let port = || Some(u16::from_be_bytes(bytes.get(2..4)?.try_into().ok()?));
    match i32::from(family) {
        libc::AF_INET => {
            let ip: [u8; 4] = bytes.get(4..8)?.try_into().ok()?;
            Some(Address::Network((ip, port()?).into()))
        }
        libc::AF_INET6 => {
            let ip: [u8; 16] = bytes.get(8..24)?.try_into().ok()?;
            Some(Address::Network((ip, port()?).into()))
        }
        libc::AF_UNIX => match bytes.get(2..)? {
            [] => None,
            [0, name @ ..] => Some(Address::Abstract(to_text(name))),
            path => {
                let end = path.iter().position(|b| *b == 0).unwrap_or(path.len());
                Some(Address::Path(PathBuf::from(OsStr::from_bytes(&path[..end]))))
            }
        },
        // The kernel itself, and a connection that is given up.
        libc::AF_NETLINK | libc::AF_UNSPEC | libc::AF_ALG => None,
        _ => Some(Address::Other(family)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_read_as_the_kernel_lays_them_out() {
        let mut four = (libc::AF_INET as u16).to_ne_bytes().to_vec();
        four.extend([0x1f, 0x90, 10, 0, 0, 7]);
        assert_eq!(address(&four), Some(Address::Network("10.0.0.7:8080".parse().unwrap())));
        let mut six = (libc::AF_INET6 as u16).to_ne_bytes().to_vec();
        six.extend([0, 80, 0, 0, 0, 0]);
        six.extend([0; 15]);
        six.push(1);
        assert_eq!(address(&six), Some(Address::Network("[::1]:80".parse().unwrap())));
        let unix = |name: &[u8]| address(&[&(libc::AF_UNIX as u16).to_ne_bytes(), name].concat());
        assert_eq!(unix(b"/run/loom\0rest"), Some(Address::Path("/run/loom".into())));
        assert_eq!(unix(b"\0loom"), Some(Address::Abstract("loom".into())));
        assert_eq!(unix(b""), None);
        assert_eq!(address(&(libc::AF_VSOCK as u16).to_ne_bytes()), Some(Address::Other(libc::AF_VSOCK as u16)));
        assert_eq!(address(&(libc::AF_NETLINK as u16).to_ne_bytes()), None);
        for cut in 0..8 {
            assert!(address(&four[..cut]).is_none());
        }
    }
}
