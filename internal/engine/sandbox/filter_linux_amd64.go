package sandbox

import "golang.org/x/sys/unix"

var tables = []table{
	{
		arch: unix.AUDIT_ARCH_X86_64, clone: unix.SYS_CLONE, unshare: unix.SYS_UNSHARE, ioctl: unix.SYS_IOCTL,
		most:    0x3fffffff, // numbers with the next bit are those of x32
		tracing: []uint32{unix.SYS_PTRACE, unix.SYS_PROCESS_VM_READV, unix.SYS_PROCESS_VM_WRITEV, unix.SYS_KCMP},
		refused: []uint32{unix.SYS_MOUNT, unix.SYS_UMOUNT2, unix.SYS_PIVOT_ROOT, unix.SYS_SETNS, unix.SYS_SWAPON, unix.SYS_SWAPOFF, unix.SYS_REBOOT,
			unix.SYS_INIT_MODULE, unix.SYS_FINIT_MODULE, unix.SYS_DELETE_MODULE, unix.SYS_CREATE_MODULE, unix.SYS_KEXEC_LOAD, unix.SYS_KEXEC_FILE_LOAD,
			unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY, unix.SYS_KEYCTL, unix.SYS_BPF, unix.SYS_PERF_EVENT_OPEN, unix.SYS_USERFAULTFD,
			unix.SYS_ACCT, unix.SYS_QUOTACTL, unix.SYS_QUOTACTL_FD, unix.SYS_IOPL, unix.SYS_IOPERM, unix.SYS_SYSLOG, unix.SYS_VHANGUP, unix.SYS_SETTIMEOFDAY,
			unix.SYS_CLOCK_SETTIME, unix.SYS_CLOCK_ADJTIME, unix.SYS_ADJTIMEX, unix.SYS_SETHOSTNAME, unix.SYS_SETDOMAINNAME,
			unix.SYS_OPEN_BY_HANDLE_AT, unix.SYS_LOOKUP_DCOOKIE, unix.SYS_NFSSERVCTL},
	},
	{
		arch: unix.AUDIT_ARCH_I386, clone: 120, unshare: 310, ioctl: 54,
		tracing: []uint32{26 /* ptrace */, 347 /* process_vm_readv */, 348 /* process_vm_writev */, 349 /* kcmp */},
		refused: []uint32{21 /* mount */, 22 /* umount */, 52 /* umount2 */, 217 /* pivot_root */, 346 /* setns */, 87 /* swapon */, 115 /* swapoff */, 88, /* reboot */
			128 /* init_module */, 350 /* finit_module */, 129 /* delete_module */, 127 /* create_module */, 283, /* kexec_load */
			286 /* add_key */, 287 /* request_key */, 288 /* keyctl */, 357 /* bpf */, 336 /* perf_event_open */, 374, /* userfaultfd */
			51 /* acct */, 131 /* quotactl */, 443 /* quotactl_fd */, 110 /* iopl */, 101 /* ioperm */, 103 /* syslog */, 111 /* vhangup */, 79 /* settimeofday */, 25, /* stime */
			264 /* clock_settime */, 404 /* clock_settime64 */, 343 /* clock_adjtime */, 405 /* clock_adjtime64 */, 124 /* adjtimex */, 74 /* sethostname */, 121, /* setdomainname */
			342 /* open_by_handle_at */, 253 /* lookup_dcookie */, 169 /* nfsservctl */},
	},
}
