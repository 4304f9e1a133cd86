//go:build unix

package main

import (
	"os"
	"runtime"
	"syscall"
)

func makePipe(at string) error { return syscall.Mkfifo(at, 0o644) }

// peak is the largest resident size of a process that has ended, in bytes.
func peak(p *os.ProcessState) int64 {
	usage, ok := p.SysUsage().(*syscall.Rusage)
	if !ok {
		return 0
	}
	if runtime.GOOS == "darwin" { // where it is in bytes
		return int64(usage.Maxrss)
	}
	return int64(usage.Maxrss) << 10
}
