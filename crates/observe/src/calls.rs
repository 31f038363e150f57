//! A stopped system call: its number and arguments, and the names that they point to.

use std::fs;
use std::io::IoSliceMut;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

use nix::libc;
use nix::sys::ptrace;
use nix::sys::uio::{RemoteIoVec, process_vm_readv};
use nix::unistd::Pid;
use rustix::net::{SocketType, sockopt::socket_type};
use rustix::process::{PidfdFlags, PidfdGetfdFlags, pidfd_getfd, pidfd_open};

use super::sockets::Protocol;

/// A call, before it is carried out.
pub struct Call {
    /// The thread that makes it.
    pub thread: Pid,
    /// Its number.
    pub number: libc::c_long,
    /// Its arguments.
    pub arguments: [u64; 6],
    /// Whether a 32-bit program makes it, whose numbers mean other calls.
    foreign: bool,
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
        let (number, foreign, arguments) = (
            registers.orig_rax,
            // 32-bit code has a segment of its own, x32 a bit in its numbers.
            registers.cs == 0x23 || registers.orig_rax & 0x4000_0000 != 0,
            [registers.rdi, registers.rsi, registers.rdx, registers.r10, registers.r8, registers.r9],
        );
        #[cfg(target_arch = "aarch64")]
        let (number, foreign, arguments) = {
            // The registers of 32-bit programs are not had in this form at all.
            let r = registers.regs;
            (r[8], false, [r[0], r[1], r[2], r[3], r[4], r[5]])
        };
        Some(Call { thread, number: number as libc::c_long, arguments, foreign })
    }

    /// Whether a program of another architecture makes it.
    pub fn is_foreign(&self) -> bool {
        self.foreign
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
    fn text(&self, address: u64) -> Option<Vec<u8>> {
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
        let kind = || {
            // Only the first thread of a process has a number to ask by.
            let status = fs::read_to_string(format!("/proc/{}/status", self.thread)).ok()?;
            let first = status.lines().find_map(|l| l.strip_prefix("Tgid:"))?.trim().parse().ok()?;
            let process = pidfd_open(rustix::process::Pid::from_raw(first)?, PidfdFlags::empty()).ok()?;
            let socket = pidfd_getfd(process, number, PidfdGetfdFlags::empty()).ok()?;
            socket_type(socket).ok()
        };
        if kind() == Some(SocketType::DGRAM) { Protocol::Udp } else { Protocol::Tcp }
    }

    /// An absolute path from a folder's number and the address of a name. An empty name means nothing here.
    pub fn path_at(&self, folder: u64, address: u64) -> Option<PathBuf> {
        let name = self.text(address).filter(|t| !t.is_empty())?;
        let name = PathBuf::from(std::ffi::OsString::from_vec(name));
        if name.is_absolute() {
            return Some(plain(&name));
        }
        let folder = folder as i32;
        let base = match folder {
            libc::AT_FDCWD => fs::read_link(format!("/proc/{}/cwd", self.thread)).ok()?,
            number => self.open_file(number)?,
        };
        Some(plain(&base.join(name)))
    }

    /// An absolute path from the address of a name.
    pub fn path(&self, address: u64) -> Option<PathBuf> {
        self.path_at(libc::AT_FDCWD as i64 as u64, address)
    }
}

/// A path without `.` and doubled slashes. With `..` in it the folder is looked up: a link on the way may lead
/// anywhere.
fn plain(path: &Path) -> PathBuf {
    let bytes = path.as_os_str().as_bytes();
    let has = |part: &[u8]| bytes.windows(part.len()).any(|w| w == part);
    if has(b"/..") {
        if let (Some(parent), Some(name)) = (path.parent(), path.file_name())
            && let Ok(parent) = fs::canonicalize(parent)
        {
            return parent.join(name);
        }
        if let Ok(whole) = fs::canonicalize(path) {
            return whole;
        }
        // The folder is not there: by its words.
        let mut out = PathBuf::new();
        for part in path.components() {
            match part {
                std::path::Component::ParentDir => drop(out.pop()),
                std::path::Component::CurDir => {}
                other => out.push(other),
            }
        }
        return out;
    }
    if has(b"//") || has(b"/.") || bytes.ends_with(b"/") { path.components().collect() } else { path.to_path_buf() }
}

/// The address that a socket is connected to, as `address:port`; `None` for one that is no network.
pub fn network_address(bytes: &[u8]) -> Option<std::net::SocketAddr> {
    let family = u16::from_ne_bytes(bytes.get(..2)?.try_into().ok()?);
    let port = u16::from_be_bytes(bytes.get(2..4)?.try_into().ok()?);
    match i32::from(family) {
        libc::AF_INET => {
            let ip: [u8; 4] = bytes.get(4..8)?.try_into().ok()?;
            Some((ip, port).into())
        }
        libc::AF_INET6 => {
            let ip: [u8; 16] = bytes.get(8..24)?.try_into().ok()?;
            Some((ip, port).into())
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_made_plain_and_links_are_followed_before_they_are_gone_back_from() {
        let folder = tempfile::tempdir().unwrap();
        let root = fs::canonicalize(folder.path()).unwrap();
        fs::create_dir_all(root.join("far/inner")).unwrap();
        std::os::unix::fs::symlink("far/inner", root.join("link")).unwrap();
        assert_eq!(plain(&root.join("./a//b/.")), root.join("a/b"));
        assert_eq!(plain(&root.join("link/../x.csv")), root.join("far/x.csv"));
        assert_eq!(plain(&root.join("nothing/../x.csv")), root.join("x.csv"));
        assert_eq!(plain(Path::new("/a/.b/c")), Path::new("/a/.b/c"));
    }

    #[test]
    fn addresses_are_read_as_the_kernel_lays_them_out() {
        let mut four = (libc::AF_INET as u16).to_ne_bytes().to_vec();
        four.extend([0x1f, 0x90, 10, 0, 0, 7]);
        assert_eq!(network_address(&four).unwrap().to_string(), "10.0.0.7:8080");
        let mut six = (libc::AF_INET6 as u16).to_ne_bytes().to_vec();
        six.extend([0, 80, 0, 0, 0, 0]);
        six.extend([0; 15]);
        six.push(1);
        assert_eq!(network_address(&six).unwrap().to_string(), "[::1]:80");
        assert_eq!(network_address(&(libc::AF_UNIX as u16).to_ne_bytes()), None);
        assert_eq!(network_address(&[]), None);
    }
}
