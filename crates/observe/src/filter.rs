//! The seccomp filter: which system calls stop for the tracer.
//!
//! Source of the instructions: the kernel's `include/uapi/linux/bpf_common.h` and `seccomp.h`.

use nix::libc;
use seccompiler::sock_filter;

/// What a stop tells the tracer. It looks for itself whether it understands the call.
const SEEN: u32 = 1;

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

/// Where the parts of `struct seccomp_data` lie.
const NUMBER: u32 = 0;
const ARCHITECTURE: u32 = 4;
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
        libc::SYS_connect,
        libc::SYS_bind,
        libc::SYS_renameat,
        libc::SYS_renameat2,
        libc::SYS_unlinkat,
        libc::SYS_linkat,
        libc::SYS_symlinkat,
        libc::SYS_mkdirat,
        libc::SYS_truncate,
        libc::SYS_open_by_handle_at,
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
    ]);
    all
}

/// The filter. A look at an open file by its number (`fstat`) needs no stop: the file was opened before.
pub fn program() -> Vec<sock_filter> {
    let mut out = vec![step(LOAD, ARCHITECTURE), jump(JUMP_EQUAL, ARCH, 1, 0), step(RETURN, TRACE | SEEN), step(LOAD, NUMBER)];
    #[cfg(target_arch = "x86_64")]
    out.extend([jump(JUMP_AT_LEAST, X32, 0, 1), step(RETURN, TRACE | SEEN)]);
    // Without it programs fall back to calls that are seen.
    out.extend([jump(JUMP_EQUAL, libc::SYS_io_uring_setup as u32, 0, 1), step(RETURN, ERRNO | libc::ENOSYS as u32)]);
    for call in stopping() {
        out.extend([jump(JUMP_EQUAL, call as u32, 0, 1), step(RETURN, TRACE | SEEN)]);
    }
    for (call, flags) in [(libc::SYS_newfstatat, 3), (libc::SYS_statx, 2)] {
        out.extend([
            jump(JUMP_EQUAL, call as u32, 0, 4),
            step(LOAD, argument(flags)),
            jump(JUMP_ANY_BIT, libc::AT_EMPTY_PATH as u32, 1, 0),
            step(RETURN, TRACE | SEEN),
            step(RETURN, ALLOW),
        ]);
    }
    out.push(step(RETURN, ALLOW));
    out
}
