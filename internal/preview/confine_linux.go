package preview

import (
	"fmt"
	"os"
	"runtime/debug"

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
// connection, write nothing but to its output, and use no more than so much memory and time.
// It returns what the kernel could not be made to do.
func Confine() (lacks []string) {
	debug.SetMemoryLimit(maxMemory / 2)
	space := uint64(maxMemory)
	if n, err := addressSpace(); err == nil {
		space += n
	}
	for what, l := range map[int]uint64{unix.RLIMIT_AS: space, unix.RLIMIT_CPU: maxSecs, unix.RLIMIT_NOFILE: maxHandles, unix.RLIMIT_FSIZE: 0, unix.RLIMIT_CORE: 0} {
		if err := unix.Setrlimit(what, &unix.Rlimit{Cur: l, Max: l}); err != nil {
			lacks = append(lacks, fmt.Sprintf("limit %d: %v", what, err))
		}
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		lacks = append(lacks, "no new privileges: "+err.Error())
	}
	if err := landlock.V5.Restrict(); err != nil { // nothing is allowed: no path, no port
		lacks = append(lacks, "Landlock: "+err.Error())
	}
	return lacks
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
