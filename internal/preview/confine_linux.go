package preview

import (
	"fmt"
	"os"
	"runtime/debug"
	"slices"

	seccomp "github.com/elastic/go-seccomp-bpf"
	"github.com/landlock-lsm/go-landlock/landlock"
	"golang.org/x/sys/unix"
)

// Limits of the child.
const (
	maxMemory  = 1 << 30 // bytes of address space beyond what the program itself reserves
	maxSecs    = 15      // of processor time
	maxHandles = 16
)

// Confine takes from this process what decoding does not need: it can open no file and no
// connection, start no program, write nothing but to its output, and use no more than so much memory and
// time. It returns what the kernel could not be made to do.
func Confine() (lacks []string) { return append(limit(), restrict("")...) }

// limit sets how much of everything this process may use, and what it starts.
func limit() (lacks []string) {
	debug.SetMemoryLimit(maxMemory / 2)
	space := uint64(maxMemory)
	if n, err := addressSpace(); err == nil {
		space += n
	}
	for what, l := range map[int]uint64{unix.RLIMIT_AS: space, unix.RLIMIT_CPU: maxSecs, unix.RLIMIT_NOFILE: maxHandles, unix.RLIMIT_CORE: 0} {
		if err := unix.Setrlimit(what, &unix.Rlimit{Cur: l, Max: l}); err != nil {
			lacks = append(lacks, fmt.Sprintf("limit %d: %v", what, err))
		}
	}
	return lacks
}

// libraries are where what a program needs to start may be.
var libraries = []string{"/usr/lib", "/lib", "/lib64", "/usr/lib64"}

// restrict takes files and the network away; program, if it is not empty, can still be read and started, with
// the libraries of the system.
func restrict(program string) (lacks []string) {
	if err := unix.Setrlimit(unix.RLIMIT_FSIZE, &unix.Rlimit{}); err != nil {
		lacks = append(lacks, "limit of what is written: "+err.Error())
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		lacks = append(lacks, "no new privileges: "+err.Error())
	}
	var open []landlock.Rule // nothing else is: no path, no port
	if program != "" {
		open = append(open, landlock.RODirs(libraries...).IgnoreIfMissing(), landlock.ROFiles(program, "/etc/ld.so.cache").IgnoreIfMissing())
	}
	if err := landlock.V5.Restrict(open...); err != nil {
		lacks = append(lacks, "Landlock: "+err.Error())
		if err := landlock.V5.BestEffort().Restrict(open...); err != nil {
			lacks = append(lacks, "Landlock at all: "+err.Error())
		}
	}
	if err := refuse(program == ""); err != nil {
		lacks = append(lacks, "seccomp: "+err.Error())
	}
	return lacks
}

// Contain takes from this process the network, and all files but those of the system's libraries, of folders that can be read and
// of one that can be written, and runs a program in its place. It returns if that cannot be run.
func Contain(read []string, write string, argv, env []string) error {
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("preview: no new privileges: %w", err)
	}
	open := []landlock.Rule{
		landlock.RODirs(append(slices.Clone(libraries), read...)...).IgnoreIfMissing(),
		landlock.ROFiles(argv[0], "/etc/ld.so.cache").IgnoreIfMissing(),
		landlock.RWFiles("/dev/null", "/dev/urandom").IgnoreIfMissing(),
		landlock.RWDirs(write),
	}
	if err := landlock.V5.BestEffort().Restrict(open...); err != nil {
		return fmt.Errorf("preview: Landlock: %w", err)
	}
	if err := refuse(false); err != nil {
		return fmt.Errorf("preview: seccomp: %w", err)
	}
	return fmt.Errorf("preview: running %s: %w", argv[0], unix.Exec(argv[0], argv, env))
}

// refused are calls of the kernel that no decoder makes; starting those that start a program.
var (
	refused = []string{"socket", "socketpair", "connect", "bind", "listen", "accept", "accept4", "ptrace", "process_vm_readv", "process_vm_writev", "mount", "umount2", "pivot_root", "chroot",
		"unshare", "setns", "bpf", "perf_event_open", "userfaultfd", "keyctl", "add_key", "request_key", "io_uring_setup", "io_uring_enter", "io_uring_register", "init_module", "finit_module",
		"delete_module", "kexec_load", "reboot", "swapon", "swapoff", "open_by_handle_at", "name_to_handle_at", "setrlimit"}
	starting = []string{"execve", "execveat"}
)

// refuse has the kernel answer such calls with an error, in all threads and what they start.
func refuse(starts bool) error {
	calls := refused
	if starts {
		calls = append(slices.Clone(calls), starting...)
	}
	return seccomp.LoadFilter(seccomp.Filter{NoNewPrivs: true, Flag: seccomp.FilterFlagTSync,
		Policy: seccomp.Policy{DefaultAction: seccomp.ActionAllow, Syscalls: []seccomp.SyscallGroup{{Action: seccomp.ActionErrno, Names: calls}}}})
}

// addressSpace is what the process has reserved already: Go's runtime reserves much that it does not use.
func addressSpace() (uint64, error) {
	b, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0, err
	}
	var pages uint64
	_, err = fmt.Sscan(string(b), &pages)
	return pages * uint64(os.Getpagesize()), err
}
