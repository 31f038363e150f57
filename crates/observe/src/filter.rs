//! The seccomp filter: which system calls stop for the tracer, and which a sealed command may not make.
//!
//! Source of the instructions: the kernel's `include/uapi/linux/bpf_common.h` and `seccomp.h`.

use nix::libc;
use seccompiler::sock_filter;

use super::calls::{GETXATTRAT, LISTXATTRAT};

/// What a stop says to the tracer: a call that it knows.
pub const KNOWN: i64 = 1;
/// A call of another architecture, whose numbers mean other calls.
pub const FOREIGN: i64 = 2;

#[cfg(target_arch = "x86_64")]
const ARCH: u32 = 0xc000_003e;
#[cfg(target_arch = "aarch64")]
const ARCH: u32 = 0xc000_00b7;
/// Calls of the `x32` ABI bear this bit.
#[cfg(target_arch = "x86_64")]
const X32: u32 = 0x4000_0000;

const LOAD: u16 = 0x20;
const JUMP_EQUAL: u16 = 0x15;
#[cfg(target_arch = "x86_64")]
const JUMP_AT_LEAST: u16 = 0x35;
const JUMP_ANY_BIT: u16 = 0x45;
const RETURN: u16 = 0x06;

const ALLOW: u32 = 0x7fff_0000;
const TRACE: u32 = 0x7ff0_0000;
const ERRNO: u32 = 0x0005_0000;
const SEEN: u32 = TRACE | KNOWN as u32;
const STRANGE: u32 = TRACE | FOREIGN as u32;

/// Where the parts of `struct seccomp_data` lie.
const NUMBER: u32 = 0;
const ARCHITECTURE: u32 = 4;
/// The lower half of an argument; the upper one follows it.
fn argument(index: u32) -> u32 {
    16 + 8 * index
}

fn step(code: u16, k: u32) -> sock_filter {
    sock_filter { code, jt: 0, jf: 0, k }
}

fn jump(code: u16, k: u32, jt: u8, jf: u8) -> sock_filter {
    sock_filter { code, jt, jf, k }
}

/// Calls that stop, whatever their arguments.
fn stopping() -> Vec<libc::c_long> {
    let mut all = vec![
        libc::SYS_openat,
        libc::SYS_openat2,
        libc::SYS_execve,
        libc::SYS_execveat,
        libc::SYS_faccessat,
        libc::SYS_faccessat2,
        libc::SYS_readlinkat,
        libc::SYS_getdents64,
        libc::SYS_chdir,
        libc::SYS_statfs,
        libc::SYS_getxattr,
        libc::SYS_lgetxattr,
        libc::SYS_listxattr,
        libc::SYS_llistxattr,
        libc::SYS_fgetxattr,
        libc::SYS_flistxattr,
        GETXATTRAT,
        LISTXATTRAT,
        libc::SYS_inotify_add_watch,
        libc::SYS_name_to_handle_at,
        libc::SYS_getrandom,
        libc::SYS_open_tree,
        libc::SYS_connect,
        libc::SYS_bind,
        libc::SYS_accept,
        libc::SYS_accept4,
        libc::SYS_sendmsg,
        libc::SYS_sendmmsg,
        libc::SYS_mq_open,
        libc::SYS_msgget,
        libc::SYS_semget,
        libc::SYS_shmat,
        libc::SYS_renameat,
        libc::SYS_renameat2,
        libc::SYS_unlinkat,
        libc::SYS_linkat,
        libc::SYS_symlinkat,
        libc::SYS_mkdirat,
        libc::SYS_mknodat,
        libc::SYS_truncate,
    ];
    #[cfg(target_arch = "x86_64")]
    all.extend([
        libc::SYS_open,
        libc::SYS_creat,
        libc::SYS_stat,
        libc::SYS_lstat,
        libc::SYS_access,
        libc::SYS_readlink,
        libc::SYS_getdents,
        libc::SYS_rename,
        libc::SYS_unlink,
        libc::SYS_rmdir,
        libc::SYS_link,
        libc::SYS_symlink,
        libc::SYS_mkdir,
        libc::SYS_mknod,
    ]);
    all
}

/// Calls that reach what is no file of the command's, or change what names mean: seen, and refused to a sealed command.
fn reaching() -> Vec<libc::c_long> {
    vec![
        libc::SYS_chroot,
        libc::SYS_pivot_root,
        libc::SYS_mount,
        libc::SYS_umount2,
        libc::SYS_move_mount,
        libc::SYS_fsmount,
        libc::SYS_setns,
        libc::SYS_open_by_handle_at,
        libc::SYS_ptrace,
        libc::SYS_process_vm_readv,
        libc::SYS_pidfd_getfd,
        libc::SYS_keyctl,
        libc::SYS_request_key,
    ]
}

/// The filter. A look at an open file by its number (`fstat`) needs no stop: the file was opened before.
pub fn program(sealed: bool) -> Vec<sock_filter> {
    let mut out = vec![step(LOAD, ARCHITECTURE), jump(JUMP_EQUAL, ARCH, 1, 0), step(RETURN, STRANGE), step(LOAD, NUMBER)];
    #[cfg(target_arch = "x86_64")]
    out.extend([jump(JUMP_AT_LEAST, X32, 0, 1), step(RETURN, STRANGE)]);
    // Without it programs fall back to calls that are seen.
    out.extend([jump(JUMP_EQUAL, libc::SYS_io_uring_setup as u32, 0, 1), step(RETURN, ERRNO | libc::ENOSYS as u32)]);
    for call in stopping() {
        out.extend([jump(JUMP_EQUAL, call as u32, 0, 1), step(RETURN, SEEN)]);
    }
    let reached = if sealed { ERRNO | libc::EPERM as u32 } else { SEEN };
    for call in reaching() {
        out.extend([jump(JUMP_EQUAL, call as u32, 0, 1), step(RETURN, reached)]);
    }
    for (call, flags) in [(libc::SYS_newfstatat, 3), (libc::SYS_statx, 2)] {
        out.extend([
            jump(JUMP_EQUAL, call as u32, 0, 4),
            step(LOAD, argument(flags)),
            jump(JUMP_ANY_BIT, libc::AT_EMPTY_PATH as u32, 1, 0),
            step(RETURN, SEEN),
            step(RETURN, ALLOW),
        ]);
    }
    // Only what is sent to an address of its own says where to: whatever goes on in a connection goes on at full speed.
    out.extend([
        jump(JUMP_EQUAL, libc::SYS_sendto as u32, 0, 6),
        step(LOAD, argument(4)),
        jump(JUMP_EQUAL, 0, 0, 2),
        step(LOAD, argument(4) + 4),
        jump(JUMP_EQUAL, 0, 1, 0),
        step(RETURN, SEEN),
        step(RETURN, ALLOW),
    ]);
    out.extend([jump(JUMP_EQUAL, libc::SYS_socket as u32, 0, 8), step(LOAD, argument(0))]);
    let common = [libc::AF_UNIX, libc::AF_INET, libc::AF_INET6, libc::AF_NETLINK, libc::AF_ALG];
    for (at, family) in common.iter().enumerate() {
        out.push(jump(JUMP_EQUAL, *family as u32, (common.len() - at) as u8, 0));
    }
    out.extend([step(RETURN, SEEN), step(RETURN, ALLOW)]);
    out.push(step(RETURN, ALLOW));
    out
}
