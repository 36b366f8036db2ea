package sandbox

import "golang.org/x/sys/unix"

// Programs of 32 bits have no table and are refused.
var tables = []table{{
	arch: unix.AUDIT_ARCH_AARCH64, clone: unix.SYS_CLONE, unshare: unix.SYS_UNSHARE, ioctl: unix.SYS_IOCTL,
	tracing: []uint32{unix.SYS_PTRACE, unix.SYS_PROCESS_VM_READV, unix.SYS_PROCESS_VM_WRITEV, unix.SYS_KCMP},
	refused: []uint32{unix.SYS_MOUNT, unix.SYS_UMOUNT2, unix.SYS_PIVOT_ROOT, unix.SYS_SETNS, unix.SYS_SWAPON, unix.SYS_SWAPOFF, unix.SYS_REBOOT,
		unix.SYS_INIT_MODULE, unix.SYS_FINIT_MODULE, unix.SYS_DELETE_MODULE, unix.SYS_KEXEC_LOAD, unix.SYS_KEXEC_FILE_LOAD,
		unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY, unix.SYS_KEYCTL, unix.SYS_BPF, unix.SYS_PERF_EVENT_OPEN, unix.SYS_USERFAULTFD,
		unix.SYS_ACCT, unix.SYS_QUOTACTL, unix.SYS_QUOTACTL_FD, unix.SYS_SYSLOG, unix.SYS_VHANGUP, unix.SYS_SETTIMEOFDAY,
		unix.SYS_CLOCK_SETTIME, unix.SYS_CLOCK_ADJTIME, unix.SYS_ADJTIMEX, unix.SYS_SETHOSTNAME, unix.SYS_SETDOMAINNAME,
		unix.SYS_OPEN_BY_HANDLE_AT, unix.SYS_LOOKUP_DCOOKIE, unix.SYS_NFSSERVCTL},
}}
